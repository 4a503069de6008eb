"""Data that hurt: made from the fields of a template and its sample, each with one change, to see what breaks.

Each optional field is left out, lists have none, one and forty items, texts are long, unbroken, from right to left and
full of signs, numbers are none, one, negative and large, days far away, and the values that tests ask for are tried.
What is made is the same each time.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from pribble.language.data_paths import path_of
from pribble.language.expressions import Comparison, Constant, with_inner
from pribble.language.fields import Field
from pribble.language.linked_source import LinkedSource
from pribble.language.samples import data_skeleton
from pribble.review.cases import leaf_paths, value_at
from pribble.template import Template, linked_source
from pribble.values.kinds import Data

# So many strained data of one template are tried.
MOST = 160
_MANY = 40
LONG_WORD = "Hafenmeistereigebäudeverwalterin"
RIGHT_TO_LEFT = "שרה לוי"
_SIGNS = 'Tom & <Jerry> "Cheese"'
_DAYS = ("1901-01-31", "2199-12-31")


@dataclass(frozen=True, slots=True)
class Strain:
    """Data with one change: `what` was changed in words, the `path` of it, and `kind`, one of "left out", "empty",
    "one", "many", "long", "unbroken", "direction", "signs", "zero", "negative", "large", "far", "tested"."""

    kind: str
    what: str
    path: str
    data: Data


def strains_of(template: Template, sample: Data | None) -> tuple[list[Strain], int]:
    """Returns strained data of a template, and how many more there would be; `sample` is what they begin from."""
    found = template.fields()
    base = data_skeleton(found) if sample is None else sample
    if not isinstance(base, Mapping):
        return [], 0
    linked = linked_source(template, template.settings.locale)
    made: list[Strain] = []
    seen: set[tuple[str, str, str]] = set()
    for strain in (*_of_fields(found, base), *_of_tests(linked, base)):
        key = strain.kind, strain.path, strain.what
        if key not in seen:
            seen.add(key)
            made.append(strain)
    return made[:MOST], max(0, len(made) - MOST)


def _of_fields(found: Sequence[Field], base: Mapping[str, Data]) -> Iterator[Strain]:
    lists = {path.partition("[]")[0] for path in leaf_paths(base) if "[]" in path}
    lists |= {field.path.partition("[]")[0] for field in found if field.kind == "list" or "[]" in field.path}
    optional = [field.path for field in found if field.optional and not field.path.endswith("[]")]
    for path in optional:
        yield from _changed(base, path, "left out", f"{path} left out", None)
    for path in sorted(lists):
        items = value_at(base, path)
        if isinstance(items, list | tuple) and items:
            yield from _changed(base, path, "empty", f"{path} empty", [])
            yield from _changed(base, path, "one", f"one item in {path}", list(items[:1]))
            many = [items[index % len(items)] for index in range(_MANY)]
            yield from _changed(base, path, "many", f"{_MANY} items in {path}", many)
    for field in found:
        value = value_at(base, field.path.replace("[]", "[0]"))
        yield from _of_value(base, field, value)


def _of_value(base: Mapping[str, Data], field: Field, value: Data) -> Iterator[Strain]:
    path = field.path
    if isinstance(value, bool):
        yield from _changed(base, path, "tested", f"{path} {'false' if value else 'true'}", not value)
    elif isinstance(value, int | float | Decimal):
        less: Data = -value if value > 0 else -3
        for kind, other in (("zero", 0), ("one", 1), ("negative", less), ("large", 1234567)):
            yield from _changed(base, path, kind, f"{path} {other}", other)
    elif isinstance(value, str) and field.kind in ("day", "moment"):
        for day in _DAYS:
            yield from _changed(base, path, "far", f"{path} on {day}", day + value[10:])
    elif isinstance(value, str) and field.kind in ("text", "any") and _is_free(value):
        yield from _changed(base, path, "long", f"{path} three times as long", " ".join([value] * 3))
        yield from _changed(base, path, "unbroken", f"one long word in {path}", LONG_WORD)
        yield from _changed(base, path, "direction", f"{path} from right to left", RIGHT_TO_LEFT)
        yield from _changed(base, path, "signs", f"signs in {path}", _SIGNS)


def _is_free(value: str) -> bool:
    """Returns whether a text is one that people write: no address, code or number."""
    letters = sum(c.isalpha() for c in value)
    return letters > 2 and "://" not in value and "@" not in value and not value.isupper() and "/" not in value


def _of_tests(linked: LinkedSource, base: Mapping[str, Data]) -> Iterator[Strain]:
    """Yields data for which the comparisons of a template come out one way and the other."""
    for source in linked.with_extracted:
        for mark in source.marks:
            for expression in mark.expressions():
                for test in with_inner(expression):
                    if isinstance(test, Comparison):
                        yield from _around(test, base)


def _around(test: Comparison, base: Mapping[str, Data]) -> Iterator[Strain]:
    for side, other in ((test.left, test.right), (test.right, test.left)):
        path = path_of(side)
        if path is None or not isinstance(other, Constant) or isinstance(other.value, bool) or other.value is None:
            continue
        values: tuple[Data, ...] = (other.value,)
        if isinstance(other.value, int | Decimal):
            values = (other.value - 1, other.value, other.value + 1)
        for value in values:
            yield from _changed(base, path, "tested", f"{path} {value}", value)


def _changed(base: Mapping[str, Data], path: str, kind: str, what: str, value: Data) -> Iterator[Strain]:
    """Yields the data with one value changed, in the first item of a list; left out with None.  None where the data
    have no such place."""
    whole = copy.deepcopy(dict(base))
    container: Data = whole
    steps = path.replace("[]", ".[]").split(".")
    for step in steps[:-1]:
        container = _inner(container, step)
        if container is None:
            return
    last = steps[-1]
    if last == "[]":
        if isinstance(container, list) and container:
            container[0] = value
            yield Strain(kind, what, path, whole)
    elif isinstance(container, dict):
        if value is None:
            container.pop(last, None)
        else:
            container[last] = value
        yield Strain(kind, what, path, whole)


def _inner(container: Data, step: str) -> Data:
    if step == "[]":
        return container[0] if isinstance(container, list) and container else None
    return container.get(step) if isinstance(container, dict) else None
