"""Files that are written together: made aside, put into place one by one, and taken back where one of them fails."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from pathlib import Path
from tempfile import mkdtemp

from pribble.files import is_within


def write_together(folder: Path, files: Mapping[str, bytes], *, replace: bool) -> list[Path]:
    """Writes files below a folder, by their paths there: all of them or none; returns where they are.

    Raises `FileExistsError` for one that is there already, unless it is to be replaced, and other `OSError`s.
    """
    folder.mkdir(parents=True, exist_ok=True)
    taken = [folder / path for path in files if os.path.lexists(folder / path)]
    if taken and not replace:
        raise FileExistsError(17, "is there already (--replace writes over it)", str(taken[0]))
    aside = Path(mkdtemp(prefix=".adopting-", dir=folder))
    placed: list[tuple[Path, Path | None]] = []  # what is in place, and what stood there
    try:
        for number, content in enumerate(files.values()):
            (aside / str(number)).write_bytes(content)
        for number, path in enumerate(files):
            if not is_within((folder / path).parent, folder):
                raise PermissionError(1, "lies outside the folder", str(folder / path))
            _place(aside, number, folder / path, placed)
    except BaseException:
        for target, before in reversed(placed):
            target.unlink(missing_ok=True)
            if before is not None:
                os.replace(before, target)
        raise
    finally:
        shutil.rmtree(aside, ignore_errors=True)
    return [folder / path for path in files]


def _place(aside: Path, number: int, target: Path, placed: list[tuple[Path, Path | None]]) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    before: Path | None = None
    if os.path.lexists(target):
        before = aside / f"{number}.before"
        os.replace(target, before)
    placed.append((target, before))
    os.link(aside / str(number), target)
