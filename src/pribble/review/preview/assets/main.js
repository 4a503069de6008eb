// The page as a whole: built once, and filled again with each choice and each save.

import { messageSwitches, templateStrip, viewerSwitches } from "./controls.js";
import { element, fill } from "./dom.js";
import { openFinding, showDrawer, showFigures } from "./drawer.js";
import { errorNotice } from "./findings.js";
import { listenToKeys } from "./keys.js";
import { buildPage, parts, sheet } from "./layout.js";
import { connect, isLive } from "./live.js";
import { onPins, showMessage } from "./message.js";
import { listenToPointers, pointAt, pointAtFinding } from "./pointer.js";
import { compareSaved } from "./saves.js";
import { keepOnly, openStore, take, takeCase, takeViewers, templates } from "./shown.js";
import { choice, chooseTemplate, currentCase, currentTemplate, hasPage, onChange, tellAll } from "./state.js";

/** Shows what is chosen; `changed` are the names of what has changed, "state" after a save. */
function show(changed) {
  const shownCase = currentCase();
  const { errors } = shownCase;
  openStore(currentTemplate(), shownCase);
  history.replaceState(null, "", `#${encodeURIComponent(currentTemplate().name)}`);
  document.title = `${currentTemplate().name} – Pribble`;
  fill(parts.strip, templateStrip());
  fill(parts.count, `All ${templates().length}`, element("kbd", {}, "t"));
  fill(parts.switches, messageSwitches());
  fill(parts.viewers, viewerSwitches());
  parts.viewers.hidden = !errors && !hasPage(shownCase);
  sheet.classList.toggle("failed", Boolean(errors));
  parts.failure.hidden = !errors;
  fill(parts.failure, errors ? errorNotice(errors) : null);
  showMessage({ kept: changed.has("state") });
  showFigures();
  showDrawer();
  if (!changed.has("panel")) pointAt(null);
}

/** Takes in templates that came anew from the server, or one message; `names` are those that are there now. */
function update(given, names) {
  const name = currentTemplate()?.name;
  const { sample, locale, strain } = currentCase();
  if (given?.case) takeCase(given);
  else if (given) take(given);
  keepOnly(names);
  const template = templates().find((one) => one.name === name) ?? templates()[0];
  if (given?.templates && !given.templates.some((one) => one.name === template.name)) {
    fill(parts.strip, templateStrip());
    return;
  }
  const index = template.cases.findIndex((one) => one.sample === sample && one.locale === locale);
  const strained = strain ? template.strained.findIndex((one) => one.strain === strain) : -1;
  Object.assign(choice(), { template: template.name, case: Math.max(0, index), strained });
  compareSaved(currentCase());
  tellAll(["state"]);
}

function begin() {
  const { viewers, groups } = JSON.parse(document.getElementById("shown").textContent);
  takeViewers(viewers);
  groups.forEach(take);
  buildPage();
  const first = templates().find((one) => `#${encodeURIComponent(one.name)}` === location.hash) ?? templates()[0];
  if (!first) {
    fill(document.getElementById("page"), element("p", { class: "calm" }, "There are no templates here."));
    return;
  }
  onChange(show);
  onPins(openFinding, pointAtFinding);
  listenToPointers();
  listenToKeys();
  chooseTemplate(first.name);
  if (isLive()) connect(update);
}

begin();
