"""Words of a rendering and where they come from: the same word of the page and of the derived plain text.

The plain text is laid out of a page of its own, so its words get signs there that take no room, and are found
again by these in the lines that come out.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from pribble.edits import Edit, replaced
from pribble.markup.events import Characters
from pribble.markup.foreign_pages import read_foreign_page
from pribble.markup.references import REFERENCE
from pribble.passes.traces import Origin
from pribble.records import record
from pribble.regexes import regex
from pribble.rendering.traced import TracedText

_WORD = regex(rf"{REFERENCE}|\w+")
# What stands around a word up to white space or a tag, and what makes an address of it.
_TOKEN_START, _TOKEN_END = regex(r"[^\s<>]+\Z"), regex(r"[^\s<>]+")
_IN_ADDRESS = regex(r"[@:/#?=%_~&]|\.(?=\w|\Z)")
_LONGEST_TOKEN, _SHORTEST = 60, 4
# So far behind a word that is known the next ones are looked for.
_FAR = 500
# Variation selectors 17 to 256 are combining characters: they take no room, and no line is broken before them.
_FIRST, _BASE, _DIGITS = 0xE0100, 240, 4
_SIGN = regex(f"[\U000e0100-\U000e01ef]{{{_DIGITS}}}")
_MOST = 200_000


@record(frozen=True, slots=True)
class WordKey:
    """Where a word comes from, the same in all forms of one rendering.

    `file` and `offset` are those of the mark that shows it, or "" and an offset of the linked source for a word of the
    author; `turn` counts how often the same was said before, `index` the words before it that the mark shows.
    """

    file: str
    offset: int
    turn: int
    index: int = 0


@record(frozen=True, slots=True)
class TracedWord:
    """A word from `start` to `end` of a text."""

    start: int
    end: int
    key: WordKey


def traced_words(traced: TracedText, spans: Iterable[tuple[int, int]]) -> Iterator[TracedWord]:
    """Yields the words in stretches of a text, which ascend."""
    starts = [one.start for one in traced.ranges]
    turns: Counter[tuple[str, int]] = Counter()
    latest, said = -1, 0  # the range of the latest word that a mark shows, and how many words of it were met
    for start, end in spans:
        for found in _WORD.finditer(traced.text, start, end):
            number = bisect_right(starts, found.start()) - 1
            if found[0][0] == "&" or number < 0 or found.start() >= traced.ranges[number].end:
                continue
            one = traced.ranges[number]
            if isinstance(one.source, Origin):
                at = "", one.source.start + found.start() - one.start
                turns[at] += 1
                yield TracedWord(found.start(), found.end(), WordKey(*at, turns[at]))
                continue
            place = traced.sites.values[one.source.number][1]
            at = place.source.name, place.start
            if number != latest:
                latest, said = number, 0
                turns[at] += 1
            yield TracedWord(found.start(), found.end(), WordKey(*at, turns[at], said))
            said += 1


def words_of_page(traced: TracedText) -> list[TracedWord]:
    """Returns the words of a page, but for those in tags."""
    events = read_foreign_page(traced.text).events
    return list(traced_words(traced, ((e.start, e.end) for e in events if isinstance(e, Characters) and not e.raw)))


def words_in_text(
    text_page: TracedText, plain_text: Callable[[str], str], expected: str
) -> Mapping[WordKey, tuple[int, int]]:
    """Returns where in the derived plain text the words of the page stand that it is taken from.

    `plain_text` lays a page out, `expected` is the text of the rendering.  Returns nothing if that has other
    characters, as where a page itself holds variation selectors.
    """
    words = words_of_page(text_page)[:_MOST]
    signed = [number for number, one in enumerate(words) if _may_carry_sign(text_page.text, one)]
    edits = [Edit(at := words[number].start + 1, at, (_sign_of_number(number),)) for number in signed]
    laid = plain_text(replaced(text_page.text, edits))
    if _SIGN.sub("", laid) != expected:
        return {}
    starts: dict[int, int] = {}
    for count, sign in enumerate(_SIGN.finditer(laid)):
        starts[_number_of_sign(sign[0])] = sign.start() - 1 - count * _DIGITS
    return dict(_placed_words(text_page.text, words, starts, expected))


def _may_carry_sign(text: str, word: TracedWord) -> bool:
    """Returns whether what is laid out cannot depend on the word: it is part of no address, and no unit or currency
    beside a number, all of which are compared with patterns."""
    if word.end - word.start < _SHORTEST or not text[word.start : word.end].isalpha():
        return False
    before = _TOKEN_START.search(text, max(0, word.start - _LONGEST_TOKEN), word.start)
    after = _TOKEN_END.match(text, word.end, word.end + _LONGEST_TOKEN)
    # A full stop behind the word ends a sentence, one before it stands in an address.
    return not (before and _IN_ADDRESS.search(before[0])) and not (after and _IN_ADDRESS.search(after[0].rstrip(".")))


def _placed_words(
    page: str, words: Sequence[TracedWord], starts: Mapping[int, int], text: str
) -> Iterator[tuple[WordKey, tuple[int, int]]]:
    """Yields where words stand, of which the `starts` of some are known; others stand between these, in their order."""
    following, behind = len(text), [0] * len(words)
    for number in reversed(range(len(words))):
        following = behind[number] = starts.get(number, following)
    position = 0
    for number, word in enumerate(words):
        said = page[word.start : word.end]
        start = starts.get(number, -1)
        if start < 0:
            start = text.find(said, position, min(behind[number], position + _FAR))
        if start >= 0:
            position = _end(text, start, len(said))
            yield word.key, (start, position)


def _end(text: str, start: int, length: int) -> int:
    """Returns where so many characters end, which lines may be broken between, as in Han."""
    end = start + length
    while (breaks := text.count("\n", start, end)) and end - start < length + breaks:
        end = start + length + breaks
    return end


def _sign_of_number(number: int) -> str:
    digits = []
    for _ in range(_DIGITS):
        number, digit = divmod(number, _BASE)
        digits.append(chr(_FIRST + digit))
    return "".join(digits)


def _number_of_sign(sign: str) -> int:
    number = 0
    for digit in reversed(sign):
        number = number * _BASE + ord(digit) - _FIRST
    return number
