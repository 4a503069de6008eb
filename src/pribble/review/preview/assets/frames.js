// The frames that hold a message: without scripts, as high as their page, scaled to the room there is.

import { element } from "./dom.js";

const HIGHEST = 20_000;

/** A frame: what it stands in, its page, and a layer above it for all that is drawn onto the message. */
export class Frame {
  constructor(label, width) {
    this.width = width;
    this.scale = 1;
    this.html = "";
    this.elements = new Map();
    this.frame = element("iframe", { sandbox: "allow-same-origin", title: label, tabindex: "-1", scrolling: "no" });
    this.layer = element("div", { class: "layer" });
    this.stage = element("div", { class: "stage" }, this.frame, this.layer);
    this.scroller = element("div", { class: "scroller", tabindex: "0", role: "region", "aria-label": label }, this.stage);
    this.onload = () => {};
    this.frame.addEventListener("load", () => this.loaded());
    new ResizeObserver(() => this.fit()).observe(this.scroller);
  }

  /** Shows a page; `dark` where its canvas is. With `kept`, the place stays that was scrolled to. */
  show(html, { dark = false, kept = false } = {}) {
    this.frame.style.colorScheme = dark ? "dark" : "light";
    if (html === this.html) {
      this.onload();
      return;
    }
    this.html = html;
    this.kept = kept ? this.scroller.scrollTop : 0;
    this.frame.srcdoc = html;
  }

  get document() {
    return this.frame.contentDocument;
  }

  loaded() {
    if (!this.html || !this.document?.body) return;
    this.elements = new Map();
    for (const each of this.document.querySelectorAll("[data-pribble]")) {
      const number = Number(each.getAttribute("data-pribble"));
      if (!this.elements.has(number)) this.elements.set(number, each);
    }
    this.frame.style.height = "100px"; // a page may ask for the height of its window
    this.height = Math.min(HIGHEST, Math.max(100, this.document.documentElement.scrollHeight));
    this.frame.style.height = `${this.height}px`;
    this.fit();
    this.scroller.scrollTop = this.kept;
    this.onload();
  }

  /** Scales the page to the width of its pane. */
  fit() {
    const room = this.scroller.clientWidth;
    if (!room || !this.height) return;
    this.scale = Math.min(1, room / this.width);
    const width = this.scale < 1 ? this.width : Math.min(room, Math.max(this.width, 760));
    this.frame.style.width = `${width}px`;
    this.frame.style.transform = `scale(${this.scale})`;
    this.stage.style.width = `${width * this.scale}px`;
    this.stage.style.height = `${this.height * this.scale}px`;
    this.layer.style.setProperty("--scale", this.scale);
  }

  /** Returns by how many pixels the page is wider than its window. */
  overflow() {
    const wide = this.document?.documentElement?.scrollWidth ?? 0;
    const room = Math.max(this.width, this.document?.defaultView?.innerWidth ?? 0);
    return wide > room + 1 ? wide - room : 0;
  }

  /** Returns the elements of the message by their numbers, with their own words. */
  words(numbers) {
    const made = new Map();
    for (const number of numbers) {
      const found = this.element(number);
      if (found) made.set(number, textNodes(found).map((node) => node.data).join(""));
    }
    return [...made.entries()];
  }

  /** Returns the element of a message by its number. */
  element(number) {
    return this.elements.get(number) ?? null;
  }

  /** Returns the number of the element that an element is in, and whether it is that itself. */
  static numberOf(found) {
    const around = found?.closest?.("[data-pribble]");
    return around ? Number(around.getAttribute("data-pribble")) : -1;
  }

  /** Returns what stands below a point of the layer: the element, and the offset in its own text. */
  at(x, y) {
    const found = this.document?.elementFromPoint(x / this.scale, y / this.scale);
    if (!found) return null;
    const range = caretAt(this.document, x / this.scale, y / this.scale);
    const node = range?.node;
    const own = node?.nodeType === Node.TEXT_NODE ? node.parentElement : found;
    const rect = node?.nodeType === Node.TEXT_NODE ? nearby(node, range.offset, x / this.scale, y / this.scale) : false;
    return { element: rect ? own : found, offset: rect ? ownOffset(node, range.offset) : -1 };
  }

  /** Returns the rectangles, on the layer, of a stretch of an element's own text. */
  rectangles(number, start, end) {
    const found = this.element(number);
    const range = found && ownRange(found, start, end);
    return range ? [...range.getClientRects()].map((one) => this.onLayer(one)).filter((one) => one.width > 0) : [];
  }

  /** Returns the rectangle of an element on the layer; null where it does not show. */
  rectangle(number) {
    const found = this.element(number);
    if (!found) return null;
    const box = found.getBoundingClientRect();
    return box.width > 1 && box.height > 1 ? this.onLayer(box) : null;
  }

  onLayer({ left, top, width, height }) {
    const [x, y, wide, high] = [left, top, width, height].map((one) => one * this.scale);
    return { left: x, top: y, width: wide, height: high };
  }

  /** Moves what is shown so that a rectangle can be seen. */
  reveal({ top, height }) {
    const { scrollTop, clientHeight } = this.scroller;
    if (top < scrollTop || top + height > scrollTop + clientHeight) this.scroller.scrollTop = Math.max(0, top - clientHeight / 3);
  }
}

/** Returns the node and offset of the character below a point of a document. */
export function caretAt(root, x, y) {
  if (root.caretPositionFromPoint) {
    const found = root.caretPositionFromPoint(x, y);
    return found && { node: found.offsetNode, offset: found.offset };
  }
  const found = root.caretRangeFromPoint?.(x, y);
  return found && { node: found.startContainer, offset: found.startOffset };
}

// A caret is found for every point; only one at a character is meant.
function nearby(node, offset, x, y) {
  const range = node.ownerDocument.createRange();
  range.setStart(node, Math.max(0, offset - 1));
  range.setEnd(node, Math.min(node.length, offset + 1));
  return [...range.getClientRects()].some(
    (one) => x >= one.left - 3 && x <= one.right + 3 && y >= one.top - 3 && y <= one.bottom + 3,
  );
}

function textNodes(found) {
  return [...found.childNodes].filter((node) => node.nodeType === Node.TEXT_NODE);
}

function ownOffset(node, offset) {
  let before = 0;
  for (const each of textNodes(node.parentElement)) {
    if (each === node) return before + offset;
    before += each.length;
  }
  return -1;
}

/** Returns the range of a stretch of an element's own text; null where it has no such text. */
function ownRange(found, start, end) {
  const range = found.ownerDocument.createRange();
  let before = 0;
  let begun = false;
  for (const node of textNodes(found)) {
    if (!begun && start < before + node.length) {
      range.setStart(node, Math.max(0, start - before));
      begun = true;
    }
    if (begun && end <= before + node.length) {
      range.setEnd(node, end - before);
      return range;
    }
    before += node.length;
  }
  return null;
}
