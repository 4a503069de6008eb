"""What several tests share: when each runs, templates from texts, the command line, a browser, who may skip."""

from __future__ import annotations

import io
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, chdir, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from unittest import mock

from hypothesis import HealthCheck, Phase, settings

from pribble import Rendering, Template, TemplateFolder
from pribble.cli import main

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src/pribble/demo/templates"
TEST_DATA = ROOT / "tests/data"
NOTHING_SKIPPED = bool(os.environ.get("PRIBBLE_NOTHING_SKIPPED"))

# ---- when a test runs -------------------------------------------------------------------------------------------

# `make quick` runs what has no mark, `make test` what is slow too, and `make proofs` what is long by nature.
QUICK, SLOW, PROOF = "quick", "slow", "proof"
FEWER = bool(os.environ.get("PRIBBLE_QUICK"))
EXPLORE = int(os.environ.get("PRIBBLE_EXPLORE") or 0)


def slow(test: Any) -> Any:
    """Mark a test or a class that `make quick` leaves out."""
    test.stage = SLOW
    return test


def proof(test: Any) -> Any:
    """Mark a test or a class that only `make proofs` runs: a browser over many pages, servers."""
    test.stage = PROOF
    return test


def examples(usual: int) -> int:
    """How many generated examples to try: a twelfth of the usual in `make quick`, more under ``PRIBBLE_EXPLORE=N``."""
    return max(5, usual // 12) if FEWER else usual * max(1, EXPLORE)


def generated(usual: int, *, shrink: bool = True) -> settings:
    """The settings of a test whose cases Hypothesis makes; without `shrink` a failing one is shown as it was found."""
    phases = tuple(Phase) if shrink else (Phase.generate,)
    return settings(max_examples=examples(usual), deadline=None, suppress_health_check=list(HealthCheck), phases=phases)


def large(usual: int) -> int:
    """A size that shows that depth and number are taken, where `usual` would only take more time: a tenth of it, or a
    fortieth in `make quick`; all of it under ``PRIBBLE_EXPLORE``.  What time it takes, benchmarks/hostile.py measures."""
    return usual if EXPLORE else usual // (40 if FEWER else 10)


def seeds(usual: int) -> range:
    """The seeds of a test that makes its cases itself: others under ``PRIBBLE_EXPLORE=N``."""
    first = EXPLORE * 1_000_000
    return range(first, first + examples(usual))


# ---- templates and the command line ------------------------------------------------------------------------------


def html_of(rendering: Rendering) -> str:
    """The page of a rendering that must have one: a template of text alone has none."""
    assert rendering.html is not None
    return rendering.html


class Case(unittest.TestCase):
    """A test case with a folder of its own and short ways to render."""

    maxDiff = None

    def folder(self, files: Mapping[str, str | bytes] | None = None, **settings: Any) -> TemplateFolder:
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
        return html_of(Template.from_text(text).render({} if data is None else data, **options))

    def complaint(self, text: str, data: Any = None, files: Mapping[str, str | bytes] | None = None) -> str:
        """The error that a template brings, compiled or rendered, as a user reads it."""
        from pribble import PribbleError

        folder = self.folder({"t.html": text, **(files or {})})
        with self.assertRaises(PribbleError) as caught:
            folder["t"].render({} if data is None else data)
        return str(caught.exception).replace(f"{folder.path}/", "")


@dataclass(frozen=True, slots=True)
class Done:
    """What a command left: its exit code, and what it wrote to standard output and standard error."""

    returncode: int
    stdout: str
    stderr: str


def pribble(*arguments: str, stdin: str = "", cwd: Path = ROOT, environment: Mapping[str, str] | None = None) -> Done:
    """Run a command of Pribble's as a user would, but in this process."""
    given = io.TextIOWrapper(io.BytesIO(stdin.encode()), encoding="utf-8")
    streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2)]
    around = {"COLUMNS": "100", "NO_COLOR": "1", **(environment or {})}
    with (
        chdir(cwd),
        mock.patch.dict(os.environ, around),
        mock.patch.multiple(sys, stdin=given, stdout=streams[0], stderr=streams[1]),
    ):
        try:
            code = main(arguments)
        except SystemExit as stop:  # argparse
            code = int(stop.code or 0)
    out, err = (stream.buffer.getvalue().decode() for stream in streams)
    return Done(code, out, err)


def pribble_process(
    *arguments: str, stdin: str = "", cwd: Path = ROOT, environment: Mapping[str, str] | None = None
) -> Done:
    """Run a command of Pribble's in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "pribble", *arguments],
        input=stdin.encode(),
        capture_output=True,
        cwd=cwd,
        env={**os.environ, "COLUMNS": "100", "NO_COLOR": "1", **(environment or {})},
        timeout=120,
    )
    return Done(done.returncode, done.stdout.decode(), done.stderr.decode())


def needs_chromium(test: Any) -> Any:
    """Skip a test where there is no Chromium, unless nothing may be skipped; `make quick` leaves it out."""
    absent = shutil.which("chromium") is None and not NOTHING_SKIPPED
    if getattr(test, "stage", QUICK) == QUICK:
        slow(test)
    return unittest.skipIf(absent, "Chromium is not installed")(test)


@contextmanager
def small_disk(size: str = "512k") -> Iterator[tuple[Path, Callable[[], AbstractContextManager[None]]]]:
    """A folder on a disk of its own, and what fills it; where none can be mounted, files may not grow any more."""
    with tempfile.TemporaryDirectory() as name:
        mounted = (
            subprocess.run(
                ["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", name], capture_output=True
            ).returncode
            == 0
        )

        @contextmanager
        def fill() -> Iterator[None]:
            filler = Path(name) / "filler"
            with open(filler, "wb", buffering=0) as file:
                try:
                    while True:
                        file.write(bytes(4096))
                except OSError:
                    pass
            yield
            filler.unlink()

        @contextmanager
        def limit() -> Iterator[None]:
            import resource

            before = resource.getrlimit(resource.RLIMIT_FSIZE)
            ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            resource.setrlimit(resource.RLIMIT_FSIZE, (1000, before[1]))
            try:
                yield
            finally:
                resource.setrlimit(resource.RLIMIT_FSIZE, before)
                signal.signal(signal.SIGXFSZ, ignored)

        try:
            yield Path(name), fill if mounted else limit
        finally:
            if mounted:
                subprocess.run(["umount", "--lazy", name], check=True)
