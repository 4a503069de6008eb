// What the drawer holds beside findings: data, links, parts and their weight, pictures, source, changes.

import { counted, element, shortened, sizeInWords } from "./dom.js";
import { file, lineOf, valueAt, viewers } from "./shown.js";

const DEEPEST = 30;
const MOST_ITEMS = 200;

/** Returns the data as a tree: each value with what the message shows of it. */
export function dataTree(shownCase, onpoint) {
  const seen = new Map();
  for (const value of shownCase.values ?? []) {
    for (const path of value.paths) seen.set(path, true);
  }
  const said = saidByPath(shownCase);
  return element("ul", { class: "tree" }, branches(shownCase.data, "", 0, { seen, said, onpoint }));
}

function branches(data, path, depth, shared) {
  if (depth > DEEPEST) return [element("li", { class: "quiet" }, "…")];
  const entries = Array.isArray(data)
    ? data.slice(0, MOST_ITEMS).map((value, index) => [`[${index}]`, value, `${path}[${index}]`])
    : Object.entries(data ?? {}).slice(0, MOST_ITEMS).map(([name, value]) => [name, value, path ? `${path}.${name}` : name]);
  const made = entries.map(([name, value, own]) => branch(name, value, own, depth, shared));
  const size = Array.isArray(data) ? data.length : Object.keys(data ?? {}).length;
  if (size > MOST_ITEMS) made.push(element("li", { class: "quiet" }, `and ${size - MOST_ITEMS} more`));
  return made;
}

function branch(name, value, path, depth, shared) {
  const isNested = value !== null && typeof value === "object";
  if (isNested && (Array.isArray(value) ? value.length : Object.keys(value).length)) {
    const about = Array.isArray(value) ? counted(value.length, "item") : null;
    return element(
      "li",
      {},
      element("details", { open: depth < 1 || !Array.isArray(value) }, element("summary", {}, name, about ? element("span", { class: "quiet" }, ` ${about}`) : null), element("ul", {}, branches(value, path, depth + 1, shared))),
    );
  }
  const said = shared.said.get(path);
  const point = () => shared.onpoint(path);
  return element(
    "li",
    { class: shared.seen.has(path) ? "leaf shown" : "leaf", "data-path": path, onpointerenter: point },
    element("button", { type: "button", onfocus: point, onclick: point }, name),
    element("code", {}, shortened(isNested ? (Array.isArray(value) ? "[]" : "{}") : JSON.stringify(value), 80)),
    said ? element("span", { class: "said" }, said) : element("span", { class: "quiet" }, shared.seen.has(path) ? "in an address or a test" : "not shown"),
  );
}

function saidByPath(shownCase) {
  const said = new Map();
  for (const { paths, said: shown } of shownCase.values ?? []) {
    for (const path of paths) if (shown && !said.has(path)) said.set(path, shortened(shown, 60));
  }
  return said;
}

/** Returns all links: their words, where they lead, and which values are in them. */
export function linkTable(shownCase, onpoint) {
  const links = shownCase.links ?? [];
  if (!links.length) return element("p", { class: "calm" }, "This message has no links.");
  return table(
    ["Words", "Leads to", "Data in it"],
    links.map((link) => {
      const paths = (shownCase.attributes ?? [])
        .filter(([number]) => number === link.element)
        .flatMap(([, value]) => shownCase.values[value].paths);
      return { cells: [link.label || "(none)", element("code", {}, link.address), [...new Set(paths)].join(", ")], point: () => onpoint(link) };
    }),
  );
}

/** Returns the parts of the message with their sizes as bars, and what it weighs by the way that pictures travel. */
export function partsPanel(template, shownCase) {
  const parts = shownCase.parts ?? [];
  const whole = Math.max(1, ...parts.map((part) => part.size));
  const rows = parts.map((part) => ({
    cells: [
      element("span", { style: `padding-left:${part.depth * 14}px` }, part.type),
      part.name,
      part.encoding,
      sizeInWords(part.size),
      bar(part.within ? 0 : part.size, whole),
    ],
  }));
  const drawn = rows.length ? table(["Part", "Name", "Encoding", "Size", ""], rows) : null;
  return [drawn, weightBars(template.weight)];
}

const WAYS = { cid: "pictures as parts of the message", data: "pictures inside the page" };

function weightBars(weight) {
  if (!weight) return null;
  const { sizes, recipients } = weight;
  const most = Math.max(...Object.values(sizes));
  const rows = Object.entries(sizes).map(([way, size]) => ({
    cells: [
      WAYS[way] ?? way,
      sizeInWords(size),
      recipients > 1 ? `${sizeInWords(size * recipients)} for ${recipients.toLocaleString("en")}` : "",
      bar(size, most),
    ],
  }));
  return [element("h3", {}, "What one message weighs, with the first sample"), table(["Way", "One", "All", ""], rows)];
}

const SVG = "http://www.w3.org/2000/svg";

function bar(size, most) {
  const drawn = document.createElementNS(SVG, "svg");
  const rect = document.createElementNS(SVG, "rect");
  for (const [name, value] of Object.entries({ class: "bar", viewBox: "0 0 100 8", preserveAspectRatio: "none", "aria-hidden": "true" })) drawn.setAttribute(name, value);
  for (const [name, value] of Object.entries({ width: (100 * size) / most, height: 8, rx: 1 })) rect.setAttribute(name, value);
  drawn.append(rect);
  return drawn;
}

/** Returns the pictures: which viewer shows which of them, by the way it travels. */
export function pictureTable(shownCase) {
  const pictures = shownCase.pictures ?? [];
  if (!pictures.length) return element("p", { class: "calm" }, "This message has no pictures.");
  const ways = ["cid", "data", "link"];
  const own = pictures.filter((one) => one.shown);
  const rows = own.flatMap((picture) =>
    ways.map((way, index) => ({
      cells: [
        index ? "" : element("span", {}, picture.name ?? picture.type, element("br"), element("span", { class: "quiet" }, `${picture.width} × ${picture.height}, ${sizeInWords(picture.size)}`)),
        { cid: "as a part", data: "in the page", link: "as a link" }[way],
        ...viewers().map((one) => answer(picture.shown[one.name]?.[way])),
      ],
    })),
  );
  const elsewhere = pictures.filter((one) => !one.shown);
  return [
    own.length ? table(["Picture", "Travels", ...viewers().map((one) => one.name)], rows, "pictures") : null,
    elsewhere.length
      ? element("p", {}, `From elsewhere, and not loaded here: ${elsewhere.map((one) => one.name).join(", ")}`)
      : null,
  ];
}

function answer(said) {
  return element("span", { class: `answer ${said === "yes" ? "yes" : said === "no" ? "no" : "ask"}` }, said ?? "no");
}

/** Returns the files that the message is made of, line by line, with findings at their lines. */
export function sourcePanel(shownCase, findings, lit) {
  const numbers = new Set();
  for (const value of shownCase.values ?? []) numbers.add(value.place[0]);
  for (const [, , , , , number] of shownCase.words ?? []) if (number >= 0) numbers.add(number);
  for (const { place } of findings) if (place) numbers.add(place[0]);
  return [...numbers].map((number) => sourceOf(number, findings.filter(({ place }) => place?.[0] === number), lit));
}

function sourceOf(number, findings, lit) {
  const { name, text } = file(number);
  const byLine = new Map();
  for (const finding of findings) {
    const line = lineOf(text, finding.place[1]);
    byLine.set(line, [...(byLine.get(line) ?? []), finding]);
  }
  const litLine = lit && lit[0] === number ? lineOf(text, lit[1]) : -1;
  const lines = text.split("\n").slice(0, 3000).map((line, index) => {
    const found = byLine.get(index + 1) ?? [];
    return element(
      "div",
      { class: `source-line ${found[0]?.severity ?? ""} ${index + 1 === litLine ? "lit" : ""}`, "data-line": index + 1 },
      element("span", { class: "number" }, String(index + 1)),
      element("code", {}, line || " "),
      found.map((one) => element("span", { class: `remark ${one.severity}` }, `${one.rule}: ${one.message}`)),
    );
  });
  return element("section", { class: "source", "data-file": number }, element("h3", {}, name), lines);
}

/** Returns what has changed: since the last save, and against the stored snapshot. */
export function changesPanel(changes, snapshot) {
  return [
    element("h3", {}, "Since the last save"),
    changes ? differenceList(changes.lines, changes.about) : element("p", { class: "calm" }, "Nothing was saved since this page was opened."),
    snapshot === undefined ? null : element("h3", {}, "Against the stored snapshot"),
    snapshot === undefined ? null : snapshotDifferences(snapshot),
  ];
}

function snapshotDifferences({ file: name, lines }) {
  if (lines === null) return element("p", { class: "calm" }, `There is no snapshot ${name}.`);
  const signed = lines.map((line) => ({ sign: line[0], line: line.slice(1) }));
  return differenceList(signed, lines.length ? name : `${name} says the same.`);
}

function differenceList(lines, about) {
  return element(
    "div",
    { class: "differences" },
    element("p", { class: "quiet" }, about),
    lines.map(({ sign, line }) => element("div", { class: sign === "+" ? "come" : "gone" }, element("b", {}, sign), ` ${line}`)),
  );
}

/** Returns a table with these heads; a row may be pointed at. */
function table(heads, rows, name = "") {
  return element(
    "div",
    { class: "table", tabindex: "0", role: "region", "aria-label": heads[0] },
    element(
      "table",
      { class: name },
      element("thead", {}, element("tr", {}, heads.map((head) => (head ? element("th", { scope: "col" }, head) : element("td", {}))))),
      element(
        "tbody",
        {},
        rows.map(({ cells, point }) => element("tr", point ? { onpointerenter: point } : {}, cells.map((cell) => element("td", {}, cell)))),
      ),
    ),
  );
}

/** Returns the value of a path in the data of a message, in words. */
export function dataInWords(shownCase, path) {
  const value = valueAt(shownCase.data, path);
  return value === undefined ? path : `${path} = ${shortened(JSON.stringify(value) ?? "", 60)}`;
}
