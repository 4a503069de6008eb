// Keys, and what opens above the page: all templates, all keys.

import { KEYED, templateList } from "./controls.js";
import { element, fill } from "./dom.js";
import { parts } from "./layout.js";
import { pointAtNextFinding, pointAtNextValue } from "./pointer.js";
import { templates } from "./shown.js";
import { choice, choose, chooseStrained, chooseTemplate, currentTemplate, viewer } from "./state.js";

const KEYS = [
  ["1 – 5", "viewers: as sent, no pictures, dark, forced dark, old engine"],
  ["w", "which frame is large: wide or telephone"],
  ["[ ]", "the template before, the next one"],
  [", .", "the message before, the next one (samples and languages)"],
  ["s", "strained data: the next, and none at the end"],
  ["n", "the next finding"],
  ["v", "the next value of the data"],
  ["t", "all templates"],
  ["Esc", "close what is open"],
  ["?", "these keys"],
];

const BY_KEY = {
  w: () => choose({ swapped: !choice().swapped }),
  "[": () => nextTemplate(-1),
  "]": () => nextTemplate(1),
  ",": () => nextCase(-1),
  ".": () => nextCase(1),
  s: nextStrained,
  n: pointAtNextFinding,
  v: pointAtNextValue,
  t: openTemplates,
  "?": openKeys,
  Escape: () => choose({ panel: "" }),
  ...Object.fromEntries(KEYED.map(([name, key]) => [key, () => chooseViewer(name)])),
};

/** Listens to keys, but for those that somebody writes with. */
export function listenToKeys() {
  parts.count.addEventListener("click", openTemplates);
  parts.keys.addEventListener("click", openKeys);
  document.addEventListener("keydown", (event) => {
    const isWriting = /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName);
    if (event.ctrlKey || event.metaKey || event.altKey || isWriting || parts.overlay.open) return;
    if (!Object.hasOwn(BY_KEY, event.key)) return;
    BY_KEY[event.key]();
    event.preventDefault();
  });
}

function stepped(list, index, by) {
  return (index + by + list.length) % list.length;
}

function nextTemplate(by) {
  const list = templates();
  chooseTemplate(list[stepped(list, list.indexOf(currentTemplate()), by)].name);
}

function nextCase(by) {
  choose({ case: stepped(currentTemplate().cases, choice().case, by), strained: -1, edited: null });
}

function nextStrained() {
  const next = choice().strained + 1;
  chooseStrained(next < currentTemplate().strained.length ? next : -1);
}

function chooseViewer(name) {
  if (viewer(name) && (choice().strained < 0 || viewer(name).plain)) choose({ viewer: name });
}

function openTemplates() {
  openAbove(
    "All templates",
    templateList((name) => {
      parts.overlay.close();
      chooseTemplate(name);
    }),
  );
}

function openKeys() {
  const listed = KEYS.map(([key, what]) => [element("dt", {}, element("kbd", {}, key)), element("dd", {}, what)]);
  openAbove("Keys", element("dl", { class: "keys" }, listed));
}

function openAbove(title, content) {
  const close = element("button", { type: "button", onclick: () => parts.overlay.close() }, "Close");
  fill(parts.overlay, element("div", { class: "title" }, element("h2", {}, title), close), content);
  parts.overlay.setAttribute("aria-label", title);
  if (!parts.overlay.open) parts.overlay.showModal();
}
