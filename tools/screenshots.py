"""Make the pictures in docs/screenshots from the demo's data.

    python tools/screenshots.py

Needs Chromium for pages, and xterm, Xvfb and ImageMagick's import for the terminal.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pribble import TemplateFolder
from pribble.demo import TEMPLATES

ROOT = Path(__file__).parent.parent
SHOTS = ROOT / "docs/screenshots"
SIZE = (1280, 800)
CHROMIUM = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
            "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars"]


def page(html: str, name: str, *, size: tuple[int, int] = SIZE, dark: bool = False) -> None:
    """A page as headless Chromium shows it."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "page.html"
        path.write_text(html, encoding="utf-8")
        look = ["--blink-settings=preferredColorScheme=0"] if dark else []
        subprocess.run([*CHROMIUM, *look, f"--user-data-dir={folder}/profile", f"--window-size={size[0]},{size[1]}",
                        f"--screenshot={SHOTS / name}", path.as_uri()], check=True, capture_output=True, timeout=120)
    print(SHOTS / name)


@contextmanager
def screen() -> Iterator[str]:
    """A virtual screen; gives its name."""
    display = f":{90 + os.getpid() % 100}"
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        yield display
    finally:
        server.terminate()
        server.wait()


def terminal(commands: list[str], name: str, *, columns: int = 104, rows: int = 38, size: str = "12") -> None:
    """A terminal in which these commands were typed."""
    script = "; ".join(f"echo; printf '\\033[1m$ %s\\033[0m\\n' {quoted(c)}; {c}" for c in commands)
    bin_folder = Path(sys.executable).parent
    with screen() as display:
        window = subprocess.Popen(
            ["xterm", "-display", display, "-geometry", f"{columns}x{rows}+0+0", "-fa", "DejaVu Sans Mono", "-fs", size,
             "-bg", "#fdfdfb", "-fg", "#1d2b36", "-e", "bash", "-c", f"{script}; sleep 60"],
            cwd=ROOT, env={**os.environ, "PATH": f"{bin_folder}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8"})
        time.sleep(3 + 2 * len(commands))
        subprocess.run(["import", "-display", display, "-window", "root", str(SHOTS / name)], check=True)
        subprocess.run(["mogrify", "-trim", "+repage", str(SHOTS / name)], check=True)  # the bare screen around it
        window.terminate()
        window.wait()
    print(SHOTS / name)


def quoted(command: str) -> str:
    return "'" + command.replace("'", "'\\''") + "'"


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    if missing := [tool for tool in ("chromium", "xterm", "Xvfb", "import", "mogrify") if not shutil.which(tool)]:
        sys.exit(f"not installed: {', '.join(missing)}")
    templates = TemplateFolder(TEMPLATES, locale="en_GB", embed="data")
    for name, height in (("berth-confirmed", 1180), ("mooring-statement", 1480)):
        page(str(templates[name].render(templates[name].samples[""]).html), f"{name}.png", size=(1280, height))
    terminal(["pribble demo --out build/demo"], "demo.png", rows=50, size="9")
    terminal(["pribble render berth-confirmed --format text"], "plain-text.png", columns=80, rows=38)
    terminal(["pribble fields mooring-statement"], "fields.png", columns=92, rows=22)
    mistakes(ROOT / "build/notes")


MISTAKES = {
    "welcome": "<p>Dear {{ skiper.name }},</p>",
    "total": "<p>{{ total | money }}</p>",
    "offer": "<ul>\n{{ if offers: }}\n<li>{{ offers[0].what }}</li>\n{{ :for }}\n</ul>",
    "link": '<a href="{{ booking.page }}">Show it</a>',
    "branch": '<a href="{{ booking.page }}">\n{{ if offers: }}</a>{{ :if }}',
    "host": '<p>Write to <a href="https://{{ pier }}-berths.skerrow.example/">us</a></p>',
}


def mistakes(folder: Path) -> None:
    """Six mistakes, and what a newcomer reads."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in MISTAKES.items():
        (folder / f"{name}.html").write_text(text, encoding="utf-8")
    (folder / "data.json").write_text('{"skipper": {"name": "Ana"}, "total": 5, "booking": {"page": "bookings/7"}}')
    calls = [f"pribble render {name} --format text --templates build/notes --data build/notes/data.json"
             for name in MISTAKES]
    terminal(calls, "errors.png", columns=112, rows=42, size="9")


if __name__ == "__main__":
    main()
