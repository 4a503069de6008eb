"""What a user reads when something is wrong: the place, what is wrong, what would be right."""

from __future__ import annotations

import contextlib
import json
import re
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import (
    Address,
    AddressError,
    DataError,
    HeaderError,
    Message,
    Picture,
    PictureError,
    PribbleError,
    Template,
)
from pribble.errors import Source
from pribble.values.reading import read_json
from tests.support import Case, generated

# (template, what the first line says after "t.html:LINE:COLUMN: "; the column is part of it)
TEMPLATE_ERRORS = [
    ("{{ if a }}", '1:4: "if" opens no block without a colon (write {{ if a: }})'),
    ("{{ for x in y }}", '1:4: "for" opens no block without a colon (write {{ for x in y: }})'),
    ("{{ if a: }}x", '1:1: the block "if" is not closed (write {{ :if }} where it ends)'),
    ("x{{ :if }}", '1:2: "if" is closed but was not opened'),
    ("{{ if a: }}{{ :for }}", '1:12: "for" is closed where "if" is open (write {{ :if }} first)'),
    ("{{ if a: }}{{ :else }}{{ :if }}", '1:12: "else" needs a colon on both sides (write {{ :else: }})'),
    ("{{ if a: }}{{ :else if b: }}", '1:16: "else if" is one word (write {{ :elif …: }})'),
    ("{{ if a: }}{{ :else: }}{{ :else: }}{{ :if }}", '1:24: "else" after "else"'),
    ("{{ :else: }}", '1:1: "else" stands in no "if"'),
    ("a {{ name", "1:3: a mark is not closed"),
    ("{{ a {{ b }}", "1:1: a mark is not closed"),
    ("{{ 'a }}", "1:4: a text in a mark is not closed"),
    ("{{{ a }}}", "1:1: a mark has two braces"),
    ("{{ }}", "1:1: an empty mark"),
    ("{{ a | upper }}", '1:6: "|" where the end of the mark should stand'),
    ("{{ if a = b: }}{{ :if }}", '1:9: "=" where ":" should stand (== compares)'),
    ("{{ a ? b : c }}", '1:8: "b" where the mark should end'),
    ("{{ a && b }}", '1:6: "&&" where the end of the mark should stand'),
    ("{{ !a }}", '1:4: "!" opens nothing'),
    ("{{ a.upper() }}", '1:11: "(" where the end of the mark should stand'),
    ("{{ endif }}", '1:4: "endif" is no word of this language (write {{ :if }})'),
    ("{{ /if }}", "1:4: a slash closes nothing (write {{ :if }})"),
    ("{{ #if a }}", '1:4: "#" opens nothing'),
    ("{{ iff a: }}{{ :if }}", '1:4: "iff" is no word of this language'),
    ("{{ IF a: }}{{ :if }}", '1:4: "IF" is no word of this language'),
    ("{{ fro i in xs: }}", '1:4: "fro" is no word of this language'),
    ("{{ if a: }}{{ :elseif b: }}", '1:16: "elseif" is no word of this language (did you mean {{ :elif b: }}?)'),
    ("{{ if a: }}{{ :esle: }}", '1:16: "esle" is no word of this language (did you mean {{ :else: }}?)'),
    ("{{ if a: }}{{ else if b: }}", '1:15: "else if" is one word here (write {{ :elif b: }})'),
    ("{{ if a: }}{{ else: }}", '1:15: "else" needs a colon before it too (write {{ :else: }})'),
    ("{{ if: a }}", '1:4: "if" opens no block with its colon there (write {{ if a: }})'),
    ("{{ unless a: }}", '1:4: "unless" is no word of this language (write {{ if not a: }})'),
    ('{{ include "p.html" }}', '1:4: "include" is no word of this language (write {{ put "p.html" }})'),
    ("{{ if a: }}{{ elseif b: }}", '1:15: "elseif" is no word of this language (write {{ :elif b: }})'),
    ("{{ for x in y: }}{{ end for }}", '1:21: "end" is no word of this language (write {{ :for }})'),
    ("{{ for x in y: }}{{ :foreach }}", '1:22: "foreach" is no word of this language (did you mean {{ :for }}?)'),
    ("{{ subjct: }}x", '1:4: "subjct" is no word of this language'),
    ("{{ for(i in items): }}", '1:7: "(" where a name should stand (write {{ for i in items: }})'),
    ("{{ a as shorten 5 }}", '1:17: "5" where the end of the mark should stand'),
    ("{{ put p.html }}", '1:8: "p" where the part\'s file name should stand'),
    ("{{ if a is none: }}", '1:9: "is" where ":" should stand'),
    ("{{- a -}}", "1:3: a mark has no strokes inside its braces"),
    ("{{ for items: }}", '1:13: ":" where "in" should stand (write {{ for item in items: }})'),
    ("{{ for i of items: }}", '1:10: "of" where "in" should stand (write {{ for item in items: }})'),
    ("{{ a[0:2] }}", '1:7: ":" where "]" should stand'),
    ("<style>p{{color:red}}</style>", '1:16: ":" behind "color" means nothing here'),
    ("{{ First Name }}", '1:10: "Name" where the end of the mark should stand'),
    ("{{ “a” }}", "1:4: a typographic quote in a mark"),
    ("{{ gu<b>est</b> }}", "1:6: a mark is cut up by tags (write {{ guest }})"),
    ('{{ a else b as money("EUR") }}', '1:16: it is not clear what "as" applies to'),
    ("{{ a < b < c }}", "1:10: comparisons do not chain"),
    ("{{ 1e9999999 }}", '1:4: "1e9999999" is neither a number nor a name'),
    ("{{ a as uper }}", '1:9: there is no formatter "uper" (did you mean "upper"?)'),
    ("{{ a as money }}", "1:9: money: missing a required argument: 'currency'"),
    ("{{ let a = 1 }}{{ let a = 2 }}", '1:23: "a" stands for something already'),
    ("{{ subject: }}a{{ :subject }}{{ subject: }}b{{ :subject }}", '1:30: "subject" stands twice'),
    ("{{ if a: }}{{ subject: }}b{{ :subject }}{{ :if }}", '1:12: "subject" stands in no block'),
    ("{{ for x at p in y: }}{{ p }}{{ :for }}", '1:26: "p" is a place in a loop and no value'),
    (
        "{{ for x at p in y: }}{{ p.nmber }}{{ :for }}",
        '1:28: a place in a loop has no "nmber" (did you mean "number"?)',
    ),
    ("{{ slot content }}", "1:1: a slot stands in a layout or part only"),
    ('{{ put "no.html" }}', '1:8: there is no file "no.html" (did you mean "t.html"?)'),
    ('{{ put "../../etc/passwd" }}', '1:8: "../../etc/passwd" lies outside the template folder'),
    ('{{ put "t.html" }}', "1:8: a part puts itself"),
    ('{{ layout "t2.html" }}', '1:11: there is no file "t2.html" (did you mean "t.html"?)'),
    ('<img src="a\0.png">', '1:11: "a\ufffd.png" is the name of no picture'),
    ('{{ put "a\0" }}', '1:8: "a\ufffd" is the name of no file'),
    ("<p>\n<img src=pics/x.png>", '2:10: there is no picture "pics/x.png"'),
    ('<img src="../../../etc/x.png">', '1:11: the picture "../../../etc/x.png" lies outside the template folder'),
    ("{{ a or b }}", "1:6: this is true or false, which is not shown as it is"),
    ("{{ (" + "(" * 300, "1:"),
    ("{{ " + "-" * 300 + "1 }}", "1:104: an expression of more than 100 operations"),
    # Blocks and elements; where a mark may not stand at all, data/places.toml has.
    ("{{ if a: }}<div>{{ :if }}", "1:12: <div> is opened in this block and not closed in it"),
    ("<div>{{ if a: }}</div>{{ :if }}", "1:17: </div> closes what this block did not open"),
    ("<p>{{ if a: }}<div>x</div>{{ :if }}", "1:15: <div> closes <p>, which this block did not open"),
    ('<p title="x>{{ a }}', "1:1: a tag is not closed"),
]

FIELD_ERRORS = [
    (
        "<p>Dear {{ skiper.name }},</p>",
        {"skipper": {"name": "Ana"}},
        '1:12: no field "skiper" in the data (did you mean "skipper"?)',
    ),
    ("{{ a.b }}", {"a": {"c": 1}}, '1:6: no field "b" in a (there is "c")'),
    ("{{ a.b }}", {"a": "text"}, '1:6: a is a text and has no field "b"'),
    ("{{ a.b }}", {"a": None}, '1:6: a is none and has no field "b" (write a?.b if it may be missing)'),
    ("{{ a.b }}", {"a": [1]}, '1:6: a is a list and has no field "b"'),
    ("{{ a[5] }}", {"a": [1]}, "1:6: a has 1 item, so no [5]"),
    ("{{ a }}", {"a": None}, "1:4: none cannot be shown"),
    ("<p>{{ subject: }} {{ a }}{{ :subject }}", {"a": "\n"}, "1:4: the subject is empty"),
    ("<p>x<title>{{ a? }}</title>", {}, "1:5: the subject is empty"),
    ("{{ a }}", {"a": True}, "1:4: a flag cannot be shown as it is"),
    ("{{ a }}", {"a": [1]}, "1:4: a list cannot be shown as it is"),
    ("{{ a }}", {"a": {}}, "1:4: a record cannot be shown as it is (name one of its fields)"),
    ("{{ a }}", {"a": float("nan")}, "1:4: none cannot be shown"),
    ("{{ a }}", {"a": float("inf")}, "1:4: Infinity is not a number that can be shown"),
    ("{{ a / 3 }}", {"a": 1}, "1:6: a number with 40 decimals is shown"),
    ("{{ a / b }}", {"a": 1, "b": 0}, "1:6: division by zero"),
    ("{{ a + b }}", {"a": 1, "b": "1"}, "1:6: a text cannot be added to a number"),
    ("{{ a * 2 }}", {"a": "x"}, "1:6: a text cannot be multiplied by a number"),
    ("{{ a? + 1 }}", {}, "1:7: nothing cannot be computed with"),
    ("{{ 'x' if a == b }}", {"a": 1, "b": "1"}, "1:13: a number is compared with a text"),
    ("{{ 'x' if a < b }}", {"a": 1, "b": None}, "1:13: a number and none have no order"),
    ("{{ for x in a: }}{{ :for }}", {"a": "text"}, "1:13: a is a text, not a list"),
    ("{{ for x in a: }}{{ :for }}", {"a": {}}, "1:13: a is a record; a loop over one takes two names"),
    ('{{ a as money("EUR") }}', {"a": "many"}, '1:9: money takes a number, and "many" is none'),
    ('{{ a as money("XYZ") }}', {"a": 1}, '1:9: "XYZ" is no currency'),
    ("{{ a as date }}", {"a": "tomorrow"}, '1:9: date takes a day, and "tomorrow" is none'),
    ('<a href="{{ a }}">', {"a": " java\tscript:alert(1)"}, "1:13: the control character U+0009 at position 4"),
    ('<a href="{{ a }}">', {"a": "javascript:alert(1)"}, "1:13: an address may not begin with javascript:"),
    ('<a href="{{ a }}">', {"a": "//evil.example"}, '1:13: "//evil.example" is no absolute address'),
    ('<a href="{{ a }}">', {"a": "tel:lots"}, '1:13: "lots" is no telephone number'),
    ('<a href="https://x.example/{{ a }}/">', {"a": ".."}, '1:31: ".." cannot be a segment of a path'),
    ("{{ a }}", {"a": "\ud800"}, "1:4: a lone surrogate U+D800 at position 0 is no character"),
    ("{{ a }}", {"a": object()}, "1:4: a value of type object is none that a template can use"),
    ("{{ a }}", {"a": 10**40}, "1:4: a number beyond ten to the power of ±30"),
    ('<img src="{{ a }}">', {"a": "../x.png"}, '1:14: "../x.png" may not name a picture'),
    ('<img src="p-{{ a }}.png">', {"a": "x/y"}, '1:11: "x/y" may not complete the name of a picture'),
    ('<img src="{{ a }}">', {"a": "no.png"}, '1:14: there is no picture "no.png"'),
]


class Errors(Case):
    def test_what_is_wrong_with_a_template(self) -> None:
        for template, expected in TEMPLATE_ERRORS:
            with self.subTest(template):
                self.assertTrue(self.complaint(template).startswith(f"t.html:{expected}"), self.complaint(template))

    def test_what_is_wrong_with_the_data(self) -> None:
        for template, data, expected in FIELD_ERRORS:
            with self.subTest(template):
                said = self.complaint(template, data)
                self.assertTrue(said.startswith(f"t.html:{expected}"), said)

    def test_the_whole_form(self) -> None:
        said = self.complaint("<p>\n    Dear {{ skiper.name }},\n", {"skipper": {}})
        self.assertEqual(
            said,
            't.html:2:13: no field "skiper" in the data (did you mean "skipper"?)\n'
            "    Dear {{ skiper.name }},\n"
            "            ^^^^^^",
        )

    def test_both_places_of_a_block(self) -> None:
        said = self.complaint("{{ if a: }}\n<p>x\n{{ for x in y: }}\n{{ :if }}")
        self.assertEqual(
            said.splitlines()[3:],
            ["  the open block begins at t.html:3:1", "    {{ for x in y: }}", "    ^^^^^^^^^^^^^^^^^"],
        )

    def test_the_way_to_a_part(self) -> None:
        said = self.complaint(
            '{{ layout "l.html" }}\n{{ put "a.html" }}',
            files={"l.html": "<p>{{ slot content }}", "a.html": 'x\n{{ put "b.html" }}', "b.html": "{{ oops }}"},
        )
        self.assertEqual(
            [line for line in said.splitlines() if not line.startswith("    ")],
            ['b.html:1:4: no field "oops" in the data', "  put at a.html:2:1", "  put at t.html:2:1"],
        )

    def test_carets_stand_under_wide_characters(self) -> None:
        self.assertEqual(self.complaint("日本 {{ 港 }}").splitlines()[1:], ["    日本 {{ 港 }}", "            ^^"])

    def test_a_long_line_is_shown_around_the_place(self) -> None:
        line, carets = self.complaint("x" * 5000 + "{{ a }}" + "y" * 5000).splitlines()[1:]
        self.assertLess(len(line), 120)
        self.assertEqual(line[carets.index("^")], "a")

    def test_errors_are_whole_and_have_no_cause(self) -> None:
        with self.assertRaises(PribbleError) as caught:
            Template.from_text("{{ a }}").render({})
        self.assertIsNone(caught.exception.__cause__)
        self.assertTrue(caught.exception.__suppress_context__)


MESSAGE_ERRORS: list[tuple[dict[str, Any], type[Exception], str]] = [
    ({"sender": "a@x.example\r\nBcc: b@x.example"}, HeaderError, "From: a carriage return (U+000D) at position 11"),
    ({"to": "a@x.example\nX: y"}, HeaderError, "To: a line feed (U+000A) at position 11"),
    ({"to": [("Ana\0", "a@x.example")]}, HeaderError, "To: NUL (U+0000) at position 3"),
    ({"subject": "a\nb"}, HeaderError, "Subject: a line feed (U+000A) at position 1"),
    ({"subject": "a\u2028b"}, HeaderError, "Subject: a character (U+2028) at position 1"),
    ({"subject": "\ud800"}, HeaderError, "Subject: a character (U+D800) at position 0"),
    ({"headers": {"X-A": "a\rb"}}, HeaderError, "X-A: a carriage return (U+000D) at position 1"),
    ({"headers": {"X A": "a"}}, HeaderError, '"X A" is no name of a header field'),
    ({"headers": {"Bcc": "a"}}, HeaderError, "Bcc: this field is not set by headers"),
    ({"headers": {"content-type": "a"}}, HeaderError, "content-type: this field is not set by headers"),
    ({"reply_to": "a@x.example\x7f"}, HeaderError, "Reply-To: a control character (U+007F) at position 11"),
    ({"message_id": "x"}, HeaderError, 'Message-ID: "x" is no message id'),
    ({"references": ["<a@b> <c@d>"]}, HeaderError, 'References: "<a@b> <c@d>" is no message id'),
    ({"envelope_sender": "a@x.example\n"}, HeaderError, "the envelope's sender: a line feed"),
    ({"to": "ana"}, AddressError, 'To: "ana" is no address'),
    ({"to": "ana@"}, AddressError, "To: a domain is missing at position 4"),
    ({"to": "@x.example"}, AddressError, "To: a local part is missing at position 0"),
    ({"to": "a..b@x.example"}, AddressError, "To: a dot too many in the local part at position 2"),
    ({"to": "a b@x.example"}, AddressError, "To: "),
    ({"to": "a@x.example, b@x.example"}, AddressError, 'To: "a@x.example, b@x.example" holds 2 addresses'),
    ({"to": "Bell, Ana <a@x.example>"}, AddressError, 'To: "Bell" is no address at position 0'),
    ({"to": "a@-x-.example"}, AddressError, 'To: "-x-.example" is no domain'),
    ({"to": "a@b_c.example"}, AddressError, 'To: "b_c.example" is no domain'),
    ({"to": f"{'a' * 65}@x.example"}, AddressError, "To: a local part of more than 64 octets"),
    ({"to": "Ana <a@x.example"}, AddressError, "To: the address is not closed"),
    ({"to": '"Ana <a@x.example>'}, AddressError, "To: a quoted string is not closed"),
    ({"to": 5}, TypeError, "To: recipients are a string, an Address, a Group or a list, not int"),
    ({"to": [5]}, TypeError, "To: a mailbox is a string, an Address or a pair (name, address) of strings"),
    (
        {"sender": ["a@x.example", "b@x.example"]},
        TypeError,
        "sender is a string, an Address or a pair (name, address), not a list of str",
    ),
]


# (template, the hint of its error) with the data of `test_words_that_are_no_field`
HINTS = [
    ("{{ if a: }}{{ esle }}{{ :if }}", "{{ :else: }} is written with colons"),
    ("{{ if a: }}{{ end }}{{ :if }}", "a block ends with its word: {{ :if }}, {{ :for }}"),
    ("{{ for x in xs: }}{{ ', ' if not last }}{{ :for }}", "{{ for line at place in lines: }}{{ place.last }}"),
    ("{{ for x in xs: }}{{ x.first }}{{ :for }}", "{{ for line at place in lines: }}{{ place.last }}"),
    ("{{ loop.index }}", "{{ for line at place in lines: }}{{ place.last }}"),
    ("{{ first-name }}", 'a field whose name is no single word is written all["first-name"]'),
    ("{{ HomePort }}", 'a field whose name is no single word is written all["Home Port"]'),
    ("{{ user.last-name }}", 'a field whose name is no single word is written user["last-name"]'),
    ("{{ First Name }}", 'a field whose name is more than a word is written all["First Name"]'),
    ("{{ fro i in xs: }}", 'did you mean "for"? Write {{ for i in xs: }}'),
    ("{{ a[0:2] }}", "the first of a list are: lines as first(2), the last ones: lines as last(2)"),
    ("<style>p{{color:red}}</style>", "where two braces meet in a style sheet, put a space between them"),
    ("{{ subjct: }}x", 'did you mean "subject"? Write {{ subject: }}'),
    ("{{ a ?? 'x' }}", 'what is shown instead is written {{ name? else "you" }}'),
    ("{{ if a == null: }}{{ :if }}", "whether a value is there: {{ if note?: }}"),
    ("{{ a as money(EUR) }}", 'a text stands in quotes: {{ total as money("EUR") }}'),
    ("{{ xs.length }}", "how many there are: xs as count"),
    ("{{ a as shorten 5 }}", "write {{ a as shorten(5) }}"),
    ("{{ put p.html }}", 'a file name stands in quotes: "p.html"'),
    ("{{ usre }}", 'did you mean "user"?'),
]
# (template, what is told: the stretch, and what to write)
STRAYS = [
    ("<p>[[ name ]]", "[[ name ]]", "write {{ name }}; {{ '[[ name ]]' }} shows it as it is"),
    ("<p>{% if paid %}", "{% if paid %}", "a block is written {{ if paid: }} … {{ :if }}"),
    ("<p>[% name %]", "[% name %]", "write {{ name }}"),
    ("<p><% name %>", "<% name %>", "write {{ name }}"),
    ("<p>&lt;%= name %&gt;", "&lt;%= name %&gt;", "write {{ name }}"),
    ("<p>${user.name}", "${user.name}", "write {{ user.name }}"),
    ("<p>#{name}", "#{name}", "write {{ name }}"),
    ("<p>{#if paid}", "{#if paid}", "a block is written {{ if paid: }} … {{ :if }}"),
    ("<p>*|NAME|*", "*|NAME|*", "write {{ NAME }}"),
    ("<p>%FIRST_NAME%,", "%FIRST_NAME%", "write {{ FIRST_NAME }}"),
    ("<p>&lt;&lt;name&gt;&gt;", "&lt;&lt;name&gt;&gt;", "write {{ name }}"),
    ("<p>Dear {name},", "{name}", "write {{ name }}"),
    ("<p>Dear { name }},", "{ name }}", "write {{ name }}"),
    ("<p>{{ a }} }}", "}}", "write {{ where the mark begins"),
    ('<a href="https://x.example/[[ name ]]">x</a>', "[[ name ]]", "write {{ name }}"),
]
NO_STRAYS = [
    "<style>@media print{p{color:red}}</style><p>x",
    '<script type=\'application/ld+json\'>{"a": {"b": 1}}</script><p>x',
    "<!-- [[ name ]] }} --><p>x",
    "<p>100%, 20%OFF% and %C3%A4; [1], [[2]], {1, 2}; a[b]; $5 {or more}, {}",
    "<p>{{ '[[ name ]]' }} {{ '}}' }}",
    '<a href="https://x.example/%AB%CD%EF?a=%C3%A4">x</a>',
    "<p>[[{{ a }}]]",
]


class Mistakes(Case):
    def test_words_that_are_no_field(self) -> None:
        data = {"a": 1, "xs": ["x"], "user": {"last-name": "Bell"}, "first-name": "Ana", "Home Port": "Skerrow"}
        for text, hint in HINTS:
            with self.subTest(text), self.assertRaises(PribbleError) as caught:
                Template.from_text(text).render(data)
            self.assertIn(hint, str(caught.exception.hint))

    def test_what_looks_like_a_mark(self) -> None:
        for text, stretch, fix in STRAYS:
            with self.subTest(text):
                (finding,) = (f for f in Template.from_text(text).findings if f.rule == "placeholder.left")
                assert finding.where is not None
                self.assertEqual(text[finding.where.start : finding.where.end], stretch)
                self.assertTrue(finding.fix.startswith(fix), finding.fix)
        for text in NO_STRAYS:
            with self.subTest(text):
                found = [str(f) for f in Template.from_text(text).findings if f.rule == "placeholder.left"]
                self.assertEqual(found, [])

    def test_what_looks_like_a_mark_elsewhere(self) -> None:
        """In what is no page, in a subject, and of a very long page the first ones only."""
        folder = self.folder({"a.txt": "Dear [[ name ]],", "b.html": "{{ subject: }}Hi {name}{{ :subject }}<p>x"})
        for name, place in (("a", "a.txt:1:6"), ("b", "b.html:1:18")):
            (finding,) = folder[name].findings
            self.assertIn(place, str(finding))
        self.assertEqual(len(Template.from_text("<p>" + "[[ name ]] " * 500).findings), 20)

    def test_files_that_are_not_there(self) -> None:
        """A picture is offered for a picture, a sheet for a sheet."""
        files = {"a.html": "<p>x", "base.css": "", "logo.png": "", "p/bg.png": ""}
        for page, said in (
            ('<link rel="stylesheet" href="bsae.css">', 'no style sheet "bsae.css" (did you mean "base.css"?)'),
            ('<link rel="stylesheet" href="print-long.css">', 'no style sheet "print-long.css" (there is "base.css")'),
            ('<img alt="" src="lgo.png">', 'no picture "lgo.png" (did you mean "logo.png"?)'),
            ('<img alt="" src="p\\bg.png">', 'no picture "p\\bg.png" (folders are parted by "/": write p/bg.png)'),
        ):
            with self.subTest(page), self.assertRaises(PribbleError) as caught:
                self.folder({**files, "t.html": page})["t"]
            self.assertIn(said, f"{caught.exception.problem} ({caught.exception.hint})")
            self.assertRegex(str(caught.exception), r"^\S*t\.html:1:")


class MessageErrors(Case):
    def test_nothing_slips_into_a_header(self) -> None:
        for fields, kind, expected in MESSAGE_ERRORS:
            with self.subTest(fields), self.assertRaises(kind) as caught:
                Message(**{"sender": "a@x.example", "to": "b@x.example", **fields})
            self.assertTrue(str(caught.exception).startswith(expected), str(caught.exception))

    def test_a_subject_from_a_template_is_one_line(self) -> None:
        rendering = Template.from_text("{{ subject: }}{{ a }}{{ :subject }}x").render(
            {"a": "hi\r\nBcc: evil@x.example"}
        )
        raw = bytes(rendering.message(sender="a@x.example", to="b@x.example"))
        self.assertIn(b"\r\nSubject: hi Bcc: evil@x.example\r\n", raw)

    def test_address(self) -> None:
        self.assertEqual(Address("", "ana@bücher.example").addr, "ana@xn--bcher-kva.example")
        with self.assertRaises(AddressError):
            Address("Ana", "nobody")

    def test_pictures(self) -> None:
        for content, expected in [
            (b"nonsense", "the picture is no picture"),
            (b"", "the picture is no picture"),
            (b"\x89PNG\r\n\x1a\n" + b"\0" * 20, "the picture is"),
        ]:
            with self.subTest(content), self.assertRaises(PictureError) as caught:
                Picture.from_bytes(content)
            self.assertIn(expected, str(caught.exception))

    def test_json(self) -> None:
        for text, expected in [
            (
                '{"a": 1,}',
                "data.json:1:9: this is no JSON: a name in double quotes should stand here (no comma before it)",
            ),
            ("", "data.json:1:1: this is no JSON: it ends where a value should follow (there is nothing in it)"),
            ("[1,\n2", 'data.json:2:2: this is no JSON: it ends where "," or "]" should follow'),
            ('{"a" 1}', 'data.json:1:6: this is no JSON: a ":" should stand here'),
            ("['a']", "data.json:1:2: this is no JSON: a value should stand here"),
            ('{"a": 1]', 'data.json:1:8: this is no JSON: "," or "}" should stand here\n'),
            ("[1,]", "data.json:1:4: this is no JSON: a value should stand here (no comma before it)"),
            ("[01]", 'data.json:1:3: this is no JSON: "," or "]" should stand here'),
            ("1 2", "data.json:1:3: this is no JSON: the end should stand here"),
            ('["abc', "data.json:1:2: this is no JSON: this text is not closed"),
            ('"a\nb"', "data.json:1:3: this is no JSON: a control character in a text (a line break is written \\n)"),
            ('"a\\x"', "data.json:1:3: this is no JSON: this escape is none (write \\\\ for a backslash)"),
            ('{"a": NaN}', "data.json:1:7: NaN is no JSON (write null)"),
            ('{"a": 1, "a": 2}', 'data.json: an object has "a" twice'),
            ("[" * 100_000, "data.json: lists"),
            ('{"a": 1e99999999999999999999}', "data.json:1:7: a number beyond all measure"),
            ('["' + "1" * 9_000 + '",\n 1' + "0" * 9_000 + "]", "data.json:2:2: a number of more than 4,300 digits"),
        ]:
            with self.subTest(text[:20]), self.assertRaises(DataError) as caught:
                read_json(Source("data.json", text))
            self.assertTrue(str(caught.exception).startswith(expected), str(caught.exception))

    @generated(300)
    @given(
        st.lists(st.tuples(st.integers(0, 80), st.sampled_from([*'[]{},:"\\1e.-+ tn\n', ""])), min_size=1, max_size=4)
    )
    def test_every_json_that_python_refuses(self, changes: list[tuple[int, str]]) -> None:
        text = '{"a": [1, -2.5e3, true, null, "x\\u00e9\\n"], "b": {"c": []}, "d": {}}'
        for at, put in changes:
            text = text[:at] + put + text[at + 1 :]
        try:
            json.loads(text)
        except json.JSONDecodeError:
            with self.assertRaises(DataError) as caught:
                read_json(Source("data.json", text))
            place = caught.exception.place
            assert place
            self.assertTrue(_can_go_on(text[: place.start]), (text, str(caught.exception)))


def _can_go_on(text: str) -> bool:
    """Whether a text is the beginning of some JSON: one of a few ways to go on makes it whole."""
    brackets = ""
    for bracket in re.sub(r'"(?:[^"\\]|\\.)*("|$)', "", text):
        brackets = brackets[:-1] if bracket in "]}" else brackets + bracket if bracket in "[{" else brackets
    closing = "".join({"[": "]", "{": "}"}[bracket] for bracket in reversed(brackets))
    for more in ("", "0", '"', '""', '":0', '"":0', ":0"):
        with contextlib.suppress(json.JSONDecodeError):
            json.loads(text + more + closing)
            return True
    return False


if __name__ == "__main__":
    unittest.main()
