"""The preview in a real browser: what is seen at first sight, what lights up, and that nothing leaves it."""

from __future__ import annotations

import json
import shutil
import socket
import threading
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from pribble import TemplateFolder
from pribble.review import known_viewers
from pribble.review.preview import preview
from pribble.review.preview.case_entries import Composing
from pribble.review.preview.live_templates import LiveTemplates
from pribble.review.preview.serving import PreviewServer
from pribble.template import without_optimisations
from pribble.testing import Outbox
from tests.chromium import Browser, browser
from tests.review.test_safe_pages import HOSTILE
from tests.support import DEMO, NOTHING_SKIPPED, ROOT, Case, needs_chromium, proof

OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"
AXE = ROOT / "tools/javascript/node_modules/axe-core/axe.min.js"
# The page is there once its frame is drawn onto.
DRAWN = "return document.querySelectorAll('.drawn.data i').length > 3"
POINTED = "return document.querySelector('.pointed').textContent"


def opened(path: Path, **settings: Any) -> TemplateFolder:
    return without_optimisations(TemplateFolder(path, locale="en_GB", timezone="Europe/London", **settings))


def press(window: Browser, *keys: str) -> None:
    for key in keys:
        window.press(key)


@needs_chromium
class InABrowser(Case):
    def window(self, width: int = 1280, scheme: str = "light") -> Browser:
        window = browser()
        window.become(width=width, scheme=scheme)
        return window

    def page(self, templates: TemplateFolder, **given: Any) -> str:
        out = self.folder().path / "p.html"
        preview(templates, out, sender=OFFICE, **given)
        return out.as_uri()

    def demo(self, *, hash: str = "", **given: Any) -> Browser:
        window = self.window(**given)
        window.open(f"{self.page(opened(DEMO))}{hash}")
        window.until(DRAWN if not hash else "return document.querySelectorAll('.line').length > 3")
        return window


class FirstSight(InABrowser):
    def test_message_telephone_and_text_are_seen_at_once(self) -> None:
        window = self.demo()
        seen = window.evaluate(
            """const box = (selector) => { const r = document.querySelector(selector).getBoundingClientRect();
               return [Math.round(r.left), Math.round(r.top), Math.round(r.width), Math.round(r.height)] };
               return { wide: box('.wide .scroller'), narrow: box('.narrow .scroller'), text: box('.text'),
                 subject: document.querySelector('.subject').textContent, figures: document.querySelector('.figures').textContent,
                 page: [document.documentElement.scrollWidth, document.documentElement.scrollHeight],
                 titles: [...document.querySelectorAll('iframe')].map((one) => one.contentDocument.querySelector('h1').textContent),
                 lines: document.querySelectorAll('.line').length }"""
        )
        self.assertEqual(seen["page"], [1280, 800], "all of it fits")
        self.assertGreater(seen["wide"][2] * seen["wide"][3], 0.28 * 1280 * 800, "the message is large")
        for name in ("wide", "narrow", "text"):
            left, top, width, height = seen[name]
            self.assertTrue(left >= 0 and top >= 0 and left + width <= 1280 and top + height <= 800 and height > 400)
        self.assertEqual(seen["titles"], ["Berth B\u00a014 is yours"] * 2)
        self.assertTrue(seen["subject"].startswith("Berth B 14 is yours from 3 July4 nights for Kittiwake"))
        self.assertRegex(seen["figures"], r"\A\d notes?52\.\d kBsamples try 16 of 18 ways")

    def test_narrow_windows(self) -> None:
        window = self.demo(width=390)
        self.assertLessEqual(window.evaluate("return document.documentElement.scrollWidth"), 390)
        self.assertEqual(window.evaluate("return document.querySelectorAll('.narrow .drawn.data i').length > 3"), True)

    def test_many_templates(self) -> None:
        folder = self.folder({f"notice-{n:02d}.html": f"<p>Notice {n} to {{{{ name }}}}</p>" for n in range(40)})
        window = self.window()
        window.open(f"{self.page(folder, data={'name': 'Ana'}, viewers=['browser', 'phone'])}#notice-07")
        window.until("return document.querySelectorAll('.tab').length === 40")
        self.assertEqual(window.evaluate("return document.documentElement.scrollWidth"), 1280)
        self.assertEqual(
            window.evaluate("return document.querySelector('.tab[aria-current]').textContent"), "notice-07"
        )
        press(window, "t")
        window.evaluate(
            "const f = document.querySelector('dialog input'); f.value = '-3'; f.dispatchEvent(new Event('input'))"
        )
        self.assertEqual(window.evaluate("return document.querySelectorAll('.all-templates button').length"), 10)
        window.evaluate("document.querySelector('.all-templates button').click()")
        window.until("return document.querySelector('.line').textContent === 'Notice 30 to Ana'")

    def test_an_error_takes_the_place_of_the_message(self) -> None:
        folder = self.folder({"a.html": "<p>{{ skiper.name }}</p>", "a.sample.json": '{"skipper": {"name": "Ana"}}'})
        window = self.window()
        window.open(self.page(folder))
        self.assertIn('did you mean "skipper"', window.until("return document.querySelector('.failure')?.textContent"))
        self.assertFalse(window.evaluate("return document.querySelector('.pane').checkVisibility()"))


class Pointing(InABrowser):
    def word(self, window: Browser, said: str, nth: int = 0) -> str:
        """What is lit, and said, when somebody points at a word of the wide frame."""
        x, y = window.evaluate(
            f"""const frame = document.querySelector('.wide iframe'); const page = frame.contentDocument;
            const walker = page.createTreeWalker(page.body, NodeFilter.SHOW_TEXT); let left = {nth};
            while (walker.nextNode()) {{
              const at = walker.currentNode.data.indexOf({json.dumps(said)});
              const range = page.createRange();
              if (at < 0) continue;
              range.setStart(walker.currentNode, at); range.setEnd(walker.currentNode, at + {len(said)});
              const box = range.getClientRects()[0];
              if (!box || !box.width || box.height < 5 || left-- > 0) continue;
              const scroller = document.querySelector('.wide .scroller');
              const scale = frame.getBoundingClientRect().width / frame.offsetWidth;
              scroller.scrollTop = Math.max(0, box.top * scale - 200);
              const outer = frame.getBoundingClientRect();
              return [outer.left + (box.left + box.width / 2) * scale, outer.top + (box.top + box.height / 2) * scale];
            }}"""
        )
        window.point(1, 1)
        window.point(x, y)
        return str(
            window.until(
                "const said = document.querySelector('.pointed').textContent; return said.startsWith('Point') ? '' : said"
            )
        )

    def test_a_word_lights_its_mark_its_data_and_its_line_of_the_text(self) -> None:
        window = self.demo(hash="#mooring-statement")
        lines = window.evaluate("return [...document.querySelectorAll('.line')].map((one) => one.textContent)")
        data = json.loads((DEMO / "mooring-statement.sample.json").read_text(encoding="utf-8"))
        table = next(number for number, line in enumerate(lines) if line.startswith("1 Jun"))
        for turn in (0, 7, 19):
            entry = data["entries"][turn]
            nth = sum(one["what"] == entry["what"] for one in data["entries"][:turn])
            with self.subTest(turn):
                said = self.word(window, entry["what"], nth)
                self.assertIn("{{ entry.what }}", said)
                self.assertIn(f'entries[{turn}].what = "{entry["what"]}"', said)
                self.assertIn(f"line {table + turn + 1} of the text", said)
                lit = window.evaluate(
                    "return [...document.querySelectorAll('.line.lit')].map((one) => one.textContent)"
                )
                self.assertEqual(lit, [lines[table + turn]])
        said = self.word(window, "Quantity")
        self.assertRegex(said, r"written in .*mooring-statement\.html, line \d+line \d+ of the text")
        self.assertIn("leads to https://skerrow.example/statements/", self.word(window, "Pay"))

    def test_the_text_lights_the_message(self) -> None:
        window = self.demo()
        x, y = window.evaluate(
            "const r = [...document.querySelectorAll('.text .value')].find((one) => one.textContent === 'Kittiwake').getBoundingClientRect(); return [r.left + 20, r.top + 5]"
        )
        window.point(x, y)
        self.assertIn(
            'vessel.name = "Kittiwake"',
            window.until(
                "const said = document.querySelector('.pointed').textContent; return said.startsWith('Point') ? '' : said"
            ),
        )
        self.assertEqual(window.evaluate("return document.querySelectorAll('.wide .drawn.light i').length"), 1)

    def test_keys(self) -> None:
        window = self.demo()
        for key, script in (
            ("3", "return document.querySelector('.viewers [aria-pressed=true]').textContent.startsWith('Dark')"),
            ("1", "return document.querySelector('.viewers [aria-pressed=true]').textContent.startsWith('As sent')"),
            ("w", "return document.querySelector('.sheet').classList.contains('narrow-large')"),
            (".", "return document.querySelector('.subject').textContent.includes('A 3')"),
            ("]", "return document.querySelector('.tab[aria-current]').textContent === 'desk-copy'"),
            ("[", "return document.querySelector('.tab[aria-current]').textContent === 'berth-confirmed'"),
            ("s", "return document.querySelector('.switches select').value === '0'"),
            ("?", "return document.querySelector('dialog').open"),
        ):
            with self.subTest(key):
                press(window, key)
                window.until(script, 5)

    def test_the_drawer(self) -> None:
        window = self.demo()
        for number, script in (
            (
                1,
                "return document.querySelector('[data-path=\"skipper.name\"]').querySelector('.said').textContent.startsWith('Ana')",
            ),
            (2, "return document.querySelectorAll('.panel tbody tr').length === 3"),
            (3, "return document.querySelectorAll('.bar').length >= 6"),
            (4, "return document.querySelectorAll('.answer').length === 2 * 3 * 10"),
            (5, "return document.querySelectorAll('.source').length >= 3"),
            (0, "return document.querySelectorAll('.findings li').length >= 3"),
        ):
            with self.subTest(number):
                window.evaluate(f"document.querySelectorAll('.tabs button')[{number}].click()")
                window.until(script, 5)


@contextmanager
def listening() -> Iterator[tuple[int, list[Any]]]:
    """A socket that counts who connects."""
    met: list[Any] = []
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(0.1)
        stopping = threading.Event()

        def count() -> None:
            while not stopping.is_set():
                try:
                    connection, who = server.accept()
                except TimeoutError:
                    continue
                met.append(who)
                connection.close()

        thread = threading.Thread(target=count)
        thread.start()
        try:
            yield server.getsockname()[1], met
        finally:
            stopping.set()
            thread.join()


class Hostile(InABrowser):
    def folder_of(self, port: int) -> TemplateFolder:
        """Templates and data that try to reach a server, to run a script, to leave their frame."""
        elsewhere = f"http://127.0.0.1:{port}"
        pages = [
            page.replace("http://x.example", elsewhere)
            .replace("//x.example", f"//127.0.0.1:{port}")
            .replace("//x", f"//127.0.0.1:{port}/x")
            for page in HOSTILE
        ]
        files = {
            "data.html": '<p title="{{ a }}">{{ a }}</p><div>{{ a as html }}</div><a href="{{ link }}">b</a><img src="{{ picture }}">'
            '<p style="background:url({{ picture }})">c</p>',
            "data.sample.json": json.dumps(
                {
                    "a": f"<img src={elsewhere}/1 onerror=fetch('{elsewhere}/2')><script>fetch('{elsewhere}/3')</script>\"'><b>",
                    "link": f"{elsewhere}/4",
                    "picture": f"{elsewhere}/5.png",
                }
            ),
            "styled.html": f"<style>@import url({elsewhere}/6.css); @font-face {{ font-family: x; src: url({elsewhere}/7) }}"
            f" p {{ font-family: x; background: url({elsewhere}/8.png); position: fixed; inset: -900px; z-index: 9 }}"
            f" body {{ background: image-set('{elsewhere}/9.png' 1x) }}</style><p>over everything</p>"
            f"<a href='{elsewhere}/10'>link</a>",
        }
        for number, page in enumerate(pages):
            files[f"hostile-{number:02d}.html"] = "{{ value as html }}"
            files[f"hostile-{number:02d}.sample.json"] = json.dumps({"value": page})
            files[f"plain-{number:02d}.html"] = page.replace("{", "&#123;")
        return self.folder(files)

    def visit(self, window: Browser, names: list[str]) -> None:
        window.evaluate("window.alert = window.fetch = () => { window.called = true }")
        for name in names:
            window.evaluate(
                f"[...document.querySelectorAll('.tab')].find((one) => one.textContent === {json.dumps(name)}).click()"
            )
            if not window.evaluate("return document.querySelector('.failure-pane').hidden"):
                continue
            for key in ("2", "3", "5", "1"):
                press(window, key)
            frames = window.until(
                """const all = [...document.querySelectorAll('iframe')];
                return all.every((one) => one.contentDocument?.body && one.contentDocument.readyState === 'complete') &&
                  all.map((one) => ({ own: one.contentDocument.URL, sandbox: one.getAttribute('sandbox'),
                    bad: one.contentDocument.querySelectorAll('script, link, base, meta, iframe, object, embed, form, [onclick], [onerror], [ping], [target]').length,
                    links: [...one.contentDocument.links].map((link) => link.href) }))"""
            )
            for frame in frames:
                self.assertEqual(frame["sandbox"], "allow-same-origin", name)
                self.assertEqual((frame["own"], frame["bad"]), ("about:srcdoc", 0), name)
                self.assertLessEqual(set(frame["links"]), {"about:srcdoc#"}, name)
            for x, y in ((200, 300), (300, 220), (660, 320)):
                window.call("Input.dispatchMouseEvent", type="mousePressed", x=x, y=y, button="left", clickCount=1)
                window.call("Input.dispatchMouseEvent", type="mouseReleased", x=x, y=y, button="left", clickCount=1)
            press(window, "n", "v")
            outside = window.evaluate(
                "return [document.elementFromPoint(640, 5), document.elementFromPoint(1000, 300)].map((one) => one.closest('header, .plain') !== null)"
            )
            self.assertEqual(outside, [True, True], f"{name} stays within its frame")
        self.assertIsNone(window.evaluate("return window.called"))
        self.assertTrue(
            window.evaluate("return document.querySelectorAll('.tab').length > 10"), "the page is still there"
        )

    def test_no_connection_no_script_nothing_outside_its_frame(self) -> None:
        with listening() as (port, met):
            folder = self.folder_of(port)
            window = self.window()
            window.open(self.page(folder))
            names = window.until("return [...document.querySelectorAll('.tab')].map((one) => one.textContent)")
            self.assertGreater(len(names), 30)
            self.visit(window, names)
            window.open("about:blank")
            self.assertEqual(met, [])

    def test_the_same_page_without_its_guards_does_connect(self) -> None:
        """The socket and the browser work: what is loaded here is what the preview does not load."""
        with listening() as (port, met):
            window = self.window()
            path = self.folder().path / "open.html"
            path.write_text(f"<img src='http://127.0.0.1:{port}/a.png'>", encoding="utf-8")
            window.open(path.as_uri())
            self.assertGreater(len(met), 0)


class Served(InABrowser):
    """A server with a copy of the demo, and a browser at it."""

    def setUp(self) -> None:
        self.path = self.folder().path
        shutil.copytree(DEMO, self.path, dirs_exist_ok=True)
        self.outbox = Outbox()
        viewers = [known_viewers()[name] for name in ("browser", "phone", "phone-dark", "pictures-off")]
        live = LiveTemplates(
            lambda: opened(self.path, reload=True), viewers, Composing(OFFICE), names=["berth-confirmed", "desk-copy"]
        )
        self.server = PreviewServer(live, send=lambda message, address: self.outbox.deliver(message))
        self.server.start()
        self.addCleanup(self.server.stop)
        self.template = self.path / "berth-confirmed.html"
        self.text = self.template.read_text(encoding="utf-8")

    def save(self, old: str, new: str) -> None:
        self.assertIn(old, self.text)
        self.template.write_text(self.text.replace(old, new), encoding="utf-8")

    def says(self, words: str, side: str = "narrow") -> str:
        return f"const page = document.querySelector('.{side} iframe').contentDocument; return page?.body?.textContent.includes({json.dumps(words)})"

    def test_saves_errors_and_what_stays(self) -> None:
        window = self.window()
        window.open(self.server.address)
        window.until(DRAWN)
        self.assertEqual(window.evaluate("return location.href"), f"{self.server.origin}/#berth-confirmed")
        press(window, "3")
        window.until("return document.querySelector('.narrow iframe').contentDocument.querySelector('h1') !== null")
        window.until(
            "const s = document.querySelector('.narrow .scroller'); s.scrollTop = 120; return s.scrollTop === 120"
        )
        self.save("we look forward to", "we wait for")
        window.until(self.says("we wait for"))
        window.until("return document.querySelectorAll('.drawn.changed i').length > 0")
        kept = "return [document.querySelector('.narrow .scroller').scrollTop, document.querySelector('.viewers [aria-pressed=true]').textContent]"
        self.assertEqual(window.evaluate(kept), [120, "Dark3"])
        self.save("{{ vessel.name }}", "{{ vesel.name }}")
        self.assertIn(
            "vesel",
            window.until(
                "return document.querySelector('.failure-pane').hidden ? '' : document.querySelector('.failure pre').textContent"
            ),
        )
        self.template.write_text(self.text, encoding="utf-8")
        window.until("return document.querySelector('.failure-pane').hidden")
        window.until(self.says("we look forward to"))
        self.assertEqual(window.evaluate(kept), [120, "Dark3"])
        window.evaluate("document.querySelectorAll('.tabs button')[6].click()")
        window.until("return document.querySelector('.panel').textContent.includes('Since the last save')")

    def test_data_are_edited_kept_and_sent(self) -> None:
        window = self.window()
        window.open(self.server.address)
        window.until(DRAWN)
        window.evaluate("document.querySelectorAll('.tabs button')[1].click()")
        window.evaluate(
            "const t = document.querySelector('textarea'); t.value = t.value.replace('Ana Ferreira', 'Zoë Quarrie'); t.dispatchEvent(new Event('input'))"
        )
        window.until(self.says("Zoë Quarrie", "wide"))
        window.evaluate(
            "document.querySelector('.edit input').value = 'zoe'; document.querySelector('.edit button').click()"
        )
        window.until(
            "return document.querySelector('.edit [role=status]').textContent === 'kept as berth-confirmed.sample-zoe.json'"
        )
        window.until("return [...document.querySelectorAll('.option')].some((one) => one.textContent === 'zoe')")
        window.evaluate("document.querySelectorAll('.tabs button')[3].click()")
        window.evaluate(
            "document.querySelector('.send input').value = 'you@example.org'; document.querySelector('.send').requestSubmit()"
        )
        window.until(
            "return document.querySelector('.send [role=status]').textContent.startsWith('you@example.org: accepted')"
        )
        (sent,) = self.outbox.messages
        self.assertIn("Zoë Quarrie", sent.html or "")

    def test_strangers(self) -> None:
        window = self.window()
        window.open(self.server.address)
        window.until(DRAWN)
        with window.as_stranger():
            for address in (f"{self.server.origin}/", self.server.address, f"{self.server.origin}/templates/desk-copy"):
                window.open(address)
                self.assertNotIn("Berth", window.evaluate("return document.body.textContent"))
                self.assertEqual(window.evaluate("return document.querySelectorAll('.tab').length"), 0)
        # A page from elsewhere in the same browser, which has the cookie, and sends a form and a request.
        other = self.folder().path / "other.html"
        body = json.dumps({"template": "desk-copy", "label": "stolen", "data": {}})
        other.write_text(
            f"<form method=post enctype=text/plain action='{self.server.origin}/samples'><input name='{body[:-1]}, \"x' value='\": 1}}'></form>"
            f"<iframe src='{self.server.origin}/'></iframe><script>fetch('{self.server.origin}/samples', "
            f"{{method: 'POST', credentials: 'include', mode: 'no-cors', body: {json.dumps(body)}}}).finally(() => document.forms[0].submit())</script>",
            encoding="utf-8",
        )
        window.open(other.as_uri())
        window.until(
            "return document.body.textContent.includes('another page') || document.body.textContent.includes('JSON') || location.href.startsWith('http')"
        )
        self.assertFalse((self.path / "desk-copy.sample-stolen.json").exists())


@proof
class Accessible(InABrowser):
    """axe-core, a checker of others, in every state of the page."""

    STATES = (
        "",
        *(f"document.querySelectorAll('.tabs button')[{n}].click()" for n in range(7)),
        "document.querySelectorAll('.quiet-button')[0].click()",
        "document.querySelectorAll('.quiet-button')[1].click()",
        "document.querySelectorAll('.viewers .option')[3].click()",
    )

    @unittest.skipIf(not AXE.is_file() and not NOTHING_SKIPPED, "axe-core is not installed (make javascript)")
    def test_no_finding(self) -> None:
        files = {path.relative_to(DEMO).as_posix(): path.read_bytes() for path in DEMO.rglob("*") if path.is_file()}
        text = files["berth-confirmed.html"].decode()
        files["berth-confirmed.html"] = text.replace("<span>", '<span style="color:#c9a45c">').encode()
        files["failing.html"] = (
            b"<p>{{ skiper }} and a long line that goes on and on and on and on and on and on and on</p>"
        )
        files["failing.sample.json"] = b'{"skipper": 1}'
        address = self.page(opened(self.folder(files).path))
        script = AXE.read_text(encoding="utf-8")
        for name, states in (
            ("berth-confirmed", self.STATES),
            ("failing", self.STATES[:2]),
            ("gate-code", self.STATES[:2]),
        ):
            for width in (1280, 390):
                for scheme in ("light", "dark"):
                    for state in states:
                        with self.subTest(name, width=width, scheme=scheme, state=state):
                            window = self.window(width, scheme)
                            window.open("about:blank")
                            window.open(f"{address}#{name}")
                            window.until("return document.querySelector('.line, .failure') !== null")
                            window.evaluate(state)
                            window.call("Runtime.evaluate", expression=script)
                            done = window.call(
                                "Runtime.evaluate",
                                awaitPromise=True,
                                returnByValue=True,
                                expression="axe.run(document, {iframes: false, resultTypes: ['violations']}).then((done) => "
                                "done.violations.map((one) => `${one.impact} ${one.id}: ${one.nodes[0].html.slice(0, 200)}`))",
                            )
                            self.assertEqual(done["result"]["value"], [])


if __name__ == "__main__":
    unittest.main()
