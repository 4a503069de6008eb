"""The scanner and the open elements, against html5lib as an independent reading of the same standard."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from typing import Any
from unittest import mock

import html5lib
from html5lib._tokenizer import HTMLTokenizer
from html5lib.constants import tokenTypes
from hypothesis import given
from hypothesis import strategies as st

from pribble import Template
from pribble.markup.contexts import MarkupError
from pribble.markup.doctype import QUIRKS, document_mode
from pribble.markup.elements import RAW_TEXT
from pribble.markup.events import Characters, Closed, Opened
from pribble.markup.page import read_page
from pribble.markup.references import decode_references
from pribble.markup.scanner import Cdata, Comment, Doctype, EndTag, StartTag, TextToken, announce_start_tag, tokens
from pribble.markup.tree import OpenElements
from tests.support import FEWER, TEST_DATA, generated

PAGES = TEST_DATA / "pages"


def scan(page: str) -> Iterator[Any]:
    """Our tokens of a page, its tags shown to the open elements in between."""
    elements = OpenElements(page=False)
    for token in tokens(page, elements):
        yield token
        if isinstance(token, StartTag):
            announce_start_tag(elements, token)
        elif isinstance(token, EndTag):
            elements.end(token.name)


def ours(page: str) -> list[tuple[Any, ...]]:
    """Our tokens in the oracle's terms; neighbouring text as one."""
    found: list[tuple[Any, ...]] = []
    for token in scan(page):
        match token:
            case StartTag():
                attributes: dict[str, str] = {}
                for a in token.attributes:
                    attributes.setdefault(a.name, decode_references(page[a.value_start : a.value_end], attribute=True))
                found.append(("start", token.name, tuple(attributes.items())))
            case EndTag():
                found.append(("end", token.name))
            case Comment(start=start, end=end):
                found += [("comment",)] if page[start:end] != "</>" else []
            case Doctype():
                found.append(("doctype",))
            case Cdata(start=start, end=end):
                found.append(("text", page[start + 9 : end].removesuffix("]]>")))
            case TextToken(start=start, end=end, element=element):
                text = page[start:end]
                found.append(("text", text if element in RAW_TEXT else decode_references(text)))
    return joined(found)


def theirs(page: str) -> list[tuple[Any, ...]]:
    """What the tokenizer of the oracle gives while its parser builds a tree, which decides how a page is cut."""
    given: list[tuple[Any, Any, Any]] = []
    tokens = HTMLTokenizer.__iter__

    def recording(tokenizer: Any) -> Iterator[Any]:
        for token in tokens(tokenizer):
            data = token.get("data")
            given.append((token["type"], token.get("name"), dict(data) if isinstance(data, dict) else data))
            yield token

    with mock.patch.object(HTMLTokenizer, "__iter__", recording):
        html5lib.HTMLParser().parse(page)
    found: list[tuple[Any, ...]] = []
    for kind, name, data in given:
        if kind == tokenTypes["StartTag"]:
            found.append(("start", name, tuple(data.items())))
        elif kind == tokenTypes["EndTag"]:
            found.append(("end", name))
        elif kind == tokenTypes["Comment"]:
            found.append(("comment",))
        elif kind == tokenTypes["Doctype"]:
            found.append(("doctype",))
        elif kind in (tokenTypes["Characters"], tokenTypes["SpaceCharacters"]):
            found.append(("text", data))
    return joined(found)


def joined(tokens: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    out: list[tuple[Any, ...]] = []
    for token in tokens:
        if token[0] == "text" and out and out[-1][0] == "text":
            out[-1] = ("text", out[-1][1] + token[1])
        elif token != ("text", ""):
            out.append(token)
    return out


PIECES = st.lists(
    st.sampled_from(
        [
            "<p>",
            "</p>",
            "<a href='x'>",
            "</a>",
            "<b",
            ">",
            "<",
            "</",
            "<!",
            "<!--",
            "-->",
            "--!>",
            "<!-->",
            "-",
            "=",
            '"',
            "'",
            "/",
            " ",
            "a",
            "x=y",
            "&amp;",
            "&copy",
            "&#65;",
            "&",
            ";",
            "<title>",
            "</title>",
            "<style>",
            "</style>",
            "<script>",
            "</script>",
            "<!-- <script>",
            "<svg>",
            "</svg>",
            "<textarea>",
            "</textarea >",
            "<?x",
            "]]>",
            "<br/>",
            "<li>",
            "<td>",
            "&not",
            "it;",
            "\n",
            "é",
            "<![CDATA[",
            "<!doctype html>",
            "</style",
            "</TITLE/>",
            "<foreignObject>",
            "</foreignObject>",
            "<desc>",
            "<math>",
            "<mi/>",
            "<g/>",
            "<font size=1>",
            "<font x>",
            "]]",
        ]
    ),
    max_size=25,
).map("".join)


class Scanner(unittest.TestCase):
    maxDiff = None

    def test_a_nasty_page(self) -> None:
        for path in PAGES.glob("*.html"):
            page = path.read_text(encoding="utf-8")
            with self.subTest(path.name):
                self.assertEqual(ours(page), theirs(page))

    @generated(1500)
    @given(PIECES)
    def test_generated_pages(self, page: str) -> None:
        self.assertEqual(ours(page), theirs(page))

    @generated(300)
    @given(PIECES)
    def test_tokens_cover_the_text(self, page: str) -> None:
        position = 0
        for token in scan(page):
            self.assertEqual(token.start, position)
            position = token.end
        self.assertEqual(position, len(page))


# What stands within each other so that no parser has to move anything; "?" where the end tag is left out.
ELEMENTS = st.recursive(
    st.sampled_from(
        [
            "x",
            "<br>",
            "<img>",
            "<b>y</b>",
            " ",
            "<select><option>x<option>y</select>",
            "<svg><g/><desc><p>z</p></desc></svg>",
        ]
    ),
    lambda inner: st.tuples(
        st.sampled_from(
            "div;ul li;ul li?;ol li?;p;p?;table tr td;table tr? td?;blockquote;h1;section;dl dd?;span;table td?;"
            "table tr th? tr td;table tbody? tr? td;table caption? tr? td?;table colgroup? tr td;table col tr td;"
            "center;object;button;table thead? tr? td? tfoot? td".split(";")
        ),
        st.lists(inner, max_size=3),
    ).map(lambda made: wrapped(made[0], "".join(made[1]))),
    max_leaves=12,
)
DOCTYPES = st.sampled_from(
    ["", "<!doctype html>", '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "x">', "<!doctype x>",
     '<!doctype html public "-//W3C//DTD HTML 4.01 Transitional//EN">', "<!doctype html system 'about:legacy-compat'>",
     '<!doctype html public "-//W3C//DTD HTML 3.2//EN">']
)  # fmt: skip
HEADS = st.sampled_from(
    ["", "<title>t</title>", "<html><head><meta x></head>", "<head><style>a</style><body>", "<html lang=x><body y>",
     "<html>\n<head>\n<title>q</title>\n</head>\n<body>", "<meta a><link b>"]
)  # fmt: skip


def wrapped(path: str, content: str) -> str:
    """`content` in elements; those marked with ? go without their end tags."""
    for name in reversed(path.split()):
        if name == "col":
            content = f"<col>{content}"
        else:
            content = f"<{name.rstrip('?')}>{content}" + ("" if name.endswith("?") else f"</{name}>")
    return content


def tree_of(page: str) -> list[Any]:
    """The elements our reader sees, each with its text and elements."""
    root: list[Any] = []
    stack = [root]
    for event in read_page(page, lambda offset: "literal").events:
        match event:
            case Opened(tag=tag, void=void):
                element: list[Any] = [tag.name]
                stack[-1].append(element)
                if not void:
                    stack.append(element)
            case Closed():
                stack.pop()
            case Characters(start=start, end=end, raw="cdata"):
                stack[-1].append(page[start:end].removesuffix("]]>"))
            case Characters(start=start, end=end, raw=raw):
                text = page[start:end] if raw in RAW_TEXT else decode_references(page[start:end])
                if len(stack[-1]) == 1 and stack[-1][0] in ("pre", "listing", "textarea"):
                    text = text.removeprefix("\n")  # 13.2.6.4.7: a line feed at their beginning is not read
                stack[-1] += [text] if text else []
    return root


def tree_of_oracle(page: str) -> list[Any]:
    def children(element: Any) -> list[Any]:
        made: list[Any] = [element.text] if element.text else []
        for child in element:
            made += [[child.tag.rpartition("}")[2].lower(), *children(child)]] if isinstance(child.tag, str) else []
            made += [child.tail] if child.tail else []
        return made

    return [["html", *children(html5lib.parse(page, treebuilder="etree", namespaceHTMLElements=False))]]


TAGS = (
    "<a>;</a>;<b>;</b>;<p>;</p>;<li>;</li>;<td>;</td>;<tr>;</tr>;<table>;</table>;<form>;</form>;<button>;</button>;x;<ul>;"
    "</ul>;<h1>;</h1>;<svg>;</svg>;<desc>;</desc>;<caption>;</caption>;<tbody>;</tbody>;<br>;<div>;</div>;<dd>;<dt>;<option>;"
    "<title>t</title>;<style>s</style>;<head>;</head>;<body>;</body>;<html>;</html>;<!doctype html>;<col>;<nobr>;</nobr>;"
    "<span>;</span>;<object>;</object>;&amp;; "
).split(";")


class Tree(unittest.TestCase):
    maxDiff = None

    @generated(700)
    @given(DOCTYPES, HEADS, st.lists(ELEMENTS, min_size=1, max_size=4).map("".join))
    def test_open_elements(self, doctype: str, head: str, page: str) -> None:
        page = f"{doctype}{head}<i>{page}"
        if "<p" in page and "</p>" in page and stray_paragraph_end(page):
            return  # </p> without <p> makes an empty paragraph, which no reader sees
        # White space around head and body, and directly in tables, is nobody's.
        self.assertEqual(bare(flat(tree_of(page))), bare(flat(tree_of_oracle(page))))

    def test_what_is_not_imitated_is_told(self) -> None:
        clean = 0

        @generated(5000)
        @given(st.one_of(st.lists(st.sampled_from(TAGS), max_size=6).map("".join), PIECES))
        def check(page: str) -> None:
            nonlocal clean
            try:
                notes = read_page(page, lambda offset: "literal").findings
            except MarkupError:
                return  # a tag that is cut off
            if not notes:
                clean += 1
                self.assertEqual(bare(flat(tree_of(page))), bare(flat(tree_of_oracle(page))))

        check()
        self.assertTrue(clean > 200 or FEWER, clean)

    def test_findings(self) -> None:
        for page, rules in FINDINGS:
            with self.subTest(page):
                self.assertEqual([finding.rule for finding in Template.from_text(page).findings], rules)
        said = str(Template.from_text("<p>a\n<table>b</table>").findings[0])
        self.assertIn(":2:8: text in a table but in no cell (directly in <table>)", said)
        self.assertIn("\n    <table>b</table>\n           ^", said)

    def test_document_modes(self) -> None:
        for doctype in [*DOCTYPE_CASES, *(f'<!doctype html public "{name}x">' for name in QUIRKS)]:
            parser = html5lib.HTMLParser()
            parser.parse(doctype)
            with self.subTest(doctype):
                self.assertEqual(document_mode(doctype), parser.compatMode.replace(" ", "-"))


FINDINGS = [
    ("<p>a<ul><li>b<li>c</ul><table><tr><td>d</table>", []),
    ("<b><i>x</b></i>", ["page.unclosed", "page.stray-end-tag"]),
    ("<b><p>x</b>", ["page.unclosed"]),
    ("<h1>a<h2>b</h2>", ["page.unclosed"]),
    ("<p><div>x</div></p>", ["page.stray-end-tag"]),
    ("<table>x<tr><div>y</div></table>", ["page.outside-cells", "page.outside-cells"]),
    ("<td>x", ["page.outside-table"]),
    ("<head></head><style></style><body>", ["page.after-head"]),
    ("<p>x<body>", ["page.second-tag"]),
    ("<a><b><a>x</a></b></a>", ["page.nested"]),
    ("<form><table><tr><td><form></form></table></form>", ["page.nested"]),
    ("<a><table><tr><td><a>x</a></table></a>", []),
    ("<!--[if mso]><table><tr><td><![endif]-->x<!--[if mso]></td></tr></table><![endif]-->", []),
]
DOCTYPE_CASES = [
    "<!doctype html>", "<!DOCTYPE HTML >", "<!doctype>", "<!doctype xhtml>", "<!doctype html x>",
    "<!doctype html public>", '<!doctype html public "">', "<!doctype html system>",
    '<!doctype html system "http://www.ibm.com/data/dtd/v11/ibmxhtml1-transitional.dtd">',
    '<!doctype html public "-//W3C//DTD HTML 4.01//EN">', "<!doctype html public '-//W3C//DTD HTML 4.01//EN' 'x'>",
    '<!doctype html public "-//W3C//DTD HTML 4.01 Transitional//EN">',
    '<!doctype html public "-//W3C//DTD HTML 4.01 Transitional//EN" "http://www.w3.org/TR/html4/loose.dtd">',
    '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "http://www.w3.org/TR/xhtml1/DTD/x.dtd">',
    '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Strict//EN" "x">', '<!doctype html public "html">',
]  # fmt: skip


def stray_paragraph_end(page: str) -> bool:
    closed = [e for e in read_page(page, lambda offset: "literal").events if isinstance(e, Closed)]
    return page.count("</p>") > sum(e.name == "p" and not e.implied for e in closed)


def flat(tree: list[Any]) -> list[Any]:
    out: list[Any] = []
    for item in tree:
        if isinstance(item, str) and out and isinstance(out[-1], str):
            out[-1] += item
        else:
            out.append([item[0], *flat(item[1:])] if isinstance(item, list) else item)
    return out


_NO_SPACE = {"html", "head", "body", "table", "tbody", "thead", "tfoot", "tr", "colgroup"}


def bare(tree: list[Any], name: str = "html") -> list[Any]:
    """A tree without the white space that stands in elements that show none."""
    made = [[item[0], *bare(item[1:], item[0])] if isinstance(item, list) else item for item in tree]
    if name == "body" and made and isinstance(made[0], str):
        made[0] = made[0].lstrip("\t\n\f\r ")
    return [item for item in made if name not in _NO_SPACE or not isinstance(item, str) or item.strip()]


if __name__ == "__main__":
    unittest.main()
