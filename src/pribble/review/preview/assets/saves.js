// From one save to the next: what was said before, and what is new in the message that is shown.

import { lineDifferences, newTexts } from "./differences.js";
import { counted, sizeInWords } from "./dom.js";
import { frames } from "./layout.js";
import { caseKey } from "./state.js";

let previous = null;
let changes = null;

/** Compares a message with what it was before the save. */
export function compareSaved(shownCase) {
  const key = caseKey(shownCase);
  if (shownCase.errors || previous?.key !== key) return;
  const text = saidBy(shownCase);
  const grown = (shownCase.size ?? 0) - (previous.size ?? 0);
  if (text === previous.text && !grown && changes?.key === key) return; // the same, with its findings now
  const lines = lineDifferences(previous.text, text);
  const size = `${grown < 0 ? "−" : "+"}${sizeInWords(Math.abs(grown))}`;
  const about = `${counted(lines.length, "line")} of the subject, preheader and text differ; ${size}`;
  changes = { key, lines, about, before: previous.words, fresh: [] };
}

/** Keeps what a message says, to compare the next one with it; finds out which of its elements are new. */
export function rememberMessage(shownCase) {
  const key = caseKey(shownCase);
  const words = frames.wide.words((shownCase.words ?? []).map(([number]) => number));
  if (changes?.key === key && changes.before) {
    changes = { ...changes, fresh: newTexts(changes.before, words), before: null };
  }
  previous = { key, text: saidBy(shownCase), size: shownCase.size, words };
}

/** Returns what changed in a message since the last save; null where nothing was saved. */
export function changesOf(shownCase) {
  return changes?.key === caseKey(shownCase) ? changes : null;
}

/** Returns the elements of a message that were not there before the last save. */
export function freshElements(shownCase) {
  return changesOf(shownCase)?.fresh ?? [];
}

function saidBy({ subject, preheader, text }) {
  return `${subject?.text ?? ""}\n${preheader?.text ?? ""}\n\n${text?.text ?? ""}`;
}
