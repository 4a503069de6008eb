"""What the documentation shows is run: the examples of docs/language.md and places.md with the demo's data."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import unittest
import zipfile
from contextlib import chdir, redirect_stdout
from email import message_from_bytes, policy
from io import StringIO
from pathlib import Path

from tools import interface_page
from tools.tables import DOCS, TABLES, written

import pribble
from pribble import PribbleError, Template, TemplateFolder
from pribble.demo import defects
from pribble.mime.audit.rules import RULES
from pribble.mime.fields import FIELDS
from tests.delivery.killing import receiving
from tests.servers import free_port
from tests.serving.served import TOKEN, Process
from tests.support import DEMO, ROOT, Case, pribble_process, slow


class Documentation(Case):
    def test_examples_of_the_language_and_its_places(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        data = {**folder["mooring-statement"].samples[""], **folder["berth-confirmed"].samples[""]}
        page = "".join((ROOT / f"docs/{name}.md").read_text(encoding="utf-8") for name in ("language", "places"))
        examples = re.findall(r"```pribble\n(.*?)```", page, re.DOTALL)
        self.assertGreater(len(examples), 14)
        for example in examples:
            for template, kind, expected in re.findall(r"(.*?)\n(→|error:) ?(.*)\n", example):
                with self.subTest(template):
                    if kind == "error:":
                        with self.assertRaises(PribbleError) as caught:
                            Template.from_text(template, folder=folder).render(data)
                        error = caught.exception  # not as a string: its layout hangs on the folder's path
                        self.assertIn(expected, f"{error.problem} ({error.hint})")
                    else:
                        made = str(Template.from_text(template, folder=folder).render(data).html)
                        self.assertEqual(re.sub("[\u00a0\u202f]", " ", made).rstrip(), expected)

    def test_every_row_of_every_table_is_written_up(self) -> None:
        for page, _ in TABLES.values():
            with self.subTest(page):
                self.assertEqual((DOCS / page).read_text(encoding="utf-8"), written(page), "python -m tools.tables")
        page = (DOCS / "mime.md").read_text(encoding="utf-8")
        self.assertEqual(re.findall(r"^\| `(\S+)` \| \w+ \| ", page, re.MULTILINE), list(RULES))
        self.assertEqual(
            re.findall(r"^\| ([A-Z][\w-]+) \| ", page, re.MULTILINE), [one.name for one in FIELDS.values()]
        )

    def test_every_public_name_is_written_up(self) -> None:
        self.assertEqual(interface_page.PAGE.read_text(encoding="utf-8"), interface_page.written())
        shown = [thing.__name__ for _, things in interface_page.CHAPTERS.values() for thing in things]
        self.assertEqual(set(pribble.__all__) - set(shown), set())

    def test_links_lead_somewhere(self) -> None:
        for path in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
            for link in re.findall(r"\]\(([^)#]+)\)", path.read_text(encoding="utf-8")):
                self.assertTrue((path.parent / link).exists(), f"{path.name}: {link}")


class Commands(Case):
    """What is printed is run, in the folder where its reader stands."""

    @slow
    def test_the_readme(self) -> None:
        folder, page = self.folder().path, (ROOT / "README.md").read_text(encoding="utf-8")
        section = page.partition("## A first message")[2].partition("\n## ")[0]
        (html,), (sample,) = (re.findall(rf"```{kind}\n(.*?)```", section, re.DOTALL) for kind in ("html", "json"))
        first, many = re.findall(r"```python\n(.*?)```", section, re.DOTALL)
        said, error = re.findall(r"```\n\n?```\n(.*?)```|\n```\n(templates/.*?)```", section, re.DOTALL)
        (folder / "templates").mkdir()
        template = folder / "templates/welcome.html"
        template.write_text(html, encoding="utf-8")
        (folder / "templates/welcome.sample.json").write_text(sample, encoding="utf-8")
        self.assertEqual(self.python(folder, first).rstrip(), said[0].rstrip())
        made = message_from_bytes((folder / "welcome.eml").read_bytes(), policy=policy.default)
        self.assertEqual([*defects(made)], [])
        port = str(free_port())
        self.assertEqual(self.commands(folder, section.replace("8025", port)), 9)
        self.assertEqual(self.python(folder, f"{first}\n{many}".replace("8025", port)).rstrip(), said[0].rstrip())
        self.assertEqual(len(list((folder / "received").glob("*.eml"))), 51)
        template.write_text(html.replace('skipper.name? else "skipper"', "skiper.name"), encoding="utf-8")
        self.assertEqual(pribble_process("render", "welcome", cwd=folder).stderr.strip(), error[1].strip())

    @slow
    def test_a_page_that_somebody_else_designed(self) -> None:
        page = (ROOT / "README.md").read_text(encoding="utf-8")
        section = page.partition("## From a page that somebody else designed")[2].partition("\n## ")[0]
        folder = self.folder().path
        with zipfile.ZipFile(folder / "spring.zip", "w") as archive:
            archive.writestr(
                "page.html", "<title>Berth [berth]</title><img src=a/i.png alt=Tides><p>Dear [name]: [berth]"
            )
            archive.writestr("a/i.png", (DEMO / "pictures/logo.png").read_bytes())
        self.assertEqual(self.commands(folder, section.replace("8025", str(free_port()))), 5)
        (received,) = (folder / "received").glob("*.eml")
        made = message_from_bytes(received.read_bytes(), policy=policy.default)
        self.assertEqual(made["Subject"], "Berth berth")
        self.assertEqual([*defects(made)], [])
        self.assertIn("image/png", [part.get_content_type() for part in made.walk()])

    @slow
    def test_the_other_pages(self) -> None:
        folder = self.folder({"page.html": "<h1>Tides</h1><p>High at 06:12", "map.pdf": b"%PDF-1.7"}).path
        shutil.copytree(DEMO, folder / "templates")
        for name in ("pribble.toml", "skippers.csv"):
            shutil.copy(DEMO.parent / name, folder)
        raw = b"From: a@example.org\r\nDate: Fri, 03 Jul 2026 10:15:00 +0100\r\n\r\nx\r\n"
        templates = TemplateFolder(DEMO)
        booking = templates["berth-confirmed"].samples[""]
        given = {"templates": templates, "booking": booking, "raw": raw}
        for path in sorted((ROOT / "docs").glob("*.md")):
            page = path.read_text(encoding="utf-8")
            names = {**given, "rendering": templates["berth-confirmed"].render(booking), "__name__": "docs"}
            for example, _, said in re.findall(r"```python\n(.*?)```(\n\n```\n(.*?)```)?", page, re.DOTALL):
                if path.name == "interface.md":
                    continue  # signatures
                with self.subTest(path.name, example=example[:60]), chdir(folder), redirect_stdout(StringIO()) as out:
                    exec(compile(example, path.name, "exec", dont_inherit=True), names)
                if said:
                    self.assertEqual(out.getvalue(), said)
            for command in re.findall(r"^    pribble (.*?) *(?:#.*)?$", page, re.MULTILINE):
                with self.subTest(path.name, command=command):
                    done = pribble_process(*shlex.split(command), cwd=folder)
                    self.assertEqual(done.returncode, 0, done.stderr)

    @staticmethod
    def python(folder: Path, program: str) -> str:
        done = subprocess.run(
            [sys.executable, "-"],
            input=program.encode(),
            capture_output=True,
            cwd=folder,
            check=True,
        )
        return done.stdout.decode()

    def commands(self, folder: Path, section: str) -> int:
        """Run the commands of a section as a shell would; returns how many they were."""
        commands = re.findall(r"^    (pribble .*?) *(?:#.*)?$", section, re.MULTILINE)
        for command in commands:
            with self.subTest(command):
                arguments = shlex.split(command)[1:]
                if arguments[-1] == "&":
                    self.listening(folder, arguments[:-1])
                else:
                    done = pribble_process(*arguments, cwd=folder)
                    self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return len(commands)

    def listening(self, folder: Path, arguments: list[str]) -> None:
        """A receiver that listens until the test is over."""
        running = subprocess.Popen(
            [sys.executable, "-u", "-m", "pribble", *arguments], cwd=folder, stdout=subprocess.PIPE
        )
        self.addCleanup(running.wait)
        self.addCleanup(running.kill)
        assert running.stdout is not None
        self.addCleanup(running.stdout.close)
        running.stdout.readline()


if __name__ == "__main__":
    unittest.main()


class Cron(Case):
    """The lines of docs/workflows.md for cron, as cron would run them."""

    @slow
    def test_lines(self) -> None:
        page = (ROOT / "docs/workflows.md").read_text(encoding="utf-8")
        lines = re.findall(r"```crontab\n(.*?)```", page, re.DOTALL)[0].splitlines()
        folder = self.folder({"bounces/new/x": "From: a@example.org\n\nx", "templates/t.txt": "{{ n }}"}).path
        (folder / "pribble.toml").write_text(
            'journal = "post.journal"\n[senders]\ndefault = "o@skerrow.example"\n[transports.default]\nurl = "folder:out"\n'
            '[events.e]\n[[events.e.messages]]\ntemplate = "t"\nto = "ana@example.org"\n',
            encoding="utf-8",
        )
        environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin"}
        posted = pribble_process("post", "e", "--data", "-", stdin='{"n": 1}', cwd=folder)
        self.assertEqual(posted.returncode, 0, posted.stderr)
        for line in lines:
            with self.subTest(line):
                *when, command = line.split(None, 5)
                self.assertTrue(all(re.fullmatch(r"\*(/[0-9]+)?|[0-9]+", one) for one in when))
                done = subprocess.run(
                    ["/bin/sh", "-c", command.replace("/srv/office", str(folder))], env=environment, capture_output=True
                )
                self.assertEqual((done.returncode, done.stdout, done.stderr), (0, b"", b""))
        self.assertIn("nothing was left", (folder / "go-on.log").read_text())
        self.assertIn("1 other message", (folder / "bounces.log").read_text())


class Served(Case):
    """What docs/serving.md asks a server is asked one, and it answers what the page says."""

    @slow
    def test_curl(self) -> None:
        folder = self.folder().path
        shutil.copytree(DEMO, folder / "templates")
        project = (DEMO.parent / "pribble.toml").read_text(encoding="utf-8")
        page = (ROOT / "docs/serving.md").read_text(encoding="utf-8")
        asked = re.findall(r"```sh\n(curl .*?)```\n\n```(json|)\n(.*?)```", page, re.DOTALL)
        self.assertGreater(len(asked), 3)
        with receiving(folder / "received") as (address, _):
            project = project.replace("smtp://127.0.0.1:8025", address)
            (folder / "pribble.toml").write_text(f'journal = "post.journal"\n{project}', encoding="utf-8")
            with Process(folder) as server:
                for command, kind, said in asked:
                    with self.subTest(command[:60]):
                        done = subprocess.run(
                            ["sh", "-ec", command.replace("8026", str(server.port))],
                            capture_output=True,
                            text=True,
                            cwd=folder,
                            env={**os.environ, "PRIBBLE_TOKEN": TOKEN},
                            timeout=60,
                        )
                        self.assertEqual((done.returncode, done.stderr), (0, ""))
                        answer = re.sub("[0-9a-f]{32}", "…", done.stdout)
                        if kind == "json":
                            self.assertEqual(json.loads(answer), json.loads(said))
                        else:
                            self.assertEqual(answer.rstrip(), said.rstrip())
