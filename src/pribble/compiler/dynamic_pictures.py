"""Pictures that the data choose: what a program calls where a mark names one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from time import monotonic

from pribble.compiler.emitters import PictureRequest
from pribble.errors import Place
from pribble.passes.picture_sizes import PictureSize
from pribble.pictures.picture_finder import LOOKED_AT, FoundPicture, PictureFinder
from pribble.pictures.picture_slots import NamedPicture, PictureSlot
from pribble.values.kinds import Data

_MOST_KNOWN = 4096
_Made = str | PictureSlot | NamedPicture


def picture_functions(finder: PictureFinder, domain: str) -> Mapping[str, Callable[..., Data]]:
    """Returns the functions, by the names that programs call them."""

    def slotted(found: FoundPicture | str, wanted: PictureRequest) -> _Made:
        if isinstance(found, str):
            written = wanted.wrap(found)
            return NamedPicture(written) if found.lower().startswith("cid:") else written
        fitted = finder.fitted(found, wanted.size.width_of(found.picture))
        source = PictureSlot.of(
            fitted.picture, domain, path=found.path, written=found.path or "", travels=wanted.travels
        )
        if fitted.corrections:
            from pribble.passes.page_resources import correction_findings

            source.findings = tuple(correction_findings(fitted.corrections, fitted.picture.called, wanted.place))
        return source

    # Names chosen again and again, by the mark they stand in: when each was looked at, and its slot.
    known: dict[tuple[str, int], tuple[float, PictureRequest, _Made]] = {}

    def picture(value: Data, wanted: PictureRequest) -> _Made:
        if value.__class__ is not str:
            return slotted(finder.chosen(value, wanted.size.stated_width), wanted)
        key = value, id(wanted)
        before = known.get(key)
        now = monotonic()
        if before is not None and before[1] is wanted and now - before[0] < LOOKED_AT:
            return before[2]
        made = slotted(finder.chosen(value), wanted)
        if key in known or len(known) < _MOST_KNOWN:
            known[key] = now, wanted, made
        return made

    def picture_composed(parts: Data, wanted: PictureRequest) -> _Made:
        near = Path(wanted.place.source.name).parent
        return slotted(finder.composed(parts, near, wanted.size.stated_width), wanted)

    def picture_size(source: _Made, size: PictureSize, place: Place) -> str:
        if not isinstance(source, PictureSlot):
            return ""
        if source.sized is None:
            source.sized = size.missing_attributes(source.picture), place
        return source.sized[0]

    return {"picture": picture, "picture_composed": picture_composed, "picture_size": picture_size}
