"""Pictures that the data choose: what a program calls where a mark names one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from time import monotonic
from typing import Any

from pribble.compiler.emitters import Wanted
from pribble.errors import Place
from pribble.passes.page_resources import picture_changes
from pribble.passes.picture_sizes import Size
from pribble.pictures.picture_finder import LOOKED_AT, Found, PictureFinder
from pribble.pictures.picture_slots import NamedId, Source

_MOST_KNOWN = 4096


def helpers(finder: PictureFinder, domain: str) -> Mapping[str, Callable[..., Any]]:
    """The functions, by the names that programs call them."""

    def slotted(found: Found | str, wanted: Wanted) -> str:
        if isinstance(found, str):
            written = wanted.wrap(found)
            return NamedId(written) if found.lower().startswith("cid:") else written
        fitted = finder.fitted(found, wanted.size.shown(found.picture))
        source = Source.of(fitted.picture, domain, path=found.path, written=found.path or "", travels=wanted.travels)
        if fitted.changes:
            source.told = tuple(picture_changes(fitted.changes, fitted.picture.called, wanted.place))
        return source

    # Names chosen again and again, by the mark they stand in: when each was looked at, and its slot.
    known: dict[tuple[str, int], tuple[float, Wanted, str]] = {}

    def picture(value: Any, wanted: Wanted) -> str:
        if value.__class__ is not str:
            return slotted(finder.chosen(value, wanted.size.said), wanted)
        key = value, id(wanted)
        before = known.get(key)
        now = monotonic()
        if before is not None and before[1] is wanted and now - before[0] < LOOKED_AT:
            return before[2]
        made = slotted(finder.chosen(value), wanted)
        if key in known or len(known) < _MOST_KNOWN:
            known[key] = now, wanted, made
        return made

    def picture_composed(parts: Any, wanted: Wanted) -> str:
        near = Path(wanted.place.source.name).parent
        return slotted(finder.composed(parts, near, wanted.size.said), wanted)

    def picture_size(source: str, size: Size, place: Place) -> str:
        if not isinstance(source, Source):
            return ""
        if source.sized is None:
            source.sized = size.missing(source.picture), place
        return source.sized[0]

    return {"picture": picture, "picture_composed": picture_composed, "picture_size": picture_size}
