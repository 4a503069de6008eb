"""Data skeletons: what a template's fields say that data for it look like."""

from __future__ import annotations

from pribble.language.data_paths import Step, path_steps
from pribble.language.fields import Field
from pribble.values.kinds import Data

_VALUES: dict[str, Data] = {
    "text": "text",
    "number": 1,
    "day": "2026-07-03",
    "moment": "2026-07-03T18:30:00Z",
    "time": "18:30",
    "flag": True,
    "list": ["text"],
    "picture": "pictures/picture.png",
    "any": "text",
}


def data_skeleton(fields: list[Field]) -> dict[str, Data]:
    """Returns nested data that hold every field once, each list with one item."""
    whole: dict[str, Data] = {}
    for found in fields:
        _put(whole, path_steps(found.path), _VALUES[found.kind])
    return whole


def _put(container: Data, steps: list[Step], value: Data) -> None:
    step, rest = steps[0], steps[1:]
    key: Data = 0 if step is None else step
    if step is None and not container:
        container.append(None)
    if not rest:
        container[key] = value
        return
    inner = container[key] if step is None or key in container else None
    wanted: type = list if rest[0] is None else dict
    if not isinstance(inner, wanted):
        inner = container[key] = wanted()
    _put(inner, rest, value)


def table_row(fields: list[Field]) -> tuple[list[str], list[Data], list[str]]:
    """Returns the columns of a table of such data, a row for them, and the fields of lists, which no row can hold."""
    flat = [found for found in fields if None not in path_steps(found.path) and found.kind != "list"]
    left = [found.path for found in fields if found not in flat]
    return [found.path for found in flat], [_VALUES[found.kind] for found in flat], left
