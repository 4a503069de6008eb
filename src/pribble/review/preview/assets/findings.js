// Findings: grouped by rule, each group with a number that stands on the message too.

import { element } from "./dom.js";
import { markAt, placeInWords } from "./shown.js";

const ORDER = ["error", "warning", "note"];

/** Returns the findings of a message and of its files, one group a rule: errors first, each with its number. */
export function findingGroups(template, shownCase) {
  const groups = new Map();
  for (const finding of [...(shownCase.findings ?? []), ...template.others]) {
    const key = `${finding.severity} ${finding.rule}`;
    if (!groups.has(key)) groups.set(key, { rule: finding.rule, severity: finding.severity, findings: [] });
    groups.get(key).findings.push(finding);
  }
  const sorted = [...groups.values()].sort((one, other) => ORDER.indexOf(one.severity) - ORDER.indexOf(other.severity));
  return sorted.map((group, index) => ({ ...group, number: index + 1 }));
}

/** Returns the numbers of the findings about some forms of a message; `onchoose` is called with one that is chosen. */
export function formBadges(groups, forms, onchoose) {
  const about = groups.filter((group) => group.findings.some((one) => forms.includes(one.form) && !one.elements.length));
  return about.map((group) =>
    element(
      "button",
      {
        type: "button",
        class: `badge ${group.severity}`,
        title: `${group.severity} ${group.rule}`,
        "aria-label": `${group.number}: ${group.severity}, ${group.rule}`,
        onclick: () => onchoose(group.number),
      },
      String(group.number),
    ),
  );
}

/** Returns how many errors, warnings and notes there are. */
export function severityCounts(groups) {
  const counts = { error: 0, warning: 0, note: 0 };
  for (const group of groups) counts[group.severity] += group.findings.length;
  return counts;
}

/** Returns the worst that is found in any message of a template: "error", "warning", "note" or "". */
export function worstOf(template) {
  if (template.cases.some((one) => one.errors)) return "error";
  const found = [...template.cases.flatMap((one) => one.findings ?? []), ...template.others];
  return ORDER.find((severity) => found.some((one) => one.severity === severity)) ?? "";
}

/** Returns the list of findings for the drawer; `onpoint` is called with one that is pointed at. */
export function findingList(groups, coverage, onpoint) {
  const untried = coverage?.untried ?? [];
  return [
    groups.length ? null : element("p", { class: "calm" }, "Nothing found in this message."),
    element(
      "ol",
      { class: "findings" },
      groups.map((group) => findingItem(group, onpoint)),
    ),
    untried.length
      ? element(
          "details",
          { class: "untried" },
          element("summary", {}, `No sample takes ${untried.length} of ${coverage.ways} ways`),
          element("ul", {}, untried.map((one) => element("li", {}, `${one.what} `, place(one.where)))),
        )
      : null,
  ];
}

function findingItem(group, onpoint) {
  const [first] = group.findings;
  const messages = [...new Set(group.findings.map((one) => one.message))];
  const point = () => onpoint(first);
  return element(
    "li",
    { id: `finding-${group.number}`, class: group.severity, tabindex: "0", onpointerenter: point, onfocus: point },
    element(
      "p",
      { class: "rule" },
      element("b", { class: `badge ${group.severity}` }, String(group.number)),
      element("strong", {}, `${group.severity} ${group.rule}`),
      element("span", { class: "quiet" }, first.reference),
    ),
    messages.slice(0, 5).map((message) => element("p", {}, message)),
    messages.length > 5 ? element("p", { class: "quiet" }, `and ${messages.length - 5} more of this rule`) : null,
    group.severity === "note" ? null : element("p", { class: "fix" }, element("b", {}, "To do: "), first.fix),
    element("p", { class: "quiet" }, [...new Set(group.findings.map((one) => one.where).filter(Boolean))].slice(0, 6).join(" · ")),
  );
}

function place(where) {
  return element("span", { class: "quiet" }, where ?? "");
}

/** Returns an error in the place of a message: what is wrong, where, and the line with its caret. */
export function errorNotice(errors) {
  return element(
    "div",
    { class: "failure", role: "alert" },
    element("h2", {}, errors.length > 1 ? `This message cannot be made: ${errors.length} problems` : "This message cannot be made"),
    errors.map((error) =>
      element(
        "div",
        { class: "problem" },
        element("p", {}, error.message, error.hint ? element("span", { class: "quiet" }, ` (${error.hint})`) : null),
        error.excerpt ? element("pre", { tabindex: "0" }, error.excerpt) : null,
        error.where ? element("p", { class: "quiet" }, error.where) : null,
      ),
    ),
  );
}

/** Returns what a value is, in words: its data, its mark, where that is written. */
export function valueInWords(value) {
  return { mark: markAt(value.place), where: placeInWords(value.place) };
}
