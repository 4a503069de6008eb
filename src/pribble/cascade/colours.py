"""Colours as a screen shows them: read from CSS and from old attributes, mixed, and compared."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Literal

from tinycss2.color4 import parse_color

from pribble.cascade.syntax import readable
from pribble.records import record
from pribble.regexes import regex

# Which pages a reader asks for, or a page says that it is made for.
Scheme = Literal["light", "dark"]


@record(frozen=True, slots=True)
class Colour:
    """A colour of sRGB: three parts from 0 to 255, and how opaque it is, from 0 to 1."""

    red: int
    green: int
    blue: int
    alpha: float = 1.0

    def __str__(self) -> str:
        """Returns the colour as CSS writes it: ``#14364f``."""
        solid = f"#{self.red:02x}{self.green:02x}{self.blue:02x}"
        return solid if self.alpha == 1 else f"{solid} at {self.alpha:.0%}"

    def over(self, ground: Colour) -> Colour:
        """Returns what is seen of it on an opaque ground (CSS Compositing 1, 5.1)."""
        return ground.mixed(Colour(self.red, self.green, self.blue), self.alpha)

    def mixed(self, other: Colour, share: float) -> Colour:
        """Returns this colour with a `share` of another, from 0 to 1."""
        if share in (0, 1):
            return other if share else self
        parts = ((self.red, other.red), (self.green, other.green), (self.blue, other.blue))
        return Colour(*(round(mine + (theirs - mine) * share) for mine, theirs in parts))

    @property
    def light(self) -> tuple[float, float, float]:
        """How much light each part is, from 0 to 1 (CSS Color 4, 10.2)."""
        return _LINEAR[self.red], _LINEAR[self.green], _LINEAR[self.blue]

    def lit(self, light: Sequence[float]) -> Colour:
        """Returns the colour of so much light, as opaque as this one."""
        red, green, blue = (round(min(max(part, 0.0), 1.0) * 255) for part in _encoded(light))
        return Colour(red, green, blue, self.alpha)

    @property
    def luminance(self) -> float:
        """The relative luminance, from 0 for black to 1 for white (WCAG 2.2)."""
        red, green, blue = self.light
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _linear(part: int) -> float:
    share = part / 255
    return share / 12.92 if share <= 0.04045 else float(((share + 0.055) / 1.055) ** 2.4)


_LINEAR = tuple(map(_linear, range(256)))
BLACK, WHITE, TRANSPARENT = Colour(0, 0, 0), Colour(255, 255, 255), Colour(0, 0, 0, 0.0)


def contrast(one: Colour, other: Colour) -> float:
    """Returns the contrast ratio of two opaque colours, from 1 to 21 (WCAG 2.2)."""
    darker, lighter = sorted((one.luminance, other.luminance))
    return (lighter + 0.05) / (darker + 0.05)


@lru_cache(maxsize=4096)
def css_colour(value: str) -> Colour | None:
    """Returns the colour that a CSS value names (CSS Color 4); None for one that is none, or depends on the reader."""
    try:
        found = parse_color(readable(value))
    except (ValueError, OverflowError, ZeroDivisionError):
        return None
    if found is None or isinstance(found, str):
        return None
    parts = [float(part or 0.0) for part in found.coordinates]
    if found.space in ("srgb", "hsl", "hwb"):
        parts = [float(part or 0.0) for part in found.to("srgb").coordinates]
    elif found.space in _TO_SRGB:
        parts = _TO_SRGB[found.space](parts)
    else:
        return None
    red, green, blue = (round(min(max(part, 0.0), 1.0) * 255) for part in parts)
    return Colour(red, green, blue, min(max(found.alpha, 0.0), 1.0))


# ---- spaces of colour (CSS Color 4, 18) ---------------------------------------------------------------------------

_Vector = list[float]


def _product(matrix: tuple[tuple[float, float, float], ...], vector: _Vector) -> _Vector:
    return [sum(a * b for a, b in zip(row, vector, strict=True)) for row in matrix]


def _polar(parts: _Vector) -> _Vector:
    """Returns lightness and two axes, of lightness, chroma and hue."""
    return [parts[0], parts[1] * math.cos(math.radians(parts[2])), parts[1] * math.sin(math.radians(parts[2]))]


def _encoded(linear: Sequence[float]) -> _Vector:
    """Returns the parts of sRGB, of light that is linear."""
    return [12.92 * part if part <= 0.0031308 else 1.055 * part ** (1 / 2.4) - 0.055 for part in linear]


def _of_oklab(parts: _Vector) -> _Vector:
    roots = _product(
        ((1, 0.3963377774, 0.2158037573), (1, -0.1055613458, -0.0638541728), (1, -0.0894841775, -1.2914855480)), parts
    )
    linear = _product(
        (
            (4.0767416621, -3.3077115913, 0.2309699292),
            (-1.2684380046, 2.6097574011, -0.3413193965),
            (-0.0041960863, -0.7034186147, 1.7076147010),
        ),
        [root**3 for root in roots],
    )
    return _encoded(linear)


def _of_lab(parts: _Vector) -> _Vector:
    middle = (parts[0] + 16) / 116
    roots = (parts[1] / 500 + middle, middle, middle - parts[2] / 200)
    bent = [root**3 if root**3 > 216 / 24389 else (116 * root - 16) * 27 / 24389 for root in roots]
    white = (0.3457 / 0.3585, 1.0, (1 - 0.3457 - 0.3585) / 0.3585)
    # From the white of print to that of screens and to their primaries, in one.
    linear = _product(
        (
            (3.1341358529, -1.6173863321, -0.4906619460),
            (-0.9787954838, 1.9162543774, 0.0334428734),
            (0.0719553900, -0.2289767598, 1.4053860351),
        ),
        [part * most for part, most in zip(bent, white, strict=True)],
    )
    return _encoded(linear)


_TO_SRGB: dict[str, Callable[[_Vector], _Vector]] = {
    "oklab": _of_oklab,
    "oklch": lambda parts: _of_oklab(_polar(parts)),
    "lab": _of_lab,
    "lch": lambda parts: _of_lab(_polar(parts)),
    "srgb-linear": _encoded,
}


_HEX = regex("[0-9a-fA-F]")


def legacy_colour(value: str) -> Colour | None:
    """Returns the colour of an attribute such as ``bgcolor`` (WHATWG HTML 2.3.6, legacy colours); None for none."""
    value = value.strip(" \t\n\f\r")
    if not value or value.lower() == "transparent":
        return None
    if re.fullmatch("[A-Za-z]+", value) and (named := css_colour(value.lower())) is not None:
        return named
    if re.fullmatch("#[0-9A-Fa-f]{3}", value):
        return Colour(*(int(digit * 2, 16) for digit in value[1:]))
    # Whatever else is written, a browser makes a colour of: three parts of equal length.
    digits = "".join("00" if ord(c) > 0xFFFF else c for c in value[:128])[:128].removeprefix("#")
    digits = "".join(c if _HEX.match(c) else "0" for c in digits)
    digits = digits.ljust(max(3, -(-len(digits) // 3) * 3), "0")
    size = len(digits) // 3
    parts = [digits[index * size : (index + 1) * size][-8:] for index in range(3)]
    while len(parts[0]) > 2 and all(part[0] == "0" for part in parts):
        parts = [part[1:] for part in parts]
    return Colour(*(int(part[:2], 16) for part in parts))
