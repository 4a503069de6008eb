// The parts of the page, which are built once: bars, head, frames, text, drawer.

import { element, fill } from "./dom.js";
import { Drawing } from "./drawing.js";
import { Frame } from "./frames.js";
import { PlainText } from "./plaintext.js";

export const HINT = "Point at a word: its mark, its data and its line of the text light up.";

/** The two frames of a message, and what is drawn onto each. */
export const frames = {
  wide: new Frame("The message in a wide window", 680),
  narrow: new Frame("The message on a telephone", 390),
};
export const drawings = { wide: new Drawing(frames.wide), narrow: new Drawing(frames.narrow) };

/** All that is filled when something is chosen. */
export const parts = {
  strip: element("nav", { class: "strip", "aria-label": "Templates" }),
  count: element("button", { type: "button", class: "quiet-button" }),
  keys: element("button", { type: "button", class: "quiet-button", "aria-label": "Keys" }, element("kbd", {}, "?")),
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
  tabs: element("div", { class: "tabs", role: "group", "aria-label": "More about this message" }),
  panel: element("div", { class: "panel" }),
  editor: element("div", { class: "editor", hidden: true }),
  sender: element("div", { class: "sender", hidden: true }),
  overlay: element("dialog", { class: "overlay" }),
};
parts.drawer = element(
  "section",
  { class: "drawer", hidden: true, tabindex: "0", "aria-label": "More about this message" },
  parts.panel,
  parts.editor,
  parts.sender,
);

/** The plain text beside the message. */
export const plainText = new PlainText(parts.text);

/** The sheet that message and text stand on. */
export const sheet = element(
  "main",
  { class: "sheet" },
  element("section", { class: "pane wide", "aria-label": "Wide" }, parts.captions.wide, frames.wide.scroller),
  element("section", { class: "pane narrow", "aria-label": "Telephone" }, parts.captions.narrow, frames.narrow.scroller),
  element("section", { class: "pane plain", "aria-label": "Text" }, parts.captions.text, parts.text),
  parts.failure,
);

/** Puts all parts into the page. */
export function buildPage() {
  fill(
    document.getElementById("page"),
    element("header", { class: "top" }, element("h1", {}, "Pribble"), parts.strip, parts.count, parts.keys),
    element("section", { class: "choices", "aria-label": "What is shown" }, parts.switches, parts.viewers),
    parts.head,
    sheet,
    parts.pointed,
    parts.drawer,
    element("footer", {}, parts.figures, parts.tabs),
    parts.overlay,
  );
}
