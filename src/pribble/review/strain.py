"""Data that hurt: made from the fields of a template and its sample, each with one change, to see what breaks.

Each optional field is left out, lists have none, one and forty items, texts are long, unbroken, from right to left and
full of signs, numbers are none, one, negative and large, days far away, and the values that tests ask for are tried.
What is made is the same each time.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal

from pribble.language.data_paths import Step, at_first_items, path_of, path_steps, write_path
from pribble.language.expressions import Comparison, Constant, with_inner
from pribble.language.fields import Field
from pribble.language.linked_source import LinkedSource
from pribble.language.samples import data_skeleton
from pribble.records import record
from pribble.review.cases import leaf_paths, value_at
from pribble.template import Template
from pribble.values.kinds import Data

# So many strained data of one template are tried.
MOST = 160
_MANY, _MANY_TO_LOOK_AT = 40, 12
LONG_WORD = "Hafenmeistereigebäudeverwalterin"
RIGHT_TO_LEFT = "שרה לוי"
_SIGNS = 'Tom & <Jerry> "Cheese"'
_DAYS = ("1901-01-31", "2199-12-31")


@record(frozen=True, slots=True)
class Strain:
    """Data with one change: `what` was changed in words, the `path` of it, and `kind`, one of "left out", "empty",
    "one", "many", "long", "unbroken", "direction", "signs", "zero", "negative", "large", "far", "tested"."""

    kind: str
    what: str
    path: str
    data: Data


@record(frozen=True, slots=True)
class _Change:
    """One change to data: the new value at a path, in the first item of a list; left out with None."""

    path: str
    kind: str
    what: str
    value: Data


# Kinds of changes that are made together, to be looked at: the name of the whole, and what it is in words.
_TOGETHER: Mapping[str, tuple[str, frozenset[str]]] = {
    "least": ("every optional field left out, every list empty", frozenset({"left out", "empty"})),
    "most": (
        f"{_MANY_TO_LOOK_AT} items in every list, texts three times as long, large numbers",
        frozenset({"many", "long", "large"}),
    ),
    "unbroken": ("one long word in every text", frozenset({"unbroken"})),
    "right to left": ("every text from right to left", frozenset({"direction"})),
}


def strains_of(template: Template, sample: Data | None) -> tuple[list[Strain], int]:
    """Returns strained data of a template, and how many more there would be; `sample` is what they begin from."""
    found = template.fields()
    base = _strained_base(found, sample)
    if base is None:
        return [], 0
    linked = template.variants.linked(None)
    made: list[Strain] = []
    seen: set[tuple[str, str, str]] = set()
    for change in (*_of_fields(found, base), *_of_tests(linked, base)):
        key = change.kind, change.path, change.what
        if key not in seen and (changed := _with_change(base, change)) is not None:
            seen.add(key)
            made.append(Strain(change.kind, change.what, change.path, changed))
    return made[:MOST], max(0, len(made) - MOST)


def strained_together(template: Template, sample: Data | None) -> list[Strain]:
    """Returns data of a template with all changes of some kinds at once, to be looked at: `kind` is "least", "most",
    "unbroken" or "right to left"."""
    found = template.fields()
    base = _strained_base(found, sample)
    changes = [] if base is None else list(_of_fields(found, base, many=_MANY_TO_LOOK_AT))
    made = []
    for name, (what, kinds) in _TOGETHER.items():
        data = base
        # A list goes before what is in it.
        chosen = [one for one in changes if one.kind in kinds]
        for change in sorted(chosen, key=lambda one: path_steps(one.path).count(None)):
            data = (data and _with_change(data, change, everywhere=True)) or data
        if data is not None and data != base:
            made.append(Strain(name, what, "", data))
    return made


def _strained_base(found: list[Field], sample: Data | None) -> Mapping[str, Data] | None:
    base = data_skeleton(found) if sample is None else sample
    return base if isinstance(base, Mapping) else None


def _of_fields(found: Sequence[Field], base: Mapping[str, Data], many: int = _MANY) -> Iterator[_Change]:
    lists = {outer for path in leaf_paths(base) if (outer := _outermost_list(path)) is not None}
    for field in found:
        outer = _outermost_list(field.path)
        if outer is not None or field.kind == "list":
            lists.add(field.path if outer is None else outer)
    optional = [field.path for field in found if field.optional and path_steps(field.path)[-1] is not None]
    for path in optional:
        yield _Change(path, "left out", f"{path} left out", None)
    for path in sorted(lists):
        items = value_at(base, path)
        if isinstance(items, list | tuple) and items:
            yield _Change(path, "empty", f"{path} empty", [])
            yield _Change(path, "one", f"one item in {path}", list(items[:1]))
            several = [items[index % len(items)] for index in range(many)]
            yield _Change(path, "many", f"{many} items in {path}", several)
    for field in found:
        value = value_at(base, at_first_items(field.path))
        yield from _of_value(base, field, value)


def _outermost_list(path: str) -> str | None:
    """Returns the path of the outermost list that a value is in; None where it is in none."""
    steps = path_steps(path)
    return write_path(steps[: steps.index(None)]) if None in steps else None


def _of_value(base: Mapping[str, Data], field: Field, value: Data) -> Iterator[_Change]:
    path = field.path
    if isinstance(value, bool):
        yield _Change(path, "tested", f"{path} {'false' if value else 'true'}", not value)
    elif isinstance(value, int | float | Decimal):
        less: Data = -value if value > 0 else -3
        for kind, other in (("zero", 0), ("one", 1), ("negative", less), ("large", 1234567)):
            yield _Change(path, kind, f"{path} {other}", other)
    elif isinstance(value, str) and field.kind in ("day", "moment"):
        for day in _DAYS:
            yield _Change(path, "far", f"{path} on {day}", day + value[10:])
    elif isinstance(value, str) and field.kind in ("text", "any") and _is_free(value):
        yield _Change(path, "long", f"{path} three times as long", " ".join([value] * 3))
        yield _Change(path, "unbroken", f"one long word in {path}", LONG_WORD)
        yield _Change(path, "direction", f"{path} from right to left", RIGHT_TO_LEFT)
        yield _Change(path, "signs", f"signs in {path}", _SIGNS)


def _is_free(value: str) -> bool:
    """Returns whether a text is one that people write: no address, code or number."""
    letters = sum(c.isalpha() for c in value)
    return letters > 2 and "://" not in value and "@" not in value and not value.isupper() and "/" not in value


def _of_tests(linked: LinkedSource, base: Mapping[str, Data]) -> Iterator[_Change]:
    """Yields data for which the comparisons of a template come out one way and the other."""
    for source in linked.with_extracted:
        for mark in source.marks:
            for expression in mark.expressions():
                for test in with_inner(expression):
                    if isinstance(test, Comparison):
                        yield from _around_comparison(test, base)


def _around_comparison(test: Comparison, base: Mapping[str, Data]) -> Iterator[_Change]:
    for side, other in ((test.left, test.right), (test.right, test.left)):
        path = path_of(side)
        if path is None or not isinstance(other, Constant) or isinstance(other.value, bool) or other.value is None:
            continue
        values: tuple[Data, ...] = (other.value,)
        if isinstance(other.value, int | Decimal):
            values = (other.value - 1, other.value, other.value + 1)
        for value in values:
            yield _Change(path, "tested", f"{path} {value}", value)


def _with_change(base: Mapping[str, Data], change: _Change, *, everywhere: bool = False) -> dict[str, Data] | None:
    """Returns the data with one change, in the first item of a list, or `everywhere`.  None where the data have no such
    place."""
    whole = copy.deepcopy(dict(base))
    *steps, last = path_steps(change.path)
    containers: list[Data] = [whole]
    for step in steps:
        containers = [inner for one in containers for inner in _inner(one, step)[: None if everywhere else 1]]
    done = [_put_value(container, last, change.value) for container in containers]
    return whole if any(done) else None


def _inner(container: Data, step: Step) -> Sequence[Data]:
    if step is None:
        return container if isinstance(container, list) else ()
    return (container[step],) if isinstance(container, dict) and step in container else ()


def _put_value(container: Data, step: Step, value: Data) -> bool:
    """Put a value into a container, or take out what is there with None; returns whether it has such a place."""
    if step is None:
        if isinstance(container, list) and container:
            container[0] = value
            return True
        return False
    if not isinstance(container, dict):
        return False
    if value is None:
        container.pop(step, None)
    else:
        container[step] = value
    return True
