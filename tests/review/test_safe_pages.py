"""Pages in frames: whatever a page holds, only what is named is written, and it reads as it was written."""

from __future__ import annotations

import re
import unittest
from collections.abc import Iterator

import html5lib
from hypothesis import given
from hypothesis import strategies as st

from pribble.markup.foreign_pages import read_foreign_page
from pribble.review.preview.safe_pages import safe_page
from pribble.review.simulating import SeenPage, seen_of
from pribble.review.viewers import known_viewers
from tests.support import TEST_DATA, Case, generated, slow

HTML = "{http://www.w3.org/1999/xhtml}"
FORBIDDEN = frozenset(
    "script link base meta iframe frame frameset object embed applet template noscript form video audio source track "
    "portal foreignobject image use animate set math plaintext xmp noembed noframes".split()
)
# Each has something that would reach out, run or confuse whoever reads the page again.
HOSTILE = (
    "<script>fetch('http://x.example')</script><p onclick=alert(1) onmouseover='x'>a</p>",
    "<link rel=preconnect href=http://x.example><base href=http://x.example/><meta http-equiv=refresh content='0;url=//x'>",
    "<iframe srcdoc='<script>1</script>'></iframe><object data=http://x.example></object><embed src=//x.example>",
    "<form action=http://x.example><input name=a autofocus><button formaction=//x>b</button></form>",
    "<a href='javascript:alert(1)' ping=http://x.example target=_top download>c</a><area href=//x.example>",
    "<img src=http://x.example/a.png srcset='http://x.example/b.png 2x' onerror=alert(1) lowsrc=//x>",
    "<svg><script>1</script><a xlink:href=//x.example><text>d</text></a><use href='#x'/><image href=//x.example /></svg>",
    "<svg><style><link rel=preconnect href=http://x.example></style></svg>",
    "<svg><foreignObject><iframe src=//x.example></iframe></foreignObject><set attributeName=href to=//x></svg>",
    "<math><annotation-xml encoding='text/html'><script>1</script></annotation-xml></math>",
    "<style>p{background:url(http://x.example/a.png)}</style><style><!-- @media print{}</sty@media print{}le><link></style>",
    "<style>a::before{content:'</style><script>1</script>'}</style>",
    "<noscript><p title='</noscript><link rel=preconnect href=//x.example>'></noscript>",
    "<title></title><script>1</script></title><textarea></textarea><script>2</script>",
    "<xmp><script>1</script></xmp><listing><img src=//x></listing><plaintext><script>2</script>",
    "<table background=http://x.example/a.png><td background='data:image/png;base64,AA=='>e",
    "<img name=getElementById><img id=querySelector name=querySelector><form id=body><input id=childNodes></form>",
    "<p data-pribble='7' data-pribble='8' is=x-y slot=a nonce=b popover accesskey=k contenteditable tabindex=1>f",
    "<select><style><script>1</script></style><option>g</select><template><script>1</script></template>",
    "<image src=http://x.example><isindex prompt=x><keygen><marquee onstart=alert(1)>h</marquee>",
    "<p style=\"background:url('http://x.example/');behavior:url(#x);-moz-binding:url(//x)\">i</p><!-->--><script>1</script>",
    "<a href=\"data:text/html,<script>alert(1)</script>\">j</a><svg><animate attributeName=href values='javascript:1'/></svg>",
    "<video poster=http://x.example src=//x><source src=//x></video><audio autoplay src=//x></audio><picture><source srcset=//x></picture>",
    "<html manifest=http://x.example><body onload=alert(1) background=http://x.example link=red>k<dialog open>l</dialog>",
)


TOKEN = "7f"


def written(html: str) -> str:
    """A page as a frame holds it."""
    return "".join(safe_page(SeenPage(html, read_foreign_page(html), (), ()), {}, TOKEN))


class SafePages(Case):
    def check(self, html: str) -> None:
        made = written(html)
        tree = html5lib.parse(made, namespaceHTMLElements=True)
        for element in tree.iter():
            if not isinstance(element.tag, str):
                self.fail(f"a comment: {made}")
            name = element.tag.rpartition("}")[2].lower()
            self.assertNotIn(name, FORBIDDEN, made)
            for attribute, value in element.attrib.items():
                key = str(attribute).rpartition("}")[2].lower()
                self.assertFalse(key.startswith("on"), made)
                self.assertNotIn(
                    key, ("ping", "srcdoc", "action", "formaction", "target", "srcset", "autofocus", "data")
                )
                if key == "href":
                    self.assertEqual(value, "about:srcdoc#")
                if key in ("src", "background", "poster"):
                    self.assertTrue(value.strip().lower().startswith(("data:", "pribble-picture:")), made)
                if key in ("id", "name") and name in ("form", "input", "button", "object"):
                    self.assertNotEqual(key, "name")

    def test_hostile_pages(self) -> None:
        for page in HOSTILE:
            with self.subTest(page):
                self.check(page)
                self.check(f"<!DOCTYPE html><html><head>{page}</head><body><table><tr><td>{page}</table></body></html>")

    @generated(300)
    @given(
        st.lists(
            st.sampled_from([*HOSTILE, *(part for page in HOSTILE for part in re.split("(?=[<>])", page))]), max_size=12
        )
    )
    def test_generated_pages(self, parts: list[str]) -> None:
        self.check("".join(parts))

    def test_sound_pages_keep_what_they_say(self) -> None:
        for path in sorted(TEST_DATA.glob("designs/*.html")):
            html = path.read_text(encoding="utf-8")
            with self.subTest(path.name):
                self.check(html)
                self.assertEqual(said(written(html)), said(html))
                self.assertEqual(written(written(html)), written(html))

    @slow
    def test_a_viewer_s_page_is_written_as_if_it_were_read_anew(self) -> None:
        """The page is written from the events that the viewer was simulated on; the result is read here once more."""
        for path in sorted(TEST_DATA.glob("designs/*.html")):
            html = path.read_text(encoding="utf-8", errors="replace")
            for viewer in known_viewers().values():
                seen = seen_of(html, viewer, {})
                with self.subTest(path.name, viewer=viewer.name):
                    made = "".join(safe_page(seen, {}, TOKEN))
                    again = written(seen.html())
                    self.assertEqual(said(made), said(again))
                    self.assertEqual(tags(made), tags(again))

    def test_pictures_stand_once_and_elsewhere_by_name(self) -> None:
        address = f"data:image/png;base64,{'A' * 400}"
        own, other = "pribble-picture:7f-0;", "pribble-picture:80-0;"
        page = f'<img src="{own}"><p style="background:url({address})">a</p><img src="{other}">'
        chunks = list(safe_page(SeenPage(page, read_foreign_page(page), (), ()), {own: address}, TOKEN))
        self.assertEqual(chunks.count(address), 2)
        self.assertIn("data:,", chunks)

    def test_the_number_of_an_element_is_no_word_of_the_page(self) -> None:
        self.assertIn('<p data-pribble="3">', written("<p data-pribble='7f-3' data-pribble='7f-4'>a</p>"))
        for page in ("<p data-pribble='3'>a</p>", "<p data-pribble='80-3'>a</p>", "<p title='7f-3' data-pribble>a</p>"):
            self.assertNotIn("data-pribble", written(page))


def said(html: str) -> list[str]:
    """The words that a page says, by html5lib."""
    tree = html5lib.parse(html, namespaceHTMLElements=False)
    left = ("script", "style", "title", "noscript", "template", "option")
    return list(words(tree, left))


def words(node: object, left: tuple[str, ...]) -> Iterator[str]:
    if isinstance(node.tag, str) and node.tag not in left:  # type: ignore[attr-defined]
        yield from (node.text or "").split()  # type: ignore[attr-defined]
        for child in node:  # type: ignore[attr-defined]
            yield from words(child, left)
            yield from (child.tail or "").split()


def tags(html: str) -> list[str]:
    """The tags of a page but for those that every page has."""
    return [
        tag
        for tag in re.findall("<[^>]*>", html)
        if tag not in ("<head>", "</head>", "<option>", "</option>", "<p>", "</p>")
    ]


if __name__ == "__main__":
    unittest.main()
