// Elements, made and changed: text is always set as text, never read as markup.

/** Returns a new element; `properties` are attributes, functions are listeners ("onclick"), `children` texts or nodes. */
export function element(name, properties = {}, ...children) {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(properties)) {
    if (typeof value === "function") made.addEventListener(key.slice(2), value);
    else if (value === true) made.setAttribute(key, "");
    else if (value !== false && value !== null && value !== undefined) made.setAttribute(key, value);
  }
  made.append(...nodes(children));
  return made;
}

/** Puts children in the place of all that an element holds. */
export function fill(parent, ...children) {
  parent.replaceChildren(...nodes(children));
}

function nodes(children) {
  return children.flat(Infinity).filter((child) => child !== null && child !== undefined && child !== "");
}

/** Returns a count with its noun: "1 note", "2 notes". */
export function counted(count, noun) {
  return `${count.toLocaleString("en")} ${noun}${count === 1 ? "" : "s"}`;
}

/** Returns a size in words: 950 bytes, 12.4 kB, 1.2 MB. */
export function sizeInWords(bytes) {
  if (bytes < 1000) return counted(bytes, "byte");
  return bytes < 999_500 ? `${(bytes / 1000).toFixed(1)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`;
}

/** Returns a text of at most `length` characters. */
export function shortened(text, length) {
  return text.length > length ? `${text.slice(0, length - 1)}…` : text;
}
