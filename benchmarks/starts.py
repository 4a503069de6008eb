"""How long it takes until a program that uses Pribble has started, above a bare interpreter."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
from pathlib import Path

STARTS = {
    "import pribble": ["-c", "import pribble"],
    "pribble --help": ["-m", "pribble", "--help"],
    "from pribble import TemplateFolder": ["-c", "from pribble import TemplateFolder"],
    "pribble render gate-code --format text": ["-m", "pribble", "render", "gate-code", "--format", "text"],
}
_RUNS = 12


def started(arguments: list[str]) -> float:
    """The seconds of CPU time that an interpreter takes with these arguments: the least of several runs."""
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    times = []
    for _ in range(_RUNS):
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run(
            [sys.executable, *arguments],
            check=True,
            env=environment,
            stdout=subprocess.DEVNULL,
            cwd=Path(__file__).parent.parent,
        )
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        times.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
    return min(times)
