// Pointing: what belongs to a word, a value, a link or a finding lights up, and a line says what it is.

import { element, fill, shortened } from "./dom.js";
import { valueInWords } from "./findings.js";
import { Frame } from "./frames.js";
import { drawings, frames, HINT, parts, plainText } from "./layout.js";
import { drawMessage, placedFindings } from "./message.js";
import { dataInWords } from "./panels.js";
import { placeInWords } from "./shown.js";
import { choose, currentCase } from "./state.js";
import { linkAt, pathsOf, sameData, tracedAt, tracedInText, valuesOfElement } from "./tracing.js";

const NOTHING = { values: new Set(), word: null, link: null, elements: [] };

let lit = null;
let pointedFinding = -1;
let pointedValue = -1;

/** Returns the place of a file that is lit; null for none. */
export function litPlace() {
  return lit;
}

/** Lights what belongs to something that is pointed at; null for nothing. With `reveal`, all forms show it. */
export function pointAt(found, { reveal = false } = {}) {
  const shownCase = currentCase();
  const now = { ...NOTHING, ...found };
  const values = now.values.size ? sameData(shownCase, now.values) : now.values;
  lightFrames(shownCase, now, values, reveal);
  const offsets = offsetsInText(shownCase, now);
  plainText.light(offsets, values, { reveal: reveal || Boolean(found && !now.inText) });
  for (const node of parts.head.querySelectorAll("[data-value]")) {
    node.classList.toggle("lit", values.has(Number(node.dataset.value)));
  }
  const paths = new Set(pathsOf(shownCase, now.values));
  for (const node of parts.panel.querySelectorAll("[data-path]")) {
    node.classList.toggle("lit", paths.has(node.dataset.path));
  }
  lit = placeOf(shownCase, now);
  const words = found ? inWords(shownCase, now, offsets[0]) : [];
  fill(parts.pointed, words.length ? words : HINT);
}

function lightFrames(shownCase, { word, link, elements }, values, reveal) {
  const stretches = (shownCase.spans ?? []).filter(([, , , value]) => values.has(value));
  if (word && !values.size) stretches.push(word);
  const whole = (shownCase.attributes ?? []).filter(([, value]) => values.has(value)).map(([number]) => number);
  const numbers = new Set([...whole, ...elements, ...(link ? [link.element] : [])]);
  for (const [side, drawing] of Object.entries(drawings)) {
    const first = drawing.light(stretches, [...numbers]);
    if (reveal && first) frames[side].reveal(first);
  }
}

/** Returns where in the text something stands: its word, else all that its values show. */
function offsetsInText(shownCase, { word, values }) {
  if (word && word[3] >= 0) return [word[3]];
  return (shownCase.text?.shown ?? []).filter(([, , value]) => values.has(value)).map(([first]) => first);
}

function placeOf(shownCase, { values, word }) {
  const [value] = values;
  if (value !== undefined) return shownCase.values[value].place;
  return word && word[5] >= 0 ? [word[5], word[6]] : null;
}

function inWords(shownCase, { values, word, link }, offset) {
  const made = [...values].slice(0, 2).flatMap((value) => valueWords(shownCase, shownCase.values[value]));
  if (!made.length && word && word[5] >= 0) {
    made.push(element("span", {}, `written in ${placeInWords([word[5], word[6]])}`));
  }
  if (link) made.push(element("span", {}, "leads to ", element("code", {}, shortened(link.address, 80))));
  if (offset !== undefined) {
    const line = shownCase.text.text.slice(0, offset).split("\n").length;
    made.push(element("span", { class: "quiet" }, `line ${line} of the text`));
  }
  return made;
}

function valueWords(shownCase, value) {
  const { mark, where } = valueInWords(value);
  const data = value.paths.map((path) => dataInWords(shownCase, path)).join("; ");
  return [
    element("code", { class: "mark" }, shortened(mark, 70)),
    element("span", {}, where),
    data ? element("span", { class: "datum" }, shortened(data, 90)) : null,
  ];
}

/** Returns what a pointer points at in a frame; null for nothing that is known. */
function foundInFrame(frame, event) {
  const box = frame.layer.getBoundingClientRect();
  const found = frame.at(event.clientX - box.left, event.clientY - box.top);
  const shownCase = currentCase();
  const number = Frame.numberOf(found?.element);
  if (!shownCase.values || number < 0) return null;
  const isOwn = found.offset >= 0 && found.element.getAttribute("data-pribble") === String(number);
  const traced = isOwn ? tracedAt(shownCase, number, found.offset) : { ...NOTHING, values: new Set() };
  addAround(traced, shownCase, found.element);
  return traced.values.size || traced.word || traced.link ? traced : null;
}

/** Adds the link that an element stands in, and the values in its attributes where it shows none itself. */
function addAround(traced, shownCase, found) {
  for (let node = found; node?.getAttribute && !traced.link; node = node.parentElement) {
    const number = Number(node.getAttribute("data-pribble") ?? -1);
    traced.link = linkAt(shownCase, number);
    if (!traced.values.size && !traced.word) traced.values = valuesOfElement(shownCase, number);
  }
}

/** Lights the elements of a finding, and says what it is. */
export function pointAtFinding(finding) {
  pointAt({ elements: finding.elements, inText: true });
  fill(
    parts.pointed,
    element("b", { class: finding.severity }, `${finding.severity} ${finding.rule}`),
    element("span", {}, shortened(finding.message, 150)),
    finding.severity === "note" ? null : element("span", { class: "quiet" }, `To do: ${shortened(finding.fix, 120)}`),
  );
}

/** Lights all that shows the data at a path. */
export function pointAtPath(path) {
  const values = (currentCase().values ?? []).map((value, number) => (value.paths.includes(path) ? number : -1));
  pointAt({ values: new Set(values.filter((number) => number >= 0)) }, { reveal: true });
}

/** Lights a link. */
export function pointAtLink(link) {
  pointAt({ values: valuesOfElement(currentCase(), link.element), link }, { reveal: true });
}

/** Points at the next finding that has a place on the message. */
export function pointAtNextFinding() {
  const placed = placedFindings();
  if (!placed.length) return;
  pointedFinding = (pointedFinding + 1) % placed.length;
  const { finding } = placed[pointedFinding];
  for (const frame of Object.values(frames)) {
    const box = frame.rectangle(finding.elements[0]);
    if (box) frame.reveal(box);
  }
  pointAtFinding(finding);
}

/** Points at the next value of the data. */
export function pointAtNextValue() {
  const count = currentCase().values?.length ?? 0;
  if (!count) return;
  pointedValue = (pointedValue + 1) % count;
  pointAt({ values: new Set([pointedValue]) }, { reveal: true });
}

/** Listens to pointers on frames, text and head. */
export function listenToPointers() {
  for (const [side, frame] of Object.entries(frames)) listenInFrame(side, frame);
  parts.text.addEventListener("pointermove", (event) => {
    const offset = plainText.offsetAt(event.clientX, event.clientY);
    const shownCase = currentCase();
    if (offset >= 0 && shownCase.values) pointAt({ ...tracedInText(shownCase, offset), inText: true });
  });
  parts.head.addEventListener("pointerover", (event) => {
    const value = event.target.closest("[data-value]")?.dataset.value;
    if (value !== undefined) pointAt({ values: new Set([Number(value)]) });
  });
  for (const part of [parts.text, parts.head]) part.addEventListener("pointerleave", () => pointAt(null));
}

function listenInFrame(side, frame) {
  let asked = 0;
  frame.layer.addEventListener("pointermove", (event) => {
    if (event.target !== frame.layer) return;
    cancelAnimationFrame(asked);
    asked = requestAnimationFrame(() => pointAt(foundInFrame(frame, event)));
  });
  frame.layer.addEventListener("pointerleave", () => {
    cancelAnimationFrame(asked);
    pointAt(null);
  });
  frame.layer.addEventListener("click", (event) => {
    const found = event.target === frame.layer ? foundInFrame(frame, event) : null;
    if (!found) return;
    choose({ panel: found.link ? "links" : "data" });
    pointAt(found);
  });
  new ResizeObserver(() => drawMessage(side, currentCase())).observe(frame.stage);
}
