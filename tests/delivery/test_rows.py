"""Tables as they are written, and patterns that rows fill: no value moves a boundary or adds a recipient."""

from __future__ import annotations

import io
import json
import unittest
from email import message_from_string, policy
from email.utils import getaddresses
from pathlib import Path
from typing import Any

import pandas
from hypothesis import given
from hypothesis import strategies as some

from pribble import AddressError, DataError, Message, Template, TemplateError
from pribble.delivery.composing import address_source
from pribble.delivery.patterns import AddressPattern, TextPattern
from pribble.delivery.rows import Rows, read_rows, read_stream
from tests.support import Case, generated, large


class Tables(Case):
    def rows(self, content: str | bytes, name: str = "t.csv") -> Rows:
        octets = content.encode() if isinstance(content, str) else content
        found = read_rows(self.folder({name: octets}).path / name)
        self.addCleanup(found.__exit__)
        return found

    def test_what_is_read(self) -> None:
        expected = [{"a": "1", "b": "x, y"}, {"a": "2", "b": "two\nlines"}]
        records = [{"a": 1, "b": "x, y"}, {"a": 2, "b": "two\nlines"}]
        for name, content in (
            ("t.csv", 'a,b\n1,"x, y"\n2,"two\nlines"\n'),
            ("t.csv", 'a;b\r\n1;x, y\r\n2;"two\nlines"'),
            ("t.tsv", 'a\tb\n1\tx, y\n2\t"two\nlines"\n'),
            ("t.txt", 'a|b\n\n1|x, y\n2|"two\nlines"\n'),
            ("t.csv", b"\xef\xbb\xbf" + b'a,b\n1,"x, y"\n2,"two\nlines"\n'),
            ("t.csv", 'a,b\n1,"x, y"\n2,"two\nlines"\n'.encode("utf-16")),
        ):
            with self.subTest(content):
                self.assertEqual(list(self.rows(content, name)), expected)
        for name, content in (
            ("t.json", json.dumps(records)),
            ("t.jsonl", "\n".join(map(json.dumps, records)) + "\n\n"),
            ("t.ndjson", "\r\n".join(map(json.dumps, records))),
        ):
            with self.subTest(content):
                self.assertEqual(list(self.rows(content, name)), records)
        with read_rows(iter(records)) as rows:
            self.assertEqual((list(rows), list(rows), len(rows)), (records, records, 2))
        with read_rows(pandas.DataFrame(records)) as rows:
            self.assertEqual((list(rows), rows.notes), (records, ["it was loaded whole"]))
        for content in ('a,b\n1,"x, y"\n', json.dumps(records[:1])):
            with read_stream(io.BytesIO(content.encode()), "standard input") as rows:
                self.assertEqual(str(rows[0]["a"]), "1")

    def test_spreadsheets(self) -> None:
        """Written by pandas, with kinds of values; one has cells that nobody filled."""
        frame = pandas.DataFrame(
            {
                "Name": ["Ana", "Bö"],
                "fee": [12.5, None],
                "day": pandas.to_datetime(["2027-01-11", "2027-02-01"]),
                "n": [1, 2],
            }
        )
        folder = self.folder().path
        frame.to_excel(folder / "t.xlsx", index=False)
        frame.to_parquet(folder / "t.parquet")
        for name in ("t.xlsx", "t.parquet"):
            with self.subTest(name), read_rows(folder / name) as rows:
                first, second = rows
                self.assertEqual((first["Name"], first["fee"], first["n"], second["Name"]), ("Ana", 12.5, 1, "Bö"))
                template = Template.from_text(
                    '{{ day as date("d MMMM") }}, {{ n }}, {{ fee? else "no fee" }}', locale="en"
                )
                self.assertEqual(
                    [template.render(row).text.strip() for row in rows],
                    ["11 January, 1, 12.5", "1 February, 2, no fee"],
                )

    def test_columns_that_are_no_names_in_marks(self) -> None:
        rows = self.rows("Berth no.,E-mail,2027,if,a b,a-b,é\n1,2,3,4,5,6,7\n")
        self.assertEqual(
            rows.notes, ['the column "Berth no." is Berth_no in marks', 'the column "E-mail" is E_mail in marks']
        )
        (row,) = rows
        self.assertEqual(
            (row["Berth no."], row["Berth_no"], row["E_mail"], row["a b"], row["é"]), ("1", "1", "2", "5", "7")
        )
        self.assertEqual(len(row), 9)
        self.assertEqual(len(rows.columns), 7)
        many = large(100_000)
        self.assertEqual(len(self.rows(",".join(f"c-{n}" for n in range(many)) + "\n").columns), many)

    def test_values_stay_texts(self) -> None:
        (row,) = self.rows("a,b,c\n007,1e5,=1+1\n")
        self.assertEqual(row, {"a": "007", "b": "1e5", "c": "=1+1"})

    def test_what_was_found_is_told(self) -> None:
        self.assertEqual(self.rows("a,b\n1,2\n").notes, [])
        self.assertEqual(self.rows("a;b\n1;2\n").notes, ["its columns are divided by semicolons"])
        rows = self.rows("a,b\nfür,x\n".encode("windows-1252"))
        self.assertEqual((rows[0]["a"], rows.notes), ("für", ["it is no UTF-8, and was read as windows-1252"]))

    def test_rows_that_are_none(self) -> None:
        rows = self.rows('a,b\n1,2\n3\n"4\n5",6\n7,8,9\n10,11\n')
        self.assertEqual([row["a"] for row in rows], ["1", "4\n5", "10"])
        self.assertEqual(
            [str(one) for one in rows.problems],
            ["row 2 (line 3): 1 fields, where the head has 2", "row 4 (line 6): 3 fields, where the head has 2"],
        )
        self.assertEqual([rows.number(index) for index in range(3)], [1, 3, 5])
        rows = self.rows('{"a": 1}\n{"a": 1, "a": 2}\n[1]\n{"a": \n{"a": 3}\n', "t.jsonl")
        self.assertEqual([one.line for one in rows.problems], [2, 3, 4])
        self.assertEqual(list(rows), [{"a": 1}, {"a": 3}])

    def test_tables_that_are_none(self) -> None:
        for name, content, words in (
            ("t.csv", "", "is empty"),
            ("t.csv", "\n\n", "is empty"),
            ("t.csv", "a,a\n1,2\n", "two columns are called"),
            ("t.csv", "a,\n1,2\n", "a column has no name"),
            ("t.csv", 'a,b\n"1,2\n', "this is no CSV"),
            ("t.json", "", "is empty"),
            ("t.json", "[1, 2", "this is no JSON"),
            ("t.pdf", "x", "a table ends in"),
            ("t.xlsx", "x", r"this is no \.xlsx file|t.xlsx"),
        ):
            with self.subTest(name, content=content), self.assertRaisesRegex(DataError, words):
                self.rows(content, name)
        with self.assertRaises(FileNotFoundError):
            read_rows(Path("nowhere.csv"))

    def test_a_digest_tells_tables_apart(self) -> None:
        same = {self.rows("a,b\n1,2\n").digest, self.rows("a;b\r\n1;2\r\n").digest}
        self.assertEqual(len(same), 1)
        for other in ("a,b\n1,3\n", "a,b\n1,2\n1,2\n", "a,b\n12,\n"):
            self.assertNotIn(self.rows(other).digest, same)

    def test_long_tables(self) -> None:
        count = large(100_000)
        rows = self.rows("n,text\n" + "".join(f'{n},"{n} é\n"\n' for n in range(count)))
        self.assertEqual(len(rows), count)
        for index in (0, count // 2, count - 1):
            self.assertEqual(rows[index]["n"], str(index))


class Patterns(unittest.TestCase):
    def test_mailboxes(self) -> None:
        row = {"name": "Ana, <x@y>; Bo", "mail": "ana@example.org", "user": "bo", "none": None}
        for pattern, expected in (
            ("{{ mail }}", [("", "ana@example.org")]),
            ("{{ name }} <{{ mail }}>", [("Ana, <x@y>; Bo", "ana@example.org")]),
            ('"Bell, {{ user }}" <{{ mail }}>', [("Bell, bo", "ana@example.org")]),
            ('"a \\" b" <{{ mail }}>', [('a " b', "ana@example.org")]),
            (
                "{{ user }}@example.net, office@skerrow.example",
                [("", "bo@example.net"), ("", "office@skerrow.example")],
            ),
            ('"c d"@example.org , {{ mail }}', [("", '"c d"@example.org'), ("", "ana@example.org")]),
            ("{{ gone? }} <{{ mail }}>", [("", "ana@example.org")]),
            ("{{ mail }}, {{ gone? }}", [("", "ana@example.org")]),
            ("Desk <{{ gone? }}>", []),
        ):
            with self.subTest(pattern):
                found = AddressPattern(pattern, "--to").addresses(row)
                self.assertEqual([(one.name, one.addr) for one in found], expected)

    def test_patterns_that_are_none(self) -> None:
        for pattern in (
            "",
            ",",
            "a <b@x.example",
            "b@x.example>",
            "a <b@x.example> c",
            '"a <b@x.example>',
            "a; b",
            "a <<b>>",
            "{{ x",
            "(a) b@x.example",
        ):
            with self.subTest(pattern), self.assertRaises(TemplateError) as caught:
                AddressPattern(pattern, "--to")
            self.assertIn("--to:1:", str(caught.exception))

    def test_rows_that_do_not_fit(self) -> None:
        pattern = AddressPattern("{{ name }} <{{ mail }}>", "--to")
        with self.assertRaisesRegex(DataError, r'--to:1:1: no field "name" in the data \(did you mean "nam"\?\)'):
            pattern.addresses({"nam": "x", "mail": "a@x.example"})
        for mail in (
            "a@x.example, b@x.example",
            "x> <b@x.example",
            "a",
            "a@",
            "a@x.example\r\nBcc: b@x.example",
            "a b@x.example",
        ):
            with self.subTest(mail), self.assertRaises((AddressError, DataError)):
                pattern.addresses({"name": "x", "mail": mail})

    def test_a_column_holds_one_address(self) -> None:
        column = address_source("E-mail", ["E-mail", "Name"], "--to")
        self.assertEqual([one.addr for one in column.addresses({"E-mail": " a@x.example "})], ["a@x.example"])
        self.assertEqual(column.addresses({"E-mail": ""}), [])
        for value in ("Ana <a@x.example>", "a@x.example, b@x.example"):
            with self.assertRaises(AddressError):
                column.addresses({"E-mail": value})

    @generated(200)
    @given(
        some.text(max_size=30),
        some.text(max_size=30),
        some.sampled_from(["{{ n }} <{{ a }}>", '"x, {{ n }}" <{{ a }}>, z@x.example', "{{ a }}", "{{ a }}@x.example"]),
    )
    def test_no_value_adds_a_recipient(self, name: str, address: str, pattern: str) -> None:
        """The standard library reads the message back: as many recipients as the pattern has, and no more fields."""
        try:
            found = AddressPattern(pattern, "--to").addresses({"n": name, "a": address})
        except (AddressError, DataError):
            return
        self.assertLessEqual(len(found), pattern.count(",") - pattern.count("x, ") + 1)
        if found:
            raw = bytes(Message(sender="s@x.example", to=found, text="x"))
            read = message_from_string(raw.decode("utf-8", "replace"), policy=policy.default)
            self.assertEqual(len(getaddresses([str(read["To"])])), len(found))
            self.assertEqual(
                set(read.keys()) - {"From", "To", "Date", "Message-ID"},
                {"MIME-Version", "Content-Type", "Content-Transfer-Encoding"},
            )

    def test_texts(self) -> None:
        row: dict[str, Any] = {"year": 2026, "language": "de"}
        self.assertEqual(TextPattern("season {{ year }}", "--x").text(row), "season 2026")
        self.assertEqual(TextPattern("{{ language? else 'en_GB' }}", "--x").text({}), "en_GB")
        self.assertEqual(TextPattern("{{ gone? }}", "--x").text({}), "")


if __name__ == "__main__":
    unittest.main()
