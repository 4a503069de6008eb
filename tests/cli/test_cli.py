"""The command line, as a user runs it: output, exit codes, errors; and the examples."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import unittest
from email import message_from_bytes, policy
from pathlib import Path

from pribble.demo import defects
from tests.support import DEMO, ROOT, TEST_DATA, Case, pribble, pribble_process, slow

SAMPLE = DEMO / "berth-confirmed.sample.json"


class Render(Case):
    def test_the_forms(self) -> None:
        eml = pribble(
            "render",
            "berth-confirmed",
            "--data",
            str(SAMPLE),
            "--to",
            "Ana <ana@example.org>",
            "--format",
            "eml",
            "--quiet",
        )
        self.assertEqual((eml.returncode, eml.stderr), (0, ""))
        message = message_from_bytes(eml.stdout.encode(), policy=policy.default)
        self.assertEqual(list(defects(message)), [])
        self.assertEqual(message["Subject"], "Berth B 14 is yours from 3 July")
        self.assertEqual(
            pribble("render", "berth-confirmed", "--format", "subject").stdout, "Berth B 14 is yours from 3 July\n"
        )
        self.assertIn("Dear Ana Ferreira-Björk,\n", pribble("render", "berth-confirmed", "--format", "text").stdout)
        html = pribble("render", str(DEMO / "berth-confirmed.html"), "--format", "html").stdout
        self.assertIn("data:image/png;base64,", html)
        self.assertNotIn("cid:", html)
        self.assertIn("cid:", pribble("render", "berth-confirmed", "--format", "html", "--embed", "cid").stdout)

    def test_data_from_standard_input_and_single_fields(self) -> None:
        done = pribble(
            "render",
            "desk-copy",
            "--format",
            "subject",
            "--data",
            "-",
            "--set",
            "berth.number=7",
            "--set",
            "vessel.name=Tern",
            "--set",
            'charges[0].what="x"',
            stdin=SAMPLE.read_text(),
        )
        self.assertEqual(done.stdout, "SH-2026-0417: Tern on B 7, 03/07/2026 to 07/07/2026\n", done.stderr)
        german = pribble("render", "berth-confirmed", "--format", "subject", "--locale", "de-AT")
        self.assertEqual(german.stdout, "Ihr Liegeplatz B 14 ab 3. Juli\n")
        late = pribble("render", "gate-code", "--format", "text", "--timezone", "Asia/Tokyo")
        self.assertIn("until Sunday 07:00", late.stdout)

    def test_what_is_found_is_told(self) -> None:
        page = "<!DOCTYPE html><title>T</title><a href='x'>y</a><img src='a.png' width=32>{{ n }}"
        logo = (DEMO / "pictures/logo.png").read_bytes()
        folder = self.folder({"t.html": page, "a.png": logo, "u.html": "<!DOCTYPE html><title>U</title>x"}).path
        given = ("--data", "-", "--locale", "de", "--from", "a@example.org")
        told = {"page.relative-address", "picture.size", "picture.resample", "locale.other-language"}
        for command in (
            ("render", *given),
            ("render", *given, "--format", "text"),
            ("send", *given, "--to", "b@example.org", "--through", f"folder:{folder}/out"),
        ):
            call = (command[0], str(folder / "t.html"), *command[1:])
            done = pribble(*call, stdin='{"n": 1.5}')
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("t.html:1:41: a relative address leads nowhere in a message (write it from", done.stderr)
            self.assertIn("is asked for in de and written in en", done.stderr)
            self.assertEqual(len(re.findall(r"^\S.*\(.*\)$", done.stderr, re.MULTILINE)), 4, done.stderr)
            self.assertEqual(pribble(*call, "--quiet", stdin='{"n": 1.5}').stderr, "")
            answer = pribble(*call, "--json", stdin='{"n": 1.5}')
            found = json.loads(answer.stdout)["findings"]
            self.assertEqual(({one["rule"] for one in found}, answer.stderr), (told, ""))
            where = next(one["where"] for one in found if one["rule"] == "page.relative-address")
            self.assertEqual((page[where["start"] : where["end"]], where["line"], where["column"]), ("x", 1, 41))
        self.assertEqual(pribble("render", str(folder / "u.html"), "--from", "a@example.org").returncode, 0)

    def test_senders_versions_and_whole_options(self) -> None:
        folder = self.folder({"t.html": "x", "pribble.toml": '[senders]\noffice = "Office <o@example.org>"\n'}).path
        call = ("render", str(folder / "t.html"))
        self.assertIn("From: Office <o@example.org>", pribble(*call, "--from", "office", cwd=folder).stdout)
        wrong = pribble(*call, "--from", "ofice", cwd=folder)
        self.assertEqual(wrong.returncode, 2)
        self.assertIn('"ofice" is no address, and no name in [senders]', wrong.stderr)
        self.assertIn('did you mean "office"?', wrong.stderr)
        self.assertRegex(pribble("--version").stdout, r"^pribble [0-9]+\.[0-9]+")
        for command in ("render t --form text", "send t --to b --thr x", "convert p --wid 3", "fields t --samp csv"):
            done = pribble(*command.split())
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn("unrecognized arguments", done.stderr)

    def test_a_message_without_a_subject_is_told(self) -> None:
        folder = self.folder({"t.html": "<!DOCTYPE html><p>x", "s.html": "<!DOCTYPE html><title>Hi</title><p>x"}).path
        says = "this message has no subject (the template says one in a subject: block, or in <title>)\n"
        for name, told in (("t", says), ("s", "")):
            data = ("--data", "-", "--from", "a@example.org")
            done = pribble("render", str(folder / f"{name}.html"), *data, stdin="{}")
            self.assertEqual((done.returncode, done.stderr), (0, told))
            self.assertEqual(
                pribble("render", str(folder / f"{name}.html"), *data[:2], "--format", "html", stdin="{}").stderr, ""
            )
            out = ("--to", "b@example.org", "--through", f"folder:{folder}/out")
            self.assertEqual(pribble("send", str(folder / f"{name}.html"), *data, *out, stdin="{}").stderr, told)

    def test_transports_have_names(self) -> None:
        toml = """
            senders.default = "Office <o@example.org>"
            [transports.default]
            url = "folder:out"
            [transports.for-review]
            url = "drafts+folder:to-look-at"
            [transports.office]
            url = "smtps://me@127.0.0.1:1"
        """
        folder = self.folder({"t.html": "<!DOCTYPE html><title>T</title>x", "pribble.toml": toml}).path
        send = ("send", str(folder / "t.html"), "--to", "Ana <ana@example.org>", "--bcc", "b@example.org")
        for options, into, says in (
            ((), "out", "written to out/"),
            (("--through", "for-review"), "to-look-at", "kept as a draft in to-look-at/"),
            (("--draft",), "drafts", "kept as a draft in drafts/"),
            (("--draft", "--through", "for-review"), "to-look-at", "kept as a draft in to-look-at/"),
            (("--draft", "--through", "folder:here"), "here", "kept as a draft in here/"),
        ):
            with self.subTest(options):
                done = pribble(*send, *options, cwd=folder)
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertIn(f"ana@example.org: accepted ({says}", done.stdout)
                (path,) = (folder / into).glob("*.eml")
                self.assertEqual(b"\r\nBcc: " in path.read_bytes(), into != "out")
                path.unlink()
        for options, code, says in (
            (
                ("--through", "offices"),
                2,
                '"offices" is no name in [transports] of pribble.toml (did you mean "office"?)',
            ),
            (("--through", "office"), 3, "wants a password"),
            (("--draft", "--through", "default"), 2, "--draft sends nothing"),
            (("--draft", "--through", "smtp://h"), 2, "--draft sends nothing"),
        ):
            with self.subTest(options):
                done = pribble(*send, *options, cwd=folder)
                self.assertEqual(done.returncode, code)
                self.assertIn(says, done.stderr)
        wanted = pribble(*send, "--through", "office", cwd=folder, environment={"PRIBBLE_PASSWORD_OFFICE": "tide"})
        self.assertIn("cannot be reached", wanted.stderr)
        self.assertNotIn("tide", wanted.stderr)

    def test_transports_that_cannot_be(self) -> None:
        for toml, says in (
            ('through = "folder:x"', '"through" means nothing here'),
            ("transports = 1", '"transports" is a table'),
            ('[transports]\ndefault = "folder:x"', '"transports.default" is a table'),
            ('[transports."a b"]\nurl = "folder:x"', '"transports.a b" has a name of letters'),
            ("[transports.a]", '"transports.a" has no url'),
            ('[transports.a]\nul = "x"', '"transports.a.ul" means nothing here (did you mean "url"?)'),
            ("[transports.a]\nurl = 1", '"transports.a.url" is a text'),
            ('[transports.default]\nurl = "carrier:x"', "names no transport"),
            (
                '[transports.default]\nurl = "folder:x"\n[transports.a-b]\nurl = "folder:x"\n[transports.a_b]\nurl = "folder:x"',
                "would both have their password",
            ),
        ):
            with self.subTest(toml):
                folder = self.folder({"t.html": "<!DOCTYPE html><title>T</title>x", "pribble.toml": toml}).path
                done = pribble(
                    "send", str(folder / "t.html"), "--from", "a@x.example", "--to", "b@x.example", cwd=folder
                )
                self.assertIn(done.returncode, (1, 2))
                self.assertIn(says, done.stderr)

    def test_out_and_json(self) -> None:
        folder = self.folder()
        out = folder.path / "m.eml"
        done = pribble("render", "desk-copy", "--out", str(out), "--attach", str(SAMPLE), "--json")
        said = json.loads(done.stdout)
        self.assertEqual((said["file"], said["bytes"]), (str(out), out.stat().st_size))
        message = message_from_bytes(out.read_bytes(), policy=policy.default)
        self.assertEqual([p.get_filename() for p in message.iter_attachments()], [SAMPLE.name])
        self.assertEqual(os.listdir(folder.path), ["m.eml"])

    def test_fields(self) -> None:
        found = json.loads(pribble("fields", "berth-confirmed", "--json").stdout)
        self.assertIn(
            {"path": "charges[].price", "kind": "number", "optional": False},
            [{k: f[k] for k in ("path", "kind", "optional")} for f in found],
        )
        skeleton = pribble("fields", "berth-confirmed", "--sample", "json").stdout
        rendered = pribble(
            "render",
            "berth-confirmed",
            "--format",
            "subject",
            "--data",
            "-",
            "--set",
            "currency=EUR",
            "--set",
            "berth.pier=A",
            "--set",
            "booking.link=https://skerrow.example",
            "--quiet",
            stdin=skeleton,
        )
        self.assertEqual((rendered.stdout, rendered.stderr), ("Berth A text is yours from 3 July\n", ""))
        table = pribble("fields", "gate-code", "--sample", "csv")
        self.assertEqual(
            table.stdout, "code,berth.pier,skipper.name,until,opens\ntext,text,text,2026-07-03T18:30:00Z,1\n"
        )
        self.assertEqual(table.stderr, "left out, since no row can hold a list: shared\n")
        self.assertRegex(
            pribble("fields", "desk-copy").stdout, r"skipper\.phone +text +yes +desk-copy\.html:\d+:\d+ +3"
        )


ERRORS = [
    # (arguments, exit code, what standard error begins with, and what it holds)
    (
        ["render", "berth-confirmed", "--data", "{missing}"],
        1,
        'src/pribble/demo/templates/berth-confirmed.html:6:96: no field "name" in vessel',
        "^^^^",
    ),
    (["render", "berth-confirmd"], 2, 'there is no template "berth-confirmd"', 'did you mean "berth-confirmed"?'),
    (["render", "x", "--templates", "nowhere"], 2, "there is no template folder nowhere", "--templates"),
    (["render", "berth-confirmed", "--data", "no.json"], 2, "there is no file no.json", ""),
    (["render", "berth-confirmed", "--data", "Makefile"], 1, "Makefile:1:1: this is no JSON", "^"),
    (
        ["render", "berth-confirmed", "--from", "a@x.example\nBcc: b@x.example"],
        1,
        "From: a line feed (U+000A) at position 11",
        "",
    ),
    (["render", "berth-confirmed", "--to", "a@x.example\r"], 1, "To: a carriage return", ""),
    (
        ["render", "berth-confirmed", "--to", "ana"],
        1,
        'To: "ana" is no address',
        "an address has a local part, an @ and a domain",
    ),
    (
        ["render", "berth-confirmed", "--set", "berth.pier=Z"],
        1,
        "src/pribble/demo/templates/berth-confirmed.html:16:",
        'did you mean "pier-c.png"?',
    ),
    (["render", "gate-code", "--format", "html"], 2, '"gate-code" is text only', ""),
    (["render", "berth-confirmed", "--set", "oops"], 2, "--set takes PATH=VALUE", ""),
    (["render", "berth-confirmed", "--locale", "xx_YY"], 2, '"xx_YY" is no locale', ""),
    (["render", "berth-confirmed", "--timezone", "Mars/Base"], 2, '"Mars/Base" is no time zone', ""),
    (["send", "berth-confirmed", "--to", "a@x.example"], 2, "say how to send it", "--through"),
    (
        ["send", "berth-confirmed", "--to", "a@x.example", "--through", "carrier:pigeon"],
        2,
        '"carrier:pigeon" names no transport',
        "",
    ),
    (
        ["send", "berth-confirmed", "--to", "a@x.example", "--through", "smtp://u:p@h"],
        2,
        "a password has no place in an address",
        "PRIBBLE_PASSWORD",
    ),
    (
        ["send", "berth-confirmed", "--to", "a@x.example", "--through", "smtp://127.0.0.1:1", "--quiet"],
        3,
        "127.0.0.1:1 cannot be reached",
        "",
    ),
    (
        ["send", "berth-confirmed", "--to", "a@x.example", "--through", "smtp://me@127.0.0.1:1", "--quiet"],
        3,
        "127.0.0.1:1 wants a password",
        "PRIBBLE_PASSWORD",
    ),
    (["render"], 2, "usage: pribble render", ""),
    (["render", "berth-confirmed", "--quiet", "--out", "no/such/folder/x"], 2, "no/such/folder", ""),
]


class Errors(Case):
    def test_errors_name_place_and_hint_and_set_the_exit_code(self) -> None:
        folder = self.folder()
        missing = folder.path / "missing.json"
        data = json.loads(SAMPLE.read_text())
        del data["vessel"]["name"]
        missing.write_text(json.dumps(data))
        for arguments, code, begins, holds in ERRORS:
            with self.subTest(arguments):
                done = pribble(*[a.replace("{missing}", str(missing)) for a in arguments])
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertEqual(done.stdout, "")
                self.assertTrue(done.stderr.startswith(begins) or begins in done.stderr.splitlines()[0], done.stderr)
                self.assertIn(holds, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_errors_are_the_answer_in_json(self) -> None:
        for arguments, code, begins, _ in ERRORS:
            if "{missing}" not in arguments:
                with self.subTest(arguments):
                    done = pribble(*arguments, "--json")
                    said = json.loads(done.stdout)["error"]
                    self.assertEqual((done.returncode, done.stderr, said["exit_code"]), (code, "", code))
                    where = said["where"]
                    place = f"{where['file']}:{where['line']}:{where['column']}: " if where else ""
                    first = begins.removeprefix("usage: ").split(":")[-1].strip()
                    self.assertIn(first[:12], f"{place}{said['message']} {said['hint']}")

    def test_settings_file(self) -> None:
        for text, expected in [
            ("templtes = 1", 'did you mean "templates"?'),
            ("x", "pribble.toml"),
            ("[pictures]\nebed = 1", '"pictures.ebed" means nothing here'),
            ("[senders]\ndefault = 1", '"senders.default" is a mailbox'),
        ]:
            folder = self.folder({"pribble.toml": text})
            done = pribble("fields", "x", cwd=folder.path, environment={"PYTHONPATH": str(ROOT / "src")})
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertIn(expected, done.stderr)


BROKEN = TEST_DATA / "broken.eml"


class Auditing(Case):
    def test_a_broken_message(self) -> None:
        done = pribble("audit", str(BROKEN))
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        for expected in (
            "multipart/related",
            "error addresses.comma-in-name  line 2, RFC 5322 3.4",
            "  From: Skerrow Haven, Berth Office <berths@skerrow.example>\n        ^^^^^^^^^^^^^\n",
            '  fix: put the whole name in quotes: "Bell, Ana" <ana@example.org>',
            "12 errors, 7 warnings, 1 note.",
        ):
            self.assertIn(expected, done.stdout)
        (said,) = json.loads(pribble("audit", "--json", str(BROKEN)).stdout)
        self.assertEqual((said["sound"], len(said["findings"])), (False, 20))
        self.assertEqual([part["type"] for part in said["parts"]["parts"]], ["text/html", "image/png"])
        raw = BROKEN.read_bytes()
        for finding in said["findings"]:
            excerpt = finding["excerpt"].strip("…").encode()[:20]
            line = raw.split(b"\n")[finding["line"] - 1]
            self.assertIn(excerpt, line)
            self.assertEqual(raw[: finding["offset"]].count(b"\n") + 1, finding["line"])

    def test_sound_ones_and_several(self) -> None:
        eml = pribble("render", "gate-code", "--to", "ana@example.org").stdout
        path = self.folder({"code.eml": eml}).path / "code.eml"
        done = pribble("audit", str(path), "--submitted", "--no-smtputf8")
        self.assertEqual(done.returncode, 0)
        self.assertIn("No departure from the standards.", done.stdout)
        both = pribble("audit", str(path), str(BROKEN))
        self.assertEqual(both.returncode, 1)
        self.assertIn("code.eml", both.stdout)
        much = json.loads(pribble("audit", "-", "--json", stdin="Subject: x\n\n" + "y\n" * 50).stdout)
        self.assertEqual({f["times"] for f in much[0]["findings"] if f["rule"] == "lines.bare-lf-body"}, {50})
        self.assertIn(
            "30 more of lines.bare-lf-body", pribble("audit", "-", stdin="Subject: x\n\n" + "y\n" * 50).stdout
        )
        missing = pribble("audit", "nothing.eml")
        self.assertEqual((missing.returncode, missing.stderr), (2, "there is no file nothing.eml\n"))


class Terminals(Case):
    """What somebody else wrote does not steer the terminal of who reads about it."""

    CONTROLS = "\x1b]0;title\x07\x1b[2J\x9b31m\x08\x7f\u202e"

    def test_no_control_character_comes_through(self) -> None:
        bad = self.CONTROLS
        header = (
            f"From: {bad}a@example.org\r\nSubject: Tide {bad}\r\nX-{bad}: x\r\nTo: {bad}\r\nMIME-Version: 1.0\r\n"
            f'Content-Type: multipart/mixed; boundary="b"; x="{bad}"\r\n\r\n'
        )
        parts = (
            f"--b\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<title>{bad}</title><p style='color:{bad}'>[{bad}] {bad}"
            f"<a href='http://x.example/{bad}'>{bad}</a><img src='{bad}.png' alt='{bad}'><img src='cid:{bad}'>\r\n"
            f'--b\r\nContent-Type: image/{bad}; name="{bad}"\r\nContent-ID: <{bad}>\r\n\r\nx\r\n'
            f'--b\r\nContent-Type: application/x; name="{bad}"\r\nContent-Disposition: attachment; filename="{bad}"\r\n\r\nx\r\n'
            "--b--\r\n"
        )
        path = self.folder({"a.eml": header + parts, "b.eml": "From: a@example.org\r\n\r\nx", "t/a.html": bad}).path
        for command in (
            "audit a.eml",
            "check a.eml",
            "differences a.eml b.eml",
            "differences b.eml a.eml --all",
            "adopt a.eml --name a --placeholder \\[(.)",
            f"adopt a.eml --name b --field {bad}=who",
            "check a --templates t",
            f"render {bad}",
            f"differences {bad} {bad}",
            f"adopt {bad}.zip --name x",
        ):
            with self.subTest(command):
                done = pribble(*command.split(" "), cwd=path)
                said = done.stdout + done.stderr
                self.assertGreater(len(said), 20)
                self.assertEqual([each for each in said if each != "\n" and not each.isprintable()], [], said)


class DemoAndExamples(Case):
    @slow
    def test_demo(self) -> None:
        out = self.folder().path / "out"
        done = pribble_process("demo", "--out", str(out))
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for expected in ("Berth B 14 is yours", "2 of 2", "1 of 1", "sound", "text/calendar"):
            self.assertIn(expected, done.stdout)
        said = json.loads(pribble("demo", "--out", str(out), "--json").stdout)
        self.assertEqual(
            [(m["template"], m["defects"], m["departures"], m["pictures_unresolved"]) for m in said["messages"]],
            [
                ("berth-confirmed", [], [], 0),
                ("berth-confirmed.de", [], [], 0),
                ("desk-copy", [], [], 0),
                ("gale-warning", [], [], 0),
                ("gate-code", [], [], 0),
                ("mooring-statement", [], [], 0),
            ],
        )
        self.assertEqual(
            [Path(m["message"]).name for m in said["messages"]][:2], ["berth-confirmed.eml", "berth-confirmed.de.eml"]
        )
        self.assertIn(f"\n  {said['preview']}\n", done.stdout)
        self.assertEqual(said["booked"]["again"], False)
        self.assertEqual([line.rpartition(": ")[2] for line in said["booked"]["lines"]], ["accepted"] * 3)
        notice = said["notice"]
        self.assertIn("nobody twice", done.stdout)
        self.assertEqual(notice["received_more"], 0)
        self.assertLess(notice["received_before_kill"], 50)  # it was killed indeed
        counted = json.loads(pribble("journal", notice["journal"], "--json").stdout)["jobs"][0]["states"]
        self.assertEqual((sum(counted.values()), counted["refused"]), (120, 2))
        accepted, in_doubt = counted["accepted"], counted.get("in_doubt", 0)
        self.assertTrue(accepted <= notice["received_once"] <= accepted + in_doubt <= accepted + 2, counted)
        self.assertGreater(Path(said["preview"]).stat().st_size, 200_000)
        for message in said["messages"]:
            for kind in ("message", "html", "text"):
                if message[kind] is not None:
                    self.assertGreater(Path(message[kind]).stat().st_size, 200)

    @slow
    def test_examples_run(self) -> None:
        cwd = self.folder().path
        for example in sorted((ROOT / "examples").glob("*.py")):
            with self.subTest(example.name):
                done = subprocess.run(
                    [sys.executable, str(example)], capture_output=True, text=True, cwd=cwd, timeout=120
                )
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertTrue(done.stdout)


if __name__ == "__main__":
    unittest.main()
