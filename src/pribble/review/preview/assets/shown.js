// What the page shows: read from its own JSON, and in a live preview replaced by what the server sends.

const all = { viewers: [], templates: new Map() };
// The chunks, pages and files of the template that is shown; those that came together share them.
let store = { chunks: [], pages: [], files: [] };

/** Takes in the viewers. */
export function takeViewers(given) {
  all.viewers = given;
}

/** Takes in templates, or some of them anew, with the chunks, pages and files that they share. */
export function take({ templates: fresh, chunks, pages, files }) {
  const own = { chunks, pages, files };
  for (const one of fresh) all.templates.set(one.name, { ...one, store: own });
}

/** Takes in one message of a template anew: it is shown before all that is found in it is known. */
export function takeCase({ template, case: fresh, chunks, pages, files }) {
  const known = all.templates.get(template);
  if (!known) return;
  const own = { chunks, pages, files };
  const cases = known.cases.map((one) =>
    one.sample === fresh.sample && one.locale === fresh.locale ? { ...fresh, store: own } : one,
  );
  all.templates.set(template, { ...known, cases });
}

/** Forgets templates that are not among these any more. */
export function keepOnly(names) {
  for (const name of all.templates.keys()) if (!names.includes(name)) all.templates.delete(name);
}

/** Says which template and message the numbers of pages and files are those of. */
export function openStore(template, shownCase) {
  store = shownCase.store ?? template.store;
}

/** Returns the templates, in order. */
export function templates() {
  return [...all.templates.values()].sort((one, other) => (one.name < other.name ? -1 : 1));
}

/** Returns the viewers, in order. */
export function viewers() {
  return all.viewers;
}

/** Returns the HTML of a page, which is kept as a list of chunks. */
export function pageHtml(number) {
  return store.pages[number].map((chunk) => store.chunks[chunk]).join("");
}

/** Returns a file: its name and text. */
export function file(number) {
  return store.files[number];
}

/** Returns the line of an offset in a text, from 1. */
export function lineOf(text, offset) {
  let line = 1;
  for (let at = text.indexOf("\n"); at >= 0 && at < offset; at = text.indexOf("\n", at + 1)) line += 1;
  return line;
}

/** Returns a place in words: "layouts/harbour.html, line 12". */
export function placeInWords([number, start]) {
  const { name, text } = file(number);
  return `${name.split("/").slice(-2).join("/")}, line ${lineOf(text, start)}`;
}

/** Returns the mark around a place of a file, with its brackets. */
export function markAt([number, start, end]) {
  const { text } = file(number);
  const first = text.lastIndexOf("{{", start);
  const last = text.indexOf("}}", Math.max(start, end - 2));
  if (first < 0 || last < 0 || last - first > 300) return text.slice(start, end);
  return text.slice(first, last + 2).replace(/\s+/g, " ");
}

/** Returns the value at a path of data, as lines[2].price; undefined where there is none. */
export function valueAt(data, path) {
  let value = data;
  for (const step of path.match(/[^.[\]]+/g) ?? []) {
    if (value === null || typeof value !== "object" || !Object.hasOwn(value, step)) return undefined;
    value = value[step];
  }
  return value;
}
