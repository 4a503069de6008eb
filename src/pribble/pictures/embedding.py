"""Finding the pictures that templates and data name, and never a file outside the permitted folders."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote

from pribble.errors import FieldError, PictureError, UnsafeValue, did_you_mean, visible
from pribble.pictures.picture import Picture
from pribble.values import urls
from pribble.values.kinds import kind, named, plain
from pribble.values.showing import text

EMBED = ("cid", "data")


class PictureFinder:
    """The pictures of some folders.  Each file is read, measured and kept once, until it changes."""

    def __init__(self, folders: Sequence[Path]) -> None:
        self.folders = [folder.resolve() for folder in folders]
        self._kept: dict[tuple[Path, int, int], Picture] = {}
        self._lock = threading.Lock()

    def find(self, name: str, near: Path | None) -> Picture:
        """The picture called `name`, a relative path: beside the file that names it, else in the folders."""
        if not name.isprintable():
            raise PictureError(f'"{visible(name)}" is the name of no picture')
        relative = PurePosixPath(name)
        tried: list[Path] = []
        for folder in [*([near.resolve()] if near else []), *self.folders]:
            path = (folder / relative).resolve()
            if not any(path.is_relative_to(allowed) for allowed in self.folders):
                raise PictureError(f'the picture "{name}" lies outside the template folder',
                                   hint="put it inside, or name its folder in picture_folders")
            if path.is_file():
                return self._opened(path)
            if path.parent not in tried:
                tried.append(path.parent)
        beside = sorted({p.name for folder in tried if folder.is_dir() for p in folder.iterdir() if p.is_file()})
        hint = did_you_mean(relative.name, beside) if beside else None
        raise PictureError(f'there is no picture "{name}"', hint=hint)

    def _opened(self, path: Path) -> Picture:
        status = path.stat()
        key = (path, status.st_mtime_ns, status.st_size)
        with self._lock:
            kept = self._kept.get(key)
        if kept is None:
            kept = Picture.open(path)
            with self._lock:
                kept = self._kept.setdefault(key, kept)
        return kept

    # -- what a program calls --

    def chosen(self, value: Any) -> Picture | str:
        """The picture that a value is or names, or the address of one elsewhere."""
        value = plain(value) if not isinstance(value, bytes) else value
        if isinstance(value, Picture):
            return value
        if isinstance(value, bytes):
            return Picture.from_bytes(value)
        if kind(value) != "text":
            raise FieldError(f"a picture's source is a picture or its name, not {named(value)}")
        name = value.strip()
        if name.lower().startswith(("http:", "https:", "cid:", "data:")):
            return urls.whole(name, picture=True)
        return self.find(permitted(name), None)

    def composed(self, parts: Sequence[str | tuple[Any]], near: Path | None) -> Picture | str:
        """The picture that several pieces name: texts of the template's, and values, each alone in a tuple."""
        values = [part[0] for part in parts if not isinstance(part, str)]
        if len(values) == 1 and not "".join(part for part in parts if isinstance(part, str)).strip():
            return self.chosen(values[0])
        base = text(values[0]) if parts and not isinstance(parts[0], str) else ""
        if base.lower().startswith(("http:", "https:")):
            return _continued(base, parts[1:])
        name = "".join(part if isinstance(part, str) else name_piece(part[0]) for part in parts)
        return self.find(unquote(name.strip()), near)


def _continued(base: str, parts: Sequence[str | tuple[Any]]) -> str:
    """An address that begins with a value and goes on with what the template wrote."""
    rest = "".join(part if isinstance(part, str) else urls.encoded(name_piece(part[0])) for part in parts)
    if not rest.startswith(("/", "?", "#")):
        raise UnsafeValue("an address goes on directly after a value", hint='write a "/" after the mark')
    return urls.whole((urls.base if rest.startswith("/") else urls.stem)(base) + rest)


def permitted(name: str) -> str:
    """`name`, if data may name a picture so; raises `UnsafeValue` for what could lead out of a folder."""
    if not name:
        raise UnsafeValue("an empty name is no picture's")
    if name.startswith("/") or "\\" in name or ".." in name.split("/") or ":" in name or not name.isprintable():
        raise UnsafeValue(f'"{name[:60]}" may not name a picture', hint="data name pictures by a path within the "
                          "template folder, without \"..\"")
    return name


def name_piece(value: Any) -> str:
    """A value that completes a picture's name: one piece of it, that leads nowhere else."""
    piece = permitted(text(value))
    if "/" in piece or piece.startswith("."):
        raise UnsafeValue(f'"{piece[:60]}" may not complete the name of a picture', hint='it may hold no "/"')
    return piece
