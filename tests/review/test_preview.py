"""The preview: the page that is written, what it says of each message, and the server that shows each save."""

from __future__ import annotations

import base64
import hashlib
import http.client
import json
import re
import shutil
import signal
import subprocess
import sys
import threading
import unittest
import unittest.mock
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace
from typing import Any, ClassVar

import watchfiles

from pribble import Message, PribbleError, TemplateFolder
from pribble.delivery.receipts import Receipt
from pribble.errors import DataError
from pribble.review import known_viewers
from pribble.review.cases import value_at
from pribble.review.json_data import json_for_pages, plain_data
from pribble.review.preview import Preview, preview
from pribble.review.preview.case_entries import Composing
from pribble.review.preview.live_templates import LiveTemplates
from pribble.review.preview.serving import PreviewServer
from pribble.review.snapshots import snapshot, snapshot_message
from pribble.review.strain import strained_together
from pribble.template import without_optimisations
from pribble.testing import Outbox
from tests.support import DEMO, ROOT, Case, pribble, pribble_process, slow

ASSETS = ROOT / "src/pribble/review/preview/assets"
OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"
VIEWERS = [known_viewers()[name] for name in ("browser", "phone", "terminal")]


def demo(path: Path = DEMO, **settings: Any) -> TemplateFolder:
    return without_optimisations(TemplateFolder(path, locale="en_GB", timezone="Europe/London", **settings))


class Page:
    """A page as its script reads it."""

    def __init__(self, path: Path) -> None:
        self.html = path.read_text(encoding="utf-8")
        found = re.search(r'<script type="application/json" id="shown">(.*?)</script>', self.html, re.DOTALL)
        assert found is not None
        self.shown: dict[str, Any] = json.loads(found[1])
        (self.group,) = self.shown["groups"]
        self.templates: dict[str, dict[str, Any]] = {one["name"]: one for one in self.group["templates"]}

    def page(self, number: int) -> str:
        return "".join(self.group["chunks"][chunk] for chunk in self.group["pages"][number])

    def case(self, template: str, sample: str = "", locale: str = "en_GB") -> dict[str, Any]:
        cases = self.templates[template]["cases"]
        found: dict[str, Any] = next(one for one in cases if (one["sample"], one["locale"]) == (sample, locale))
        return found

    def at(self, place: list[int]) -> str:
        """The text of a place, which counts in UTF-16."""
        text = self.group["files"][place[0]]["text"].encode("utf-16-le")
        return str(text[place[1] * 2 : place[2] * 2].decode("utf-16-le"))


@cache
def demo_page() -> tuple[Preview, Page]:
    """The demo's preview, which several tests read."""
    with TemporaryDirectory() as folder:
        out = Path(folder) / "p.html"
        return preview(demo(), out, viewers=VIEWERS, sender=OFFICE, recipients=1200), Page(out)


class Written(Case):
    def preview(self, templates: Any, **given: Any) -> tuple[Preview, Page]:
        out = self.folder().path / "p.html"
        made = preview(templates, out, **{"viewers": VIEWERS, **given})
        return made, Page(out)

    @slow
    def test_the_demo(self) -> None:
        made, page = demo_page()
        self.assertEqual((made.size, made.heaviest), (len(page.html.encode()), ()))
        self.assertLess(made.size, 3_000_000)
        self.assertTrue(made.check.is_sound)
        self.assertEqual(len(page.templates), 6)
        case = page.case("berth-confirmed", "short", "de")
        self.assertEqual(case["from"], OFFICE)
        self.assertIn("Liegeplatz", case["subject"]["text"])
        self.assertEqual(sorted(case["pages"]), ["browser", "phone"])
        self.assertEqual(case["text"]["text"], demo()["berth-confirmed"].render(case["data"], locale="de").text)
        for name, template in page.templates.items():
            least = [] if name == "season-notice" else ["least"]  # of rows of a table, no field can be left out
            self.assertEqual([one["strain"] for one in template["strained"]][: len(least) + 1], [*least, "most"])
            self.assertFalse([one for one in template["strained"] if "errors" in one])

    def test_it_loads_nothing_and_runs_its_own_script_alone(self) -> None:
        _, page = self.preview(demo(), names=["gate-code"])
        policy = re.search(r'<meta http-equiv="Content-Security-Policy" content="([^"]*)">', page.html)
        script = re.search(r'<script type="module">(.*?)</script>', page.html, re.DOTALL)
        assert policy is not None and script is not None
        digest = base64.b64encode(hashlib.sha256(script[1].encode()).digest()).decode()
        self.assertEqual(
            policy[1],
            f"default-src 'none'; script-src 'sha256-{digest}'; style-src 'unsafe-inline'; img-src data:; "
            "base-uri 'none'; form-action 'none'",
        )
        self.assertLess(page.html.index("Content-Security-Policy"), page.html.index("<style>"))
        self.assertEqual(page.html.count("<script"), 2)
        self.assertNotRegex(page.html.partition("<script")[0], "https?://")

    @slow
    def test_each_picture_stands_once(self) -> None:
        _, page = self.preview(demo(), names=["berth-confirmed"])
        pictures = [chunk for chunk in page.group["chunks"] if chunk.startswith("data:image/")]
        self.assertEqual(len(pictures), 3)
        for picture in pictures:
            self.assertEqual(page.html.count(picture), 1)
            base64.b64decode(picture.partition(",")[2], validate=True)

    @slow
    def test_values_words_and_places(self) -> None:
        _, page = demo_page()
        case = page.case("mooring-statement")
        shown = {tuple(one["paths"]): page.at(one["place"]) for one in case["values"]}
        self.assertIn("entry.what", shown["entries[7].what",])
        text = case["text"]["text"]
        paths = {text[start:end]: case["values"][value]["paths"] for start, end, value in case["text"]["shown"]}
        self.assertEqual(paths["Kittiwake"], ["vessel.name"])
        for said, (path, *_) in paths.items():
            if path.endswith(".what"):
                self.assertEqual(said, value_at(case["data"], path))
        sources = page.group["files"]
        for _, _, _, start, _, file, offset in case["words"]:
            if file >= 0 and start >= 0:  # what the author wrote
                word = re.match(r"\w+", sources[file]["text"][offset:])
                assert word is not None
                self.assertTrue(text[start:].casefold().startswith(word[0].casefold()), word[0])

    def test_findings_stand_at_their_elements_and_in_their_own_message(self) -> None:
        folder = self.folder(
            {
                "a.html": '{{ subject: }}To {{ name }}{{ :subject }}<p>Dear {{ name }},</p><p><img src="{{ logo }}" width=20></p>',
                "a.sample.json": '{"name": "Ana", "logo": "https://skerrow.example/l.png"}',
                "a.sample-none.json": '{"name": "None", "logo": "https://skerrow.example/l.png"}',
            }
        )
        _, page = self.preview(folder)
        plain, none = page.case("a", locale="en"), page.case("a", "none", "en")
        self.assertNotIn("data.hollow", [one["rule"] for one in plain["findings"]])
        hollow = [one for one in none["findings"] if one["rule"] == "data.hollow"]
        self.assertEqual({one["form"] for one in hollow}, {"subject", "page"})
        alt = next(one for one in plain["findings"] if one["rule"] == "picture.no-alt")
        html = page.page(plain["pages"]["browser"])
        self.assertEqual(len(alt["elements"]), 1)
        self.assertIn('<span role="img"', html, "a picture from elsewhere is a box")
        self.assertNotIn("https://skerrow.example/l.png", html)

    def test_what_cannot_be_made_is_shown_with_its_error(self) -> None:
        folder = self.folder(
            {
                "good.html": "<p>Hello</p>",
                "broken.html": "<p>{{ name </p>",
                "lacking.html": "<p>{{ name }}</p><p>{{ place }}</p>",
                "lacking.sample.json": '{"nam": "Ana"}',
                "torn.html": "<p>{{ name }}</p>",
                "torn.sample.json": '{"name": ',
            }
        )
        made, page = self.preview(folder)
        errors = {name: one["cases"][0].get("errors") for name, one in page.templates.items()}
        self.assertIsNone(errors["good"])
        self.assertEqual(len(errors["lacking"]), 2)
        self.assertIn('did you mean "nam"', str(errors["lacking"]))
        for name in ("broken", "torn"):
            self.assertIn("^", errors[name][0]["excerpt"])
        self.assertEqual(len(made.check.of("error")) >= 3, True)

    def test_a_message_is_made_as_the_application_makes_it(self) -> None:
        def compose(name: str, rendering: Any, data: Any) -> Message:
            made: Message = rendering.message(sender=OFFICE, to="ana@example.org", reply_to="desk@skerrow.example")
            return made

        _, page = self.preview(demo(), names=["gate-code"], compose=compose)
        self.assertEqual(list(page.templates), ["gate-code"])
        self.assertEqual(page.case("gate-code")["replyTo"], "desk@skerrow.example")
        with self.assertRaises(PribbleError):
            preview(demo(), self.folder().path / "x.html", sender="nobody")
        with self.assertRaises(TypeError):
            preview(demo(), self.folder().path / "x.html", compose="x")  # type: ignore[arg-type]

    def test_snapshots(self) -> None:
        template = demo()["gate-code"]
        kept = self.folder().path
        text = snapshot(snapshot_message(template.render(template.samples[""])))
        (kept / "gate-code.txt").write_text(
            text.replace("never", "Never").replace("Lent to", "Given to"), encoding="utf-8"
        )
        _, page = self.preview(demo(), names=["gate-code", "desk-copy"], snapshots=kept)
        self.assertIn("+Lent to: Tōru Hoshino, Nkechi Ø.", page.case("gate-code")["snapshot"]["lines"])
        self.assertIsNone(page.case("desk-copy")["snapshot"]["lines"])

    def test_text_of_the_page_itself_is_no_markup_of_it(self) -> None:
        hostile = "</script><script>alert(1)</script><!--\u2028]]>"
        folder = self.folder({"a.html": "<p>{{ text }}</p>", "b.html": f"<p>{hostile[:9]}{{{{ text }}}}"})
        _, page = self.preview(folder, data={"text": hostile})
        self.assertEqual(page.html.count("<script"), 2)
        self.assertIn("alert(1)", page.case("a", locale="en")["text"]["text"])

    @slow
    def test_a_large_page_says_what_to_leave_out(self) -> None:
        pictures = {f"p{n}.png": noise(n) for n in range(3)}
        folder = self.folder(
            {
                **pictures,
                "large.html": "".join(f'<img src="{name}" width="1000" alt="x">' for name in pictures),
                "small.html": "<p>Hello</p>",
            }
        )
        made, _ = self.preview(folder)
        self.assertGreater(made.size, 10_000_000)
        self.assertEqual(made.heaviest, ("large",))

    def test_data_of_all_kinds(self) -> None:
        @dataclass
        class Skipper:
            name: str
            born: date

        circle: dict[str, Any] = {"name": "round"}
        circle["again"] = [circle] * 2
        self.assertEqual(
            plain_data({"who": Skipper("Ana", date(1980, 1, 2)), "price": Decimal("1.10"), "huge": Decimal("1e400")}),
            {"who": {"name": "Ana", "born": "1980-01-02"}, "price": 1.1, "huge": "1E+400"},
        )
        self.assertLess(len(json_for_pages(plain_data(circle))), 3_000_000)
        deep: Any = "x"
        for _ in range(5000):
            deep = [deep]
        self.assertIn("…", json_for_pages(plain_data(deep)))

    def test_strained_data_are_changed_all_at_once(self) -> None:
        template = demo()["mooring-statement"]
        made = {one.kind: one.data for one in strained_together(template, template.samples[""])}
        assert isinstance(made["most"], Mapping) and isinstance(made["least"], Mapping)
        self.assertEqual(len(made["most"]["entries"]), 12)
        self.assertEqual({one["price"] for one in made["most"]["entries"]}, {1234567})
        self.assertEqual(made["least"]["entries"], [])


def noise(seed: int) -> bytes:
    """A picture that no encoding makes small."""
    import io
    import random

    from PIL import Image

    out = io.BytesIO()
    Image.frombytes("RGB", (1000, 1300), random.Random(seed).randbytes(1000 * 1300 * 3)).save(out, "PNG")
    return out.getvalue()


class Scripts(unittest.TestCase):
    """The modules become one script, so their names are those of one scope, and no module imports itself."""

    MODULES: ClassVar = {path.stem: path.read_text(encoding="utf-8") for path in sorted(ASSETS.glob("*.js"))}

    def test_names_are_there_once(self) -> None:
        names = [
            name
            for text in self.MODULES.values()
            for name in re.findall(r"^(?:export )?(?:async )?(?:function|const|let|class) (\w+)", text, re.MULTILINE)
        ]
        self.assertEqual(sorted({name for name in names if names.count(name) > 1}), [])

    def test_imports_are_of_names_that_are_exported_and_run_in_no_circle(self) -> None:
        graph: dict[str, set[str]] = {}
        for module, text in self.MODULES.items():
            graph[module] = set()
            for names, other in re.findall(r'^import \{([^}]*)\} from "\./([a-z-]+)\.js";$', text, re.MULTILINE):
                graph[module].add(other)
                for name in filter(None, (one.strip() for one in names.split(","))):
                    with self.subTest(module, name=name):
                        self.assertRegex(self.MODULES[other], rf"(?m)^export (?:function|const|class) {name}\b")
            self.assertEqual(text.count("import "), len(graph[module]))
        self.assertEqual(list(TopologicalSorter(graph).static_order())[-1], "main")

    def test_nothing_is_read_as_markup(self) -> None:
        for module, text in self.MODULES.items():
            self.assertNotRegex(text, r"innerHTML|outerHTML|insertAdjacent|document\.write|eval\(|new Function", module)


class Live(Case):
    def live(self, files: Mapping[str, str] | None = None, **given: Any) -> tuple[LiveTemplates, Path]:
        path = self.folder(files).path
        if files is None:
            shutil.copytree(DEMO, path, dirs_exist_ok=True)
        live = LiveTemplates(lambda: demo(path, reload=True), VIEWERS, Composing(OFFICE), **given)
        for name in live.names:
            live.shown(name)
        return live, path

    @slow
    def test_what_changed(self) -> None:
        live, path = self.live()
        self.assertEqual(live.changed(files_came_or_went=False), [])
        for file, changed in (
            ("desk-copy.html", ["desk-copy"]),
            ("berth-confirmed.de.html", ["berth-confirmed"]),
            ("berth-confirmed.sample-short.json", ["berth-confirmed"]),
            ("parts/button.html", ["berth-confirmed", "mooring-statement"]),
            ("layouts/harbour.de.html", ["berth-confirmed"]),
        ):
            with self.subTest(file):
                text = (path / file).read_text(encoding="utf-8")
                (path / file).write_text(f"{text} ", encoding="utf-8")
                self.assertEqual(live.changed(files_came_or_went=False), changed)
        shutil.copy(path / "gate-code.txt", path / "second.txt")
        self.assertIn("second", live.changed(files_came_or_went=True))
        (path / "second.txt").unlink()
        live.changed(files_came_or_went=True)
        self.assertNotIn("second", live.names)

    def first_sight(self, live: LiveTemplates) -> Any:
        return live.first_sight("a", "", "en_GB", ["browser"])["case"]

    def test_what_has_not_changed_is_made_once(self) -> None:
        live, path = self.live({"a.html": "<p>{{ name }}</p>", "a.sample.json": '{"name": "Ana"}'})
        self.assertIs(live.shown("a"), live.shown("a"))
        before = live.shown("a")
        (path / "a.html").write_text("<p>{{ name }} B</p>", encoding="utf-8")
        self.assertIsNot(live.shown("a"), before)

    def test_an_error_comes_and_goes(self) -> None:
        live, path = self.live({"a.html": "<p>{{ name }}</p>", "a.sample.json": '{"name": "Ana"}'})
        self.assertNotIn("errors", self.first_sight(live))
        (path / "a.html").write_text("<p>{{ name }</p>", encoding="utf-8")
        self.assertEqual(live.changed(files_came_or_went=False), ["a"])
        self.assertIn("^", self.first_sight(live)["errors"][0]["excerpt"])
        (path / "a.html").write_text("<p>{{ name }}!</p>", encoding="utf-8")
        self.assertEqual(live.changed(files_came_or_went=False), ["a"])
        self.assertEqual(self.first_sight(live)["text"]["text"], "Ana!\n")
        (path / "a.sample.json").write_text('{"name": ', encoding="utf-8")
        self.assertEqual(live.changed(files_came_or_went=False), ["a"])
        self.assertIn("errors", self.first_sight(live))

    def test_a_half_written_file_is_read_again_once(self) -> None:
        live, path = self.live({"a.html": "<p>{{ name }}</p>", "a.sample.json": '{"name": "Ana"}'})
        (path / "a.html").write_text("<p>{{ na", encoding="utf-8")
        later = threading.Timer(0.02, lambda: (path / "a.html").write_text("<p>{{ name }} B</p>", encoding="utf-8"))
        later.start()
        self.assertEqual(live.changed(files_came_or_went=False), ["a"])
        self.assertEqual(self.first_sight(live)["text"]["text"], "Ana B\n")
        later.join()

    def test_samples_are_kept_under_labels_alone_and_over_no_other_file(self) -> None:
        live, path = self.live({"a.html": "<p>{{ name }}</p>", "deep/b.html": "<p>{{ name }}</p>"})
        kept = live.keep("a", "new-one", {"name": "Zoë", "n": 1.5}, over=False)
        self.assertEqual(kept, path / "a.sample-new-one.json")
        self.assertEqual(json.loads(kept.read_text(encoding="utf-8")), {"name": "Zoë", "n": 1.5})
        self.assertEqual(live.keep("deep/b", "x", {}, over=False), path / "deep/b.sample-x.json")
        with self.assertRaisesRegex(DataError, "already"):
            live.keep("a", "new-one", {"name": "other"}, over=False)
        live.keep("a", "new-one", {"name": "other"}, over=True)
        self.assertIn("other", kept.read_text(encoding="utf-8"))
        for label in ("", "A", "../x", "a/b", "a--b", "-a", "a-", "a b", "ä", "a\n", "x" * 41, "a.b", "con:"):
            with self.subTest(label), self.assertRaises(DataError):
                live.keep("a", label, {}, over=True)
        deep: Any = {}
        for _ in range(50):
            deep = {"a": deep}
        for data in (deep, [1], "text", None):
            with self.assertRaises(DataError):
                live.keep("a", "deep", data, over=True)
        with self.assertRaises(DataError):
            live.keep("../a", "x", {}, over=True)
        outside = self.folder().path / "outside.json"
        (path / "a.sample-link.json").symlink_to(outside)
        with self.assertRaises(DataError):
            live.keep("a", "link", {"name": "x"}, over=True)
        self.assertFalse(outside.exists())
        self.assertEqual(sorted(p.name for p in path.iterdir() if p.name.startswith(".")), [])

    @slow
    def test_edited_data(self) -> None:
        live, _ = self.live(names=["berth-confirmed"])
        data = {**demo()["berth-confirmed"].samples[""], "skipper": {"name": "Zoë Quarrie"}}
        case: Any = live.edited("berth-confirmed", "de", data)["case"]
        self.assertIn("Zoë Quarrie", case["text"]["text"])
        self.assertEqual(case["locale"], "de")
        self.assertIn("findings", case)
        self.assertIn("errors", live.edited("berth-confirmed", "de", {"nothing": 1})["case"])  # type: ignore[arg-type]
        with self.assertRaises(DataError):
            live.edited("desk-copy", "en_GB", data)


Answer = tuple[int, dict[str, str], bytes]


class Serving(Case):
    """Requests to a real server on loopback."""

    def setUp(self) -> None:
        self.path = self.folder({"a.html": "<p>Dear {{ name }}</p>", "a.sample.json": '{"name": "Ana"}'}).path
        self.outbox = Outbox()
        live = LiveTemplates(lambda: demo(self.path, reload=True), VIEWERS, Composing(OFFICE))
        self.server = PreviewServer(live, send=self.send)
        self.server.start()
        self.addCleanup(self.server.stop)

    def send(self, message: Message, address: str) -> Receipt:
        return self.outbox.deliver(message)

    def ask(self, method: str, path: str, body: Any = None, **headers: str) -> Answer:
        given = {name.replace("_", "-"): value for name, value in headers.items()}
        content = body if isinstance(body, bytes) else None if body is None else json.dumps(body).encode()
        connection = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=20)
        connection.request(method, path, content, given)
        answer = connection.getresponse()
        got = answer.status, {name.lower(): value for name, value in answer.getheaders()}, answer.read()
        connection.close()
        return got

    def cookie(self) -> str:
        _, headers, _ = self.ask("GET", self.server.address.removeprefix(self.server.origin))
        return headers["set-cookie"].partition(";")[0]

    def good(self) -> dict[str, str]:
        return {"Cookie": self.cookie(), "Origin": self.server.origin, "Content_Type": "application/json"}

    def test_the_token_is_traded_once_for_a_cookie(self) -> None:
        path = self.server.address.removeprefix(self.server.origin)
        self.assertEqual(self.ask("GET", "/?token=wrong")[0], 403)
        status, headers, _ = self.ask("GET", path)
        self.assertEqual((status, headers["location"]), (303, "/"))
        self.assertRegex(headers["set-cookie"], r"; HttpOnly; Path=/; SameSite=Strict\Z")
        self.assertEqual(self.ask("GET", path)[0], 403, "it works once")
        status, headers, body = self.ask("GET", "/", Cookie=headers["set-cookie"].partition(";")[0])
        self.assertEqual(status, 200)
        self.assertIn(b"Dear Ana", body)
        self.assertIn("frame-ancestors 'none'", headers["content-security-policy"])
        self.assertIn("connect-src 'self'", headers["content-security-policy"])
        self.assertEqual((headers["cache-control"], headers["server"].split()[0]), ("no-store", "pribble"))

    def test_every_route_asks_for_the_cookie(self) -> None:
        for method, path in (
            ("GET", "/"),
            ("GET", "/events"),
            ("GET", "/templates/a"),
            ("POST", "/messages"),
            ("POST", "/samples"),
            ("POST", "/deliveries"),
            ("GET", "/nothing"),
            ("GET", "/static/x"),
            ("PUT", "/"),
            ("HEAD", "/"),
        ):
            with self.subTest(path):
                origin = {"Origin": self.server.origin, "Content_Type": "application/json"}
                for cookie in ("", "pribble-preview=x", f"pribble-preview-{self.server.port}=x"):
                    status, headers, _ = self.ask(
                        method, path, {} if method == "POST" else None, Cookie=cookie, **origin
                    )
                    self.assertEqual(status, 403)
                    self.assertNotIn("set-cookie", headers)

    def test_other_names_of_this_machine_are_refused(self) -> None:
        cookie = self.cookie()
        port = self.server.port
        for host in (
            "localhost",
            f"localhost:{port}",
            "127.0.0.1",
            f"127.0.0.2:{port}",
            f"skerrow.example:{port}",
            f"127.0.0.1:{port + 1}",
            f"127.0.0.1:{port}.skerrow.example",
            f"[::1]:{port}",
        ):
            with self.subTest(host):
                self.assertEqual(self.ask("GET", "/", Cookie=cookie, Host=host)[0], 421)

    def test_posts_from_elsewhere_are_refused(self) -> None:
        good = self.good()
        body = {"template": "a", "locale": "en_GB", "data": {"name": "Zoë"}}
        self.assertEqual(self.ask("POST", "/messages", body, **good)[0], 200)
        for wrong, status in (
            ({"Origin": "null"}, 403),
            ({"Origin": f"http://localhost:{self.server.port}"}, 403),
            ({"Origin": "https://skerrow.example"}, 403),
            ({"Sec_Fetch_Site": "cross-site"}, 403),
            ({"Sec_Fetch_Site": "same-site"}, 403),
            ({"Content_Type": "text/plain"}, 415),
            ({"Content_Type": "application/x-www-form-urlencoded"}, 415),
            ({"Content_Type": "application/json; charset=utf-8"}, 415),
        ):
            with self.subTest(wrong):
                self.assertEqual(self.ask("POST", "/messages", body, **{**good, **wrong})[0], status)
        for site in ("cross-site", "same-site"):
            self.assertEqual(self.ask("GET", "/", Cookie=good["Cookie"], Sec_Fetch_Site=site)[0], 403)
        self.assertEqual(self.ask("GET", "/", Cookie=good["Cookie"], Sec_Fetch_Site="none")[0], 200)
        without = {name: value for name, value in good.items() if name != "Origin"}
        self.assertEqual(self.ask("POST", "/messages", body, **without)[0], 403)

    def test_what_is_posted_is_checked(self) -> None:
        good = self.good()
        for body, status in (
            (b"", 422),
            (b"[]", 422),
            (b"{", 422),
            (b"\xff", 422),
            (b'{"template": 1}', 422),
            (b"{}", 422),
            (b'{"template": "../a", "locale": "", "data": {}}', 422),
            (b"[" * 100_000, 422),
            (b"x" * 1_100_000, 413),
            (b'{"template": "a", "locale": "no such", "data": {}}', 422),
            (b'{"template": "a", "locale": "en_GB", "data": {"name": 1e999999999}}', 422),
        ):
            for path in ("/messages", "/samples", "/deliveries"):
                with self.subTest(body[:40], path=path):
                    got, _, said = self.ask("POST", path, body, **good)
                    self.assertIn(got, (status, 200 if path == "/messages" and b"en_GB" in body else status))
                    self.assertNotIn(b"Traceback", said)
                    self.assertIsInstance(json.loads(said), dict)
        self.assertEqual(sorted(p.name for p in self.path.iterdir()), ["a.html", "a.sample.json"])
        self.assertEqual(self.outbox.messages, [])

    def test_samples_and_deliveries(self) -> None:
        good = self.good()
        body = {"template": "a", "locale": "en_GB", "data": {"name": "Zoë"}, "label": "zoe"}
        self.assertEqual(json.loads(self.ask("POST", "/samples", body, **good)[2]), {"file": "a.sample-zoe.json"})
        status, _, said = self.ask("POST", "/samples", body, **good)
        self.assertEqual(status, 422)
        self.assertIn("already", json.loads(said)["message"])
        status, _, said = self.ask("POST", "/deliveries", {**body, "to": "you@example.org"}, **good)
        self.assertEqual(status, 200)
        self.assertIn("you@example.org: accepted", json.loads(said)["message"])
        (sent,) = self.outbox.messages
        self.assertEqual([one.addr for one in sent.to], ["you@example.org"])
        for to in ("", "nobody", "a@example.org, b@example.org", "a@example.org\r\nBcc: c@example.org"):
            self.assertEqual(self.ask("POST", "/deliveries", {**body, "to": to}, **good)[0], 422)
        self.assertEqual(len(self.outbox.messages), 1)

    @contextmanager
    def events(self, cookie: str) -> Iterator[http.client.HTTPResponse]:
        connection = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=20)
        connection.request("GET", "/events", headers={"Cookie": cookie})
        try:
            yield connection.getresponse()
        finally:
            connection.close()

    def test_a_save_is_told(self) -> None:
        cookie = self.cookie()
        with self.events(cookie) as events:
            self.assertEqual(events.readline(), b": here\n")
            (self.path / "a.html").write_text("<p>Good day {{ name }}</p>", encoding="utf-8")
            told: dict[str, list[str]] = {"changed": []}
            while not told["changed"]:  # what was written before may still be told, and changes nothing
                said = events.readline()
                told = json.loads(said[6:]) if said.startswith(b"data: ") else told
            self.assertEqual(told, {"changed": ["a"], "names": ["a"]})
            first = json.loads(self.ask("GET", "/templates/a?sample=&locale=en_GB&viewer=browser", Cookie=cookie)[2])
            self.assertEqual(first["case"]["text"]["text"], "Good day Ana\n")
            whole = json.loads(self.ask("GET", "/templates/a", Cookie=cookie)[2])
            self.assertEqual([one["name"] for one in whole["templates"]], ["a"])
        self.assertEqual(self.ask("GET", "/templates/b", Cookie=cookie)[0], 404)

    def test_a_save_before_the_watch_has_begun_is_told(self) -> None:
        begun = threading.Event()

        def late(*given: Any, **options: Any) -> Iterator[Any]:
            begun.wait(20)
            yield from watchfiles.watch(*given, **options)

        self.server.stop()
        live = LiveTemplates(lambda: demo(self.path, reload=True), VIEWERS, Composing(OFFICE))
        self.server = PreviewServer(live)
        self.addCleanup(self.server.stop)
        with unittest.mock.patch.object(
            self.server, "_watchfiles", SimpleNamespace(watch=late, Change=watchfiles.Change)
        ):
            self.server.start()
            with self.events(self.cookie()) as events:
                self.assertEqual(events.readline(), b": here\n")
                for text in ("Good day", "Good night"):
                    (self.path / "a.html").write_text(f"<p>{text} {{{{ name }}}}</p>", encoding="utf-8")
                    live.shown("a")  # as another page asks for it, before this one is told
                    begun.set()
                    said = [events.readline() for _ in range(3)]
                    self.assertEqual(said, [b"\n", b"event: saved\n", b'data: {"changed":["a"],"names":["a"]}\n'])

    def test_it_stops_while_pages_listen(self) -> None:
        live = LiveTemplates(lambda: demo(self.path, reload=True), VIEWERS, Composing(OFFICE))
        server = PreviewServer(live)
        server.start()
        connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=20)
        connection.request("GET", server.address.removeprefix(server.origin))
        cookie = connection.getresponse().headers["Set-Cookie"].partition(";")[0]
        connection.close()
        listening = http.client.HTTPConnection("127.0.0.1", server.port, timeout=20)
        listening.request("GET", "/events", headers={"Cookie": cookie})
        events = listening.getresponse()
        self.assertEqual(events.readline(), b": here\n")
        server.stop()
        self.assertEqual(events.read(), b"\n")
        listening.close()


class Commands(Case):
    def test_a_page_and_what_is_said_of_it(self) -> None:
        out = self.folder().path / "p.html"
        done = pribble("preview", "gate-code", "--out", str(out), "--viewers", "browser")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        counted = pribble("check", "gate-code").stdout.rstrip().rpartition("\n")[2].partition(";")[0]
        self.assertEqual(done.stdout, f"{out}  0.1 MB, {counted}\n")
        self.assertIn("note", counted)
        self.assertEqual(list(Page(out).templates), ["gate-code"])
        said = json.loads(pribble("preview", "gate-code", "--out", str(out), "--json").stdout)
        self.assertEqual((said["page"], said["findings"]["error"], said["leave_out"]), (str(out), 0, []))

    def test_what_is_called_wrongly(self) -> None:
        here = self.folder({"a.html": "<p>x</p>"}).path
        there = self.folder({"b.html": "<p>x</p>"}).path
        for arguments, says in (
            (["--port", "80"], "--port and --through go with --serve"),
            (["--through", "folder:x"], "--port and --through go with --serve"),
            ([str(here / "a.html"), str(there / "b.html")], "templates of one folder"),
            (["--snapshots", str(here / "no")], "there is no folder"),
            (["gate-code", "--out", str(here / "no/p.html")], "no/p.html: No such file or directory"),
            (["--from", "nobody"], "no address"),
            (["--viewers", "brower"], "there is no viewer"),
            (["--templates", str(here / "no")], "there is no template folder"),
        ):
            with self.subTest(arguments):
                done = pribble("preview", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(says, done.stderr)

    @slow
    def test_a_server_in_a_process_of_its_own(self) -> None:
        call = [sys.executable, "-m", "pribble", "preview", "gate-code", "--serve", "--json"]
        with subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=ROOT) as server:
            assert server.stdout is not None and server.stderr is not None
            said = ""
            while not said.endswith("}\n"):
                said += server.stdout.readline()
            address = json.loads(said)["address"]
            port = address.partition("127.0.0.1:")[2].partition("/")[0]
            taken = pribble_process("preview", "gate-code", "--serve", "--port", port)
            self.assertEqual((taken.returncode, "Address already in use" in taken.stderr), (2, True), taken.stderr)
            self.assertEqual(taken.stderr.count("\n"), 1)
            server.send_signal(signal.SIGINT)
            self.assertEqual((server.wait(20), server.stderr.read()), (130, ""))

    def test_a_template_that_is_not_there(self) -> None:
        done = pribble("preview", "gate-cod", "--out", str(self.folder().path / "p.html"))
        self.assertEqual(done.returncode, 2)
        self.assertIn('did you mean "gate-code"?', done.stderr)


if __name__ == "__main__":
    unittest.main()
