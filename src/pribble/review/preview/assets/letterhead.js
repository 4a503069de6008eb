// The head of the message as its reader sees it: subject, preheader, From, Reply-To, attachments.

import { element, sizeInWords } from "./dom.js";

/** Returns the head of a message, with the numbers of findings about it. */
export function letterhead(shownCase, badges) {
  const { from, replyTo, attachments = [] } = shownCase;
  return [
    element(
      "h2",
      { class: "subject" },
      shownCase.subject?.text ? line(shownCase.subject, "subject") : element("em", {}, "no subject"),
      shownCase.preheader?.text ? element("span", { class: "preheader" }, line(shownCase.preheader, "preheader")) : null,
      badges,
    ),
    element(
      "dl",
      {},
      from ? [element("dt", {}, "From"), element("dd", {}, from)] : null,
      replyTo ? [element("dt", {}, "Reply-To"), element("dd", {}, replyTo)] : null,
      attachments.length
        ? [element("dt", {}, "Attached"), element("dd", {}, attachments.map((one) => `${one.name} (${sizeInWords(one.size)})`).join(", "))]
        : null,
      shownCase.what ? [element("dt", {}, "Strained"), element("dd", {}, shownCase.what)] : null,
    ),
  ];
}

function line({ text, shown }, form) {
  const parts = [];
  let position = 0;
  for (const [start, end, value] of shown) {
    if (start < position) continue;
    parts.push(text.slice(position, start), element("span", { class: "value", "data-value": value, "data-form": form }, text.slice(start, end)));
    position = end;
  }
  return [...parts, text.slice(position)];
}
