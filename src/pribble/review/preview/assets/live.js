// A live preview: hears from its server what was saved, renders data that are edited here, keeps and sends them.

import { element, fill } from "./dom.js";
import { choose, currentCase, currentTemplate, framed } from "./state.js";

const WAIT = 300;

/** Returns whether a server of the preview stands behind this page. */
export function isLive() {
  return document.documentElement.dataset.live === "true";
}

/** Listens to the server; `update` is called with templates that came anew, and the names of all that are there. */
export function connect(update) {
  const events = new EventSource("events");
  let latest = 0;
  events.addEventListener("saved", async ({ data }) => {
    const asked = (latest += 1);
    const { changed, names } = JSON.parse(data);
    const now = currentTemplate()?.name;
    const { sample, locale } = currentCase();
    const { wide, narrow } = framed();
    const isShown = changed.includes(now) && sample !== undefined;
    // The message that is looked at comes first, by itself; then all about it, then the others.
    const first = [["sample", sample], ["locale", locale], ["viewer", wide], ["viewer", narrow]];
    const wanted = isShown ? [[now, first]] : [];
    wanted.push(...[...changed].sort((one) => (one === now ? -1 : 0)).map((name) => [name, []]));
    if (!wanted.length) update(null, names);
    for (const [name, only] of wanted) {
      const answer = await fetch(`templates/${inAddress(name)}?${new URLSearchParams(only)}`);
      if (asked !== latest) return;
      if (answer.ok) update(await answer.json(), names);
    }
  });
  events.addEventListener("error", () => document.body.classList.add("alone"));
  events.addEventListener("open", () => document.body.classList.remove("alone"));
}

function inAddress(name) {
  return name.split("/").map(encodeURIComponent).join("/");
}

async function post(path, body) {
  const answer = await fetch(path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  const said = await answer.json().catch(() => ({ message: `the server answers ${answer.status}` }));
  return { ok: answer.ok, said };
}

/** Returns the form in which the data of a message are changed and kept as a sample. */
export function dataEditor(shownCase) {
  const field = element("textarea", { spellcheck: "false", rows: "12", "aria-label": "The data as JSON" });
  field.value = JSON.stringify(shownCase.data, null, 2);
  const answer = element("p", { class: "quiet", role: "status" });
  const label = element("input", { type: "text", placeholder: "label", "aria-label": "Label of the sample", pattern: "[a-z0-9]+(-[a-z0-9]+)*", size: "14" });
  const over = element("input", { type: "checkbox", id: "write-over" });
  let waiting = 0;
  field.addEventListener("input", () => {
    clearTimeout(waiting);
    waiting = setTimeout(() => renderEdited(field.value, shownCase, answer), WAIT);
  });
  const keep = async () => {
    const { ok, said } = await post("samples", { ...readData(field.value, answer), ...about(shownCase), label: label.value, over: over.checked });
    fill(answer, ok ? `kept as ${said.file}` : said.message);
  };
  return element(
    "form",
    { class: "edit", onsubmit: (event) => event.preventDefault() },
    element("h3", {}, "Change the data"),
    field,
    element("p", {}, label, element("label", { for: "write-over" }, over, " over one that is there"), element("button", { type: "button", onclick: keep }, "Keep as a sample")),
    answer,
  );
}

function about(shownCase) {
  return { template: currentTemplate().name, locale: shownCase.locale ?? currentTemplate().locales[0] };
}

function readData(written, answer) {
  try {
    const data = JSON.parse(written);
    fill(answer, "");
    return { data };
  } catch (error) {
    fill(answer, error.message);
    return {};
  }
}

async function renderEdited(written, shownCase, answer) {
  const read = readData(written, answer);
  if (!("data" in read)) return;
  const { ok, said } = await post("messages", { ...read, ...about(shownCase) });
  if (!ok) fill(answer, said.message);
  else {
    const { case: edited, ...store } = said;
    choose({ edited: { ...edited, store } });
  }
}

/** Returns the form by which the message that is shown is sent to an address. */
export function sendForm() {
  const address = element("input", {
    type: "email",
    placeholder: "you@example.org",
    "aria-label": "Address to send this message to",
    required: true,
  });
  const answer = element("p", { class: "quiet", role: "status" });
  const send = async () => {
    fill(answer, "sending…");
    const shownCase = currentCase();
    const { said } = await post("deliveries", { ...about(shownCase), data: shownCase.data, to: address.value });
    fill(answer, said.message);
  };
  return element(
    "form",
    {
      class: "send",
      onsubmit: (event) => {
        event.preventDefault();
        send();
      },
    },
    element("h3", {}, "Send this to…"),
    element("p", {}, address, element("button", { type: "submit" }, "Send")),
    answer,
  );
}
