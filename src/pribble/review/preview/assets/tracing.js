// What comes from where: the values, words and links of a message, by what somebody points at.

/** What somebody points at: values by number, a word, a link, a stretch of the text; empty where it is nothing. */
export function tracedAt(shownCase, number, offset) {
  const values = new Set();
  for (const [element, start, end, value] of shownCase.spans ?? []) {
    if (element === number && offset >= start && offset <= end) values.add(value);
  }
  const word = (shownCase.words ?? []).find(
    ([element, start, end]) => element === number && offset >= start && offset <= end,
  );
  return { values, word: word ?? null, link: linkAt(shownCase, number) };
}

/** Returns the values that the attributes of an element show. */
export function valuesOfElement(shownCase, number) {
  return new Set((shownCase.attributes ?? []).filter(([element]) => element === number).map(([, value]) => value));
}

/** Returns the link that an element is; null for another one. */
export function linkAt(shownCase, number) {
  return (shownCase.links ?? []).find((link) => link.element === number) ?? null;
}

/** Returns what stands at an offset of the plain text: values, and the word of the page. */
export function tracedInText(shownCase, offset) {
  const values = new Set();
  for (const [start, end, value] of shownCase.text.shown) if (offset >= start && offset <= end) values.add(value);
  const word = (shownCase.words ?? []).find(([, , , start, end]) => start >= 0 && offset >= start && offset <= end);
  return { values, word: word ?? null, link: null };
}

/** Returns all values that show some of the same data as these. */
export function sameData(shownCase, values) {
  const paths = new Set([...values].flatMap((value) => shownCase.values[value].paths));
  const same = new Set(values);
  for (const [number, value] of (shownCase.values ?? []).entries()) {
    if (value.paths.some((path) => paths.has(path))) same.add(number);
  }
  return same;
}

/** Returns the paths of the data that values show. */
export function pathsOf(shownCase, values) {
  return [...new Set([...values].flatMap((value) => shownCase.values[value].paths))];
}
