"""The formatters, as marks apply them; numbers and dates against Babel's own."""

from __future__ import annotations

import inspect
import json
import re
import unittest
from datetime import UTC, date, datetime, time, timedelta, timezone
from decimal import ROUND_HALF_UP, Decimal
from types import MappingProxyType, SimpleNamespace
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
from babel import Locale
from babel.dates import format_date, format_datetime, format_time
from babel.lists import format_list
from babel.numbers import (
    format_currency,
    format_decimal,
    format_percent,
    get_currency_symbol,
    get_decimal_symbol,
    get_group_symbol,
    get_minus_sign_symbol,
)
from babel.units import format_unit
from hypothesis import given
from hypothesis import strategies as st

from pribble import FieldError, LimitReached, Template, TemplateFolder
from pribble.compiler.markup_formatters import MARKUP_FORMATTERS
from pribble.values import address_formatters, dates, json_values, list_formatters, numbers, text_formatters
from pribble.values.formatters import FORMATTERS
from pribble.values.settings import Settings
from tests.support import Case, generated, html_of

D = Decimal
LOCALES = "en en_GB de de_AT de_CH fr fr_CH sv pl cy en_IN hi bn ja pt_BR pt_PT it nb tr es".split()
DATA: dict[str, Any] = {
    "lines": [
        {"what": "rope", "price": D("2.50"), "n": 3, "paid": True, "day": "2026-07-03"},
        {"what": "Paint", "price": D("10"), "n": 1, "paid": False, "day": "2026-07-04"},
        {"what": "oars", "price": D("7.25"), "n": 2, "paid": True, "day": "2026-07-03"},
    ],
    "xs": [3, 1, 2],
    "none_in": [],
    "text": "  one\ntwo <3 ",
    "long": "a long word 👨‍👩‍👧 ok",
    "big": 1536,
    "half": D("0.125"),
    "start": datetime(2026, 7, 3, 22, 30, tzinfo=UTC),
    "end": datetime(2026, 7, 5, 1, 0, tzinfo=UTC),
    "local": datetime(2026, 7, 3, 9, 5),
    "t": time(18, 30),
    "rec": {"a": 1, "b": None, "c d": "é&"},
    "base": "https://skerrow.example/b/",
    "odd": "a/b c?",
    "name": "O'NEIL anna-maria",
    "markup": "<b>bold</b><ul><li>x</ul>",
    "records": [{"Item": "rope & co", "n": 2}, {"Item": "oars", "n": None}],
}

# (mark, what it shows between tags)
SHOWN = [
    ("text as trim", "one\ntwo &lt;3"),
    ("text as trim as breaks", "one<br>\ntwo &lt;3"),
    ("name as title", "O&#39;neil Anna-Maria"),
    ("name as upper", "O&#39;NEIL ANNA-MARIA"),
    ("name as lower", "o&#39;neil anna-maria"),
    ("big as number", "1,536"),
    ("lines as by('day') as count", "2"),
    ("xs as rows(2) as count", "2"),
    ("long as shorten(8)", "a long…"),
    ("long as shorten(13)", "a long word…"),
    ("long as shorten(16)", "a long word 👨‍👩‍👧 ok"),
    ("'abc' as shorten(3)", "abc"),
    ("'abcd' as shorten(1)", "…"),
    ("big as bytesize", format_unit(D("1.5"), "digital-kilobyte", "short", locale="en")),
    ("999 as bytesize", format_unit(999, "digital-byte", "short", locale="en")),
    ("2500000 as bytesize", format_unit(D("2.5"), "digital-megabyte", "short", locale="en")),
    ("half as percent", "13%"),
    ("half as percent(1)", "12.5%"),
    ("('12.5' as decimal) * 2", "25.0"),
    ("xs as count", "3"),
    ("missing? as count", "0"),
    ("rec as count", "3"),
    ("xs as first", "3"),
    ("xs as last", "2"),
    ("none_in as first", ""),
    ("(lines as last).what", "oars"),
    ("xs as reverse as join('')", "213"),
    ("xs as sort as join", "1, 2, 3"),
    (
        'lines as sort("price") as first as json',
        "{&#34;what&#34;: &#34;rope&#34;, &#34;price&#34;: 2.50, &#34;n&#34;: 3, &#34;paid&#34;: true, &#34;day&#34;: &#34;2026-07-03&#34;}",
    ),
    ('(lines as sort("-price") as first).what', "Paint"),
    ('(lines as sort("what") as first).what', "Paint"),
    ('lines as sum("price * n")', "32.00"),
    ("xs as sum", "6"),
    ("none_in as sum", "0"),
    ('lines as keep("not paid") as count', "1"),
    ('lines as keep("paid and n > 2") as sum("n")', "3"),
    ('lines as sum("price if paid else 0") as money("EUR")', "€9.75"),
    ('start as date("short")', format_date(DATA["start"], "short", "en")),
    ('start as time("short")', format_time(DATA["start"], "short", locale="en")),
    ('t as time("HH:mm")', "18:30"),
    ("'07:05' as time('H.mm')", "7.05"),
    ('start as datetime("yyyy-MM-dd HH:mm")', "2026-07-03 22:30"),
    ('local as datetime("d MMM, HH:mm")', "3 Jul, 09:05"),
    ("end - start as duration", format_list(["1 day", "2 hours", "30 minutes"], "unit", "en")),
    ("'2026-07-03T10:00:00+02:00' as moment as time('HH:mm')", "08:00"),
    ("('2026-07-03' as day) + 4 as date('d.M.y')", "7.7.2026"),
    ("('2026-07-07' as day) - ('2026-07-03' as day)", "4"),
    ("odd as url", "a%2Fb%20c%3F"),
    ("odd as path", "a/b%20c%3F"),
    ("rec as query", "a=1&amp;c%20d=%C3%A9%26"),
    ('base as link("x/y", 2, ref = "a b", none = rec.b)', "https://skerrow.example/b/x%2Fy/2?ref=a%20b"),
    ("rec as json", "{&#34;a&#34;: 1, &#34;b&#34;: null, &#34;c d&#34;: &#34;é&amp;&#34;}"),
    ("markup as html", "<b>bold</b><ul><li>x</li></ul>".replace("</li>", "")),
    ("2 as plural(one = 'boat', other = 'boats')", "boats"),
    ("(2.675 as round(2)) + 1", "3.68"),
    ("2.5 as round", "3"),
    ('lines as sum("price * n / 3 as round(2)")', "10.66"),
    ("7 as digits(3)", "007"),
    ("-7 as digits(2)", "-07"),
    ('"émile zola" as capital', "Émile zola"),
    ('"" as capital', ""),
    ('"B 14/b" as change("/", "-") as change(" ", "")', "B14-b"),
    ("long as count", "16"),
    ("xs as least", "1"),
    ("xs as greatest", "3"),
    ("none_in as least", ""),
    ('lines as greatest("price * n")', "14.50"),
    ('lines as least("day") as day as date("d.M.y")', "3.7.2026"),
    ("xs as first(2) as join", "3, 1"),
    ("xs as last(2) as join", "1, 2"),
    ("xs as last(9) as join", "3, 1, 2"),
    ('"1.234,50" as decimal("de")', "1234.50"),
    ('"−1 234,5" as decimal("fr")', "-1234.5"),
    ('"1\'234.50" as decimal("de_CH")', "1234.50"),
    ('"1,23,456" as decimal("en_IN")', "123456"),
    ("2 as decimal('de')", "2"),
    ('"03.07.2026" as day("dd.MM.yyyy") as date("d MMMM y")', "3 July 2026"),
    ('"3.7.26" as day("d.M.yy") as date("d MMMM y")', "3 July 2026"),
    ('"03.07.1999" as day("de") as date("d MMMM y")', "3 July 1999"),
    ('"7/3/2026" as day("en_US") as date("d MMMM y")', "3 July 2026"),
    ('"Fri, 3 Jul. 2026" as day("EEE, d MMM y") as date("d.M.y")', "3.7.2026"),
    ('"7/3/2026 12:05 AM" as moment("M/d/y h:mm a") as datetime("d.M. HH:mm")', "3.7. 00:05"),
    ('"2026-07-03 18:30 +0530" as moment("y-MM-dd HH:mm Z") as time("HH:mm")', "13:00"),
    ("start as day('dd.MM.yyyy') as date('d.M.y')", "3.7.2026"),
    ('start as date("D")', "184"),
    ("start as date(\"w'. week of' YYYY\")", "27. week of 2026"),
    ("0 as plural(zero = 'none', one = 'boat', other = 'boats')", "boats"),
]

WRONG = [
    ('xs as keep("oops")', 'item is a number and has no field "oops"'),
    ('lines as sum("prise")', 'no field "prise" in item (did you mean "price"?)'),
    ("text as sum", "sum takes a list, not a text"),
    ('lines as sum("what")', "sum adds numbers, and one of these is a text"),
    ("rec as join", "join takes a list, not a record"),
    ("text as date", "date takes a day, and"),
    ('"x" as decimal', 'decimal takes a number, and "x" is none'),
    ("xs as rows(0)", "rows takes a whole number from 1"),
    ("text as shorten(0)", "shorten takes a whole number of characters from 1"),
    ("1 as number(21)", "number takes a number of decimals from 0 to 20"),
    ('start as date("lnog")', 'date has no style "lnog"'),
    ('start as date("HH")', 'a day has no "H"'),
    ('start as date("g y")', 'a day has no "g"'),
    ('start as datetime("r")', 'a moment has no "r"'),
    ('start as date("MMMMMM")', '"MMMMMM" is no field of a pattern (there are M, MM, MMM, MMMM, MMMMM)'),
    ('start as time("vv")', '"vv" is no field of a pattern (there are v, vvvv)'),
    ('start as date("d \'of")', "a single quote in the pattern is not closed"),
    ("big as duration", "duration takes a span of time, not a number"),
    ('"</p>" as html', "</p> closes nothing that this markup opened"),
    ('"<div>" as html', "<div> is not closed in this markup"),
    ('"<!-- x" as html', "a comment is not closed in this markup"),
    ('"<!-- x>" as html', "a comment is not closed in this markup"),
    ('"<b" as html', "the markup is not whole: a tag is not closed"),
    ('"x <" as html', 'the markup ends in "<"'),
    ('"<body>" as html', "<body> belongs to the page"),
    ("xs as table", "table takes a list of records, and item 0 is a number"),
    ("text as table", "table takes a list of records, not a text"),
    ("records as table(columns = ['item'])", 'table has no column "item" (did you mean "Item"?)'),
    ("records as table(heads = ['a'])", "table has 2 columns, and heads 1"),
    ("records as table(formats = ['money(\"EUR\")', none])", '1:33: row 1, column "Item": money takes a number'),
    ("records as table(formats = [none, 'nope'])", '1:39: there is no formatter "nope"'),
    ("records as table(formats = rec)", "formats is a list, written out"),
    ("records as table(formats = [n])", "a format is a text, written out, or none"),
    ("records as table(columns = rec)", "columns is a list of names, not a record"),
    ('"2026-07-03" as datetime("long")', 'datetime takes a moment, and "2026-07-03" is a day: it has no time'),
    ('"2026-W27-5" as time("HH:mm")', 'time takes a moment, and "2026-W27-5" is a day'),
    ('"20260703" as time("HH:mm")', 'time takes a moment, and "20260703" is a day'),
    ('"2026-07-03" as moment', "moment takes a moment, and"),
    ('t as time("long")', "a time without a day has no zone"),
    ('start as date("DD.MM.YYYY")', 'days and years are d and y: "dd.MM.yyyy"'),
    ("start as datetime(\"'Y' YYYY-MM-dd HH:mm\")", "days and years are d and y: \"'Y' yyyy-MM-dd HH:mm\""),
    ('start as date("d. DDD")', '"D" is the day of the year'),
    ("(2.5 as number(2)) + 1", "to compute with what is rounded: x as round(2)"),
    ("7.5 as digits(3)", "digits takes a whole number, and this one has decimals"),
    ("7 as digits(0)", "digits takes a whole number from 1 to 30"),
    ('"a" as change("", "b")', "change takes a text that is changed, and this one is empty"),
    ("xs as first(0)", "first takes a whole number from 1"),
    ("[1, 'a'] as least", "have no order"),
    (
        '"1.23,4" as decimal("de")',
        'decimal takes a number as de writes it, and "1.23,4" is none',
    ),
    ('"1,5" as decimal("en")', "one is written 1,234.50"),
    ('"1" as decimal("zz")', '"zz" is no locale that is known'),
    ('"31.02.2026" as day("dd.MM.yyyy")', 'day reads "dd.MM.yyyy", and "31.02.2026" is none'),
    ('"3.7." as day("d.M.")', "day reads by a pattern with a day, a month and a year"),
    ('"3.7.2026" as moment("d.M.yyyy")', "and an hour, not by"),
    ('"x" as day("dd.QQ.yyyy")', "day reads by a pattern with a day, a month and a year"),
    ('"x" as day("d.M.y QQ")', 'a pattern that is read has no "Q"'),
    ('"x" as day("d.d.M.y")', 'a pattern that is read has "d" twice'),
    ("lines as keep", "keep takes an expression over an item's fields"),
    ("lines as keep(text)", "keep takes an expression over an item's fields, written out as a text"),
    ('lines as sum("price *")', "the mark ends where a value should follow"),
    ('lines as sum("a | b")', '"|" where the end of the mark should stand'),
    ('base as link("..")', '".." cannot be a segment of a path'),
    ("t as datetime", "datetime takes a moment, not a time"),
]


class Rows(unittest.TestCase):
    """A formatter is a factory, a row that names it, and a case; docs/language.md is held by tests/test_docs."""

    def test_every_factory_has_a_row(self) -> None:
        modules = (address_formatters, dates, json_values, list_formatters, numbers, text_formatters)
        factories = {
            function
            for module in modules
            for name, function in vars(module).items()
            if inspect.isfunction(function) and function.__module__ == module.__name__ and not name.startswith("_")
            if list(inspect.signature(function).parameters)[:1] == ["settings"]
        }
        self.assertEqual(factories ^ {row.factory for row in FORMATTERS.values()}, set())

    def test_every_row_has_a_case(self) -> None:
        used = {name for mark, *_ in SHOWN for name in re.findall(r"\bas (\w+)", mark)}
        self.assertEqual(set(FORMATTERS) - used, set())

    def test_the_kinds_are_those_of_fields(self) -> None:
        kinds = {"text", "number", "day", "time", "moment", "list", "any"}
        for row in {**FORMATTERS, **MARKUP_FORMATTERS}.values():
            with self.subTest(row.name):
                self.assertIn(row.takes, kinds)
                self.assertIn(row.gives, kinds | {"markup"})
                self.assertTrue(row.summary.endswith("."))


class Formatters(Case):
    def test_what_they_show(self) -> None:
        for mark, expected in SHOWN:
            with self.subTest(mark):
                self.assertEqual(self.html(f"{{{{ {mark} }}}}", DATA), expected)

    def test_what_they_refuse(self) -> None:
        for mark, expected in WRONG:
            with self.subTest(mark):
                self.assertIn(expected, self.complaint(f"{{{{ {mark} }}}}", DATA))

    def test_groups_and_rows(self) -> None:
        self.assertEqual(
            self.html(
                '{{ for day, entries in lines as by("day"): }}{{ day }}:{{ for e in entries: }}{{ e.what }},{{ :for }} {{ :for }}',
                DATA,
            ),
            "2026-07-03:rope,oars, 2026-07-04:Paint, ",
        )
        self.assertEqual(
            self.html("{{ for row in xs as rows(2): }}({{ for x in row: }}[{{ x }}]{{ :for }}){{ :for }}", DATA),
            "([3][1])([2][])",
        )

    def test_fit_for_one_place_and_plain_elsewhere(self) -> None:
        for template, expected in [
            (
                '<a href="https://x.example/{{ odd as path }}?{{ rec as query }}">',
                '<a href="https://x.example/a/b%20c%3F?a=1&amp;c%20d=%C3%A9%26">'.replace("&c", "&c"),
            ),
            ('<a href="{{ base as link("ü") }}">', '<a href="https://skerrow.example/b/%C3%BC">'),
            ('<a title="{{ text as trim as breaks }}">', '<a title="one\ntwo &lt;3">'),
            ('<a title="{{ odd as url }}">', '<a title="a%2Fb%20c%3F">'),
        ]:
            with self.subTest(template):
                self.assertEqual(self.html(template, DATA), expected)
        self.assertIn("markup can stand between tags only", self.complaint('<a title="{{ markup as html }}">', DATA))

    def test_markup_in_the_plain_text(self) -> None:
        rendering = Template.from_text(
            "<p>{{ text as trim as breaks }}</p>{{ markup as html }}{{ records as table }}"
        ).render(DATA)
        self.assertEqual(
            rendering.text, "one\ntwo <3\n\nbold\n\n- x\n\nItem       n\n------------\nrope & co  2\noars\n"
        )
        self.assertIn(
            '<td align="right" style="padding:4px 8px;border-bottom:1px solid #cccccc;text-align:right">2</td>',
            html_of(rendering),
        )

    def test_application_formatters_are_called_once_a_mark_and_turn(self) -> None:
        """They may issue something: the HTML and the text have the same, and an error asks for no more."""
        calls: list[object] = []

        def token(value: object, *, locale: str) -> str:
            calls.append(value)
            return f"t{len(calls)}"

        def failing(value: str, *, locale: str) -> str:
            return {"known": "x"}[value]

        files = {
            "a.html": "<p>{{ id as token }}</p>{{ for x in xs: }}<p>{{ x as token }}{{ put 'p.html', x = x }}</p>{{ :for }}",
            "p.html": "{{ takes x }}-{{ x as token }}",
            "late.html": "<style>.k{color:red}</style><p class='{{ k }}'>{{ id as token }}</p>",
            "lacks.html": "<p>{{ id as token }}</p><p>{{ all['what is not there'] }}{{ lost }}</p>",
            "fails.html": "<p>x</p>{{ id as failing }}",
        }
        folder = self.folder(files, formatters={"token": token, "failing": failing})
        made = folder["a"].render({"id": 1, "xs": [2, 3]})
        html, text = str(made.html), str(made.text)
        self.assertEqual(calls, [1, 2, 2, 3, 3])
        self.assertEqual(re.findall(r"t\d", html), re.findall(r"t\d", text))
        calls.clear()
        late = folder["late"].render({"id": 1, "k": "k"})
        self.assertEqual((late.text, len(calls)), ("t1\n", 1))
        calls.clear()
        with self.assertRaises(FieldError):
            folder["lacks"].render({"id": 1})
        self.assertEqual(calls, [1])
        with self.assertRaisesRegex(
            FieldError, r"fails\.html:1:18: the formatter failing fails: KeyError: 'other'"
        ) as caught:
            folder["fails"].render({"id": "other"})
        self.assertIsInstance(caught.exception.__cause__, KeyError)

    def test_application_formatters(self) -> None:
        folder = self.folder(
            {"t.html": "{{ b as berth }} {{ b as berth('pier', short = true) }}"},
            locale="cy",
            formatters={"berth": lambda value, *words, locale, short=False: f"<{value}{words}{locale}{short}>"},
        )
        self.assertEqual(folder["t"].render({"b": 7}).html, "&lt;7()cyFalse&gt; &lt;7(&#39;pier&#39;,)cyTrue&gt;")
        with self.assertRaises(ValueError):
            TemplateFolder(folder.path, formatters={"money": str})

    def test_locale_and_time_zone(self) -> None:
        text = (
            '{{ start as datetime("short") }}|{{ locale "de": }}{{ n as number(2) }} {{ timezone "Asia/Tokyo": }}{{ start as datetime("HH:mm") }}'
            "{{ :timezone }}{{ :locale }}|{{ n as number(2) }}"
        )
        template = self.folder({"t.html": text}, locale="en_GB", timezone="Europe/London")["t"]
        data = {"start": DATA["start"], "n": D("1234.5")}
        german, english = (format_decimal(D("1234.50"), "#,##0.00", locale) for locale in ("de", "en_GB"))
        for zone, asked in (("Europe/London", None), ("America/New_York", "America/New_York")):
            moment = format_datetime(DATA["start"].astimezone(ZoneInfo(zone)), "short", locale="en_GB")
            self.assertEqual(template.render(data, timezone=asked).html, f"{moment}|{german} 07:30|{english}")
        with self.assertRaises(ValueError):
            template.render(data, locale="xx")
        with self.assertRaises(ValueError):
            template.render(data, timezone="Nowhere")
        self.assertIn('"xx" is no locale', self.complaint('{{ locale "xx": }}{{ :locale }}'))


NUMBERS = st.decimals(min_value=-(10**12), max_value=10**12, allow_nan=False, allow_infinity=False, places=3)
MOMENTS = st.datetimes(datetime(1900, 1, 1), datetime(2200, 1, 1)).map(lambda d: d.replace(microsecond=0, tzinfo=UTC))


def plainly(value: Decimal, pattern: str, locale: str, decimals: int, symbol: str = "") -> str:
    """A number by a CLDR pattern (UTS 35, part 3, 3), digit by digit; what is left to the locale is asked of Babel."""
    positive, _, negative = pattern.partition(";")
    figures = re.search(r"[#0,.]+", positive)
    assert figures
    chosen = negative if value < 0 and negative else positive
    before, after = re.split(r"[#0,.]+", chosen, maxsplit=1)
    if value < 0 and not negative:
        before = f"-{before}"
    groups = figures[0].partition(".")[0].split(",")[1:]
    primary, secondary = (len(groups[-1]), len(groups[-2:][0])) if groups else (99, 99)
    whole, _, fraction = f"{abs(value):.{decimals}f}".partition(".")
    shown = ""
    for passed, digit in enumerate(reversed(whole)):
        if passed and (passed == primary or (passed > primary and (passed - primary) % secondary == 0)):
            shown = get_group_symbol(locale) + shown
        shown = digit + shown
    shown += get_decimal_symbol(locale) + fraction if decimals else ""
    minus = get_minus_sign_symbol(locale)
    return f"{before}{shown}{after}".replace("-", minus).replace("¤", symbol)


class AgainstBabel(unittest.TestCase):
    """Babel rounds half to even and puts no space between a currency's letters and digits; else we agree."""

    def apply(self, name: str, locale: str, value: Any, *arguments: Any) -> Any:
        return FORMATTERS[name].prepared(Settings(locale), arguments, {})(value)

    @generated(150)
    @given(st.sampled_from(LOCALES), NUMBERS)
    def test_numbers(self, locale: str, value: Decimal) -> None:
        value = value.quantize(D("0.01"), ROUND_HALF_UP) or D("0.00")  # minus zero we show as zero
        data, symbol, minus = Locale.parse(locale), get_currency_symbol("EUR", locale), get_minus_sign_symbol(locale)
        percent = (value * 100).quantize(D(1), ROUND_HALF_UP)
        money = format_currency(value, "EUR", locale=locale)
        for shown, plain, theirs in [
            (
                self.apply("number", locale, value, 2),
                plainly(value, data.decimal_formats[None].pattern, locale, 2),
                format_decimal(value, data.decimal_formats[None].pattern.replace(".###", ".00"), locale),
            ),
            (
                self.apply("money", locale, value, "EUR").replace("EUR\u00a0", "EUR"),
                plainly(value, data.currency_formats["standard"].pattern, locale, 2, symbol),
                money,
            ),
            (
                self.apply("percent", locale, value),
                plainly(percent, data.percent_formats[None].pattern, locale, 0),
                format_percent(value, locale=locale),
            ),
        ]:
            self.assertEqual(shown, plain.replace("EUR\u00a0", "EUR"))
            # Babel takes apostrophes between groups for the quotes of a pattern, and drops them; and it leaves the
            # hyphen of a pattern where the locale has a minus sign of its own.
            if "'" not in get_group_symbol(locale):
                self.assertEqual(plain.replace("-", minus), theirs.replace("-", minus))

    @generated(150)
    @given(st.sampled_from(LOCALES), MOMENTS, st.sampled_from(["short", "medium", "long", "full"]))
    def test_dates(self, locale: str, moment: datetime, style: str) -> None:
        self.assertEqual(self.apply("date", locale, moment, style), format_date(moment.date(), style, locale))
        self.assertEqual(self.apply("time", locale, moment, style), format_time(moment, style, locale=locale))
        self.assertEqual(self.apply("datetime", locale, moment, style), format_datetime(moment, style, locale=locale))

    def test_half_up(self) -> None:
        for value, shown in [
            ("0.005", "0.01"),
            ("-0.005", "-0.01"),
            ("2.675", "2.68"),
            ("0.004999", "0.00"),
            ("-0.001", "0.00"),
        ]:
            self.assertEqual(self.apply("number", "en", D(value), 2), shown)
        self.assertEqual(self.apply("money", "en", D("0.5"), "JPY"), "¥1")


class DataOfLibraries(unittest.TestCase):
    def test_json_round_trip(self) -> None:
        value = {
            "a": [1, D("1.50"), True, None, 'é"\n'],
            "d": date(2026, 7, 3),
            "t": datetime(2026, 7, 3, 1, 2, tzinfo=timezone(timedelta(hours=2))),
        }
        made = FORMATTERS["json"].prepared(Settings(), (), {})(value)
        self.assertEqual(
            json.loads(made), {"a": [1, 1.5, True, None, 'é"\n'], "d": "2026-07-03", "t": "2026-07-03T01:02:00+02:00"}
        )

    def test_rows_and_frames_of_pandas(self) -> None:
        frame = pd.DataFrame({"Item": ["rope", None], "n": [2, 3], "price": [1.5, float("nan")]})
        rows = [
            {"price": np.float64(1.5), "day": pd.Timestamp("2026-07-03")},
            {"price": np.float64("nan"), "day": pd.NaT},
            {"price": pd.NA, "day": None},
        ]
        shown = "{{ for r in rows: }}{{ (r.price? as money('EUR')) else 'free' }} {{ (r.day? as date('d.M.')) else 'never' }};{{ :for }}"
        self.assertEqual(Template.from_text(shown).render({"rows": rows}).html, "€1.50 3.7.;free never;free never;")
        self.assertEqual(
            Template.from_text("{{ n }} {{ b as json }}")
            .render({"n": np.int64(5), "b": [np.float64(0.1), np.bool_(True), np.float64("nan")]})
            .html,
            "5 [0.1, true, null]",
        )
        table = Template.from_text("{{ f as table }}").render({"f": frame})
        self.assertEqual(table.text, "Item  n  price\n--------------\nrope  2    1.5\n      3\n")

    def test_what_pandas_has_is_data(self) -> None:
        frame = pd.DataFrame(
            {"Item": ["rope", "oars"], "price": [1.5, float("nan")], "for": pd.to_timedelta(["2h", "1D"])}
        )
        data = {"frame": frame, "row": frame.iloc[0], "column": frame["Item"], "array": np.array([[1, 2], [3, 4]])}
        for mark, shown in (
            ("{{ for r in frame: }}{{ r.Item }} {{ r.price? else '-' }};{{ :for }}", "rope 1.5;oars -;"),
            ("{{ frame as count }} {{ frame as sum('price? else 0') }} {{ frame[1].Item }}", "2 1.5 oars"),
            ("{{ row.Item }} {{ row['price'] as money('EUR') }} {{ row.for as duration }}", "rope €1.50 2 hours"),
            ("{{ for name, value in row: }}{{ name }} {{ :for }}", "Item price for "),
            ("{{ column as join }} {{ array[1][0] }}", "rope, oars 3"),
            ("{{ frame.index? else 'x' }}", None),
        ):
            with self.subTest(mark):
                template = Template.from_text(mark)
                if shown is None:
                    with self.assertRaisesRegex(FieldError, "frame is a list"):
                        template.render(data)
                else:
                    self.assertEqual(template.render(data).html, shown)
        row = next(row for _, row in frame.iterrows())
        self.assertEqual(Template.from_text("{{ Item }}").render(row).html, "rope")
        called = pd.DataFrame({"n": [2]}, index=pd.Index(["rope"], name="Item"))
        self.assertEqual(Template.from_text("{{ f[0].Item }} {{ f[0].n }}").render({"f": called}).html, "rope 2")

    def test_what_is_missing_is_none(self) -> None:
        for missing in (float("nan"), D("NaN"), np.float64("nan"), pd.NA, pd.NaT, None):
            with self.subTest(missing):
                data = {"x": {"v": missing}}
                template = Template.from_text("{{ x.v? else '-' }}{{ if x.v: }}y{{ :else: }}n{{ :if }}{{ x as json }}")
                self.assertEqual(template.render(data).text, '-n{"v": null}\n')
                for mark, says in (
                    ("x.v", "none cannot be shown"),
                    ("x.v as number(2)", "number takes a number, not none"),
                    ("x.v + 1", "none cannot be"),
                ):
                    with self.assertRaisesRegex(FieldError, says):
                        Template.from_text(f"{{{{ {mark} }}}}").render(data)

    def test_what_is_none_of_the_kinds_is_told_of_the_data(self) -> None:
        class Properties:
            @property
            def n(self) -> int:
                return 1

        for value, hint in (
            ({1, 2}, "a set has no order: hand in a list, as sorted"),
            (frozenset([1]), "a set has no order"),
            ((n for n in [1]), "it can be gone through once only"),
            ({1: 2}.values(), r"hand in list\(…\)"),
            (SimpleNamespace(n=1), r"hand in a dict, as vars\(…\)"),
            (Properties(), "only declared fields are read"),
            (b"n", "octets are no text"),
            (1j, "hand in texts, numbers"),
        ):
            name = type(value).__qualname__
            for mark, data, where in (
                ("{{ n }}", value, "^the data: "),
                ("{{ f.n }}", {"f": value}, "f: "),
                ("{{ for x in f: }}{{ x }}{{ :for }}", {"f": value}, "f: "),
            ):
                with self.subTest(name, mark=mark), self.assertRaises(FieldError) as caught:
                    Template.from_text(mark).render(data)
                self.assertRegex(str(caught.exception), where + f"a value of type {re.escape(name)} is none")
                self.assertRegex(str(caught.exception), hint)
        looped = Template.from_text("{{ for n in f: }}{{ n }}{{ :for }}")
        self.assertEqual(looped.render({"f": range(2, 5)}).html, "234")
        with self.assertRaisesRegex(LimitReached, "a range of more than 1,000,000 numbers"):
            looped.render({"f": range(10**12)})

    def test_a_record_of_libraries(self) -> None:
        class Declared:
            model_fields = MappingProxyType({"x": None})  # as some libraries declare fields

            def __init__(self) -> None:
                self.x, self.y = 1, 2

        self.assertEqual(Template.from_text("{{ d.x }}").render({"d": Declared()}).html, "1")
        with self.assertRaises(FieldError):
            Template.from_text("{{ d.y }}").render({"d": Declared()})


if __name__ == "__main__":
    unittest.main()
