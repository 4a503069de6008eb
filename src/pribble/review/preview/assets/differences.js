// What two texts have and the other has not, line by line.

const MOST = 400;

/** Returns the lines of two texts that differ: `{sign: "-" or "+", line}`, in order. */
export function lineDifferences(before, after) {
  const old = before.split("\n");
  const now = after.split("\n");
  let first = 0;
  while (first < old.length && first < now.length && old[first] === now[first]) first += 1;
  let ends = 0;
  while (
    ends < old.length - first &&
    ends < now.length - first &&
    old[old.length - 1 - ends] === now[now.length - 1 - ends]
  ) {
    ends += 1;
  }
  const gone = old.slice(first, old.length - ends);
  const come = now.slice(first, now.length - ends);
  // What changed is compared pair by pair up to a bound; beyond it all of it counts as changed.
  if (gone.length > MOST || come.length > MOST) return [...signed("-", gone), ...signed("+", come)];
  return paired(gone, come);
}

function signed(sign, lines) {
  return lines.map((line) => ({ sign, line }));
}

// The longest common subsequence of two short lists of lines.
function paired(gone, come) {
  const lengths = Array.from({ length: gone.length + 1 }, () => new Uint16Array(come.length + 1));
  for (let i = gone.length - 1; i >= 0; i -= 1) {
    for (let j = come.length - 1; j >= 0; j -= 1) {
      const equal = gone[i] === come[j];
      lengths[i][j] = equal ? lengths[i + 1][j + 1] + 1 : Math.max(lengths[i + 1][j], lengths[i][j + 1]);
    }
  }
  const made = [];
  let [i, j] = [0, 0];
  while (i < gone.length || j < come.length) {
    if (i < gone.length && j < come.length && gone[i] === come[j]) {
      i += 1;
      j += 1;
    } else if (j >= come.length || (i < gone.length && lengths[i + 1][j] >= lengths[i][j + 1])) {
      made.push({ sign: "-", line: gone[i] });
      i += 1;
    } else {
      made.push({ sign: "+", line: come[j] });
      j += 1;
    }
  }
  return made;
}

/** Returns the numbers of the elements whose own words are new: `texts` are pairs of a number and a text. */
export function newTexts(before, after) {
  const left = new Map();
  for (const [, text] of before) left.set(text, (left.get(text) ?? 0) + 1);
  const fresh = [];
  for (const [number, text] of after) {
    const count = left.get(text) ?? 0;
    if (count) left.set(text, count - 1);
    else fresh.push(number);
  }
  return fresh;
}
