"""Pictures made anew: scaled, laid on a ground, drawn from a figure, and encoded as receivers show them."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any

from pribble.mime.media_types import BY_NAME, JPEG, PNG

if TYPE_CHECKING:
    from PIL.Image import Image

# So many pixels of a figure are one CSS pixel: sharp on the screens that most people read on.
DENSITY = 2.0
_CSS_PIXELS_PER_INCH = 96
_QUALITY = 88
_PALETTE = 256


def resized(image: Image, size: tuple[int, int]) -> Image:
    """Returns an image of another size; transparent edges stay clean."""
    from PIL import Image

    few = image.mode in ("1", "P", "PA")
    if few:
        image = image.convert("RGBA" if has_alpha(image) else "RGB")
    if image.mode == "RGBA":  # colours count by how much of them is seen
        made = image.convert("RGBa").resize(size, Image.Resampling.LANCZOS).convert("RGBA")
    else:
        made = image.resize(size, Image.Resampling.LANCZOS)
    if not few:
        return made
    method = Image.Quantize.FASTOCTREE if made.mode == "RGBA" else Image.Quantize.MEDIANCUT
    return made.quantize(_PALETTE, method=method, dither=Image.Dither.NONE)  # what had few colours needs no more now


def lay_on_ground(image: Image, colour: str) -> Image:
    """Returns an image on a ground of `colour`; raises `ValueError` for what is no colour."""
    from PIL import Image, ImageColor

    try:
        parts = ImageColor.getrgb(colour)[:3]
    except ValueError:
        raise ValueError(
            f'colour: "{ascii(colour[:60])[1:-1]}" is none that is known (one is written #14364f)'
        ) from None
    ground = Image.new("RGBA", image.size, (*parts, 255))
    return Image.alpha_composite(ground, image.convert("RGBA")).convert("RGB")


def has_alpha(image: Image) -> bool:
    """Returns whether anything of an image is transparent or could be."""
    return image.mode in ("RGBA", "LA", "PA", "RGBa", "La") or "transparency" in image.info


def encode_image(image: Image, before: str) -> tuple[bytes, str]:
    """Returns an image as PNG or JPEG, and its media type; `before` is the type it came as.

    JPEG stays JPEG; of others, what is transparent or has few colours becomes PNG, and the rest, which are
    photographs, JPEG.
    """
    image = eight_bits(image)
    as_ = BY_NAME[before].as_ if before in BY_NAME else "either"
    if as_ == "jpeg" and not has_alpha(image):
        return _jpeg(image), JPEG.name
    if as_ == "png" or has_alpha(image) or image.getcolors(_PALETTE):
        return _png(image), PNG.name
    return _jpeg(image), JPEG.name


def eight_bits(image: Image) -> Image:
    if image.mode.startswith(("I", "F")):  # 16 bits and more: their range becomes that of 8
        highest = 65535 if image.mode.startswith("I") else max(1.0, float(image.getextrema()[1]))  # type: ignore[arg-type]
        return image.point(lambda value: value * (255 / highest)).convert("L")
    if image.mode in ("RGB", "RGBA", "L", "LA", "P", "1"):
        return image
    return image.convert("RGBA" if has_alpha(image) else "RGB")


def _jpeg(image: Image) -> bytes:
    out = io.BytesIO()
    image.convert("L" if image.mode in ("1", "L") else "RGB").save(out, "JPEG", quality=_QUALITY, optimize=True)
    return out.getvalue()


def _png(image: Image) -> bytes:
    if image.mode == "RGB" and image.getcolors(_PALETTE):
        from PIL import Image as Images

        image = image.quantize(_PALETTE, dither=Images.Dither.NONE)
    out = io.BytesIO()
    keep = {"transparency": image.info["transparency"]} if "transparency" in image.info else {}
    image.save(out, "PNG", optimize=True, **keep)
    return out.getvalue()


def drawn(figure: Any, width: int | None) -> bytes:
    """Returns a Matplotlib figure as PNG, `width` CSS pixels wide where it is shown."""
    from PIL import Image

    inches = figure.get_figure(root=True).get_size_inches()[0]
    shown = width or round(inches * _CSS_PIXELS_PER_INCH)
    out = io.BytesIO()
    figure.get_figure(root=True).savefig(out, format="png", dpi=shown * DENSITY / inches)
    image: Image.Image = Image.open(out)
    if image.mode == "RGBA" and image.getchannel("A").getextrema() == (255, 255):
        image = image.convert("RGB").quantize(_PALETTE, dither=Image.Dither.NONE)
    small = io.BytesIO()
    image.save(small, "PNG", optimize=True)
    return small.getvalue()
