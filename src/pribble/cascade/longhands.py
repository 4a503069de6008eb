"""Which longhands a property sets (the shorthands of CSS, from the property indices of its modules)."""

from __future__ import annotations

from functools import lru_cache

_SIDES = ("top", "right", "bottom", "left")
_CORNERS = ("top-left", "top-right", "bottom-right", "bottom-left")
_LINES = ("width", "style", "color")


def _of(prefix: str, *names: str) -> tuple[str, ...]:
    return tuple(f"{prefix}-{name}" for name in names)


_BORDERS = tuple(f"border-{side}-{line}" for side in _SIDES for line in _LINES)
_BORDER_IMAGE = _of("border-image", "source", "slice", "width", "outset", "repeat")

_SHORTHANDS: dict[str, tuple[str, ...]] = {
    "margin": _of("margin", *_SIDES),
    "padding": _of("padding", *_SIDES),
    "inset": _SIDES,
    "border": _BORDERS + _BORDER_IMAGE,
    **{f"border-{side}": _of(f"border-{side}", *_LINES) for side in _SIDES},
    **{f"border-{line}": tuple(f"border-{side}-{line}" for side in _SIDES) for line in _LINES},
    "border-radius": tuple(f"border-{corner}-radius" for corner in _CORNERS),
    "border-image": _BORDER_IMAGE,
    "background": _of(
        "background", "color", "image", "repeat", "attachment", "position-x", "position-y", "size", "origin", "clip"
    ),
    "background-position": _of("background-position", "x", "y"),
    "font": (
        "font-style",
        "font-variant-caps",
        "font-variant-ligatures",
        "font-variant-numeric",
        "font-variant-east-asian",
        "font-variant-alternates",
        "font-variant-position",
        "font-variant-emoji",
        "font-weight",
        "font-stretch",
        "font-size",
        "line-height",
        "font-family",
        "font-size-adjust",
        "font-kerning",
        "font-feature-settings",
        "font-variation-settings",
        "font-optical-sizing",
        "font-language-override",
    ),
    "font-variant": _of(
        "font-variant", "caps", "ligatures", "numeric", "east-asian", "alternates", "position", "emoji"
    ),
    "font-synthesis": _of("font-synthesis", "weight", "style", "small-caps"),
    "list-style": _of("list-style", "type", "position", "image"),
    "text-decoration": _of("text-decoration", "line", "style", "color", "thickness"),
    "text-emphasis": _of("text-emphasis", "style", "color"),
    "outline": _of("outline", "color", "style", "width"),
    "overflow": _of("overflow", "x", "y"),
    "flex": _of("flex", "grow", "shrink", "basis"),
    "flex-flow": ("flex-direction", "flex-wrap"),
    "columns": ("column-width", "column-count", "column-height", "column-wrap"),
    "column-rule": _of("column-rule", "width", "style", "color"),
    "gap": ("row-gap", "column-gap"),
    "grid-gap": ("row-gap", "column-gap"),
    "grid-row-gap": ("row-gap",),
    "grid-column-gap": ("column-gap",),
    "place-content": ("align-content", "justify-content"),
    "place-items": ("align-items", "justify-items"),
    "place-self": ("align-self", "justify-self"),
    "grid-row": _of("grid-row", "start", "end"),
    "grid-column": _of("grid-column", "start", "end"),
    "grid-area": ("grid-row-start", "grid-column-start", "grid-row-end", "grid-column-end"),
    "grid-template": _of("grid-template", "rows", "columns", "areas"),
    "grid": (*_of("grid-template", "rows", "columns", "areas"), *_of("grid-auto", "rows", "columns", "flow")),
    "transition": _of("transition", "property", "duration", "timing-function", "delay", "behavior"),
    "animation": _of(
        "animation",
        "name",
        "duration",
        "timing-function",
        "delay",
        "iteration-count",
        "direction",
        "fill-mode",
        "play-state",
        "timeline",
        "range-start",
        "range-end",
    ),
    "animation-range": _of("animation-range", "start", "end"),
    "white-space": ("white-space-collapse", "text-wrap-mode"),
    "text-wrap": ("text-wrap-mode", "text-wrap-style"),
    "word-wrap": ("overflow-wrap",),
    "mask": (
        *_of("mask", "image", "mode", "repeat", "position", "clip", "origin", "size", "composite"),
        *_of("-webkit-mask-position", "x", "y"),
    ),
    "mask-position": ("mask-position", *_of("-webkit-mask-position", "x", "y")),
    "page-break-before": ("break-before",),
    "page-break-after": ("break-after",),
    "page-break-inside": ("break-inside",),
    "marker": ("marker-start", "marker-mid", "marker-end"),
    "scroll-margin": _of("scroll-margin", *_SIDES),
    "scroll-padding": _of("scroll-padding", *_SIDES),
    "container": ("container-name", "container-type"),
    "vertical-align": ("vertical-align", "alignment-baseline", "baseline-shift"),
}

# Properties whose side depends on the direction of writing set one of several longhands: which, is not known.
_LOGICAL: dict[str, tuple[str, ...]] = {
    "inline-size": ("width", "height"),
    "block-size": ("width", "height"),
    "min-inline-size": ("min-width", "min-height"),
    "min-block-size": ("min-width", "min-height"),
    "max-inline-size": ("max-width", "max-height"),
    "max-block-size": ("max-width", "max-height"),
    "overflow-inline": ("overflow-x", "overflow-y"),
    "overflow-block": ("overflow-x", "overflow-y"),
}
for _axis in ("inline", "block"):
    for _end in ("", "-start", "-end"):
        _LOGICAL[f"margin-{_axis}{_end}"] = _of("margin", *_SIDES)
        _LOGICAL[f"padding-{_axis}{_end}"] = _of("padding", *_SIDES)
        _LOGICAL[f"inset-{_axis}{_end}"] = _SIDES
        _LOGICAL[f"border-{_axis}{_end}"] = _BORDERS
        for _line in _LINES:
            _LOGICAL[f"border-{_axis}{_end}-{_line}"] = tuple(f"border-{side}-{_line}" for side in _SIDES)
for _one in ("start", "end"):
    for _other in ("start", "end"):
        _LOGICAL[f"border-{_one}-{_other}-radius"] = _SHORTHANDS["border-radius"]

# What ``all`` sets cannot be listed: it meets every property but these (CSS Cascade 4, 3.2).
ALL = "all"
_NOT_OF_ALL = frozenset({"direction", "unicode-bidi"})


@lru_cache(maxsize=4096)
def longhands(name: str) -> tuple[str, ...]:
    """Returns the longhands that a property sets, or may set; itself, where it is one."""
    if name in _LOGICAL:
        return _LOGICAL[name]
    return _SHORTHANDS.get(name, (name,))


def is_logical(name: str) -> bool:
    """Returns whether it depends on the direction of writing which longhands a property sets."""
    return name in _LOGICAL


def is_of_all(longhand: str) -> bool:
    """Returns whether ``all`` sets a longhand."""
    return longhand not in _NOT_OF_ALL and not longhand.startswith("--")
