"""How large a picture is shown: by its attributes, by the cascade, by its own size."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from pribble.pictures.picture import Picture
from pribble.records import record
from pribble.regexes import regex

if TYPE_CHECKING:
    from pribble.cascade.cascade_order import AppliedDeclaration, ElementStyles
    from pribble.cascade.elements import Element
    from pribble.cascade.rules import StyleRule

# Elements whose pictures get the dimensions that are missing.
_SIZED = frozenset({"img", "input"})
_PX = regex(r"(\d+)(?:\.\d+)?px", re.IGNORECASE)
_NUMBER = regex("[0-9]{1,5}")
_WIDTHS = frozenset({"width", "max-width", "inline-size", "max-inline-size"})
_SIZES = _WIDTHS | {"height", "max-height", "block-size", "max-block-size"}


@record(frozen=True, slots=True)
class PictureSize:
    """What is said of a picture's size: by its attributes, "" for what is no plain number and None for nothing; by the
    cascade in CSS pixels.

    `relative` is a width that the cascade gives in other units.  With `squashing`, a height could be one too many:
    somewhere the cascade changes the width and leaves the height.
    """

    width: str | None = None
    height: str | None = None
    css_width: int | None = None
    css_height: int | None = None
    relative: bool = False
    squashing: bool = False

    @classmethod
    def of(cls, element: Element, group: ElementStyles | None) -> PictureSize:
        """Returns the size of an element's picture."""
        written = (_own_dimension(element, "width"), _own_dimension(element, "height"))
        if group is None:
            return cls(*written)
        width, height = group.last("width"), group.last("height")
        css_width, css_height = _css_pixels(width), _css_pixels(height)
        widths = [entry for entry in group.kept if entry.declaration.name in _WIDTHS]
        limits = [e for e in (group.last("max-width"), group.last("max-inline-size")) if e and e.text != "none"]
        steady = height is not None and height.text.lower() == "auto"
        relative = width is not None and css_width is None and width.text.lower() != "auto"
        squashing = not steady and (
            relative
            or bool(limits)
            or any(not _with_height(e.rule) for e in widths)
            or any(e.declaration.name == "inline-size" for e in group.inlined)
        )
        return cls(*written, css_width, css_height, relative, squashing)

    @property
    def stated_width(self) -> int | None:
        """How wide any picture is shown, in CSS pixels; None where nothing says so."""
        if self.css_width or self.relative:
            return self.css_width
        return int(self.width) if self.width else None

    def width_of(self, picture: Picture) -> int | None:
        """Returns how wide the picture is shown, in CSS pixels; None where nothing says so."""
        if self.css_width or self.relative or self.width is not None:
            return self.stated_width
        height = self.css_height or (int(self.height) if self.height else None)
        return height and max(1, round(height * picture.width / picture.height))

    def missing_attributes(self, picture: Picture) -> str:
        """Returns the missing ones of ``width`` and ``height``, as attributes."""
        made = ""
        width = self.width_of(picture) if not self.relative else None
        if self.width is None:
            width = width or picture.shown_width
            made = f' width="{width}"'
        if self.height is None and not self.squashing and width:
            height = self.css_height or max(1, round(width * picture.height / picture.width))
            made += f' height="{height}"'
        return made


def is_sized(element: Element) -> bool:
    """Returns whether an element's picture has a width and a height of its own."""
    return element.local_name in _SIZED and (
        element.local_name == "img" or element.values.get("type", "").lower() == "image"
    )


def size_depends_on_data(element: Element, group: ElementStyles | None) -> bool:
    """Returns whether the size of an element's picture can only be known with the data."""
    if element.dynamic_attributes & {"width", "height"}:
        return True
    return group is not None and any(e.span is not None and e.declaration.name in _SIZES for e in group.inlined)


def _css_pixels(entry: AppliedDeclaration | None) -> int | None:
    found = _PX.fullmatch(entry.text) if entry else None
    return int(found[1]) or None if found else None


def _with_height(rule: StyleRule | None) -> bool:
    """Returns whether a rule says a height too, which goes with the width it says."""
    return rule is not None and any(d.name == "height" for d in rule.declarations)


def _own_dimension(element: Element, name: str) -> str | None:
    """Returns the author's own ``width`` or ``height``, "" for one that is no plain number; None where there is
    none."""
    if name not in element.values:
        return None
    written = element.values[name].strip()
    return written if _NUMBER.fullmatch(written) and int(written) else ""
