"""``as table``: the columns of frames and records, their heads, and how cells are shown."""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

import pandas as pd
from html5lib import HTMLParser

from pribble import FieldError, Template
from tests.support import Case, html_of

XHTML = "{http://www.w3.org/1999/xhtml}"


def cells(mark: str, data: Any, **options: Any) -> list[list[str]]:
    """The rows of the table that a mark shows, as an HTML reader has them; a head over several columns once for each."""
    html = Template.from_text(f"{{{{ {mark} }}}}").render({"f": data}, **options).html
    tree = HTMLParser().parse(html)
    return [
        [cell.text or "" for cell in row for _ in range(int(cell.get("colspan", "1")))]
        for row in tree.iter(f"{XHTML}tr")
    ]


FRAME = pd.DataFrame(
    {"Item": ["rope", "oars"], "price": [1234.5, float("nan")], "new": [True, False], "n": [2, 2026]}, index=[0, 1]
)


class Tables(Case):
    def test_an_index_that_says_something_is_a_column(self) -> None:
        plain = FRAME[["Item"]].reset_index(drop=True)
        self.assertEqual(cells("f as table", plain), [["Item"], ["rope"], ["oars"]])
        for index, head, first in (
            (pd.Index(["a", "b"]), "", "a"),
            (pd.Index([7, 8], name="Pier"), "Pier", "7"),
            (pd.RangeIndex(2, name="No."), "No.", "0"),
            (pd.to_datetime(pd.Index(["2026-07-03", "2026-07-04"])), "", "Jul 3, 2026, 12:00:00\u202fAM"),
        ):
            with self.subTest(head=head, first=first):
                self.assertEqual(cells("f as table", plain.set_index(index))[:2], [[head, "Item"], [first, "rope"]])
        both = plain.set_index(pd.MultiIndex.from_tuples([("A", 1), ("A", 2)], names=["Pier", None]))
        self.assertEqual(cells("f as table", both), [["Pier", "", "Item"], ["A", "1", "rope"], ["A", "2", "oars"]])

    def test_columns_of_several_levels_have_as_many_rows_of_heads(self) -> None:
        names = [("2025", "Q1"), ("2025", "Q2"), ("2026", "Q1"), ("2026", "Q1")]
        frame = pd.DataFrame(
            [[1, 2, 3, 4]], columns=pd.MultiIndex.from_tuples(names), index=pd.Index(["x"], name="Pier")
        )
        self.assertEqual(
            cells("f as table", frame),
            [["", "2025", "2025", "2026", "2026"], ["Pier", "Q1", "Q2", "Q1", "Q1"], ["x", "1", "2", "3", "4"]],
        )
        html = html_of(Template.from_text("{{ f as table }}").render({"f": frame}))
        self.assertEqual((html.count('colspan="2"'), html.count("<th ")), (2, 3 + 5))
        self.assertEqual(cells("f as table(columns = [['2025', 'Q2'], 'Pier'])", frame)[-1], ["2", "x"])

    def test_cells_have_a_plain_form_in_the_locale_and_time_zone(self) -> None:
        record = {
            "day": date(2026, 7, 3),
            "moment": datetime(2026, 7, 3, 22, 30, tzinfo=UTC),
            "local": datetime(2026, 7, 3, 9),
            "time": time(18, 30),
            "yes": True,
            "no": False,
            "float": 0.1 + 0.2,
            "long": 1234.5678901,
            "exact": Decimal("2.50"),
            "year": 2026,
            "none": None,
            "text": "a < b",
        }
        shown = [cell.replace("\u202f", " ") for cell in cells("f as table", [record], timezone="Europe/Berlin")[1]]
        wanted = ["Jul 3, 2026", "Jul 4, 2026, 12:30:00 AM", "Jul 3, 2026, 9:00:00 AM", "6:30 PM", "✓", "–", "0.3"]
        self.assertEqual(shown, [*wanted, "1234.56789", "2.50", "2026", "", "a < b"])
        german = self.folder({"t.html": "{{ f as table }}"}, locale="de", timezone="Europe/Berlin")["t"]
        text = german.render({"f": [record]}).text
        for german_text in ("03.07.2026", "04.07.2026, 00:30:00", "18:30", "0,3", "1234,56789", "2,50", "2026"):
            self.assertIn(german_text, text)

    def test_columns_heads_and_formats_are_lists_side_by_side(self) -> None:
        mark = "f as table(columns = ['Item', 'price'], heads = ['Name', 'Cost'], formats = [none, 'money(\"EUR\")'])"
        self.assertEqual(cells(mark, FRAME), [["Name", "Cost"], ["rope", "€1,234.50"], ["oars", ""]])
        mark = "f as table(columns = ['n', 'new'], formats = ['round(-0) as digits(5)', 'json'])"
        self.assertEqual(cells(mark, FRAME)[1:], [["00002", "true"], ["02026", "false"]])
        template = Template.from_text("{{ f as table(columns = names, heads = heads) }}")
        html = html_of(template.render({"f": [{"a": 1, "b": 2}], "names": ["b"], "heads": ["B & C"]}))
        self.assertIn("B &amp; C", html)
        own = self.folder(
            {"t.html": "{{ f as table(formats = ['berth(\"x\") as upper']) }}"},
            formatters={"berth": lambda value, mark, locale: f"b{mark}{value}"},
        )["t"]
        self.assertIn("<td", html_of(own.render({"f": [{"a": 1}]})))
        self.assertIn(">BX1<", html_of(own.render({"f": [{"a": 1}]})))

    def test_errors_name_row_and_column(self) -> None:
        for mark, data, says in (
            (
                "f as table(columns = ['Item'], formats = ['money(\"EUR\")'])",
                FRAME,
                'row 1, column "Item": money takes',
            ),
            ("f as table", [{"a": 1}, {"a": [1]}], 'row 2, column "a": a list cannot be shown'),
            ("f as table", [{"a": 1}, {"a": {1}}], 'row 2, column "a": a value of type set'),
            ("f as table(formats = ['upper'])", [{"a": "x"}, {"a": 1}], 'row 2, column "a": upper takes a text'),
        ):
            template = Template.from_text(f"{{{{ {mark} }}}}")
            with self.subTest(mark), self.assertRaisesRegex(FieldError, says):
                template.render({"f": data})
