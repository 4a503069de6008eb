"""Every regular expression of the package, and texts that each almost matches: it may not try them ever anew."""

from __future__ import annotations

import ast
import importlib
import math
import pkgutil
import re
import re._constants as kinds  # type: ignore[import-not-found]  # the standard library has them without types
import re._parser as parser  # type: ignore[import-not-found]
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import partial
from itertools import islice, product
from pathlib import Path
from typing import Any

import pribble
from benchmarks.measure import doubling, timed
from pribble.regexes import Regex

_SOURCE = Path(pribble.__file__).parent
_METHODS = ("match", "fullmatch", "search", "finditer", "findall", "sub", "subn", "split")
_CALL = re.compile(rf"\b([A-Z_]+)(?:\[[^\]]*\])?\.({'|'.join(_METHODS)})\b")
_INLINE = re.compile(rf"\bre\.({'|'.join(_METHODS)})\(\s*((?:r?b?r?)\"(?:[^\"\\\n]|\\.)*\")")
# Characters that stand for a class, where they belong to it, and what may follow so that it does not match.
_CANDIDATES = " a0<\"\n'-;=(\\A.,:/&%@*[>é\t\u2003漢"
_ENDS = ("", "\0", "!", '"', "☃", "a")
_MOST_TEXTS = 120
_OPEN = 20  # a repetition of so many is one without an end, as far as time goes


@dataclass(frozen=True, slots=True)
class Used:
    """A pattern by the name it has, and a method of it that is used."""

    name: str
    pattern: re.Pattern[Any]
    method: str

    def run(self, text: str) -> None:
        """Try a text as the package would."""
        subject: Any = text if isinstance(self.pattern.pattern, str) else text.encode("latin-1", "replace")
        if self.method in ("search", "match", "fullmatch"):
            getattr(self.pattern, self.method)(subject)
        else:
            for _ in self.pattern.finditer(subject):
                pass


def used() -> Iterator[Used]:
    """The patterns that the modules keep, each with the methods that are called on its name; all methods, where it
    has none.  And those that are written where they are used, if they do not hang on a variable."""
    texts = {path: path.read_text(encoding="utf-8") for path in sorted(_SOURCE.rglob("*.py"))}
    calls = {path: _calls(text) for path, text in texts.items()}
    anywhere: dict[str, set[str]] = {}
    for called in calls.values():
        for name, methods in called.items():
            anywhere.setdefault(name, set()).update(methods)
    seen: set[tuple[Any, str]] = set()
    for module in _modules():
        path = Path(str(module.__file__))
        for name, value in vars(module).items():
            for pattern in _patterns(value):
                known = calls[path] if name.startswith("_") else anywhere
                for method in sorted(known.get(name, {"match", "finditer"})):
                    if (pattern, method) not in seen:
                        seen.add((pattern, method))
                        yield Used(f"{module.__name__.removeprefix('pribble.')}.{name}", pattern, method)
        for method, literal in _INLINE.findall(texts[path]):
            written = ast.literal_eval(literal)
            pattern, method = re.compile(written, re.DOTALL), _method(method)
            if (pattern, method) not in seen:
                seen.add((pattern, method))
                yield Used(f"{module.__name__.removeprefix('pribble.')}: {written!r}", pattern, method)


def _calls(text: str) -> dict[str, set[str]]:
    """The methods that are called on names of constants."""
    found: dict[str, set[str]] = {}
    for name, method in _CALL.findall(text):
        found.setdefault(name, set()).add(_method(method))
    return found


def _method(name: str) -> str:
    """A method by what it does: those that go on searching are one."""
    return name if name in ("match", "fullmatch", "search") else "finditer"


def _modules() -> Iterator[Any]:
    for found in pkgutil.walk_packages([str(_SOURCE)], "pribble."):
        if not found.name.endswith("__main__"):
            yield importlib.import_module(found.name)


def _patterns(value: object, depth: int = 2) -> Iterator[re.Pattern[Any]]:
    if isinstance(value, Regex):
        yield value.compiled
    elif isinstance(value, re.Pattern):
        yield value
    elif depth and isinstance(value, dict):
        for inner in value.values():
            yield from _patterns(inner, depth - 1)
    elif depth and isinstance(value, (list, tuple)):
        for inner in value:
            yield from _patterns(inner, depth - 1)


# -- how long they take --

_SIZES = 16, 24, 32, 48, 64, 256, 2048
_TOO_LONG = 0.02  # seconds, for texts so short
_SUSPICIOUS = 0.001
_DOUBTFUL = 2.25
_NO_DOUBT = 1.0


def growths() -> Iterator[tuple[str, float, float]]:
    """Patterns that take more than an instant: name and text, so many times as long as twice the text takes, seconds.

    One that takes long for a few dozens of characters grows without measure: infinitely, as far as this goes.
    """
    for one in used():
        for text in almost(one.pattern):
            name = f"pattern {one.name}.{one.method}: {text(24)!r:.50}"
            taken = 0.0
            for size in _SIZES:
                taken = timed(one.run, text(size))
                if taken > _TOO_LONG and size < _SIZES[-1]:
                    yield name, math.inf, taken
                    break
            else:
                if taken > _SUSPICIOUS:
                    grown, taken = _doubled(one, text, 1)
                    for rounds in (7, 25):  # a machine that was busy is no verdict
                        if grown > _DOUBTFUL and taken < _NO_DOUBT:
                            grown, taken = min((grown, taken), _doubled(one, text, rounds))
                    yield name, grown, taken


def _doubled(one: Used, text: Callable[[int], str], rounds: int) -> tuple[float, float]:
    times = [(n, min(timed(one.run, text(n)) for _ in range(rounds))) for n in (2_000, 4_000, 8_000)]
    return doubling(times), times[-1][1]


# -- texts that almost match --


def almost(pattern: re.Pattern[Any]) -> Iterator[Callable[[int], str]]:
    """Texts by their size: what comes before a repetition, what it repeats, so often, and an end that does not fit."""
    source = pattern.pattern if isinstance(pattern.pattern, str) else pattern.pattern.decode("latin-1")
    tree = parser.parse(source, pattern.flags & ~re.UNICODE if not isinstance(pattern.pattern, str) else pattern.flags)
    repeated = dict.fromkeys(_repetitions(tree, ""))
    for before, body, end in islice(_combined(repeated), _MOST_TEXTS):
        yield partial(_repeated, before, body, end)


def _repeated(before: str, body: str, end: str, size: int) -> str:
    return before + body * (size // len(body)) + end


def _combined(repeated: Iterable[tuple[str, str]]) -> Iterator[tuple[str, str, str]]:
    pairs = list(repeated)
    for end in _ENDS:
        for before, body in pairs:
            yield before, body, end
    for before, body in pairs:
        if before:
            yield "", before + body, ""
            yield "", before, body


def _repetitions(tree: Any, before: str) -> Iterator[tuple[str, str]]:
    """What may be repeated without end in a pattern, each with an example of what comes before it."""
    for kind, value in tree:
        if kind in (kinds.MAX_REPEAT, kinds.MIN_REPEAT, kinds.POSSESSIVE_REPEAT):
            _, most, body = value
            if most is kinds.MAXREPEAT or most >= _OPEN:
                yield from ((before, example) for example in _examples(body) if example)
            yield from _repetitions(body, before)
        elif kind is kinds.SUBPATTERN:
            yield from _repetitions(value[-1], before)
        elif kind is kinds.ATOMIC_GROUP:
            yield from _repetitions(value, before)
        elif kind is kinds.BRANCH:
            for branch in value[1]:
                yield from _repetitions(branch, before)
        elif kind in (kinds.ASSERT, kinds.ASSERT_NOT):
            yield from _repetitions(value[1], before)
        before += next(filter(None, _examples([(kind, value)])), "")


def _examples(tree: Any) -> Iterator[str]:
    """Some texts that a pattern, or a part of one, matches."""
    parts = [list(islice(_one(kind, value), 12)) or [""] for kind, value in tree]
    for together in islice(product(*parts), 16):
        yield "".join(together)


def _one(kind: Any, value: Any) -> Iterator[str]:
    if kind is kinds.LITERAL:
        yield chr(value)
    elif kind is kinds.NOT_LITERAL:
        yield from (c for c in _CANDIDATES if ord(c) != value)
    elif kind is kinds.ANY:
        yield from _CANDIDATES
    elif kind is kinds.IN:
        yield from _members(value)
    elif kind is kinds.BRANCH:
        for branch in value[1]:
            yield from islice(_examples(branch), 2)
    elif kind is kinds.SUBPATTERN:
        yield from _examples(value[-1])
    elif kind is kinds.ATOMIC_GROUP:
        yield from _examples(value)
    elif kind in (kinds.MAX_REPEAT, kinds.MIN_REPEAT, kinds.POSSESSIVE_REPEAT):
        least, _, body = value
        for example in _examples(body):
            yield example * max(1, least)
        if not least:
            yield ""


def _members(members: Any) -> Iterator[str]:
    """Characters of a class: the usual ones that belong to it, or its first."""
    found = False
    for candidate in _CANDIDATES:
        if _belongs(ord(candidate), members):
            found = True
            yield candidate
    if not found:
        for kind, value in members:
            if kind is kinds.LITERAL:
                yield chr(value)
            elif kind is kinds.RANGE:
                yield chr(value[0])


def _belongs(code: int, members: Any) -> bool:
    out = members[0][0] is kinds.NEGATE
    inside = False
    for kind, value in members[1:] if out else members:
        if kind is kinds.LITERAL:
            inside |= value == code
        elif kind is kinds.RANGE:
            inside |= value[0] <= code <= value[1]
        elif kind is kinds.CATEGORY:
            inside |= re.match(_CATEGORIES[value], chr(code)) is not None
    return inside != out


_CATEGORIES = {
    kinds.CATEGORY_DIGIT: r"\d",
    kinds.CATEGORY_NOT_DIGIT: r"\D",
    kinds.CATEGORY_SPACE: r"\s",
    kinds.CATEGORY_NOT_SPACE: r"\S",
    kinds.CATEGORY_WORD: r"\w",
    kinds.CATEGORY_NOT_WORD: r"\W",
}
