// Switches: which template, sample, language, data that hurt and viewer; each with a key.

import { element, fill } from "./dom.js";
import { worstOf } from "./findings.js";
import { templates, viewers } from "./shown.js";
import { choice, choose, chooseStrained, chooseTemplate, currentCase, currentTemplate, viewer } from "./state.js";

/** The viewers that have a key, as they are called in the page; all others are in a list. */
export const KEYED = [
  ["browser", "1", "As sent"],
  ["pictures-off", "2", "No pictures"],
  ["phone-dark", "3", "Dark"],
  ["forced-dark", "4", "Forced dark"],
  ["old-engine", "5", "Old engine"],
];

/** Returns the strip of templates. */
export function templateStrip() {
  const now = currentTemplate();
  return templates().map((one) => {
    const worst = worstOf(one);
    return element(
      "button",
      {
        type: "button",
        class: "tab",
        "aria-current": one === now ? "true" : null,
        onclick: () => chooseTemplate(one.name),
      },
      element("span", { class: `dot ${worst}`, role: "img", "aria-label": worst || "nothing found" }),
      one.name,
    );
  });
}

/** Returns the switches of the message: sample, language, data that hurt. */
export function messageSwitches() {
  const template = currentTemplate();
  const now = currentCase();
  const made = template.cases;
  const samples = [...new Set(made.map((one) => one.sample))];
  const locales = [...new Set(made.map((one) => one.locale))];
  const pick = (sample, locale) => {
    const index = made.findIndex((one) => one.sample === sample && one.locale === locale);
    choose({ case: Math.max(0, index), strained: -1, edited: null });
  };
  const locale = now.locale ?? locales[0];
  const sample = now.strain || choice().edited ? null : now.sample;
  return [
    group("Sample", [
      ...samples.map((one) => option(one || "first", one === sample, () => pick(one, locale))),
      choice().edited ? option("edited here", true, () => {}) : null,
    ]),
    locales.length > 1
      ? group("Language", locales.map((one) => option(one, one === locale, () => pick(sample ?? samples[0], one))))
      : null,
    template.strained.length ? strainedSwitch(template) : null,
  ];
}

function strainedSwitch(template) {
  const now = choice().strained;
  return element(
    "label",
    { class: "group" },
    element("span", { class: "name" }, "Strained"),
    element(
      "select",
      {
        onchange: (event) => chooseStrained(Number(event.target.value)),
        title: "Data that hurt, made from the fields and the first sample",
      },
      element("option", { value: -1 }, "no"),
      template.strained.map((one, index) => element("option", { value: index, selected: index === now }, one.strain)),
    ),
  );
}

/** Returns the switches of viewers. */
export function viewerSwitches() {
  const { viewer: now, strained } = choice();
  const keyed = KEYED.filter(([name]) => viewer(name));
  const others = viewers().filter((one) => !KEYED.some(([name]) => name === one.name));
  const isOff = (name) => strained >= 0 && !viewer(name).plain;
  return [
    element(
      "div",
      { class: "group", role: "group", "aria-label": "Viewer" },
      keyed.map(([name, key, label]) =>
        option(label, name === now, () => choose({ viewer: name }), { key, title: viewer(name).about, disabled: isOff(name) }),
      ),
    ),
    others.length
      ? element(
          "select",
          {
            "aria-label": "Other viewers",
            class: others.some((one) => one.name === now) ? "chosen" : null,
            onchange: (event) => choose({ viewer: event.target.value || "browser" }),
          },
          element("option", { value: "" }, "Others"),
          others.map((one) => element("option", { value: one.name, selected: one.name === now, disabled: isOff(one.name) }, one.name)),
        )
      : null,
  ];
}

function group(name, options) {
  return element("div", { class: "group", role: "group", "aria-label": name }, element("span", { class: "name" }, name), options);
}

function option(label, pressed, onclick, { key = null, title = null, disabled = false } = {}) {
  return element(
    "button",
    { type: "button", class: "option", "aria-pressed": String(pressed), onclick, title, disabled },
    label,
    key ? element("kbd", {}, key) : null,
  );
}

/** Returns the list of all templates, with what is found in each, and a field to look for one. */
export function templateList(onchosen) {
  const list = element("ul", { class: "all-templates" });
  const show = (wanted) =>
    fill(
      list,
      templates()
        .filter((one) => one.name.toLowerCase().includes(wanted.toLowerCase()))
        .map((one) => element("li", {}, element("button", { type: "button", onclick: () => onchosen(one.name) }, element("span", { class: `dot ${worstOf(one)}` }), one.name, element("span", { class: "quiet" }, summary(one))))),
    );
  show("");
  const field = element("input", { type: "search", autofocus: true, placeholder: "Look for a template", "aria-label": "Look for a template", oninput: () => show(field.value) });
  return [field, list];
}

function summary(template) {
  if (template.cases.some((one) => one.errors)) return "cannot be made";
  const found = template.cases.flatMap((one) => one.findings ?? []);
  const count = (severity) => found.filter((one) => one.severity === severity).length;
  const said = [["error", count("error")], ["warning", count("warning")]].filter(([, number]) => number);
  return said.length ? said.map(([name, number]) => `${number} ${name}${number === 1 ? "" : "s"}`).join(", ") : "";
}
