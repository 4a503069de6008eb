"""What `check` finds: nothing in sound designs but notes, each mistake under its own name, and what a message shows."""

from __future__ import annotations

import ast
import functools
import io
import json
import unittest
from typing import Any

from PIL import Image

from pribble import Message, Picture, Template, TemplateFolder
from pribble.mime.audit.rules import RULES as OF_THE_AUDIT
from pribble.review import check, check_message
from pribble.review.rules import HANDED_ON, RULES
from tests.review.mutating import DESIGNS, MUTATIONS, OF_MESSAGES, STRAINED, Found, checked, concerned, mutated, places
from tests.support import DEMO, ROOT, Case, pribble, slow

SAMPLE = {"name": "Ana", "lines": [{"t": "a", "n": 1}, {"t": "b", "n": 2}]}
PAGE = '<!DOCTYPE html><html lang="en"><title>x</title><body style="background:#fff;color:#111">'


def found(text: str, data: Any = None, **given: Any) -> dict[str, list[str]]:
    """What is found in the page of one template: the messages, by rule."""
    subject = "" if "subject:" in text else "{{ subject: }}A subject of some words{{ :subject }}"
    template = Template.from_text(f"{PAGE}{subject}{text}")
    made: dict[str, list[str]] = {}
    for one in check(template, data={} if data is None else data, **given):
        made.setdefault(one.rule, []).append(one.message)
    return made


@functools.cache
def sound(*names: str) -> dict[Found, int]:
    """What is found in designs as they are."""
    with mutated({"rule": "none"}) as folder:
        return dict(places(checked(folder, list(names))))


class Corpus(Case):
    @slow
    def test_sound_designs_and_the_demo_give_notes_alone(self) -> None:
        for folder in (TemplateFolder(DESIGNS), TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")):
            made = check(folder)
            self.assertEqual([str(one) for one in made if one.severity != "note"], [])
            self.assertEqual(list(made.coverage), list(folder))

    def check_mutation(self, mutation: dict[str, Any]) -> None:
        names = concerned(mutation)
        with mutated(mutation) as folder:
            made = places(checked(folder, names))
        new = {one: count for one, count in made.items() if count > sound(*names).get(one, 0)}
        rule = mutation["rule"]
        self.assertIn(rule, {name for name, _, _ in new}, new)
        self.assertEqual({name for name, severity, _ in new if severity != "note"} - {rule}, set(), new)

    @slow
    def test_some_mistakes_are_found_alone(self) -> None:
        for mutation in MUTATIONS[::8]:
            with self.subTest(mutation["rule"]):
                self.check_mutation(mutation)

    @slow
    def test_every_mistake_is_found_alone(self) -> None:
        for mutation in MUTATIONS:
            with self.subTest(mutation["rule"], edits=mutation.get("edits")):
                self.check_mutation(mutation)

    def test_every_rule_has_a_mistake(self) -> None:
        self.assertEqual({one["rule"] for one in (*MUTATIONS, *OF_MESSAGES, *STRAINED)}, set(RULES))

    def test_the_docs_say_how_many_there_are(self) -> None:
        page = (ROOT / "docs/checks.md").read_text(encoding="utf-8")
        designs = len(list(TemplateFolder(DESIGNS)))
        self.assertGreaterEqual(designs, 12)
        self.assertIn(f"{designs} sound designs", page)
        self.assertIn(f"{len(MUTATIONS) + len(OF_MESSAGES) + len(STRAINED)} mistakes", page)

    @slow
    def test_every_rule_is_in_the_catalogue(self) -> None:
        """Each rule that anything in the source reports is one of the tables."""
        known = {*RULES, *HANDED_ON, *OF_THE_AUDIT}
        groups = {rule.partition(".")[0] for rule in known}
        # What only pages from elsewhere have, and what `link.relative` says in other words.
        of_other_pages = {"page.unfinished-tag", "page.refused", "picture.left", "page.relative-address"}
        for path in sorted((ROOT / "src/pribble").rglob("*.py")):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if not (isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant)):
                    continue
                called, rule = ast.unparse(node.func), node.args[0].value
                if not called.endswith(("Finding", "report", "_report", "report.add")) or not isinstance(rule, str):
                    continue
                if rule.partition(".")[0] in groups and "." in rule and rule not in of_other_pages:
                    with self.subTest(path.name, rule=rule):
                        self.assertIn(rule, known)


class OfMessages(Case):
    def message(self, page: str = "", **given: Any) -> Message:
        html = f"{PAGE}<p>Your berth is B 14, and we look forward to seeing you at the harbour.</p>{page}"
        envelope = {"sender": "berths@skerrow.example", "to": "ana@example.org", "subject": "Berth B 14", **given}
        return Message(text="Your berth is B 14.", html=html, **envelope)

    def rules(self, message: Message | bytes, **given: Any) -> set[str]:
        return {one.rule for one in check_message(message, **given) if one.severity != "note"}

    def test_what_is_sound(self) -> None:
        self.assertEqual(self.rules(self.message()), set())
        self.assertEqual(self.rules(bytes(self.message())), set())

    def test_each_mistake(self) -> None:
        out = io.BytesIO()
        Image.new("RGB", (48, 48), "red").save(out, "WEBP")
        seal = Picture.from_bytes(out.getvalue())
        shown = f'<img src="cid:{seal.content_id("skerrow.example")}" width="48" height="48" alt="The seal">'
        cases = {one["rule"]: one for one in OF_MESSAGES}
        for rule in ("picture.cid-elsewhere", "link.unsafe"):
            self.assertEqual(self.rules(self.message(cases[rule]["before"])), {rule, *self.audited(rule)})
        framed = self.message(shown, pictures=[seal], id_domain="skerrow.example")
        self.assertEqual(
            [one.rule for one in check_message(framed) if one.rule.startswith("picture")], ["picture.format"]
        )
        self.assertEqual(self.rules(self.message(to=["ana@example.org", "Ana@example.org"])), {"envelope.doubled"})
        self.assertEqual(self.rules(self.message(sender="noreply@skerrow.example")), {"envelope.no-reply"})
        answered = self.message(sender="noreply@skerrow.example", reply_to="berths@skerrow.example")
        self.assertEqual(self.rules(answered), set())
        leaving = self.message(unsubscribe="https://skerrow.example/leave", one_click=True)
        self.assertEqual(self.rules(leaving), {"envelope.unsubscribe"})
        plain = bytes(leaving).replace(b"<https://skerrow.example/leave>", b"<mailto:leave@skerrow.example>")
        self.assertIn("envelope.unsubscribe", self.rules(plain))

    @staticmethod
    def audited(rule: str) -> set[str]:
        """What the audit says of the same."""
        return {"related.no-part"} if rule == "picture.cid-elsewhere" else set()

    def test_places_are_in_the_page_and_in_the_message(self) -> None:
        made = check_message(self.message('<a href="">Nowhere</a>'), name="draft.eml")
        (one,) = made.of("error")
        assert one.where is not None
        self.assertEqual((one.rule, one.where.source.name), ("link.empty", "draft.eml (text/html)"))

    def test_a_message_whose_header_nobody_can_read(self) -> None:
        raw = (ROOT / "tests/data/broken.eml").read_bytes()
        self.assertIn("addresses.comma-in-name", self.rules(raw))
        for odd in (b"", b"\0", b"From: \r\n\r\n<p>", b"Content-Type: text/html; charset=x\r\n\r\n<a href=''>x"):
            self.assertIn("subject.none", self.rules(odd))
        self.assertIn("link.empty", self.rules(b"Content-Type: text/html; charset=x\r\n\r\n<a href=''>x"))

    def test_the_demo_message(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        for template in folder.values():
            for data in template.samples.values():
                rendering = template.render(data)
                message = rendering.message(sender="berths@skerrow.example", to="ana@example.org")
                with self.subTest(template.name):
                    self.assertEqual(self.rules(message), set())


class Details(Case):
    """Cases that the designs do not have."""

    def test_what_a_value_is_not(self) -> None:
        self.assertEqual(
            set(found("<p>{{ name }} is here with many words to read today, and so on.", {"name": "Nullarbor"})),
            {"subject.lists-show", "weight.message"},
        )
        for word in ("None", "null", "[object Object]", "NaN"):
            self.assertIn("data.hollow", found("<p>Dear {{ name }}", {"name": word}))
        for words in ("Hello [object Object], bye", "It costs NaN", "on Invalid Date"):
            self.assertIn("data.hollow", found("<p>{{ name }}", {"name": words}), words)
        for words in ("none of it", "Nan Bell", "NaN-proof", "the null hypothesis"):
            self.assertNotIn("data.hollow", found("<p>Dear {{ name }}", {"name": words}), words)

    def test_what_was_encoded_twice_or_read_wrongly(self) -> None:
        for words in ("Caf&eacute;", "Tom &amp; Jerry", "&#8364; 5", "<b>bold</b>"):
            self.assertIn("data.twice-encoded", found("<p>{{ name }}", {"name": words}), words)
        for words in ("AT&T;", "R&D; and more", "a < b > c", "x&y;", "&nonsense;"):
            self.assertNotIn("data.twice-encoded", found("<p>{{ name }}", {"name": words}), words)
        for words in ("Müller", "€ 5", "it’s", "Škoda", "Ружа", "星野徹", "Ωmega άλφα", "–"):
            wrong = words.encode().decode("cp1252", "replace")
            self.assertIn("data.garbled", found("<p>{{ name }}", {"name": wrong}), wrong)
            self.assertNotIn("data.garbled", found("<p>{{ name }}", {"name": words}), words)
        for words in (
            "„FPÖ“",
            "São Paulo",
            "« À bientôt »",
            "CHÂTEAU",
            "NÃO",
            "Ångström",
            "10 °C",
            "Æ’s",
            "Ñandú",
            "Ð",
        ):
            self.assertNotIn("data.garbled", found("<p>{{ name }}", {"name": words}), words)

    def test_all_that_is_missing_is_named_at_once(self) -> None:
        (says,) = found("<p>{{ name }} {{ berth.number }} {{ name }} {{ until as date }}", {"until": "soon"})[
            "data.missing"
        ]
        self.assertIn('no field "name" in the data; no field "berth" in the data', says)
        self.assertIn("date takes a day", says)

    def test_words_left_alone(self) -> None:
        for page in (
            "Dear {{ n? }},",
            "Call ({{ n? }})",
            "Pay £{{ n? }} now",
            "Phone: {{ n? }}",
            "“{{ n? }}” is it",
            "<b>Hello {{ n? }}!</b>",
            "您好，{{ n? }}！",
            "编号（{{ n? }}）",
        ):
            self.assertIn("data.stranded", found(f"<p>{page}</p>"), page)
        for page in (
            "Dear {{ n? else 'you' }},",
            "{{ n? }} Hello",
            "Hello{{ n? }}.",
            "<td>{{ n? }}</td>",
            "Hello, {{ n? }} you",
        ):
            self.assertNotIn("data.stranded", found(f"<p>{page}</p>"), page)

    def test_placeholders_and_what_is_none(self) -> None:
        for left in (
            "[[code]]",
            "%%CODE%%",
            "${code}",
            "{first name}",
            "<<Code>>",
            "[Company]",
            "%name%",
            "«Name»",
            "[Your Name Here]",
            "[Insert date]",
            "{CUSTOMER_NAME}",
        ):
            made = found(f"<p>Your {left.replace('<', '&lt;')} is ready")
            self.assertIn("placeholder.left", made, left)
        for sound in (
            "a [sic] b",
            "50% of 20% off",
            "{curly} talk",
            "list[0]",
            "5 < 6 > 4",
            "$HOME is where",
            "«Bonjour» dit-il",
            "100%",
            "[1]",
            "[see above]",
            "[the harbour]",
            "[translated]",
        ):
            made = found(f"<p>We say {sound.replace('<', '&lt;')} here")
            self.assertNotIn("placeholder.left", made, sound)
        self.assertIn("placeholder.left", found("<p>{code} of {{ code }}", {"code": "7"}))
        self.assertNotIn("placeholder.left", found("<p>{{ code }}", {"code": "[name]"}))

    def test_flags_that_are_texts(self) -> None:
        self.assertIn("data.text-flag", found("{{ if paid: }}Paid{{ :if }}", {"paid": "false"}))
        self.assertIn("data.text-flag", found("{{ 'Paid' if not paid else 'Due' }}", {"paid": "no"}))
        self.assertIn(
            "data.text-flag",
            found("{{ for l in ls: }}{{ if l.x and true: }}x{{ :if }}{{ :for }}", {"ls": [{"x": 1}, {"x": "0"}]}),
        )
        self.assertNotIn("data.text-flag", found("{{ if paid == 'no': }}Due{{ :if }}", {"paid": "no"}))

    def test_contrast_needs_what_is_seen(self) -> None:
        grey = '<p style="color:#999">{}</p>'
        self.assertIn("contrast.text", found(grey.format("words")))
        for unseen in ("&nbsp;", "— · —", "<span hidden>words</span>", '<span style="color:#111">words</span>', ""):
            self.assertNotIn("contrast.text", found(grey.format(unseen)), unseen)
        self.assertNotIn("contrast.text", found('<p style="color:#888;font-size:24px">large'))
        self.assertIn("contrast.text", found('<p style="color:#888;font-size:20px">not so large'))
        self.assertNotIn("contrast.text", found('<p style="color:#888;font-size:20px;font-weight:700">bold'))
        self.assertIn("contrast.text", found('<div style="opacity:.4"><p style="color:#555">faded'))
        self.assertIn(
            "contrast.text", found('<table bgcolor="#222222"><tr><td><font color="#333333">dark</font></table>')
        )

    def test_contrast_where_a_viewer_turns_the_page_dark(self) -> None:
        page = '<p style="background:#7b7b7b;color:#000">words on a middle grey'
        self.assertIn("where a viewer turns the page dark", found(page)["contrast.text"][0])
        self.assertNotIn("contrast.text", found(page, viewers=["browser", "phone-dark"]))
        for sound in (
            "background:#fff;color:#222",
            "background:#14364f;color:#fff",
            "background:#ffd75e;color:#3a2c00",
        ):
            self.assertNotIn("contrast.text", found(f'<p style="{sound}">words'), sound)

    def test_code_is_no_placeholder(self) -> None:
        for page in ("<pre>expected [name] at ${HOME}</pre>", "<p>Write <code>{name}</code> and <kbd>%name%</kbd></p>"):
            self.assertNotIn("placeholder.left", found(page, {}), page)
        self.assertIn("placeholder.left", found("<pre>x</pre><p>Dear [name],"))

    def test_links(self) -> None:
        for rule, address in {
            "link.empty": "",
            "link.relative": "berths/14",
            "link.unreachable": "https://10.0.0.7/x",
            "link.plain-http": "http://skerrow.example/",
            "link.no-target": "#nowhere",
        }.items():
            self.assertIn(rule, found(f'<a href="{address}">See the berth</a>'), address)
        for host in ("printer", "[::1]", "stage.test", "x.local", "127.0.0.1:80", "LOCALHOST"):
            self.assertIn("link.unreachable", found(f'<a href="https://{host}/">See the berth</a>'), host)
        for address in (
            "https://skerrow.example/a b",
            "mailto:a@example.org",
            "tel:+441632960100",
            "#top",
            "https://8.8.8.8/",
        ):
            made = found(f'<a id="top" href="{address.replace(" ", "%20")}">See the berth</a>')
            self.assertEqual([rule for rule in made if rule.startswith("link")], [], address)
        self.assertIn("link.other-host", found('<a href="https://evil.example/">www.skerrow.org</a>'))
        self.assertNotIn("link.other-host", found('<a href="https://www.skerrow.co.uk/">skerrow.co.uk</a>'))
        self.assertNotIn(
            "link.other-host", found('<a href="https://track.skerrow.example/">skerrow.example/berths</a>')
        )
        template = Template.from_text(
            f'{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}<a href="https://localhost/">Ours</a>'
        )
        self.assertEqual([one.rule for one in check(template, data={}).of("error")], [])
        self.assertEqual(
            [one.rule for one in check(template, data={}, for_real_readers=True).of("error")], ["link.unreachable"]
        )

    def test_in_a_loop_the_same_label_may_lead_elsewhere(self) -> None:
        page = '{{ for l in ls: }}<a href="https://e.example/{{ l }}">Show</a> {{ :for }}'
        self.assertNotIn("link.same-label", found(page, {"ls": [1, 2, 3]}))
        self.assertIn("link.same-label", found(page + '<a href="https://e.example/x">Show</a>', {"ls": [1]}))

    def test_one_finding_a_rule_and_file_with_the_places_of_all(self) -> None:
        template = Template.from_text(
            f"{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}" + '<p><a href="">Nowhere</a></p>\n' * 3
        )
        (one,) = check(template, data={}).of("error")
        self.assertEqual([place.line for place in one.others], [2, 3])

    def test_allowed(self) -> None:
        link = '<p><a href="">One</a></p>'
        allow = "{{ # allow link.empty: it is made so }}"
        self.assertIn("link.empty", found(link))
        for page in (f"<div>{allow}{link}</div>", f"<p>{allow}<a href=''>One</a></p>"):
            made = found(page)
            self.assertNotIn("link.empty", made, page)
            self.assertNotIn("allow.idle", made)
        self.assertIn("link.empty", found(f"<div>{allow}{link}</div>{link}"))
        whole = Template.from_text(f"{allow}{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}{link}{link}")
        self.assertEqual(check(whole, data={}).of("error"), ())
        self.assertIn("allow.idle", found(f"<div>{allow}<p>words</p></div>"))
        self.assertIn("allow.reason", found("<div>{{ # allow link.empty }}" + link))
        self.assertNotIn("link.empty", found(link, off={"link.empty"}))

    def test_data_that_several_templates_share(self) -> None:
        one, two = (Template.from_text(f"{PAGE}<p>{{{{ {name} }}}}", name=name) for name in ("a", "b"))
        data = {"a": 1, "b": 2, "c": {"d": 3}}
        (unused,) = (found for found in check([one, two], data=data) if found.rule == "data.unused")
        self.assertIn("template asks for: c", unused.message)

    def test_coverage_is_counted_together(self) -> None:
        template = Template.from_text(f"{PAGE}{{{{ if x: }}}}A{{{{ :else: }}}}B{{{{ :if }}}}")
        made = check([template], data={"x": True})
        self.assertEqual((made.overall.tried, len(made.overall.ways)), (1, 2))
        (way,) = made.coverage["template"].untried
        self.assertEqual(way.what, "this branch")

    def test_an_argument_of_another_kind(self) -> None:
        with self.assertRaises(TypeError):
            check([3])  # type: ignore[list-item]
        with self.assertRaises(TypeError):
            check_message("text")  # type: ignore[arg-type]
        with self.assertRaises(TypeError):
            check(Template.from_text("x"), recipients="7")  # type: ignore[arg-type]


class Commands(Case):
    @slow
    def test_the_demo(self) -> None:
        done = pribble("check", "--templates", str(DEMO), "--all")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertRegex(done.stdout, r"\d+ notes; 6 templates, whose samples try \d+ of \d+ ways\.")
        self.assertNotRegex(done.stdout, "  (error|warning) ")

    def test_findings_in_json(self) -> None:
        folder = self.folder(
            {
                "a.html": f'{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}<p>Dear {{{{ name }}}}, <a href="">go</a>',
                "a.sample.json": '{"name": "null"}',
            }
        )
        done = pribble("check", "--templates", str(folder.path), "a", "--json")
        self.assertEqual(done.returncode, 1)
        (answer,) = json.loads(done.stdout)
        error = answer["findings"][0]
        self.assertEqual((error["rule"], error["severity"], error["where"]["line"]), ("link.empty", "error", 1))
        self.assertTrue(error["message"] and error["fix"] and error["reference"])
        hollow = next(one for one in answer["findings"] if one["rule"] == "data.hollow")
        self.assertEqual(hollow["data"], "name")
        self.assertEqual(answer["coverage"]["a"], {"ways": 0, "tried": 0})

    def test_strict_and_settings(self) -> None:
        page = f"{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}<p style='color:#999'>grey words"
        folder = self.folder({"a.html": page})
        given = ("check", "--templates", str(folder.path), "a")
        here = folder.path
        self.assertEqual(pribble(*given, cwd=here).returncode, 0)
        self.assertEqual(pribble(*given, "--strict", cwd=here).returncode, 1)
        settings = folder.path / "pribble.toml"
        for written, code in (
            ("[check]\nstrict = true\n", 1),
            ('[check]\nstrict = true\n[check.off]\n"contrast.text" = "the brand is grey"\n', 0),
        ):
            settings.write_text(written, encoding="utf-8")
            self.assertEqual(pribble(*given, cwd=here).returncode, code)
        for written, says in (
            ('[check.off]\n"contrast.words" = "x"\n', "names no rule"),
            ('[check.off]\n"contrast.text" = ""\n', "the reason why"),
            ("[check]\nstrict = 1\n", "true or false"),
            ("[check]\nstrickt = true\n", 'did you mean "strict"'),
        ):
            settings.write_text(written, encoding="utf-8")
            done = pribble(*given, cwd=here)
            self.assertEqual(done.returncode, 1)
            self.assertIn(says, done.stderr)

    def test_what_mends_itself(self) -> None:
        page = (
            "\ufeff<!DOCTYPE html>\r\n<html>\r\n<head><style>.o { background-image: url(waves.png); color: #fff }</style></head>\r\n"
            "<body style='background:#fff'>{{ subject: }}x{{ :subject }}\r\n<table><tr><td class='o'>White words</td></tr></table>\r\n"
            '<p><IMG src="seal.png" width="48"> and more words\r\n{{ for n in ns: }}<img src="seal.png" alt="{{ n }}" width="48" height="48">{{ :for }}\r\n'
        )
        pictures = {
            f"templates/{name}.png": (DESIGNS / f"pictures/{name}.png").read_bytes() for name in ("waves", "seal")
        }
        folder = self.folder({"templates/a.html": page, "templates/a.sample.json": '{"ns": [1, 2]}', **pictures,
                              "templates/a.de.html": page.replace("<html>", '<html lang="de">')})  # fmt: skip
        template = folder.path / "templates/a.html"
        given = ("check", "a", "--no-notes", "--fix")
        done = pribble(*given, cwd=folder.path)
        self.assertIn('+<table role="presentation"><tr><td bgcolor="#222222" class=', done.stdout)
        self.assertIn("nothing is written", done.stderr)
        self.assertEqual(template.read_bytes().decode(), page)
        self.assertEqual(
            pribble(*given, "--yes", "--json", cwd=folder.path).returncode, 1
        )  # it was found, and is mended
        mended = template.read_bytes().decode()
        self.assertTrue(mended.startswith('\ufeff<!DOCTYPE html>\r\n<html lang="en">\r\n'))
        self.assertIn('<IMG alt="" height="48" src="seal.png" width="48">', mended)
        self.assertEqual(mended.count("\n"), mended.count("\r\n"))
        done = pribble(*given, "--yes", cwd=folder.path)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertNotIn("warning ", done.stdout)
        self.assertEqual(template.read_bytes().decode(), mended)
        self.assertIn("--yes", pribble("check", "a", "--yes", cwd=folder.path).stderr)

    def test_how_it_is_called(self) -> None:
        for given, says in (
            ((), "say what to check"),
            (("--recipients", "0", "x"), "no number of messages"),
            (("nobody",), "there is no template"),
            (("nothing.eml",), "there is no file"),
        ):
            done = pribble("check", "--templates", str(DEMO), *given)
            self.assertEqual(done.returncode, 2, given)
            self.assertIn(says, done.stderr)
        rules = pribble("check", "--rules").stdout.split("\n")
        self.assertEqual([line.split()[0] for line in rules if line], list(RULES))
        self.assertEqual([one["rule"] for one in json.loads(pribble("check", "--rules", "--json").stdout)], list(RULES))

    def test_a_message(self) -> None:
        raw = bytes(OfMessages().message('<a href="https://localhost/">Ours</a>'))
        here = self.folder({"a.eml": raw}).path
        self.assertEqual(pribble("check", "a.eml", cwd=here).returncode, 0)
        done = pribble("check", "a.eml", "--for-real-readers", cwd=here)
        self.assertEqual(done.returncode, 1)
        self.assertIn("a.eml (text/html)", done.stdout)

    def test_data_from_a_file(self) -> None:
        page = f"{PAGE}{{{{ subject: }}}}x{{{{ :subject }}}}<p>Dear {{{{ name }}}},"
        folder = self.folder({"templates/a.html": page, "data.json": json.dumps(SAMPLE)})
        done = pribble("check", "a", "--data", "data.json", "--recipients", "1000", cwd=folder.path)
        self.assertEqual(done.returncode, 0)
        self.assertIn("lines", done.stdout)
        self.assertIn("for 1,000 recipients", done.stdout)


if __name__ == "__main__":
    unittest.main()
