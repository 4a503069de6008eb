// What is drawn onto a message: which of it are data, where findings are, what is pointed at, what has changed.

import { element, fill } from "./dom.js";

// So many stretches are underlined: more of them than anybody looks at would take long to draw.
const MOST_SPANS = 3000;

/** Draws onto one frame, for one message. */
export class Drawing {
  constructor(frame) {
    this.frame = frame;
    this.layers = Object.fromEntries(
      ["data", "changed", "findings", "light"].map((name) => [name, element("div", { class: `drawn ${name}` })]),
    );
    frame.layer.append(...Object.values(this.layers));
  }

  /** Underlines the stretches of elements that show data. */
  data(spans) {
    const boxes = spans.slice(0, MOST_SPANS).flatMap(([number, start, end]) => this.frame.rectangles(number, start, end));
    fill(this.layers.data, boxes.map((box) => placed("u", box)));
  }

  /** Draws findings at their elements, with numbers; `onchoose` is called with the number of one that is chosen. */
  findings(found, onchoose, onpoint) {
    const pins = [];
    const boxes = [];
    for (const { finding, number } of found) {
      const rectangles = finding.elements.map((each) => this.frame.rectangle(each)).filter(Boolean);
      if (!rectangles.length) continue;
      boxes.push(...rectangles.map((box) => placed(`box ${finding.severity}`, box)));
      pins.push(this.pin(finding, number, rectangles[0], onchoose, onpoint));
    }
    apart(pins, this.frame.stage.offsetHeight);
    fill(this.layers.findings, boxes, pins.map((pin) => pin.node));
  }

  pin(finding, number, box, onchoose, onpoint) {
    const label = `${number}: ${finding.severity}, ${finding.rule}: ${finding.message}`;
    const node = element(
      "button",
      {
        class: `pin ${finding.severity}`,
        type: "button",
        "aria-label": label,
        onclick: () => onchoose(number),
        onpointerenter: () => onpoint(finding),
        onfocus: () => onpoint(finding),
      },
      element("b", {}, String(number)),
      element("span", {}, finding.rule),
    );
    return { node, top: Math.max(0, box.top - 2) };
  }

  /** Lights stretches of elements and whole elements; returns the first rectangle. */
  light(stretches, elements) {
    const boxes = [
      ...stretches.flatMap(([number, start, end]) => this.frame.rectangles(number, start, end)),
      ...elements.map((number) => this.frame.rectangle(number)).filter(Boolean),
    ];
    fill(this.layers.light, boxes.map((box) => placed("lit", box)));
    return boxes[0] ?? null;
  }

  /** Marks the elements whose text has changed. */
  changed(numbers) {
    const boxes = numbers.map((number) => this.frame.rectangle(number)).filter(Boolean);
    fill(this.layers.changed, boxes.map((box) => placed("fresh", box)));
  }
}

function placed(name, { left, top, width, height }) {
  const node = element("i", { class: name });
  Object.assign(node.style, { left: `${left}px`, top: `${top}px`, width: `${width}px`, height: `${height}px` });
  return node;
}

const HEIGHT = 22;

// Pins stand below each other at the right edge, each as near to its place as those before it let it.
function apart(pins, height) {
  let free = 0;
  for (const pin of pins.sort((one, other) => one.top - other.top)) {
    pin.top = Math.max(pin.top, free);
    free = pin.top + HEIGHT;
  }
  let last = Math.max(height, pins.length * HEIGHT);
  for (const pin of pins.reverse()) {
    pin.top = Math.min(pin.top, last - HEIGHT);
    last = pin.top;
    pin.node.style.top = `${pin.top}px`;
  }
}
