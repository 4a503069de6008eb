"""Which locale and time zone a template speaks in, and what is told where they are not those that were asked for."""

from __future__ import annotations

from contextlib import chdir
from datetime import UTC, datetime, timedelta, timezone
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from pribble import Rendering, Template
from pribble.values.settings import is_one_language
from tests.support import Case, html_of

DATA: dict[str, Any] = {"n": Decimal("1234.5"), "d": datetime(2026, 7, 3, 10, tzinfo=UTC), "l": [1.5, 2.5, 3, "4.5"]}
ZONED = 'as datetime("yyyy-MM-dd HH:mm xxx")'


def rules(rendering: Rendering) -> list[str]:
    return [finding.rule for finding in rendering.findings]


class Locales(Case):
    def test_a_text_without_a_folder_has_no_files_of_other_languages(self) -> None:
        folder = self.folder({"t.html": "of a file", "t.de.html": "eine Datei", "t.sample.json": "{}"})
        with chdir(folder.path):
            template = Template.from_text("of its own", name="t.html")
            self.assertEqual(
                ("of its own", ["en"], {}), (template.render({}, locale="de").html, template.locales, template.samples)
            )

    def test_the_locale_that_is_asked_for_formats_in_its_language(self) -> None:
        files: dict[str, str | bytes] = {
            "t.html": '{{ d as date("short") }} {{ put "part.html" }}',
            "t.de.html": 'DE {{ n as number(2) }} {{ put "part.html" }}',
            "part.html": "{{ n as money('EUR') }}",
        }
        template = self.folder(files, locale="en_GB")["t"]
        for asked, shown, told in (
            (None, "03/07/2026 €1,234.50", []),
            ("en_US", "7/3/26 €1,234.50", []),
            ("en-IE", "03/07/2026 €1,234.50", []),
            ("de", "DE 1.234,50 €1,234.50", []),
            ("de_AT", "DE 1.234,50 €1,234.50", []),
            ("de_CH", "DE 1’234.50 €1,234.50", []),
            ("pl", "03/07/2026 €1,234.50", ["locale.other-language"]),
        ):
            rendering = template.render(DATA, locale=asked)
            with self.subTest(asked):
                self.assertEqual(str(rendering.html).replace("&#39;", "’"), shown)
                self.assertEqual(rules(rendering), told)

    def test_languages_and_scripts(self) -> None:
        for one, other, same in (
            ("en", "en_GB", True),
            ("de_AT", "de_CH", True),
            ("zh_TW", "zh_CN", False),
            ("zh", "zh_CN", True),
            ("zh_Hant", "zh_TW", True),
            ("sr", "sr_Latn", False),
            ("sr", "sr_Cyrl_ME", True),
            ("de", "nl", False),
        ):
            self.assertEqual(is_one_language(one, other), same, (one, other))

    def test_a_text_has_a_locale_and_time_zone_of_its_own(self) -> None:
        template = Template.from_text(
            "{{ n as number(2) }} {{ d as time('HH:mm') }}", locale="de", timezone="Asia/Tokyo"
        )
        self.assertEqual(template.render(DATA).html, "1.234,50 19:00")
        self.assertEqual(
            html_of(template.render(DATA, locale="de_CH", timezone="UTC")).replace("&#39;", "’"), "1’234.50 10:00"
        )
        self.assertEqual(rules(template.render(DATA, locale="pl")), ["locale.other-language"])
        with self.assertRaises(ValueError):
            Template.from_text("x", locale="xx")
        with self.assertRaises(ValueError):
            Template.from_text("x", timezone="Nowhere")

    def test_numbers_that_are_shown_as_they_are_are_told_once_a_mark(self) -> None:
        for text, places in (
            ("{{ n }}", ["n"]),
            ("{{ for i in l: }}{{ i }} {{ :for }}{{ n }}", ["i", "n"]),
            ("{{ subject: }}{{ n }}{{ :subject }}<p>{{ n + 1 }}</p>", ["n", "+"]),
            ("{{ n as round(1) }}", ["round"]),
            ("{{ n? else 'x' }}", ["else"]),
            ("{{ n as number }} {{ 5 }} {{ n as json }} {{ '1.5' }}", []),
            ('<a href="https://x.example/{{ n }}?v={{ n }}" style="width:{{ n }}px" width="{{ n }}">', []),
            ("{{ locale 'en': }}{{ n }}{{ :locale }}", []),
        ):
            with self.subTest(text):
                rendering = Template.from_text(text, locale="de").render(DATA)
                told = [finding for finding in rendering.findings if finding.rule == "locale.bare-number"]
                found = [f.where.source.text[f.where.start : f.where.end] for f in told if f.where]
                self.assertEqual(sorted(found), sorted(places))
                self.assertEqual(rules(Template.from_text(text, locale="en").render(DATA)), [])
        self.assertEqual(rules(Template.from_text("{{ l[2] }}", locale="de").render(DATA)), [])


class Zones(Case):
    def shown(self, moment: Any, mark: str = ZONED) -> str:
        return Template.from_text(f"{{{{ m {mark} }}}}", timezone="Europe/Berlin").render({"m": moment}).html or ""

    def test_a_moment_without_a_zone_is_local(self) -> None:
        berlin = ZoneInfo("Europe/Berlin")
        for naive in (
            datetime(2026, 7, 3, 12),
            datetime(2026, 1, 3, 0, 30),
            datetime(1900, 1, 1),
            datetime(2099, 8, 1),
        ):
            offset = self.shown(naive.replace(tzinfo=berlin)).split()[-1]
            self.assertEqual(self.shown(naive), f"{naive:%Y-%m-%d %H:%M} {offset}")
            self.assertEqual(self.shown(naive.isoformat()), self.shown(naive))
        self.assertEqual(self.shown(datetime(2026, 7, 3, 12)), "2026-07-03 12:00 +02:00")
        self.assertIn("GMT+2", self.shown(datetime(2026, 7, 3, 12), 'as datetime("HH:mm O")'))

    def test_hours_that_come_twice_and_never(self) -> None:
        self.assertEqual(self.shown(datetime(2026, 10, 25, 2, 30)), "2026-10-25 02:30 +02:00")
        self.assertEqual(self.shown(datetime(2026, 10, 25, 2, 30, fold=1)), "2026-10-25 02:30 +01:00")
        self.assertEqual(self.shown(datetime(2026, 3, 29, 2, 30)), "2026-03-29 02:30 +01:00")

    def test_one_with_a_zone_is_moved(self) -> None:
        moment = datetime(2026, 7, 3, 12, tzinfo=timezone(timedelta(hours=5, minutes=30)))
        self.assertEqual(self.shown(moment), "2026-07-03 08:30 +02:00")
        self.assertEqual(self.shown("2026-07-03T12:00Z", 'as moment as time("HH:mm xxx")'), "14:00 +02:00")
        self.assertEqual(self.shown(datetime(2026, 7, 3, 23, 30), 'as date("d.M.")'), "3.7.")
