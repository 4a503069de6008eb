// The message that is chosen, in its forms: frames, text, captions, and what is drawn onto it.

import { element, fill, shortened } from "./dom.js";
import { findingGroups, formBadges } from "./findings.js";
import { drawings, frames, parts, plainText, sheet } from "./layout.js";
import { letterhead } from "./letterhead.js";
import { freshElements, rememberMessage } from "./saves.js";
import { pageHtml } from "./shown.js";
import { choice, currentCase, currentTemplate, framed, hasPage, viewer } from "./state.js";

let groups = [];
let onPin = () => {};
let onPinPointed = () => {};

/** Says what is called with the number of a finding that is chosen on the message, and with one that is pointed at. */
export function onPins(chosen, pointed) {
  onPin = chosen;
  onPinPointed = pointed;
}

/** Returns the findings of the message that is shown, one group a rule. */
export function currentGroups() {
  return groups;
}

/** Returns the findings that have a place on the message. */
export function placedFindings() {
  return groups.flatMap((group) =>
    group.findings.filter((one) => one.elements.length).map((finding) => ({ finding, number: group.number })),
  );
}

/** Shows all forms of the message that is chosen; with `kept`, the place stays that was scrolled to. */
export function showMessage({ kept }) {
  const shownCase = currentCase();
  groups = shownCase.errors ? [] : findingGroups(currentTemplate(), shownCase);
  fill(parts.head, shownCase.errors ? null : letterhead(shownCase, formBadges(groups, ["subject", "preheader"], onPin)));
  if (shownCase.errors) return;
  const { wide, narrow, large } = framed();
  sheet.classList.toggle("text-only", !hasPage(shownCase));
  sheet.classList.toggle("narrow-large", hasPage(shownCase) && large === "narrow");
  showFrame("wide", wide, kept);
  showFrame("narrow", narrow, kept);
  showText(shownCase, kept);
  if (!hasPage(shownCase)) rememberMessage(shownCase);
}

function showFrame(side, name, kept) {
  const shownCase = currentCase();
  const number = shownCase.pages?.[name];
  if (number === undefined) return;
  frames[side].onload = () => drawMessage(side, shownCase);
  frames[side].show(pageHtml(number), { dark: (shownCase.dark ?? []).includes(name), kept });
  fill(parts.captions[side], caption(name, shownCase, framed().large === side));
}

function showText(shownCase, kept) {
  const now = viewer(choice().viewer);
  const isText = Boolean(now?.textOnly);
  sheet.classList.toggle("text-large", isText);
  plainText.show(shownCase.text, { cut: isText ? (shownCase.cuts?.[now.name] ?? null) : null, kept });
  const about = shownCase.handwritten ? "written by hand" : "derived from the page";
  fill(
    parts.captions.text,
    element("b", {}, isText ? now.name : "Plain text"),
    ` ${hasPage(shownCase) ? about : "the whole message"} `,
    formBadges(groups, ["text"], onPin),
  );
}

function caption(name, shownCase, isLarge) {
  const lost = shownCase.lost?.[name] ?? [];
  return [
    element("b", {}, name),
    isLarge ? element("span", {}, ` ${viewer(name).about}`) : null,
    lost.length ? element("span", { class: "lost" }, ` loses ${shortened(lost.join(", "), isLarge ? 60 : 24)}`) : null,
    shownCase.cuts?.[name] ? element("span", { class: "lost" }, " is cut off at its end") : null,
  ];
}

/** Draws onto a frame what is known of the message in it. */
export function drawMessage(side, shownCase) {
  if (shownCase !== currentCase() || !frames[side].html) return;
  const isLarge = framed().large === side;
  drawings[side].data(isLarge ? (shownCase.spans ?? []) : []);
  drawings[side].findings(isLarge ? placedFindings() : [], onPin, onPinPointed);
  if (side === "wide" && shownCase.words) rememberMessage(shownCase);
  drawings[side].changed(freshElements(shownCase));
  const overflow = frames[side].overflow();
  parts.captions[side].querySelector(".overflow")?.remove();
  if (overflow > 0) {
    parts.captions[side].append(element("span", { class: "lost overflow" }, ` ${overflow} px wider than the screen`));
  }
}
