// The drawer below the message: findings, data, links, parts, pictures, source, changes; and the figures beside its tabs.

import { counted, element, fill, sizeInWords } from "./dom.js";
import { findingList, severityCounts } from "./findings.js";
import { parts } from "./layout.js";
import { dataEditor, isLive, sendForm } from "./live.js";
import { currentGroups } from "./message.js";
import { changesPanel, dataTree, linkTable, partsPanel, pictureTable, sourcePanel } from "./panels.js";
import { litPlace, pointAtFinding, pointAtLink, pointAtPath } from "./pointer.js";
import { changesOf } from "./saves.js";
import { caseKey, choice, choose, currentCase, currentTemplate, isUnchecked } from "./state.js";

const PANELS = {
  findings: {
    label: "Findings",
    amount: () => currentGroups().reduce((sum, one) => sum + one.findings.length, 0),
    show: () => findingList(currentGroups(), currentTemplate().coverage, pointAtFinding),
  },
  data: { label: "Data", show: (shownCase) => dataTree(shownCase, pointAtPath) },
  links: {
    label: "Links",
    amount: (shownCase) => shownCase.links?.length,
    show: (shownCase) => linkTable(shownCase, pointAtLink),
  },
  parts: { label: "Parts", show: (shownCase) => partsPanel(currentTemplate(), shownCase) },
  pictures: { label: "Pictures", amount: (shownCase) => shownCase.pictures?.length, show: pictureTable },
  source: {
    label: "Source",
    show: (shownCase) => sourcePanel(shownCase, currentGroups().flatMap((group) => group.findings), litPlace()),
  },
  changes: { label: "Changes", show: (shownCase) => changesPanel(changesOf(shownCase), shownCase.snapshot) },
};

/** Shows the figures of the message, and the tabs of the drawer. */
export function showFigures() {
  const shownCase = currentCase();
  fill(parts.figures, foundInWords(shownCase), figuresInWords(shownCase).map((one) => element("span", {}, one)));
  fill(
    parts.tabs,
    Object.entries(PANELS).map(([name, { label, amount }]) =>
      element(
        "button",
        {
          type: "button",
          "aria-expanded": String(choice().panel === name),
          onclick: () => choose({ panel: choice().panel === name ? "" : name }),
        },
        label,
        amount?.(shownCase) ? element("span", { class: "amount" }, String(amount(shownCase))) : null,
      ),
    ),
  );
}

function foundInWords(shownCase) {
  if (shownCase.errors) return element("span", { class: "error" }, "cannot be made");
  if (shownCase.strain) return element("span", {}, "strained data are looked at, not checked");
  if (isUnchecked(shownCase)) return element("span", {}, "looking for findings…");
  const found = Object.entries(severityCounts(currentGroups())).filter(([, count]) => count);
  if (!found.length) return element("span", {}, "nothing found");
  return found.map(([severity, count]) => element("span", { class: severity }, counted(count, severity)));
}

function figuresInWords({ size }) {
  const { weight, coverage } = currentTemplate();
  const recipients = weight?.recipients ?? 1;
  const all = recipients > 1 ? ` × ${recipients.toLocaleString("en")} = ${sizeInWords(size * recipients)}` : "";
  return [
    ...(size ? [`${sizeInWords(size)}${all}`] : []),
    ...(coverage?.ways ? [`samples try ${coverage.tried} of ${coverage.ways} ways`] : []),
  ];
}

/** Shows what is chosen in the drawer, or closes it. */
export function showDrawer() {
  const { panel } = choice();
  const shownCase = currentCase();
  parts.drawer.hidden = !panel;
  if (!panel) return;
  const scrolled = parts.drawer.dataset.panel === panel ? parts.drawer.scrollTop : 0;
  fill(parts.panel, PANELS[panel].show(shownCase));
  showForms(panel, shownCase);
  parts.drawer.dataset.panel = panel;
  parts.drawer.scrollTop = scrolled;
}

// The forms stay as they are while somebody writes in them.
function showForms(panel, shownCase) {
  parts.sender.hidden = panel !== "parts" || !isLive();
  parts.editor.hidden = panel !== "data" || !isLive();
  if (!parts.sender.hidden && !parts.sender.childElementCount) fill(parts.sender, sendForm());
  const key = caseKey(shownCase);
  if (parts.editor.hidden || choice().edited || parts.editor.dataset.case === key) return;
  parts.editor.dataset.case = key;
  fill(parts.editor, shownCase.data === undefined ? null : dataEditor(shownCase));
}

/** Opens the findings at one of them, by its number. */
export function openFinding(number) {
  choose({ panel: "findings" });
  const item = document.getElementById(`finding-${number}`);
  item?.scrollIntoView({ block: "nearest" });
  item?.focus();
}
