"""Words of a page that become marks: placeholders by a pattern, and texts that are named."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from urllib.parse import quote

from pribble.language.data_paths import path_steps
from pribble.records import field, record
from pribble.regexes import regex

_LONGEST = 200
_MOST_FIELDS = 200
_PATH = regex(r"[^\W\d]\w*(?:\.[^\W\d]\w*)*")
_NO_NAME = regex(r"[^\w.]+")


@dataclass(frozen=True, slots=True, order=True)
class Replacement:
    """A stretch of a text that becomes a mark: the `path` of its field, and what stood there."""

    start: int
    end: int
    path: str
    text: str


def checked_path(path: str) -> str:
    """Returns the path of a field, as customer.name; raises `ValueError` for what is none."""
    if not _PATH.fullmatch(path) or len(path) > _LONGEST:
        raise ValueError(f'"{path[:60]}" is no path of a field; write one as customer.name')
    return path


@record(slots=True)
class Replacing:
    """What becomes marks: a `placeholder` whose first group is the name of the field, and `fields` by the text that
    stands for each; how often each was found, and what stood there."""

    placeholder: re.Pattern[str] | None
    fields: Mapping[str, str]
    found: Counter[str] = field(default_factory=Counter)
    stood: dict[str, str] = field(default_factory=dict)
    _texts: re.Pattern[str] | None = None
    _in_addresses: re.Pattern[str] | None = None
    _by_words: dict[str, str] = field(default_factory=dict)  # the texts, by their words with single spaces
    _by_form: dict[str, str] = field(default_factory=dict)  # and by the forms that they have in addresses

    def __post_init__(self) -> None:
        if self.placeholder is not None and self.placeholder.groups < 1:
            raise ValueError("the placeholder's pattern has no group for the name: write one as \\[(\\w+)\\]")
        if len(self.fields) > _MOST_FIELDS:
            raise ValueError(f"at most {_MOST_FIELDS} fields are taken")
        for text, path in self.fields.items():
            checked_path(path)
            if not text.strip():
                raise ValueError(f"a field has a text that it stands for: TEXT={path}")
        # The longest first, so that a name goes before the first name in it.
        texts = sorted(self.fields, key=len, reverse=True)
        if texts:
            self._texts = re.compile("|".join(map(_bounded, texts)))
            self._by_words = {" ".join(text.split()): text for text in texts}
            self._by_form = {form: text for text in texts for form in _forms_in_address(text)}
            forms = sorted(self._by_form, key=len, reverse=True)
            self._in_addresses = re.compile("|".join(rf"(?<![\w%]){re.escape(form)}(?!\w)" for form in forms))

    def in_text(self, text: str) -> list[Replacement]:
        """Returns what becomes marks in a text, in order and apart."""
        made: list[Replacement] = []
        for one in sorted((*self._placeholders_in(text), *self.texts_in(text))):
            if not made or one.start >= made[-1].end:
                made.append(one)
        self._count(made)
        return made

    def texts_in(self, text: str) -> list[Replacement]:
        """Returns where the texts of fields stand, without counting them."""
        found = self._texts.finditer(text) if self._texts is not None else ()
        return [Replacement(*one.span(), self._path(one[0]), one[0]) for one in found]

    def _placeholders_in(self, text: str, begin: int = 0) -> Iterator[Replacement]:
        for found in self.placeholder.finditer(text, begin) if self.placeholder is not None else ():
            path = _placeholder_path(found[1] or "")
            if path and found[0]:
                yield Replacement(*found.span(), path, found[1])

    def _path(self, found: str) -> str:
        return self.fields[self._by_words[" ".join(found.split())]]

    def in_address(self, address: str) -> list[Replacement]:
        """Returns what becomes marks in an address, decoded or percent-encoded, behind its scheme and host."""
        host = re.match(r"[A-Za-z][A-Za-z0-9+.-]*:(?://[^/?#]*)?", address)
        begin = host.end() if host else 0
        made = list(self._placeholders_in(address, begin))
        for found in self._in_addresses.finditer(address, begin) if self._in_addresses is not None and not made else ():
            text = self._by_form[found[0]]
            made.append(Replacement(*found.span(), self.fields[text], text))
        self._count(made)
        return made

    def _count(self, made: list[Replacement]) -> None:
        for mark in made:
            self.found[mark.path] += 1
            self.stood.setdefault(mark.path, mark.text)


def _placeholder_path(given: str) -> str:
    """Returns the path that a placeholder's name becomes: "First name" first_name; "" where it can be none."""
    path = _NO_NAME.sub("_", given.strip()).strip("_.").lower()
    return path if _PATH.fullmatch(path) and len(path) <= _LONGEST else ""


def _bounded(text: str) -> str:
    """Returns a pattern for a text at the bounds of words, with white space of any kind between its words."""
    words = r"\s+".join(re.escape(word) for word in text.split())
    before = r"(?<!\w)" if text.strip()[0].isalnum() else ""
    after = r"(?!\w)" if text.strip()[-1].isalnum() else ""
    return f"{before}{words}{after}"


def _forms_in_address(text: str) -> tuple[str, ...]:
    """Returns the forms that a text has in addresses: as it is, percent-encoded, and as forms send it."""
    return text, quote(text, safe=""), text.replace(" ", "+")


def sample_of(stood: Mapping[str, str]) -> dict[str, object]:
    """Returns data that have what stood there at each path.  Raises `ValueError` where one path is within another."""
    made: dict[str, object] = {}
    for path, text in stood.items():
        container = made
        *steps, last = [str(step) for step in path_steps(path) if step is not None]
        for step in steps:
            inner = container.setdefault(step, {})
            if not isinstance(inner, dict):
                raise ValueError(f'"{path}" is a field of "{step}", which is a text itself')
            container = inner
        if isinstance(container.get(last), dict):
            raise ValueError(f'"{path}" is a text, and has fields of its own too')
        container[last] = text
    return made
