// The plain text beside the message: each line one element, values within it underlined.

import { element, fill } from "./dom.js";
import { caretAt } from "./frames.js";

/** The pane of the plain text. */
export class PlainText {
  constructor(parent) {
    this.parent = parent;
    this.lines = [];
    this.text = "";
  }

  /** Shows a text; `shown` are the stretches that show values, `cut` where a viewer cuts it off. */
  show({ text, shown }, { cut = null, kept = false } = {}) {
    const scrolled = kept ? this.parent.scrollTop : 0;
    this.text = text;
    const stretches = [...shown].sort((one, other) => one[0] - other[0]);
    this.lines = [];
    let start = 0;
    for (const line of text.replace(/\n$/, "").split("\n")) {
      this.lines.push(this.line(line, start, stretches, cut));
      start += line.length + 1;
    }
    fill(this.parent, this.lines.map((one) => one.node));
    this.parent.scrollTop = scrolled;
  }

  line(line, start, stretches, cut) {
    const parts = [];
    let position = 0;
    for (const [first, last, value] of stretches) {
      const from = Math.max(position, first - start);
      const to = Math.min(line.length, last - start);
      if (from >= to) continue;
      parts.push(line.slice(position, from), element("span", { class: "value", "data-value": value }, line.slice(from, to)));
      position = to;
    }
    parts.push(line.slice(position) || (position ? "" : "\u200b"));
    const gone = cut !== null && start >= cut;
    return { start, end: start + line.length, node: element("div", { class: gone ? "line gone" : "line" }, parts) };
  }

  /** Returns the offset in the text of the character below a point of the window; -1 where there is none. */
  offsetAt(x, y) {
    const found = caretAt(document, x, y);
    const node = found?.node;
    const line = this.lines.find((one) => one.node.contains(node ?? null));
    if (!line || node.nodeType !== Node.TEXT_NODE) return -1;
    let before = 0;
    const walker = document.createTreeWalker(line.node, NodeFilter.SHOW_TEXT);
    while (walker.nextNode() && walker.currentNode !== node) before += walker.currentNode.length;
    return Math.min(line.start + before + found.offset, line.end);
  }

  /** Lights lines by offsets in them, and values by number; shows the first of them. */
  light(offsets, values, { reveal = false } = {}) {
    const lit = this.lines.filter(({ start, end }) => offsets.some((offset) => offset >= start && offset <= end));
    for (const { node } of this.lines) node.classList.remove("lit");
    for (const { node } of lit) node.classList.add("lit");
    for (const node of this.parent.querySelectorAll("[data-value]")) {
      node.classList.toggle("lit", values.has(Number(node.dataset.value)));
    }
    if (reveal && lit.length) this.reveal(lit[0].node);
  }

  reveal(node) {
    const { scrollTop, clientHeight } = this.parent;
    const top = node.offsetTop - this.parent.offsetTop;
    if (top < scrollTop || top + node.offsetHeight > scrollTop + clientHeight) {
      this.parent.scrollTop = Math.max(0, top - clientHeight / 3);
    }
  }
}
