// What is chosen: template, message, viewer. Each change is told to those that show it.

import { templates, viewers } from "./shown.js";

const chosen = { template: "", case: 0, strained: -1, viewer: "browser", swapped: false, panel: "", edited: null };
const listeners = [];

/** Calls a function after each change, with the names of what changed. */
export function onChange(listener) {
  listeners.push(listener);
}

/** Chooses something: `choose({viewer: "phone"})`. */
export function choose(changes) {
  const changed = Object.keys(changes).filter((name) => chosen[name] !== changes[name]);
  Object.assign(chosen, changes);
  if (changed.length) tellAll(changed);
}

/** Tells all that something changed, as after a new state of things. */
export function tellAll(changed) {
  for (const listener of listeners) listener(new Set(changed));
}

/** Returns what is chosen. */
export function choice() {
  return chosen;
}

/** Returns the template that is shown. */
export function currentTemplate() {
  return templates().find((one) => one.name === chosen.template) ?? templates()[0];
}

/** Returns the message that is shown: one of a sample, one of strained data, or one of data that were edited here. */
export function currentCase() {
  const template = currentTemplate();
  if (chosen.edited) return chosen.edited;
  if (chosen.strained >= 0 && template.strained[chosen.strained]) return template.strained[chosen.strained];
  return template.cases[chosen.case] ?? template.cases[0] ?? { sample: "", locale: "" };
}

/** Returns what tells one message from the others. */
export function caseKey(shownCase) {
  return [currentTemplate().name, shownCase.sample, shownCase.locale, shownCase.strain].join("\u0000");
}

/** Returns whether a message has a page, and is no text alone. */
export function hasPage(shownCase) {
  return Object.keys(shownCase.pages ?? {}).length > 0;
}

/** Returns whether findings of a message are still being looked for. */
export function isUnchecked(shownCase) {
  return shownCase.findings === undefined && !shownCase.errors && !shownCase.strain;
}

/** Returns a viewer by its name. */
export function viewer(name) {
  return viewers().find((one) => one.name === name);
}

/** Returns the names of the viewers of the wide and of the narrow frame. */
export function framed() {
  const now = viewer(chosen.viewer);
  const isNarrow = now !== undefined && now.width < NARROW;
  const wide = now && !isNarrow && !now.textOnly ? now.name : firstOf("browser", false);
  const narrow = now && isNarrow && !now.textOnly ? now.name : firstOf("phone", true);
  const narrowFirst = (isNarrow && !now.textOnly) || matchMedia(`(max-width: ${NARROW}px)`).matches;
  return { wide, narrow, large: narrowFirst !== chosen.swapped ? "narrow" : "wide" };
}

// Windows below so many pixels are narrow.
const NARROW = 600;

function firstOf(name, narrow) {
  const fitting = viewers().filter((one) => !one.textOnly && one.width < NARROW === narrow);
  return (fitting.find((one) => one.name === name) ?? fitting[0])?.name;
}

/** Chooses a template by its name; the first message of it that can be made. */
export function chooseTemplate(name) {
  choose({ template: name, case: 0, strained: -1, edited: null });
}

/** Chooses strained data by their place among those of the template, and a viewer that shows them; -1 for none. */
export function chooseStrained(strained) {
  const fits = strained < 0 || viewer(chosen.viewer)?.plain;
  choose({ strained, edited: null, viewer: fits ? chosen.viewer : "browser" });
}
