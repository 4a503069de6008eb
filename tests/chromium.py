"""A headless Chromium, driven over a pipe: pages in several states of their reader.

The protocol is Chromium's own (DevTools): JSON messages, each ended by a NUL, on descriptors 3 and 4.
"""

from __future__ import annotations

import atexit
import base64
import functools
import json
import os
import subprocess
import tempfile
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

FLAGS = (
    "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --hide-scrollbars"
).split()

STATES: dict[str, dict[str, Any]] = {
    "wide": {},
    "narrow": {"width": 390},
    "dark": {"scheme": "dark"},
    "dark and narrow": {"scheme": "dark", "width": 390},
    "print": {"media": "print"},
    "hover": {"forced": ["hover"]},
    "focus": {"forced": ["focus"]},
    "active": {"forced": ["active", "hover"]},
}


class Browser:
    """One Chromium with one page."""

    def __init__(self, process: subprocess.Popen[bytes], write: int, read: int, folder: Path) -> None:
        self.process, self._write, self._read = process, write, read
        self._file = folder / "page.html"
        self._count, self._buffer = 0, b""
        self._events: set[str] = set()
        self._forced: tuple[str, ...] = ()
        self._loaded = False
        self._session: str | None = None
        target = self.call("Target.createTarget", url="about:blank")["targetId"]
        self._session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        for domain in ("Page", "DOM", "CSS"):
            self.call(f"{domain}.enable")

    def call(self, method: str, **parameters: Any) -> Any:
        """Call a method of the protocol and wait for its answer."""
        return self._answer(method, self._send(method, parameters))

    def calls(self, method: str, many: Iterable[dict[str, Any]]) -> None:
        """Call a method many times; the answers are awaited together."""
        for number in [self._send(method, parameters) for parameters in many]:
            self._answer(method, number)

    def _send(self, method: str, parameters: dict[str, Any]) -> int:
        self._count += 1
        message: dict[str, Any] = {"id": self._count, "method": method, "params": parameters}
        if self._session is not None:
            message["sessionId"] = self._session
        os.write(self._write, json.dumps(message).encode() + b"\0")
        return self._count

    def _answer(self, method: str, number: int) -> Any:
        while True:
            answer = self._message()
            if answer.get("id") == number:
                if "error" in answer:
                    raise AssertionError(f"{method}: {answer['error']}")
                return answer["result"]
            self._events.add(answer.get("method", ""))

    def _message(self) -> Any:
        while b"\0" not in self._buffer:
            read = os.read(self._read, 1 << 20)
            if not read:
                raise AssertionError("Chromium has gone")
            self._buffer += read
        message, _, self._buffer = self._buffer.partition(b"\0")
        return json.loads(message)

    def evaluate(self, script: str) -> Any:
        """What `script`, the body of a function, returns."""
        done = self.call("Runtime.evaluate", expression=f"(() => {{ {script} }})()", returnByValue=True)
        if "exceptionDetails" in done:
            raise AssertionError(done["exceptionDetails"])
        return done["result"].get("value")

    def show(self, html: str) -> None:
        """Show a page, at once and without an address of its own."""
        if self._loaded:
            self.call("Page.navigate", url="about:blank")
            self._loaded = False
        frame = self.call("Page.getFrameTree")["frameTree"]["frame"]["id"]
        self.call("Page.setDocumentContent", frameId=frame, html=html)
        self.evaluate("return [...document.images].map(i => i.complete)")
        self._forced = ()

    def load(self, html: str, path: Path | None = None) -> None:
        """Load a page from a file (at `path`, if it is to lie among others), its frames and pictures too, and run its
        scripts."""
        path = path or self._file
        path.write_text(html, encoding="utf-8")
        self._events.clear()
        self.call("Page.navigate", url=path.as_uri())
        while "Page.loadEventFired" not in self._events:
            self._events.add(self._message().get("method", ""))
        self._forced, self._loaded = (), True

    def open(self, address: str) -> None:
        """Open an address, and wait until it is loaded."""
        self._events.clear()
        self.call("Page.navigate", url=address)
        while "Page.loadEventFired" not in self._events:
            self._events.add(self._message().get("method", ""))
        self._forced, self._loaded = (), True

    def until(self, script: str, seconds: float = 20) -> Any:
        """What `script`, the body of a function, returns once it is true."""
        end = time.monotonic() + seconds
        while not (value := self.evaluate(script)):
            if time.monotonic() > end:
                raise AssertionError(f"not within {seconds} s: {script}")
            time.sleep(0.02)
        return value

    def point(self, x: float, y: float) -> None:
        """Move the pointer."""
        self.call("Input.dispatchMouseEvent", type="mouseMoved", x=x, y=y)

    def press(self, key: str) -> None:
        """Press a key that writes a character."""
        self.call("Input.dispatchKeyEvent", type="keyDown", key=key, text=key)
        self.call("Input.dispatchKeyEvent", type="keyUp", key=key)

    @contextmanager
    def as_stranger(self) -> Iterator[None]:
        """The same browser without its cookies and all that it remembers."""
        session, self._session = self._session, None
        context = self.call("Target.createBrowserContext")["browserContextId"]
        target = self.call("Target.createTarget", url="about:blank", browserContextId=context)["targetId"]
        self._session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        self.call("Page.enable")
        try:
            yield
        finally:
            self._session = None
            self.call("Target.disposeBrowserContext", browserContextId=context)
            self._session = session

    def become(self, *, width: int = 1000, scheme: str = "light", media: str = "screen", forced: Any = ()) -> None:
        """Put the reader into a state: how wide, which scheme and medium, which pseudo-classes hold everywhere."""
        self.call("Emulation.setDeviceMetricsOverride", width=width, height=800, deviceScaleFactor=1, mobile=False)
        self.call(
            "Emulation.setEmulatedMedia", media=media, features=[{"name": "prefers-color-scheme", "value": scheme}]
        )
        if tuple(forced) != self._forced:
            nodes = self._nodes(self.call("DOM.getDocument", depth=-1)["root"])
            self.calls(
                "CSS.forcePseudoState", [{"nodeId": node, "forcedPseudoClasses": list(forced)} for node in nodes]
            )
            self._forced = tuple(forced)

    def _nodes(self, node: Any) -> Iterator[int]:
        if node["nodeType"] == 1:
            yield node["nodeId"]
        for child in node.get("children", ()):
            yield from self._nodes(child)


@functools.cache
def browser() -> Browser:
    """The Chromium of this process: started when it is first asked for, and stopped when the process ends."""
    folder = tempfile.TemporaryDirectory(prefix="pribble-chromium-", ignore_cleanup_errors=True)
    theirs_in, ours_out = os.pipe()
    ours_in, theirs_out = os.pipe()
    command = ["chromium", *FLAGS, f"--user-data-dir={folder.name}", "--remote-debugging-pipe"]
    process = subprocess.Popen(
        ["bash", "-c", f'exec "$@" 3<&{theirs_in} 4>&{theirs_out}', "bash", *command],
        pass_fds=(theirs_in, theirs_out),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(theirs_in)
    os.close(theirs_out)

    def stop() -> None:
        os.close(ours_out)
        os.close(ours_in)
        process.terminate()
        process.wait(20)
        folder.cleanup()

    atexit.register(stop)
    return Browser(process, ours_out, ours_in, Path(folder.name))


# Each picture of a page: whether it is there, its own width, and how wide and high it is shown.
PAINTED = "return [...document.images].map(i => [i.complete, i.naturalWidth, i.width, i.height])"

# The computed styles of html, body and all within, but for what is never rendered: the properties' names, and for each
# element its name and its values.  Chromium has the same properties for every element.
_COMPUTED = """
const all = [document.documentElement, document.body, ...document.body.querySelectorAll('*')]
  .filter(e => !e.closest('style, script'));
const names = [...getComputedStyle(document.body)].filter(name => !name.startsWith("--"));
return [names, all.map(e => { const s = getComputedStyle(e);
  return [e.localName, names.map(name => s.getPropertyValue(name)).join("\\0")]; })];
"""

Computed = tuple[list[str], list[tuple[str, str]]]


def computed(page: Browser, html: str, states: Any = STATES) -> dict[str, Computed]:
    """The computed styles of a page's elements, in each state of its reader."""
    page.show(html)
    found: dict[str, Computed] = {}
    for name in states:
        page.become(**STATES[name])
        found[name] = page.evaluate(_COMPUTED)
    return found


def values(names: list[str], element: tuple[str, str]) -> dict[str, str]:
    """The computed values of an element by the names of the properties."""
    return dict(zip(names, element[1].split("\0"), strict=True))


def differences(one: dict[str, Computed], other: dict[str, Computed]) -> list[str]:
    """What is computed differently."""
    found = []
    for state, (names, before) in one.items():
        after = other[state][1]
        if [name for name, _ in before] != [name for name, _ in after]:
            found.append(f"{state}: other elements")
            continue
        for index, (first, second) in enumerate(zip(before, after, strict=True)):
            if first[1] != second[1]:
                now = values(names, second)
                found += [
                    f"{state}: <{first[0]}> number {index}: {key} is {now[key]}, was {value}"
                    for key, value in values(names, first).items()
                    if now[key] != value
                ]
    return found


def picture(page: Browser, html: str, *, width: int, scheme: str = "light") -> bytes:
    """A PNG of a whole page as it shows in a window of a width."""
    page.show(html)
    page.become(width=width, scheme=scheme)
    height = page.evaluate("return document.documentElement.scrollHeight")
    page.call("Emulation.setDeviceMetricsOverride", width=width, height=height, deviceScaleFactor=1, mobile=False)
    page.evaluate("return [...document.images].map(i => i.decode && i.naturalWidth)")
    return base64.b64decode(page.call("Page.captureScreenshot", format="png")["data"])


# What a page shows as text, and the links that can be seen, once all is gone that a plain text does not say: what shows
# nothing although it is there, and text without a size.
_SHOWN = """
document.head.insertAdjacentHTML('beforeend', '<style>*{text-transform:none !important}</style>');
const lines = new Set(['inline', 'contents', 'table', 'table-row', 'table-cell', 'table-row-group', 'table-header-group',
  'table-footer-group', 'inline-table', 'table-caption']);
const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT), empty = [];
while (texts.nextNode()) if (getComputedStyle(texts.currentNode.parentElement).fontSize === '0px') empty.push(texts.currentNode);
const gone = [...document.body.querySelectorAll('*')].filter(e => { const s = getComputedStyle(e);
  return s.opacity === '0' || (!lines.has(s.display) && ['hidden', 'clip'].includes(s.overflowY) &&
    (s.maxHeight === '0px' || e.style.height === '0px')); });
empty.forEach(t => t.remove()); gone.forEach(e => e.remove());
const visible = i => { const s = getComputedStyle(i); return i.getClientRects().length && s.visibility === 'visible'; };
const links = [...document.links].filter(a => (a.checkVisibility() && a.innerText.replace(/[\u200b\u00ad]/g, '').trim()) || [...a.querySelectorAll('img')].some(visible));
return [document.body.innerText, links.map(a => a.getAttribute('href'))];
"""


def shown(page: Browser, html: str) -> tuple[str, list[str]]:
    """The visible text of a page, and the addresses of its links."""
    page.show(html)
    text, links = page.evaluate(_SHOWN)
    return text, links
