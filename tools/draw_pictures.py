"""Draw the pictures of the Skerrow Haven demo: the office's logo, a berth map for each pier, the sample's chart.

    python tools/draw_pictures.py

They are drawn at twice the size they are shown at, so that they are sharp on dense screens, and committed;
run this again only to change them.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from pribble import Picture
from pribble.demo.charts import usage_chart

PICTURES = Path(__file__).parent.parent / "src/pribble/demo/templates/pictures"
SMOOTH = 3  # everything is drawn so many times larger and scaled down, for smooth edges

NAVY, TEAL, SAND, PAPER = "#14364f", "#1f7a7a", "#efe6d5", "#fbf8f2"
WATER, SHALLOW, STONE, LAND, BOAT, AMBER = "#cfe3ea", "#dcecf0", "#9fb0b8", "#e3dcc8", "#ffffff", "#e2a33b"


class Sheet:
    """A drawing in final pixels, kept larger until it is saved."""

    def __init__(self, width: int, height: int, colour: str | None = None) -> None:
        self.size = (width, height)
        self.image = Image.new("RGBA", (width * SMOOTH, height * SMOOTH), colour or (0, 0, 0, 0))
        self.draw = ImageDraw.Draw(self.image)

    def polygon(self, points: Sequence[tuple[float, float]], fill: str) -> None:
        self.draw.polygon([(x * SMOOTH, y * SMOOTH) for x, y in points], fill=fill)

    def box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        fill: str,
        radius: float = 0,
        outline: str | None = None,
        line: float = 0,
    ) -> None:
        corners = [x * SMOOTH, y * SMOOTH, (x + width) * SMOOTH, (y + height) * SMOOTH]
        self.draw.rounded_rectangle(corners, radius * SMOOTH, fill=fill, outline=outline, width=round(line * SMOOTH))

    def disc(self, x: float, y: float, radius: float, fill: str) -> None:
        self.draw.ellipse(
            [(x - radius) * SMOOTH, (y - radius) * SMOOTH, (x + radius) * SMOOTH, (y + radius) * SMOOTH], fill=fill
        )

    def line(self, points: Sequence[tuple[float, float]], fill: str, width: float) -> None:
        self.draw.line(
            [(x * SMOOTH, y * SMOOTH) for x, y in points], fill=fill, width=round(width * SMOOTH), joint="curve"
        )

    def text(self, x: float, y: float, text: str, size: float, fill: str, anchor: str = "mm") -> None:
        font = ImageFont.load_default(size * SMOOTH)
        self.draw.text((x * SMOOTH, y * SMOOTH), text, fill=fill, font=font, anchor=anchor)

    def save(self, name: str, *, colours: int | None = None) -> None:
        image = self.image.resize(self.size, Image.Resampling.LANCZOS)
        if colours:
            image = image.convert("RGB").quantize(colours, method=Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE)
        image.save(PICTURES / name, optimize=True)


def logo() -> None:
    """A skerry with its light above two waves, on a disc: it stands on white as on black."""
    sheet = Sheet(112, 112)
    sheet.disc(56, 56, 55, NAVY)
    sheet.disc(56, 56, 50, PAPER)
    sheet.disc(56, 56, 47, NAVY)
    sheet.polygon([(52, 34), (60, 34), (63, 66), (49, 66)], PAPER)
    sheet.box(50.5, 27, 11, 6, AMBER, radius=1)
    sheet.polygon([(49, 27), (63, 27), (56, 20)], PAPER)
    sheet.polygon([(64, 29), (88, 22), (90, 32)], AMBER)
    sheet.polygon([(26, 70), (40, 58), (52, 62), (66, 60), (84, 70)], SAND)
    for y, left, right in ((76, 20, 92), (86, 29, 83)):
        points = [(x, y + (3 if (x // 9) % 2 else -1)) for x in range(left, right + 1, 9)]
        sheet.line(points, WATER, 3.6)
    sheet.save("logo.png")


BERTHS = {"A": 12, "B": 16, "C": 10}
PIERS = {"A": 210, "B": 560, "C": 910}


def pier_map(chosen: str) -> None:
    """The harbour from above, one pier in colour and its berths numbered."""
    sheet = Sheet(1120, 520, WATER)
    sheet.polygon([(0, 0), (1120, 0), (1120, 84), (0, 64)], LAND)
    sheet.polygon([(0, 64), (1120, 84), (1120, 100), (0, 80)], STONE)
    sheet.polygon([(0, 300), (0, 520), (330, 520), (210, 470), (90, 440), (40, 380)], SHALLOW)
    sheet.polygon([(1120, 400), (1120, 520), (860, 520), (1000, 470)], STONE)
    sheet.text(110, 34, "Berth office", 24, NAVY)
    sheet.box(32, 50, 44, 26, TEAL, radius=4)
    for pier, x in PIERS.items():
        draw_pier(sheet, pier, x, chosen=pier == chosen)
    sheet.text(1060, 478, "N", 24, NAVY)
    sheet.polygon([(1060, 424), (1072, 460), (1060, 452), (1048, 460)], NAVY)
    sheet.save(f"pier-{chosen.lower()}.png", colours=64)


def draw_pier(sheet: Sheet, pier: str, x: int, *, chosen: bool) -> None:
    top, count = 84, BERTHS[pier]
    rows = count // 2
    length = 56 + rows * 40
    deck, ink = (TEAL, NAVY) if chosen else ("#b9c6cc", "#7c8d96")
    sheet.box(x - 11, top, 22, length, deck, radius=5)
    for row in range(rows):
        y = top + 62 + row * 40
        for side in (-1, 1):
            number = row * 2 + (1 if side < 0 else 2)
            sheet.line([(x + side * 11, y + 17), (x + side * 88, y + 17)], deck, 3 if chosen else 2)
            if chosen:
                sheet.text(x + side * 104, y, str(number), 19, ink)
            if (number * 7 + ord(pier)) % 5 and not (chosen and number == 14):
                boat(sheet, x + side * 48, y, side, faint=not chosen)
    sheet.disc(x, top + 18, 24, NAVY if chosen else "#8fa1aa")
    sheet.text(x, top + 18, pier, 26, "#ffffff")


def boat(sheet: Sheet, x: float, y: float, side: int, *, faint: bool) -> None:
    bow, stern = x + side * 32, x - side * 30
    hull = "#eef3f5" if faint else BOAT
    sheet.polygon([(stern, y - 9), (x + side * 6, y - 11), (bow, y), (x + side * 6, y + 11), (stern, y + 9)], hull)
    sheet.line([(x - side * 14, y), (x + side * 12, y)], "#c4d0d6" if faint else "#7c8d96", 3)


def shore_power() -> None:
    """The chart of the sample statement, for whoever has no Matplotlib."""
    sample = json.loads((PICTURES.parent / "mooring-statement.sample.json").read_text())
    first = date.fromisoformat(sample["statement"]["from"])
    picture = Picture.from_figure(usage_chart(sample["usage"]["kwh"], first), width=536)
    (PICTURES / "shore-power.png").write_bytes(picture.content)


if __name__ == "__main__":
    PICTURES.mkdir(parents=True, exist_ok=True)
    logo()
    shore_power()
    for pier in PIERS:
        pier_map(pier)
