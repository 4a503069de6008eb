"""Viewers: each key does what it says, queries are settled as a browser would, and pages stay whole."""

from __future__ import annotations

import re
import unittest
from dataclasses import fields
from typing import Any

import html5lib

from pribble import Message, Picture, TemplateFolder
from pribble.cascade.colours import Colour, contrast
from pribble.review import View, Viewer, known_viewers, simulate
from pribble.review.conditional_comments import engine_matches
from pribble.review.darkening import dark_ground, dark_text
from pribble.review.viewers import with_viewers
from pribble.toml_file import TomlFile
from tests.cascade.test_computed import PROPERTIES
from tests.chromium import browser
from tests.review.mutating import DESIGNS
from tests.review.test_checks import PAGE
from tests.support import DEMO, Case, needs_chromium, pribble, slow

PNG = Picture.open(DESIGNS / "pictures/seal.png")
CID = f"cid:{PNG.content_id('skerrow.example')}"


def message(page: str, *, head: str = "", text: str = "The plain text.") -> Message:
    return Message(
        sender="berths@skerrow.example",
        to="ana@example.org",
        subject="x",
        text=text,
        html=f'<!DOCTYPE html><html lang="en"><head>{head}</head><body>{page}</body></html>',
        pictures=[PNG],
        id_domain="skerrow.example",
    )


def messages() -> dict[str, Message]:
    """The messages of the demo and of the designs that have a page."""
    made: dict[str, Message] = {}
    for folder in (TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London"), TemplateFolder(DESIGNS)):
        for name, template in folder.items():
            for label, data in template.samples.items():
                if template.is_page:
                    rendering = template.render(data)
                    made[f"{name} {label}"] = rendering.message(sender="a@example.org", to="b@example.org")
    return made


def seen(page: str, top: str = "", **keys: Any) -> View:
    """What a viewer shows of a page, with `top` in its head."""
    return simulate(message(page, head=top), Viewer("test", **keys))


class Keys(Case):
    """One case for each key: what stands in the view with it, and what in a browser's."""

    CASES: tuple[tuple[dict[str, Any], str, str, str, str], ...] = (
        ({"style_elements": "none"}, "<style>p{color:red}</style>", "<p>x", "<style>", "color:red"),
        ({"style_elements": "head"}, "", "<style>p{color:red}</style><p>x", "<style>", "color:red"),
        ({"style_attributes": False}, "", '<p style="color: red">x', "style=", "color:"),
        ({"media": False}, "<style>@media (min-width: 1px){p{color:red}}</style>", "<p>x", "", "color:red"),
        ({"head": False}, "<title>Tides</title>", "<p>x", "", "Tides"),
        ({"elements": ("svg",)}, "", "<svg><path/></svg>x", "<svg>", "<path"),
        ({"elements": ("form",)}, "", "<form><b>x</b></form>", "<form>", "<form"),
        ({"properties": ("float",)}, "", '<p style="float: left; color: red">x', "float", "float:"),
        ({"displays": ("flex",)}, "<style>p{display:flex}</style>", "<p>x", "", "display:flex"),
        ({"cid": ()}, "", f'<img src="{CID}" alt="Seal">', "", "data:image/png"),
        ({"cid": ("img",)}, "", f'<table background="{CID}"><tr><td>x</table>', "", "data:image/png"),
        ({"cid": ("img", "attributes")}, "", f'<p style="background: url({CID})">x', "", "data:image/png"),
        ({"data": False}, "", '<img src="data:image/png;base64,AA==" alt="Seal">', "", "data:image"),
        ({"data": 10}, "", '<img src="data:image/png;base64,AA==" alt="Seal">', "", "data:image"),
        ({"remote": "never"}, "", '<img src="https://skerrow.example/a.png" alt="Map">', "", "a.png"),
        ({"remote": "asked"}, "", '<p style="background:url(https://skerrow.example/a.png)">x', "", "a.png"),
        ({"width": 390}, "<style>@media (min-width: 500px){p{color:red}}</style>", "<p>x", "", "color:red"),
        (
            {"scheme": "dark"},
            "<style>@media (prefers-color-scheme: light){p{color:red}}</style>",
            "<p>x",
            "",
            "color:red",
        ),
    )

    def test_what_each_takes_away(self) -> None:
        for keys, head, page, lost, gone in self.CASES:
            with self.subTest(keys):
                whole, view = seen(page, head), seen(page, head, **keys)
                self.assertIn(gone, str(whole.html))
                self.assertNotIn(gone, str(view.html))
                self.assertEqual(
                    [one.what for one in view.lost][:1], [lost] if lost else [one.what for one in view.lost][:1]
                )
                self.assertIn("x", str(view.html))

    def test_every_key_has_a_case(self) -> None:
        tried = {key for keys, *_ in self.CASES for key in keys} | {
            "engine",
            "cut",
            "text_only",
            "name",
            "about",
            "why",
        }
        self.assertEqual(tried, {one.name for one in fields(Viewer)})

    def test_a_picture_that_does_not_show_leaves_its_box_and_its_words(self) -> None:
        view = seen(f'<img src="{CID}" width="48" height="40" alt="The &amp; seal" style="display:block">', cid=())
        self.assertRegex(
            str(view.html),
            r'<span role="img" aria-label="The &amp; seal" style="[^"]*width: 48px; height: 40px;[^"]*">The &amp; seal</span>',
        )

    def test_comments_of_one_engine(self) -> None:
        page = "<!--[if mso]>OLD<![endif]--><!--[if !mso]><!-->NEW<!--<![endif]--><!-- remark -->end"
        self.assertRegex(str(seen(page).html), "(?s)^(?!.*OLD).*NEWend")
        self.assertRegex(str(seen(page, engine="mso 16").html), "(?s)^(?!.*NEW).*OLDend")
        for condition, wanted in {
            "mso": True, "!mso": False, "gte mso 9": True, "gt mso 16": False, "lte mso 15": False, "mso 16": True,
            "IE": False, "(gte mso 9)|(IE)": True, "mso & !IE": True, "!(mso)": False, "": False, "vml": False,
        }.items():  # fmt: skip
            self.assertEqual(engine_matches(f" {condition}", "mso 16"), wanted, condition)
            self.assertFalse(engine_matches(" mso", ""))

    def test_cut(self) -> None:
        view = seen("<p>" + "é" * 500, cut=300)
        assert view.html is not None and view.cut is not None
        self.assertLessEqual(len(view.html.encode()), 320)
        short = simulate(message("x", text="word " * 200), "watch")
        self.assertEqual((short.html, short.cut), (None, None))
        self.assertEqual(simulate(message("x", text="word " * 900), "watch").cut, 2000)

    def test_text_alone(self) -> None:
        view = simulate(message("<p>page"), "terminal")
        self.assertEqual((view.html, (view.text or "").strip()), (None, "The plain text."))
        bare = Message(sender="a@example.org", to="b@example.org", text="t")
        self.assertEqual((simulate(bare, "phone").html, simulate(bare, "phone").text), (None, bare.text))

    def test_forced_dark(self) -> None:
        for light in (Colour(255, 255, 255), Colour(239, 230, 213), Colour(200, 220, 255), Colour(255, 204, 0)):
            for dark in (Colour(0, 0, 0), Colour(29, 43, 54), Colour(20, 54, 79), Colour(90, 0, 0)):
                self.assertGreater(contrast(dark_ground(light), dark_text(dark)), 4.5)
        for kept in (Colour(20, 20, 20), Colour(80, 20, 20)):
            self.assertEqual(dark_ground(kept), kept)


class Profiles(Case):
    def test_each_says_what_it_rests_on(self) -> None:
        self.assertEqual(
            list(known_viewers()),
            "browser pictures-off strict-web body-only old-engine phone phone-dark forced-dark terminal watch".split(),
        )
        for viewer in known_viewers().values():
            self.assertTrue(viewer.about and viewer.why, viewer.name)

    @slow
    def test_pages_stay_whole_and_bring_nothing_from_elsewhere(self) -> None:
        for name, one in messages().items():
            for viewer in known_viewers():
                with self.subTest(name, viewer=viewer):
                    view = simulate(one, viewer)
                    self.assertEqual(view.html, simulate(bytes(one), viewer).html)
                    if view.html is not None:
                        self.assertNotRegex(view.html, r"(?i)cid:|@media|<script|\[if |<v:")
                        html5lib.HTMLParser(strict=False).parse(view.html)

    def test_the_button_for_old_engines_is_seen_once(self) -> None:
        template = TemplateFolder(DESIGNS)["two-columns"]
        one = template.render(template.samples[""]).message(sender="a@example.org", to="b@example.org")
        for viewer in ("browser", "old-engine", "phone"):
            html = str(simulate(one, viewer).html)
            self.assertEqual(len(re.findall(r"<a [^>]*dues/2027", html)), 1, viewer)
            self.assertEqual(html.count("Pay the dues"), 1, viewer)

    def test_a_projects_own(self) -> None:
        made = with_viewers(
            {"kiosk": {"like": "phone", "width": 500, "cid": ["img"]}}, known_viewers(), TomlFile("x", "")
        )
        self.assertEqual(
            (made["kiosk"].width, made["kiosk"].cid, made["kiosk"].about), (500, ("img",), made["phone"].about)
        )
        folder = self.folder(
            {
                "templates/a.html": f"{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}<svg><path/></svg>words",
                "templates/a.sample.json": "{}",
            }
        )
        settings = folder.path / "pribble.toml"
        for written, says in {
            '[viewers.kiosk]\nlike = "browser"\nelements = ["svg"]\n': "(kiosk)",
            '[viewers.kiosk]\nlike = "fone"\n': 'did you mean "phone"',
            "[viewers.kiosk]\nwidht = 3\n": 'did you mean "width"',
            '[viewers.kiosk]\nwidth = "3"\n': "a number",
            "[viewers.kiosk]\nmedia = 1\n": "true or false",
            '[viewers.kiosk]\nremote = "maybe"\n': "one of shown, asked, never",
            '[viewers.kiosk]\ncid = ["video"]\n': "one of img, attributes, css",
            "[viewers.kiosk]\nwidth = -5\n": "from 0 to",
            "viewers = 3\n": "a table",
            "[viewers]\nkiosk = 3\n": "a table",
        }.items():
            settings.write_text(written, encoding="utf-8")
            done = pribble("check", "a", "--viewers", "kiosk", cwd=folder.path)
            self.assertIn(says, done.stdout + done.stderr, written)
            self.assertEqual(done.returncode, 0 if says == "(kiosk)" else 1, done.stderr)

    def test_an_unknown_one(self) -> None:
        with self.assertRaisesRegex(ValueError, 'did you mean "phone"'):
            simulate(message("x"), "fone")


@needs_chromium
class AgainstChromium(Case):
    """A settled page looks as the message does where its queries are asked."""

    SCRIPT = f"""return [...document.body.querySelectorAll("*")].map(e => {{ const s = getComputedStyle(e);
      return [e.localName, {list(PROPERTIES)!r}.map(name => s.getPropertyValue(name)).join("; ")]; }});"""

    def test_queries_are_settled_as_a_browser_does(self) -> None:
        page = browser()
        for name, one in messages().items():
            for viewer, state in (
                ("browser", {}),
                ("phone", {"width": 390}),
                ("phone-dark", {"width": 390, "scheme": "dark"}),
            ):
                with self.subTest(name, viewer=viewer):
                    view = simulate(one, viewer)
                    made = []
                    for html in (str(one.html), str(view.html)):
                        page._loaded = True
                        page.show(html)
                        page.become(**{"width": 1000, **state})  # type: ignore[arg-type]
                        made.append(page.evaluate(self.SCRIPT))
                    dark = viewer == "phone-dark" and "color-scheme" in str(one.html)
                    self.assertEqual(*([self.without_initial(each) for each in made] if dark else made))

    @staticmethod
    def without_initial(elements: Any) -> Any:
        """Where a page follows the reader's scheme, what it does not colour itself is the browser's own matter."""
        return [
            [name, re.sub(r"^rgb\((255, 255, 255|0, 0, 0|158, 158, 255|0, 0, 238)\)", "", said)]
            for name, said in elements
        ]


if __name__ == "__main__":
    unittest.main()
