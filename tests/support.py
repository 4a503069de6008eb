"""What several tests share: templates from texts, the command line, a browser, and who may skip."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

from pribble import Template, TemplateFolder
from tests.chromium import FLAGS

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src/pribble/demo/templates"
NOTHING_SKIPPED = bool(os.environ.get("PRIBBLE_NOTHING_SKIPPED"))


class Case(unittest.TestCase):
    """A test case with a folder of its own and short ways to render."""

    maxDiff = None

    def folder(self, files: dict[str, str | bytes] | None = None, **settings: Any) -> TemplateFolder:
        """A template folder with these files."""
        path = Path(tempfile.mkdtemp(prefix="pribble-test-"))
        self.addCleanup(shutil.rmtree, path)
        for name, content in (files or {}).items():
            target = path / name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(content.encode("utf-8") if isinstance(content, str) else content)
        return TemplateFolder(path, **settings)

    def html(self, text: str, data: Any = None, **options: Any) -> str:
        """The HTML of a template of one file."""
        return Template.from_text(text).render({} if data is None else data, **options).html

    def complaint(self, text: str, data: Any = None, files: dict[str, str | bytes] | None = None) -> str:
        """The error that a template brings, compiled or rendered, as a user reads it."""
        from pribble import PribbleError

        folder = self.folder({"t.html": text, **(files or {})})
        with self.assertRaises(PribbleError) as caught:
            folder["t"].render({} if data is None else data)
        return str(caught.exception).replace(f"{folder.path}/", "")


def pribble(*arguments: str, stdin: str = "", cwd: Path = ROOT, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the command line as a user would."""
    return subprocess.run(
        [sys.executable, "-m", "pribble", *arguments],
        input=stdin,
        capture_output=True,
        text=True,
        cwd=cwd,
        env={**os.environ, "COLUMNS": "100", "NO_COLOR": "1", **environment},
        timeout=120,
    )


def needs_chromium(test: Any) -> Any:
    """Skip a test where there is no Chromium, unless nothing may be skipped."""
    absent = shutil.which("chromium") is None and not NOTHING_SKIPPED
    return unittest.skipIf(absent, "Chromium is not installed")(test)


def in_chromium(page: str, script: str) -> Any:
    """What `script`, the body of a function, returns in a page that headless Chromium has loaded."""
    report = (
        '<script>addEventListener("load", () => { const said = (() => { SCRIPT })(); '
        'document.documentElement.innerHTML = "<pre id=said></pre>"; '
        'document.getElementById("said").textContent = JSON.stringify(said); })</script>'
    ).replace("SCRIPT", script)
    with tempfile.TemporaryDirectory(prefix="pribble-page-") as folder:
        path = Path(folder) / "page.html"
        path.write_text(page + report, encoding="utf-8")
        done = subprocess.run(
            ["chromium", *FLAGS, f"--user-data-dir={folder}/profile", "--dump-dom", path.as_uri()],
            capture_output=True,
            text=True,
            timeout=120,
        )
    found = re.search(r'<pre id="said">(.*?)</pre>', done.stdout, re.DOTALL)
    if found is None:
        raise AssertionError(f"Chromium said nothing: {done.stderr[-2000:]}")
    import html

    return json.loads(html.unescape(found[1]))
