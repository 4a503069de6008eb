"""What makes a message cheaper changes nothing: pages, texts, bodies and errors are those of the plain path."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from dataclasses import replace
from email import message_from_bytes, policy
from itertools import product
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import PribbleError, Template, TemplateFolder
from pribble.compiler.program import Optimisations
from pribble.demo import OFFICE
from pribble.pictures.picture_slots import EMBED
from tests.compiler import test_walker as walked
from tests.mime.mail import DATE
from tests.plaintext import saying
from tests.support import DEMO, generated, slow

# All of them, none, and each by itself.
WAYS = [Optimisations(*switches) for switches in product((True, False), repeat=3) if sum(switches) != 2]


def folders(path: Any = None) -> Iterator[tuple[Optimisations, TemplateFolder]]:
    """A template folder for each way to compile; the first is the usual one."""
    for way in WAYS:
        folder = TemplateFolder(path, locale="en_GB") if path else TemplateFolder.nowhere()
        folder.world = replace(folder.world, optimisations=way)
        yield way, folder


def made(template: Template, data: Any) -> list[Any]:
    """What a template makes of data: its forms and the decoded bodies of its message, or its error and all problems."""
    try:
        rendering = template.render(data)
        forms = [rendering.subject, rendering.preheader, rendering.html, rendering.text, rendering.fragment()]
        message = rendering.message(sender=OFFICE, to="ana@example.org", date=DATE, seed=b"1")
        parts = message_from_bytes(bytes(message), policy=policy.default).walk()
        # Soft line breaks stand elsewhere on the wire, where its form was made of pieces (RFC 2045 6.7).
        return [*forms, *[part.get_payload(decode=True) for part in parts if not part.is_multipart()]]
    except PribbleError as error:
        return [str(error), *map(str, template.problems(data))]


# What a cell may hold that is not as it looks: nothing, entities, spaces of all kinds, wide and long texts.
SAID = st.sampled_from(
    "| |Day|7|£1.50|−2|a & b|<i>|&amp;|two  spaces|\u00a0|a\u00a0b|one\ntwo|日本|\u00ad|e\u0301|1\u202f234,50|–|12 kg|5 kg|"
    "EUR 4|From me|-- |.|a word and a word and a word and a word and a word and a word and".split("|")
)
USUAL = st.sampled_from(["Day", "7", "£1.50", "a & b", "5 kg", "a\u00a0b", "6.5", "12.25"])


def ledgers(said: st.SearchStrategy[str]) -> st.SearchStrategy[dict[str, Any]]:
    entry = st.fixed_dictionaries(
        {"a": said, "b": said, "c": st.sampled_from([1, 25, -3]) | said, "more": st.booleans()}
    )
    return st.fixed_dictionaries(
        {
            "entries": st.lists(entry, max_size=4),
            "groups": st.lists(st.lists(entry, max_size=3), max_size=2),
            "total": said,
            "shown": st.booleans(),
        }
    )


@st.composite
def tables(draw: st.DrawFn) -> str:
    """A page with a table of data: with a head or without, rows of a loop, of a loop within a loop or of a choice, rows
    below them; alone, within another table or a list."""

    def pick(*these: Any) -> Any:
        return draw(st.sampled_from(these))

    values = [f"<td{style}>{{{{ e.{name} }}}}</td>" for style in ("", ' style="white-space:nowrap"') for name in "abc"]
    others = [
        "<td>{{ e.a }} × {{ e.b }}</td>",
        "<td>{{ e.a if e.more }}</td>",
        '<td rowspan="2">{{ e.a }}</td>',
        '<td colspan="2">{{ e.b }}</td>',
        "<td>as it is</td>",
        "<td><b>{{ e.a }}</b></td>",
        "<th>{{ e.b }}</th>",
    ]
    cells = pick(values, values + others)
    size = pick(1, 2, 3)
    head = pick("", "<tr>" + "<th>Head</th>" * size + "</tr>", "<thead><tr>" + "<td>Day</td>" * size + "</tr></thead>")
    entries, groups = (
        "{{ for e in entries: }}%s{{ :for }}",
        "{{ for g in groups: }}{{ for e in g: }}%s{{ :for }}{{ :for }}",
    )
    row = f"<tr>{''.join([pick(*cells) for _ in range(size)])}</tr>"
    loop = pick(
        entries % row,
        entries % f"\n{row}\n",
        entries % f"{{{{ let x = e.a }}}}{row}",
        entries % f"{{{{ if e.more: }}}}{row}{{{{ :if }}}}",
        entries % (row * 2),
        groups % row,
        f"{{{{ if shown: }}}}{entries % row}{{{{ :if }}}}",
        (entries % row).replace("{{ :for }}", "{{ :else: }}<tr><td>nothing</td></tr>{{ :for }}"),
    )
    totals = "".join(
        draw(
            st.lists(
                st.sampled_from(
                    [
                        f'<tr><td colspan="{max(1, size - 1)}">Total</td><td>{{{{ total }}}}</td></tr>',
                        "<tr>" + "<td>{{ total }}</td>" * size + "</tr>",
                        "<tr><td>{{ total }} in all</td></tr>",
                        "<tr><th>{{ absent? }}</th><td>7</td></tr>",
                        "<tr></tr>",
                    ]
                ),
                max_size=3,
            )
        )
    )
    below = pick("", totals, f"<tfoot>{totals}</tfoot>")
    caption = pick("", "", "<caption>All of it</caption>")
    table = f"<table{pick('', '', ' role=presentation')}>{caption}{head}{loop}{below}</table>"
    around: str = pick(
        "%s", "%s", "<p>Before</p>%s<p>After</p>", "<ul><li>One%s</li></ul>", "<table><tr><td>%s</td></tr></table>"
    )
    return around % table


_TEXTS = st.sampled_from(
    ["<p>one</p>", "\n", "\n<p>a=b</p>\n", "<p>ü</p>", " ", "<br>", "x", "\n\n", f"<p>{'long ' * 30}</p>"]
)
_MARKS = st.sampled_from(
    [
        "{{ a }}",
        "\n{{ b }}",
        "<p>{{ a }}, {{ n }}</p>",
        "{{ absent? }}",
        '<a href="{{ link }}">{{ b }}</a>',
        '<img src="pictures/logo.png" alt="">',
        '<img src="{{ picture }}" alt="{{ a }}">',
    ]
)
_BLOCKS = (
    "{{ if yes: }}%s{{ :if }}",
    "{{ if no: }}%s{{ :else: }}%s{{ :if }}",
    "{{ for x in several: }}%s{{ x }}{{ :for }}",
    "{{ for x in several: }}{{ x }}%s{{ :for }}",
    "{{ for x in nobody: }}%s{{ :else: }}%s{{ :for }}",
)
_PREHEADERS = [f"{{{{ preheader: }}}}{said}{{{{ :preheader }}}}" for said in ("{{ a }}", "Hello", "{{ absent? }}")]


def blocks(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    """Texts, marks and blocks with such in them, one after the other."""
    inside = st.tuples(st.sampled_from(_BLOCKS), inner, inner).map(lambda c: c[0] % c[1 : 1 + c[0].count("%s")])
    return st.lists(_TEXTS | _MARKS | inside, max_size=4).map("".join)


PAGES_OF_BLOCKS = st.tuples(
    st.sampled_from(["", *_PREHEADERS]),
    st.sampled_from(["", "<head><style>p { color: red }</style></head>", '<body style="color: red">']),
    st.recursive(blocks(st.just("")), blocks, max_leaves=6),
).map("".join)
_WORD = st.sampled_from(["", "a", "ü", "=", "a b", "\n", "£1", "From x", ".", "x" * 90, "ü" * 40, "  ", "\t"])


class OnTheWire(unittest.TestCase):
    """The body that was made of pieces says what the page says, whatever is in which block."""

    folder = TemplateFolder(DEMO, picture_base="https://skerrow.example/mail")

    @generated(150)
    @given(PAGES_OF_BLOCKS, _WORD, _WORD, st.lists(_WORD, max_size=3))
    def test_it_says_what_the_page_says(self, text: str, a: str, b: str, several: list[str]) -> None:
        data = {"a": a, "b": b, "n": 2, "link": "https://skerrow.example/x", "picture": "pictures/shore-power.png"}
        data |= {"yes": True, "no": False, "nobody": [], "several": several}
        template = Template.from_text(text, folder=self.folder)
        for embed in EMBED:
            rendering = template.render(data, embed=embed)
            raw = bytes(rendering.message(sender=OFFICE, to="ana@example.org"))
            (page,) = [p for p in message_from_bytes(raw).walk() if p.get_content_type() == "text/html"]
            said = page.get_payload(decode=True)
            assert isinstance(said, bytes)
            shown, meant = (one.replace("\r\n", "\n").rstrip("\n") for one in (said.decode(), str(rendering.html)))
            self.assertEqual(shown, meant, embed)
            if page["Content-Transfer-Encoding"] == "quoted-printable":
                self.assertLessEqual(max(map(len, str(page.get_payload()).splitlines())), 76)

    def test_pages_of_the_demo_are_in_one_order(self) -> None:
        """Else the test above would hold for a way that nobody goes."""
        ordered = {
            name
            for name in self.folder
            if (template := self.folder[name]._for(None, None)[1].wire_template) and template.order is not None
        }
        self.assertEqual(ordered, {"desk-copy", "gale-warning", "mooring-statement", "season-notice"})


class SameWithout(unittest.TestCase):
    def check(self, text: str, data: Any) -> None:
        results = []
        for way, folder in folders():
            try:
                results.append((way, made(Template.from_text(text, folder=folder), data)))
            except PribbleError as error:
                results.append((way, [str(error)]))
        for way, result in results[1:]:
            self.assertEqual(result, results[0][1], way)

    @generated(60)
    @given(saying.templates(), saying.DATUM)
    def test_pages(self, pair: saying.Pair, data: dict[str, Any]) -> None:
        self.check(pair[0], data)

    @generated(120)
    @given(tables(), ledgers(USUAL) | ledgers(SAID))
    def test_tables_of_data(self, text: str, data: dict[str, Any]) -> None:
        self.check(text, data)

    @generated(60)
    @given(walked.TEMPLATES, walked.DATA)
    def test_the_language(self, text: str, data: dict[str, Any]) -> None:
        self.check(text, data)

    @slow
    def test_the_demo(self) -> None:
        usual: dict[str, list[Any]] = {}
        for way, folder in folders(DEMO):
            for name in folder:
                with self.subTest(name, way=way):
                    result = made(folder[name], folder[name].samples[""])
                    self.assertEqual(result, usual.setdefault(name, result))

    def test_they_are_switched(self) -> None:
        """Each switch does change how a template is compiled."""
        compiled = {way: folder["mooring-statement"].variants.compiled("en_GB") for way, folder in folders(DEMO)}
        for way, one in compiled.items():
            self.assertEqual((one.reuses_html, one.wire_template is not None), (way.value_reuse, way.wire_form))
        usual, without = (len(compiled[Optimisations(on, False, False)].text.constants) for on in (True, False))
        self.assertNotEqual(usual, without)


if __name__ == "__main__":
    unittest.main()
