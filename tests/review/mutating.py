"""Mistakes made in copies of the sound designs (tests/data/mutations.toml)."""

from __future__ import annotations

import io
import random
import shutil
import tomllib
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from PIL import Image

from pribble import TemplateFolder
from pribble.review import Check, check
from tests.support import ROOT

DESIGNS = ROOT / "tests/data/designs"
_DATA: dict[str, list[dict[str, Any]]] = tomllib.loads((ROOT / "tests/data/mutations.toml").read_text(encoding="utf-8"))
MUTATIONS, OF_MESSAGES, STRAINED = _DATA["mutation"], _DATA["message"], _DATA["strained"]
# A finding as two checks are compared: where it stands may move, and what a place says may not.
Found = tuple[str, str, str]


@contextmanager
def mutated(mutation: dict[str, Any]) -> Iterator[Path]:
    """A copy of the designs with one mistake."""
    with TemporaryDirectory() as made:
        folder = Path(made) / "designs"
        shutil.copytree(DESIGNS, folder)
        for file, old, new in mutation.get("edits", ()):
            text = (folder / file).read_text(encoding="utf-8")
            if text.count(old) != 1:
                raise AssertionError(f"{mutation['rule']}: {file} has {text.count(old)} times {old!r}")
            (folder / file).write_text(text.replace(old, new * mutation.get("times", 1)), encoding="utf-8")
        for file in mutation.get("remove", ()):
            (folder / file).unlink()
        for file, text in mutation.get("write", ()):
            (folder / file).write_text(text, encoding="utf-8")
        if noise := mutation.get("noise"):
            (folder / noise).write_bytes(noisy(folder / noise))
        yield folder


def noisy(path: Path) -> bytes:
    """A picture as large as that at `path`, of which nothing can be compressed."""
    with Image.open(path) as image:
        size = image.size
    pixels = random.Random(7).randbytes(size[0] * size[1] * 3)
    out = io.BytesIO()
    Image.frombytes("RGB", size, pixels).save(out, "PNG")
    return out.getvalue()


def concerned(mutation: dict[str, Any]) -> list[str]:
    """The templates that a mutation is made in."""
    files = [edit[0] for edit in mutation.get("edits", ())] + list(mutation.get("remove", ()))
    files += ["banner.html"] if "noise" in mutation else []
    return list(dict.fromkeys(file.split(".")[0] for file in files))


def checked(folder: Path, names: list[str]) -> Check:
    """What is found in some templates of a folder, which are copied to where they are alone."""
    alone = folder.parent / "alone"
    shutil.copytree(folder, alone, ignore=lambda _, files: [file for file in files if not _is_of(file, names)])
    return check(TemplateFolder(alone))


def _is_of(file: str, names: list[str]) -> bool:
    return file.split(".")[0] in names or not file.endswith((".html", ".json", ".txt"))


def places(found: Check) -> Counter[Found]:
    """How often each rule is found, with what it says."""
    made: Counter[Found] = Counter()
    for one in found:
        name = one.where.source.name.rpartition("/")[2] if one.where else ""
        made[one.rule, one.severity, f"{name}: {one.message}"] += 1 + len(one.others)
    return made
