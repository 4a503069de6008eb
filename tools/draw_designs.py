"""Draw the pictures of the sound designs in tests/data/designs, small and plain; they are committed.

python -m tools.draw_designs
"""

from __future__ import annotations

from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

PICTURES = Path(__file__).parent.parent / "tests/data/designs/pictures"
NAVY, WATER, SAND, AMBER = "#14364f", "#2d6f8e", "#efe6d5", "#e2a33b"


def save(image: Image.Image, name: str) -> None:
    colours = image.quantize(64) if image.mode == "RGB" else image
    colours.save(PICTURES / f"{name}.png", optimize=True)


def wordmark() -> None:
    """The name in white letters and nothing behind them: it needs a dark ground."""
    image = Image.new("RGBA", (440, 88), (0, 0, 0, 0))
    ImageDraw.Draw(image).text((8, 14), "SKERROW HAVEN", fill="white", font=ImageFont.load_default(52))
    save(image, "wordmark")


def seal() -> None:
    """An anchor in a ring, dark, and nothing behind it."""
    image = Image.new("RGBA", (96, 96), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    draw.ellipse((4, 4, 92, 92), outline=NAVY, width=8)
    draw.line((48, 22, 48, 72), fill=NAVY, width=8)
    draw.arc((26, 38, 70, 76), 10, 170, fill=NAVY, width=8)
    save(image, "seal")


def thing(name: str, ground: str, shape: str) -> None:
    image = Image.new("RGB", (580, 320), ground)
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle((220, 60, 360, 270), 30, fill=shape)
    draw.rectangle((250, 30, 330, 60), fill=NAVY)
    save(image, name)


def waves() -> None:
    image = Image.new("RGB", (1200, 400), NAVY)
    draw = ImageDraw.Draw(image)
    for row in range(0, 400, 40):
        for column in range(-40, 1200, 120):
            draw.arc((column + row % 80, row, column + row % 80 + 120, row + 60), 200, 340, fill=WATER, width=5)
    save(image, "waves")


def course() -> None:
    image = Image.new("RGB", (1080, 540), "#d7e7ee")
    draw = ImageDraw.Draw(image)
    buoys = [(140, 420), (520, 90), (930, 300)]
    draw.line([*buoys, buoys[0]], fill=NAVY, width=6)
    for x, y in buoys:
        draw.ellipse((x - 22, y - 22, x + 22, y + 22), fill=AMBER)
    save(image, "course")


def main() -> None:
    PICTURES.mkdir(exist_ok=True)
    wordmark()
    seal()
    thing("lantern", SAND, AMBER)
    thing("oilskin", "#dfe8e2", "#d9b400")
    waves()
    course()
    Image.new("RGBA", (1, 1), (0, 0, 0, 0)).save(PICTURES / "spacer.png")


if __name__ == "__main__":
    main()
