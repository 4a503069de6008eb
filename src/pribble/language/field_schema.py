"""What data a template needs, as a JSON Schema (draft 2020-12)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pribble.language.data_paths import path_steps
from pribble.language.fields import Field
from pribble.records import field, record

DIALECT = "https://json-schema.org/draft/2020-12/schema"
# What JSON a use of each kind takes: a number may be a text of digits, and a test takes anything.
_KINDS: dict[str, dict[str, Any]] = {
    "text": {"type": ["string", "number"]},
    "number": {"type": ["number", "string"]},
    "day": {"type": "string", "format": "date"},
    "moment": {"type": "string", "format": "date-time"},
    "time": {"type": "string", "examples": ["18:30"]},
    "flag": {"examples": [True, False]},
    "list": {"type": "array"},
    "picture": {"type": "string", "description": "the name of a picture"},
    "any": {},
}


@record(slots=True)
class _Node:
    """A field, or what others are in: members by name, or items, under None."""

    is_needed: bool = False
    kind: str = "any"
    inner: dict[str | None, _Node] = field(default_factory=dict)


def field_schema(fields: Iterable[Field], title: str) -> dict[str, Any]:
    """Returns the schema of the data that fields show; whatever else data have is permitted.

    Where a field may be missing, it may be null as well.
    """
    whole = _Node(is_needed=True)
    for one in fields:
        node, needed = whole, len(path_steps(one.needed))
        for number, step in enumerate(path_steps(one.path)):
            assert not isinstance(step, int)
            node = node.inner.setdefault(step, _Node())
            node.is_needed = node.is_needed or number < needed
        node.kind = one.kind
    return {"$schema": DIALECT, "title": title, **_schema(whole)}


def _schema(node: _Node) -> dict[str, Any]:
    if not node.inner:
        made = dict(_KINDS[node.kind])
    elif None in node.inner:
        made = {"type": "array", "items": _schema(node.inner[None])}
    else:
        made = {"type": "object", "properties": {name: _schema(one) for name, one in node.inner.items()}}
        if needed := [name for name, one in node.inner.items() if one.is_needed]:
            made["required"] = needed
    if not node.is_needed and "type" in made:
        kinds = made["type"] if isinstance(made["type"], list) else [made["type"]]
        made["type"] = [*kinds, "null"]
    return made
