"""Computed styles and media queries against a browser's own (`getComputedStyle`, `matchMedia`)."""

from __future__ import annotations

import json
import re
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import TemplateFolder
from pribble.cascade.colours import Colour, css_colour, legacy_colour
from pribble.cascade.computed import ComputedStyle, PageStyles
from pribble.cascade.media_queries import Screen, media_holds
from pribble.markup.foreign_pages import read_foreign_page
from tests.cascade.styled import page as generated_page
from tests.chromium import Browser, browser
from tests.review.mutating import DESIGNS
from tests.support import DEMO, TEST_DATA, Case, examples, generated, needs_chromium, slow

SCREENS = {"wide": Screen(1000), "narrow": Screen(390), "dark": Screen(1000, scheme="dark")}
PROPERTIES = ("color", "background-color", "font-size", "font-weight", "display", "visibility", "opacity", "text-align")
_SCRIPT = f"""return [...document.querySelectorAll("*")].map(element => {{ const style = getComputedStyle(element);
  return [element.localName, {json.dumps(PROPERTIES)}.map(name => style.getPropertyValue(name))]; }});"""


def colour(value: str) -> Any:
    """A colour as both are compared: three parts, and how opaque it is; what no browser writes so stays."""
    found = re.fullmatch(r"rgba?\(([^)]*)\)", value)
    if not found:
        return value
    *parts, alpha = [float(part) for part in found[1].split(",")] + ([] if "a(" in value else [1.0])
    return (*parts, alpha)


def is_near(name: str, theirs: str, ours: ComputedStyle) -> bool:
    """Whether a browser's value is what we computed, but for its rounding."""
    if name in ("color", "background-color"):
        mine: Colour = ours.color if name == "color" else ours.background_color
        found = colour(theirs)
        if isinstance(found, str):  # in a space of its own
            return True
        near = all(abs(a - b) <= 1 for a, b in zip(found, (mine.red, mine.green, mine.blue), strict=False))
        return near and abs(found[3] - mine.alpha) < 0.01
    if name == "font-size":
        return abs(float(theirs.removesuffix("px")) - ours.font_size) < 0.02
    if name == "opacity":
        return abs(float(theirs) - ours.opacity) < 0.001
    return theirs == str(getattr(ours, name.replace("-", "_")))


@needs_chromium
class AgainstChromium(Case):
    def check_page(self, page: Browser, html: str, screens: dict[str, Screen]) -> int:
        """Each element of a page on each screen; returns how many values were compared."""
        page._loaded = True  # so that nothing of the page before is left
        page.show(html)
        sheets = PageStyles(html, read_foreign_page(html))
        compared = 0
        for name, screen in screens.items():
            page.become(width=screen.width, scheme=screen.scheme)
            found, styled = page.evaluate(_SCRIPT), sheets.on(screen)
            self.assertEqual([element[0] for element in found], [element.local_name for element in styled.elements])
            for number, ((tag, values), ours) in enumerate(zip(found, styled.styles, strict=True)):
                for prop, value in zip(PROPERTIES, values, strict=True):
                    if not is_near(prop, value, ours):
                        self.fail(f"{name}: <{tag}> number {number}: {prop} is {value}, and not as in {ours}")
                    compared += 1
        return compared

    def test_attributes_and_values(self) -> None:
        pages = {path.name: path.read_text(encoding="utf-8") for path in (TEST_DATA / "computed").glob("*.html")}
        pages["attributes without a doctype"] = pages["attributes.html"].removeprefix("<!DOCTYPE html>")
        for name, page in sorted(pages.items()):
            with self.subTest(name):
                self.assertGreater(self.check_page(browser(), page, SCREENS), 500)

    @slow
    def test_the_pages_of_the_tests_the_demo_and_the_designs(self) -> None:
        pages = {
            p.name: p.read_text(encoding="utf-8")
            for p in (TEST_DATA / "pages").glob("*.html")
            if p.name != "nasty.html"
        }
        self.assertGreaterEqual(len(pages), 12)
        for folder in (TemplateFolder(DEMO, locale="en_GB"), TemplateFolder(DESIGNS)):
            for name, template in folder.items():
                for label, data in template.samples.items():
                    if (html := template.render(data).html) is not None:
                        pages[f"{name} {label}"] = html
                    # Before its sheets are written into it, too: without the marks, which begin most files.
                    written = re.sub(
                        r"\{\{.*?\}\}",
                        "",
                        template.variants.linked(None).sources[0].text,
                        flags=re.DOTALL,
                    )
                    if written.lower().startswith("<!doctype"):
                        pages[f"{name} as written"] = written
        for name, html in pages.items():
            with self.subTest(name):
                self.check_page(browser(), html, SCREENS)

    def test_generated_pages(self) -> None:
        for seed in range(examples(60)):
            with self.subTest(seed):
                self.check_page(browser(), generated_page(seed), SCREENS)

    def test_media_queries(self) -> None:
        queries = [
            *("all", "screen", "print", "only screen", "not print", "not all", "", "SCREEN", "tv", "screen, print"),
            *(
                "(min-width: 400px)",
                "(max-width:400px)",
                "(width)",
                "(width: 390px)",
                "(width >= 30em)",
                "(400px < width)",
            ),
            *("(300px <= width <= 600px)", "(600px > width > 300px)", "(width < 400px) and (height > 100px)"),
            *(
                "(orientation: portrait)",
                "(orientation:landscape)",
                "(orientation: sideways)",
                "(prefers-color-scheme: dark)",
            ),
            *(
                "(prefers-color-scheme)",
                "not (prefers-color-scheme: dark)",
                "(min-width: 400px) or (prefers-color-scheme: dark)",
            ),
            *(
                "screen and (min-width: 400px)",
                "screen and not (min-width: 400px)",
                "screen or (width)",
                "screen (width)",
            ),
            *("not screen and (width)", "((width) and (height))", "(not (width: 5px))", "(unknown)", "not (unknown)"),
            *(
                "(unknown) or (width)",
                "(unknown) and (width)",
                "(min-width: 20)",
                "(min-width: 0)",
                "(min-width: -5px)",
            ),
            *(
                "(min-aspect-ratio: 1/2)",
                "(max-aspect-ratio: 1/2)",
                "(aspect-ratio > 1)",
                "(resolution: 1dppx)",
                "(min-resolution: 90dpi)",
            ),
            *(
                "(-webkit-min-device-pixel-ratio: 1)",
                "(-webkit-min-device-pixel-ratio: 2)",
                "(color)",
                "(monochrome)",
                "(grid)",
            ),
            *(
                "(width) and (height) or (color)",
                "(width),",
                ", print",
                "and (width)",
                "(width: 10em 5px)",
                "((((width))))",
            ),
            *(
                "only screen and (max-width: 25cm)",
                "(min-width: 4in)",
                "(width = 390px)",
                "screen and",
            ),
        ]
        page = browser()
        page._loaded = True
        page.show("<!DOCTYPE html><p>x")
        for screen in (Screen(390), Screen(1000), Screen(1000, scheme="dark")):
            page.become(width=screen.width, scheme=screen.scheme)
            theirs = page.evaluate(f"return {json.dumps(queries)}.map(query => matchMedia(query).matches)")
            ours = [media_holds(query, screen) for query in queries]
            self.assertEqual(dict(zip(queries, ours, strict=True)), dict(zip(queries, theirs, strict=True)))

    @generated(200)
    @given(st.text(alphabet="0123456789abcdefgxyz# éG\U0001f600", max_size=14) | st.text(max_size=8))
    def test_colours_of_attributes(self, written: str) -> None:
        page = browser()
        script = f"""const font = document.createElement("font"); document.body.append(font);
          font.setAttribute("color", {json.dumps(written)}); font.parentElement.style.color = "rgb(1, 2, 3)";
          const made = getComputedStyle(font).color; font.remove(); return made;"""
        theirs = colour(page.evaluate(script))
        ours = legacy_colour(written)
        self.assertEqual(theirs[:3], (1, 2, 3) if ours is None else (ours.red, ours.green, ours.blue), written)


class Colours(unittest.TestCase):
    def test_colours(self) -> None:
        self.assertEqual(css_colour("#14364f"), Colour(0x14, 0x36, 0x4F))
        self.assertEqual(css_colour("rgb(0 0 0 / 25%)"), Colour(0, 0, 0, 0.25))
        self.assertIsNone(css_colour("nonsense"))
        self.assertIsNone(css_colour("currentcolor"))
        self.assertEqual(str(Colour(255, 0, 16)), "#ff0010")


if __name__ == "__main__":
    unittest.main()
