"""A headless Chromium, driven over a pipe: pages in several states of their reader.

The protocol is Chromium's own (DevTools): JSON messages, each ended by a NUL, on descriptors 3 and 4.
"""

from __future__ import annotations

import base64
import json
import os
import subprocess
import tempfile
from collections.abc import Iterator
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

    def __init__(self, process: subprocess.Popen[bytes], write: int, read: int) -> None:
        self.process, self._write, self._read = process, write, read
        self._count, self._buffer = 0, b""
        target = self.call("Target.createTarget", url="about:blank")["targetId"]
        self._session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        for domain in ("Page", "DOM", "CSS"):
            self.call(f"{domain}.enable")

    def call(self, method: str, **parameters: Any) -> Any:
        """Call a method of the protocol and wait for its answer."""
        self._count += 1
        message: dict[str, Any] = {"id": self._count, "method": method, "params": parameters}
        if hasattr(self, "_session"):
            message["sessionId"] = self._session
        os.write(self._write, json.dumps(message).encode() + b"\0")
        while True:
            answer = self._message()
            if answer.get("id") == self._count:
                if "error" in answer:
                    raise AssertionError(f"{method}: {answer['error']}")
                return answer["result"]

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
        """Show a page."""
        frame = self.call("Page.getFrameTree")["frameTree"]["frame"]["id"]
        self.call("Page.setDocumentContent", frameId=frame, html=html)
        self.evaluate("return [...document.images].map(i => i.complete)")

    def become(self, *, width: int = 1000, scheme: str = "light", media: str = "screen", forced: Any = ()) -> None:
        """Put the reader into a state: how wide, which scheme and medium, which pseudo-classes hold everywhere."""
        self.call("Emulation.setDeviceMetricsOverride", width=width, height=800, deviceScaleFactor=1, mobile=False)
        self.call(
            "Emulation.setEmulatedMedia",
            media=media,
            features=[{"name": "prefers-color-scheme", "value": scheme}],
        )
        for node in self._nodes(self.call("DOM.getDocument", depth=-1)["root"]):
            self.call("CSS.forcePseudoState", nodeId=node, forcedPseudoClasses=list(forced))

    def _nodes(self, node: Any) -> Iterator[int]:
        if node["nodeType"] == 1:
            yield node["nodeId"]
        for child in node.get("children", ()):
            yield from self._nodes(child)


@contextmanager
def browser() -> Iterator[Browser]:
    """A Chromium, for as long as it is needed."""
    with tempfile.TemporaryDirectory(prefix="pribble-chromium-", ignore_cleanup_errors=True) as folder:
        theirs_in, ours_out = os.pipe()
        ours_in, theirs_out = os.pipe()
        command = ["chromium", *FLAGS, f"--user-data-dir={Path(folder)}", "--remote-debugging-pipe"]
        process = subprocess.Popen(
            ["bash", "-c", f'exec "$@" 3<&{theirs_in} 4>&{theirs_out}', "bash", *command],
            pass_fds=(theirs_in, theirs_out),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        os.close(theirs_in)
        os.close(theirs_out)
        try:
            yield Browser(process, ours_out, ours_in)
        finally:
            os.close(ours_out)
            os.close(ours_in)
            process.terminate()
            process.wait(20)


# The computed styles of html, body and all within, but for what is never rendered.
_COMPUTED = """
const all = [document.documentElement, document.body, ...document.body.querySelectorAll('*')]
  .filter(e => !e.closest('style, script'));
return all.map(e => { const s = getComputedStyle(e), m = {}; for (const name of s) if (!name.startsWith("--")) m[name] = s.getPropertyValue(name);
  return [e.localName, m]; });
"""


def computed(page: Browser, html: str, states: Any = STATES) -> dict[str, Any]:
    """The computed styles of a page's elements, in each state of its reader."""
    page.show(html)
    found = {}
    for name in states:
        page.become(**STATES[name])
        found[name] = page.evaluate(_COMPUTED)
    return found


def differences(one: dict[str, Any], other: dict[str, Any]) -> list[str]:
    """What is computed differently."""
    found = []
    for state, before in one.items():
        after = other[state]
        if [name for name, _ in before] != [name for name, _ in after]:
            found.append(f"{state}: other elements")
            continue
        for index, ((name, first), (_, second)) in enumerate(zip(before, after, strict=True)):
            found += [
                f"{state}: <{name}> number {index}: {key} is {second.get(key)}, was {value}"
                for key, value in first.items()
                if second.get(key) != value
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
