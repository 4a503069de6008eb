// The page as a whole: builds its parts once, and shows in them what is chosen.

import { chooseByKey, KEYS, messageSwitches, templateList, templateStrip, viewerSwitches } from "./controls.js";
import { lineDifferences, newTexts } from "./differences.js";
import { counted, element, fill, shortened, sizeInWords } from "./dom.js";
import { Drawing } from "./drawing.js";
import { errorNotice, findingGroups, findingList, severityCounts, valueInWords } from "./findings.js";
import { Frame } from "./frames.js";
import { letterhead } from "./letterhead.js";
import { connect, dataEditor, isLive, sendForm } from "./live.js";
import { changesPanel, dataInWords, dataTree, linkTable, partsPanel, pictureTable, sourcePanel } from "./panels.js";
import { PlainText } from "./plaintext.js";
import { keepOnly, openStore, placeInWords, take, takeCase, templates } from "./shown.js";
import { choice, choose, chooseTemplate, currentCase, currentTemplate, framed, onChange, tellAll, viewer } from "./state.js";
import { lineAround, linkAt, pathsOf, sameData, tracedAt, tracedInText, valuesOfElement } from "./tracing.js";

const HINT = "Point at a word: its mark, its data and its line of the text light up.";

const frames = {
  wide: new Frame("The message in a wide window", 680),
  narrow: new Frame("The message on a telephone", 390),
};
const drawings = {
  wide: new Drawing(frames.wide, { labelled: true }),
  narrow: new Drawing(frames.narrow, { labelled: true }),
};
const parts = {
  strip: element("nav", { class: "strip", "aria-label": "Templates" }),
  switches: element("div", { class: "switches" }),
  viewers: element("div", { class: "viewers" }),
  head: element("section", { class: "letterhead", "aria-label": "Head of the message" }),
  failure: element("div", { class: "failure-pane", hidden: true }),
  text: element("div", { class: "scroller text", tabindex: "0", role: "region", "aria-label": "Plain text" }),
  captions: {
    wide: element("p", { class: "caption" }),
    narrow: element("p", { class: "caption" }),
    text: element("p", { class: "caption" }),
  },
  pointed: element("p", { class: "pointed", role: "status" }, HINT),
  figures: element("div", { class: "figures" }),
  tabs: element("div", { class: "tabs", role: "tablist", "aria-label": "More about this message" }),
  drawer: element("section", { class: "drawer", hidden: true, tabindex: "-1", "aria-label": "More about this message" }),
  panel: element("div", { class: "panel" }),
  editor: element("div", { class: "editor" }),
  overlay: element("dialog", { class: "overlay" }),
};
const plain = new PlainText(parts.text);
const sheet = element(
  "main",
  { class: "sheet" },
  element("section", { class: "pane wide" }, parts.captions.wide, frames.wide.scroller),
  element("section", { class: "pane narrow" }, parts.captions.narrow, frames.narrow.scroller),
  element("section", { class: "pane plain" }, parts.captions.text, parts.text),
  parts.failure,
);

let groups = [];
let pointedFinding = -1;
let pointedValue = -1;
let lit = null;
let changes = null;
let previous = null;

const PANELS = [
  ["findings", "Findings"],
  ["data", "Data"],
  ["links", "Links"],
  ["parts", "Parts"],
  ["pictures", "Pictures"],
  ["source", "Source"],
  ["changes", "Changes"],
];

function build() {
  parts.drawer.append(parts.panel, parts.editor);
  fill(
    document.getElementById("page"),
    element(
      "header",
      { class: "top" },
      element("h1", {}, "Pribble"),
      parts.strip,
      element("button", { type: "button", class: "quiet-button", onclick: openTemplates }, `All ${templates().length}`, element("kbd", {}, "t")),
      element("button", { type: "button", class: "quiet-button", "aria-label": "Keys", onclick: openKeys }, element("kbd", {}, "?")),
    ),
    element("div", { class: "choices" }, parts.switches, parts.viewers),
    parts.head,
    sheet,
    parts.pointed,
    parts.drawer,
    element("footer", {}, parts.figures, parts.tabs),
    parts.overlay,
  );
}

// ---- showing what is chosen ------------------------------------------------------------------------------------

function show(changed) {
  const kept = changed.has("state");
  const shownCase = currentCase();
  openStore(currentTemplate(), shownCase);
  groups = shownCase.errors ? [] : findingGroups(currentTemplate(), shownCase);
  fill(parts.strip, templateStrip());
  fill(parts.switches, messageSwitches());
  fill(parts.viewers, viewerSwitches());
  parts.viewers.hidden = !shownCase.errors && !hasPage(shownCase);
  fill(parts.head, letterhead(shownCase));
  document.title = `${currentTemplate().name} – Pribble`;
  const failed = Boolean(shownCase.errors);
  sheet.classList.toggle("failed", failed);
  parts.failure.hidden = !failed;
  fill(parts.failure, failed ? errorNotice(shownCase.errors) : null);
  if (!failed) showForms(shownCase, kept);
  showFigures(shownCase);
  showDrawer();
  if (!changed.has("panel")) point(null);
  if (!frames.wide.document || !shownCase.pages) remember();
}

function showForms(shownCase, kept) {
  const { wide, narrow, large } = framed();
  sheet.classList.toggle("text-only", !hasPage(shownCase));
  sheet.classList.toggle("narrow-large", hasPage(shownCase) && large === "narrow");
  for (const [side, name] of [["wide", wide], ["narrow", narrow]]) {
    const number = shownCase.pages?.[name];
    if (number === undefined) continue;
    frames[side].onload = () => draw(side, shownCase);
    frames[side].show(number, { dark: (shownCase.dark ?? []).includes(name), kept });
    fill(parts.captions[side], caption(name, shownCase, side));
  }
  const now = viewer(choice().viewer);
  const cut = shownCase.cuts?.[now?.name] ?? null;
  plain.show(shownCase.text, { cut: now?.textOnly ? cut : null, kept });
  sheet.classList.toggle("text-large", Boolean(now?.textOnly));
  fill(parts.captions.text, element("b", {}, now?.textOnly ? now.name : "Plain text"), ` ${textAbout(shownCase)}`);
}

function hasPage(shownCase) {
  return Object.keys(shownCase.pages ?? {}).length > 0;
}

function textAbout(shownCase) {
  if (!hasPage(shownCase)) return "the whole message";
  return shownCase.handwritten ? "written by hand" : "derived from the page";
}

function caption(name, shownCase, side) {
  const lost = shownCase.lost?.[name] ?? [];
  const cut = shownCase.cuts?.[name];
  const isLarge = framed().large === side;
  return [
    element("b", {}, name),
    isLarge ? element("span", {}, ` ${viewer(name).about}`) : null,
    lost.length ? element("span", { class: "lost", title: lost.join(", ") }, ` loses ${shortened(lost.join(", "), isLarge ? 60 : 24)}`) : null,
    cut ? element("span", { class: "lost" }, " is cut off at its end") : null,
  ];
}

function draw(side, shownCase) {
  if (shownCase !== currentCase()) return;
  const drawing = drawings[side];
  const isLarge = framed().large === side;
  drawing.data(isLarge ? shownCase : {});
  const found = groups.flatMap((group) => group.findings.filter((one) => one.elements.length).map((finding) => ({ finding, number: group.number })));
  drawing.findings(isLarge ? found : [], openFinding, pointAtFinding);
  const isChanged = changes?.case === caseKey(shownCase);
  if (side === "wide") {
    if (isChanged && changes.before) changes = { ...changes, fresh: newTexts(changes.before, wordsBy(shownCase)), before: null };
    remember();
  }
  drawing.changed(isChanged ? changes.fresh : []);
  const overflow = overflowOf(frames[side]);
  if (overflow > 0) parts.captions[side].append(element("span", { class: "lost" }, ` ${overflow} px wider than the screen`));
}

function overflowOf({ document: page, width }) {
  const wide = page?.documentElement?.scrollWidth ?? 0;
  return wide > Math.max(width, page?.defaultView?.innerWidth ?? 0) + 1 ? wide - width : 0;
}

function showFigures(shownCase) {
  const template = currentTemplate();
  const counts = severityCounts(groups);
  const found = Object.entries(counts)
    .filter(([, count]) => count)
    .map(([severity, count]) => element("span", { class: severity }, counted(count, severity)));
  const recipients = template.weight?.recipients ?? 1;
  const size = shownCase.size;
  const weight = size ? (recipients > 1 ? `${sizeInWords(size)} × ${recipients.toLocaleString("en")} = ${sizeInWords(size * recipients)}` : sizeInWords(size)) : null;
  const coverage = template.coverage?.ways ? `samples try ${template.coverage.tried} of ${template.coverage.ways} ways` : null;
  const strained = shownCase.strain ? "strained data are looked at, not checked" : null;
  fill(
    parts.figures,
    strained ?? (isUnchecked(shownCase) ? element("span", {}, "looking for findings…") : null) ?? (found.length ? found : element("span", {}, shownCase.errors ? "an error" : "nothing found")),
    [weight, coverage].filter(Boolean).map((one) => element("span", {}, one)),
  );
  const amounts = { findings: groups.reduce((sum, one) => sum + one.findings.length, 0), links: shownCase.links?.length, pictures: shownCase.pictures?.length };
  fill(
    parts.tabs,
    PANELS.map(([name, label]) =>
      element(
        "button",
        {
          type: "button",
          role: "tab",
          "aria-selected": String(choice().panel === name),
          onclick: () => choose({ panel: choice().panel === name ? "" : name }),
        },
        label,
        amounts[name] ? element("span", { class: "amount" }, String(amounts[name])) : null,
      ),
    ),
  );
}

function isUnchecked(shownCase) {
  return shownCase.findings === undefined && !shownCase.errors && !shownCase.strain;
}

function showDrawer() {
  const { panel } = choice();
  const shownCase = currentCase();
  parts.drawer.hidden = !panel;
  if (!panel) return;
  const made = {
    findings: () => findingList(groups, currentTemplate().coverage, pointAtFinding),
    data: () => dataTree(shownCase, pointAtPath),
    links: () => linkTable(shownCase, pointAtLink),
    parts: () => [...partsPanel(currentTemplate(), shownCase), isLive() ? sendForm(shownCase) : null],
    pictures: () => pictureTable(shownCase),
    source: () => sourcePanel(shownCase, groups.flatMap((group) => group.findings), lit),
    changes: () => changesPanel(changes?.case === caseKey(shownCase) ? changes : null, shownCase.snapshot),
  };
  const scrolled = parts.drawer.scrollTop;
  fill(parts.panel, made[panel]());
  showEditor(panel, shownCase);
  parts.drawer.scrollTop = parts.drawer.dataset.panel === panel ? scrolled : 0;
  parts.drawer.dataset.panel = panel;
}

// The editor stays as it is while somebody writes in it.
function showEditor(panel, shownCase) {
  parts.editor.hidden = panel !== "data" || !isLive();
  const key = caseKey(shownCase);
  if (parts.editor.hidden || choice().edited || parts.editor.dataset.case === key) return;
  parts.editor.dataset.case = key;
  fill(parts.editor, shownCase.data === undefined ? null : dataEditor(shownCase));
}

// ---- pointing ----------------------------------------------------------------------------------------------------

/** Lights what belongs to something that is pointed at; null for nothing. */
function point(found, { reveal = false } = {}) {
  const shownCase = currentCase();
  const values = found ? sameData(shownCase, found.values) : new Set();
  const stretches = (shownCase.spans ?? []).filter(([, , , value]) => values.has(value));
  const elements = (shownCase.attributes ?? []).filter(([, value]) => values.has(value)).map(([number]) => number);
  if (found?.word && !values.size) stretches.push(found.word);
  if (found?.link) elements.push(found.link.element);
  for (const [side, drawing] of Object.entries(drawings)) {
    const first = drawing.light(stretches, [...new Set([...elements, ...(found?.elements ?? [])])]);
    if (reveal && first) frames[side].reveal(first);
  }
  const offsets = found?.word && found.word[3] >= 0 ? [found.word[3]] : [];
  if (!offsets.length && found) {
    for (const [start, , value] of shownCase.text?.shown ?? []) if (found.values.has(value)) offsets.push(start);
  }
  plain.light(offsets, values, { reveal: reveal || Boolean(found && !found.inText) });
  for (const node of parts.head.querySelectorAll("[data-value]")) node.classList.toggle("lit", values.has(Number(node.dataset.value)));
  const paths = new Set(found ? pathsOf(shownCase, found.values) : []);
  for (const node of parts.drawer.querySelectorAll("[data-path]")) node.classList.toggle("lit", paths.has(node.dataset.path));
  lit = placeOf(shownCase, found);
  fill(parts.pointed, found ? said(shownCase, found, offsets[0]) : HINT);
}

function placeOf(shownCase, found) {
  if (!found) return null;
  const [value] = found.values;
  if (value !== undefined) return shownCase.values[value].place;
  return found.word && found.word[5] >= 0 ? [found.word[5], found.word[6]] : null;
}

function said(shownCase, found, offset) {
  const made = [];
  for (const value of [...found.values].slice(0, 2)) {
    const { mark, where } = valueInWords(shownCase.values[value]);
    const data = shownCase.values[value].paths.map((path) => dataInWords(shownCase, path));
    made.push(element("code", { class: "mark" }, shortened(mark, 70)), element("span", {}, where));
    if (data.length) made.push(element("span", { class: "datum" }, shortened(data.join("; "), 90)));
  }
  if (!made.length && found.word && found.word[5] >= 0) made.push(element("span", {}, `written in ${placeInWords([found.word[5], found.word[6]])}`));
  if (found.link) made.push(element("span", {}, "leads to ", element("code", {}, shortened(found.link.address, 80))));
  if (offset !== undefined) {
    const line = shownCase.text.text.slice(0, offset).split("\n").length;
    made.push(element("span", { class: "quiet" }, `line ${line} of the text`));
  }
  return made.length ? made : HINT;
}

function pointInFrame(frame, event) {
  const box = frame.layer.getBoundingClientRect();
  const found = frame.at(event.clientX - box.left, event.clientY - box.top);
  const shownCase = currentCase();
  if (!found || !shownCase.values) return null;
  const number = Frame.numberOf(found.element);
  if (number < 0) return null;
  const exact = found.offset >= 0 && found.element.getAttribute("data-pribble") === String(number);
  const traced = exact ? tracedAt(shownCase, number, found.offset) : { values: new Set(), word: null, link: null };
  for (let node = found.element; node && !traced.link; node = node.parentElement) {
    const own = Number(node.getAttribute?.("data-pribble") ?? -1);
    traced.link = linkAt(shownCase, own);
    if (traced.values.size === 0 && !traced.word) traced.values = valuesOfElement(shownCase, own);
  }
  return traced.values.size || traced.word || traced.link ? traced : null;
}

function pointAtFinding(finding) {
  point({ values: new Set(), word: null, link: null, elements: finding.elements, inText: true });
  fill(
    parts.pointed,
    element("b", { class: finding.severity }, `${finding.severity} ${finding.rule}`),
    element("span", {}, shortened(finding.message, 150)),
    finding.severity === "note" ? null : element("span", { class: "quiet" }, `To do: ${shortened(finding.fix, 120)}`),
  );
}

function pointAtPath(path) {
  const shownCase = currentCase();
  const values = new Set();
  for (const [number, value] of (shownCase.values ?? []).entries()) if (value.paths.includes(path)) values.add(number);
  point({ values, word: null, link: null }, { reveal: true });
}

function pointAtLink(link) {
  point({ values: valuesOfElement(currentCase(), link.element), word: null, link }, { reveal: true });
}

function openFinding(number) {
  choose({ panel: "findings" });
  const item = document.getElementById(`finding-${number}`);
  item?.scrollIntoView({ block: "nearest" });
  item?.focus();
}

function nextFinding() {
  const placed = groups.flatMap((group) => group.findings).filter((one) => one.elements.length);
  if (!placed.length) return;
  pointedFinding = (pointedFinding + 1) % placed.length;
  for (const frame of Object.values(frames)) {
    const box = frame.rectangle(placed[pointedFinding].elements[0]);
    if (box) frame.reveal(box);
  }
  pointAtFinding(placed[pointedFinding]);
}

function nextValue() {
  const shownCase = currentCase();
  const count = shownCase.values?.length ?? 0;
  if (!count) return;
  pointedValue = (pointedValue + 1) % count;
  point({ values: new Set([pointedValue]), word: null, link: null }, { reveal: true });
}

function listen() {
  for (const frame of Object.values(frames)) {
    let asked = 0;
    frame.layer.addEventListener("pointermove", (event) => {
      if (event.target !== frame.layer) return;
      cancelAnimationFrame(asked);
      asked = requestAnimationFrame(() => point(pointInFrame(frame, event)));
    });
    frame.layer.addEventListener("pointerleave", () => {
      cancelAnimationFrame(asked);
      point(null);
    });
    frame.layer.addEventListener("click", (event) => {
      if (event.target !== frame.layer) return;
      const found = pointInFrame(frame, event);
      if (found?.link) choose({ panel: "links" });
      else if (found) choose({ panel: "data" });
      point(found);
    });
    new ResizeObserver(() => {
      if (!currentCase().errors) for (const side of Object.keys(frames)) if (frames[side] === frame && frame.page >= 0) draw(side, currentCase());
    }).observe(frame.stage);
  }
  parts.text.addEventListener("pointermove", (event) => {
    const offset = plain.offsetAt(event.clientX, event.clientY);
    const shownCase = currentCase();
    if (offset < 0 || !shownCase.values) return;
    point({ ...tracedInText(shownCase, offset), inText: true });
  });
  parts.text.addEventListener("pointerleave", () => point(null));
  parts.head.addEventListener("pointerover", (event) => {
    const value = event.target.closest?.("[data-value]")?.dataset.value;
    if (value !== undefined) point({ values: new Set([Number(value)]), word: null, link: null });
  });
  parts.head.addEventListener("pointerleave", () => point(null));
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName)) return;
    if (parts.overlay.open && event.key !== "Escape") return;
    const own = { n: nextFinding, v: nextValue, t: openTemplates, "?": openKeys, Escape: () => choose({ panel: "" }) }[event.key];
    if (own) own();
    else if (!chooseByKey(event.key)) return;
    event.preventDefault();
  });
}

// ---- what opens above the page -----------------------------------------------------------------------------------

function openTemplates() {
  openAbove("All templates", templateList((name) => {
    parts.overlay.close();
    chooseTemplate(name);
  }));
}

function openKeys() {
  openAbove("Keys", element("dl", { class: "keys" }, KEYS.map(([key, what]) => [element("dt", {}, element("kbd", {}, key)), element("dd", {}, what)])));
}

function openAbove(title, content) {
  fill(
    parts.overlay,
    element("header", {}, element("h2", {}, title), element("button", { type: "button", "aria-label": "Close", onclick: () => parts.overlay.close() }, "Close")),
    content,
  );
  parts.overlay.setAttribute("aria-label", title);
  if (!parts.overlay.open) parts.overlay.showModal();
}

// ---- from one state to the next ----------------------------------------------------------------------------------

function caseKey(shownCase) {
  return [currentTemplate().name, shownCase.sample, shownCase.locale, shownCase.strain].join("\u0000");
}

function remember() {
  const shownCase = currentCase();
  if (!shownCase.errors) previous = { key: caseKey(shownCase), text: saidBy(shownCase), size: shownCase.size, words: wordsBy(shownCase) };
}

function saidBy(shownCase) {
  return `${shownCase.subject?.text ?? ""}\n${shownCase.preheader?.text ?? ""}\n\n${shownCase.text?.text ?? ""}`;
}

/** Returns the elements of a page by their numbers, with their own words. */
function wordsBy(shownCase) {
  const made = new Map();
  for (const [number, start, end] of shownCase.words ?? []) {
    const found = frames.wide.element(number);
    if (found) made.set(number, [...found.childNodes].filter((node) => node.nodeType === Node.TEXT_NODE).map((node) => node.data).join(""));
    if (start > end) break;
  }
  return [...made.entries()];
}

/** Takes in templates that came anew from the server, and says what changed in the message that is shown. */
function update(given, names) {
  const name = currentTemplate()?.name;
  const { sample, locale, strain } = currentCase();
  if (given?.case) takeCase(given);
  else if (given) take(given);
  keepOnly(names);
  const template = templates().find((one) => one.name === name) ?? templates()[0];
  if (given?.templates && !given.templates.some((one) => one.name === template.name)) {
    fill(parts.strip, templateStrip());
    return;
  }
  const index = template.cases.findIndex((one) => one.sample === sample && one.locale === locale);
  const strained = strain ? template.strained.findIndex((one) => one.strain === strain) : -1;
  for (const frame of Object.values(frames)) frame.forget();
  Object.assign(choice(), { template: template.name, case: Math.max(0, index), strained });
  compare(currentCase());
  tellAll(["state"]);
}

function compare(shownCase) {
  const key = caseKey(shownCase);
  if (shownCase.errors || previous?.key !== key) return;
  const text = saidBy(shownCase);
  const grown = (shownCase.size ?? 0) - (previous.size ?? 0);
  const isSame = text === previous.text && !grown;
  if (isSame && changes?.case === key) return; // the same message, with its findings now
  const lines = lineDifferences(previous.text, text);
  const about = `${counted(lines.length, "line")} of the subject, preheader and text differ; ${grown < 0 ? "−" : "+"}${sizeInWords(Math.abs(grown))}`;
  changes = { case: key, lines, about, before: previous.words, fresh: [] };
}

function start() {
  take(JSON.parse(document.getElementById("shown").textContent));
  build();
  const wanted = decodeURIComponent(location.hash.slice(1));
  const first = templates().find((one) => one.name === wanted) ?? templates()[0];
  if (!first) {
    fill(document.getElementById("page"), element("p", { class: "calm" }, "There are no templates here."));
    return;
  }
  onChange(show);
  listen();
  chooseTemplate(first.name);
  if (isLive()) connect(update);
}

start();
