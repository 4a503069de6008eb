"""Finding the pictures that templates and data name, and never a file outside the permitted folders."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from pathlib import Path, PurePosixPath
from typing import TypeVar, cast
from urllib.parse import unquote

from pribble.errors import FieldError, PictureError, UnsafeValue, did_you_mean
from pribble.files import file_names, is_file, real_path
from pribble.pictures import corrections
from pribble.pictures.picture import Picture, renamed
from pribble.records import record
from pribble.values import url_values
from pribble.values.kinds import Data, canonical, kind, named
from pribble.values.showing import text

_Made = TypeVar("_Made")
# So much work on pictures that come with the data is remembered.
_MOST_KEPT = 256
# What lies in a folder of templates beside pictures.
_NO_PICTURES = (".html", ".htm", ".txt", ".json", ".toml", ".md", ".py")
# So many names are remembered, each for so many seconds: a thousand messages do not look a thousand times.
_MOST_NAMES = 4096
LOOKED_AT = 1.0


@record(frozen=True, slots=True)
class FoundPicture:
    """A picture fit to travel: its `path` below the folder it was found in, and what was corrected."""

    picture: Picture
    path: str | None = None
    corrections: tuple[corrections.Correction, ...] = ()


class PictureFinder:
    """The pictures of some folders, corrected as far as is `wanted`, with `density` pixels to one of CSS.

    Each file is read, measured and corrected once, until it changes, which is noticed within a second.  `fetch` gets
    what is elsewhere; without one it is left alone.  `outside` is what the
    folders are called, and what to do for a file that lies outside.
    """

    def __init__(
        self,
        folders: Sequence[Path],
        wanted: frozenset[str] = corrections.ALL,
        density: float = 2,
        fetch: Callable[[str], bytes] | None = None,
        outside: tuple[str, str] = ("the template folder", "put it inside, or name its folder in picture_folders"),
    ) -> None:
        self.folders = [folder.resolve() for folder in folders]
        self.wanted, self.density, self.fetch = wanted, density, fetch
        self._outside = outside
        self._kept: OrderedDict[Hashable, object] = OrderedDict()
        self._files: dict[tuple[Path, int, int], FoundPicture] = {}
        self._named: dict[tuple[str, Path | None], tuple[float, FoundPicture]] = {}
        self._lock = threading.Lock()

    def find(self, name: str, near: Path | None) -> FoundPicture:
        """Returns the picture called `name`, a relative path: beside the file that names it, else in the folders."""
        now = time.monotonic()
        known = self._named.get((name, near))
        if known is not None and now - known[0] < LOOKED_AT:
            return known[1]
        found = self._opened(self.file(name, near, "picture"))
        if known is not None or len(self._named) < _MOST_NAMES:
            self._named[name, near] = now, found
        return found

    def _opened(self, path: Path) -> FoundPicture:
        status = path.stat()
        key = (path, status.st_mtime_ns, status.st_size)
        with self._lock:
            kept = self._files.get(key)
        if kept is None:
            folder = next(folder for folder in self.folders if path.is_relative_to(folder))
            picture, changes = corrections.correct(Picture.open(path), self.wanted)
            with self._lock:
                kept = self._files.setdefault(key, FoundPicture(picture, path.relative_to(folder).as_posix(), changes))
        return kept

    def file(self, name: str, near: Path | None, what: str) -> Path:
        """Returns the file called `name`.  Raises `PictureError` for one that is not there, or in no permitted
        folder."""
        if not name.isprintable() or "\0" in name:
            raise PictureError(f'"{name}" is the name of no {what}')
        relative = PurePosixPath(name)
        tried: list[Path] = []
        beside = real_path(near) if near else None
        for folder in [*([beside] if beside else []), *self.folders]:
            path = real_path(folder / relative)
            if path is None:
                raise PictureError(f'"{name[:100]}" is the name of no {what}, or a link that leads to itself')
            if not any(path.is_relative_to(allowed) for allowed in self.folders):
                raise PictureError(
                    f'the {what} "{name}" lies outside {self._outside[0]}',
                    hint=self._outside[1],
                )
            if is_file(path):
                return path
            if path.parent not in tried:
                tried.append(path.parent)
        known = sorted({file for folder in tried for file in file_names(folder) if _is_of(file, what)})
        hint = did_you_mean(relative.name[:100], known) if known else None
        if "\\" in name:
            hint = f'folders are parted by "/": write {name[:100].replace(chr(92), "/")}'
        raise PictureError(f'there is no {what} "{name[:100]}"', hint=hint)

    def corrected(self, picture: Picture) -> FoundPicture:
        """Returns a picture that the application hands in, corrected."""

        def made() -> tuple[Picture, tuple[corrections.Correction, ...]]:
            right, changes = corrections.correct(picture.named(None), self.wanted)
            right.base64_body  # noqa: B018 - encoded once, for every name
            return right, changes

        # What is remembered by the content holds nothing of who used it: the name is each one's own.
        right, changes = self._once(("corrected", picture), made)
        return FoundPicture(right.named(renamed(picture.name, picture.type, right.type)), None, changes)

    def fitted(self, found: FoundPicture, shown: int | None) -> FoundPicture:
        """Returns a picture with no more pixels than it is shown with, so wide in CSS pixels."""
        if shown is None or corrections.RESAMPLE not in self.wanted:
            return found

        def made() -> tuple[Picture, corrections.Correction | None]:
            fit, change = corrections.fitted(found.picture.named(None), shown, self.density)
            if change is not None:
                fit.base64_body  # noqa: B018 - encoded once, for every name
            return fit, change

        picture, change = self._once(("fitted", found.picture, shown), made)
        if change is None:
            return found
        name = renamed(found.picture.name, found.picture.type, picture.type)
        return FoundPicture(picture.named(name), None, (*found.corrections, change))

    def fetched(self, address: str) -> FoundPicture | None:
        """Returns a picture that is elsewhere, where there is a fetcher for it."""
        fetch = self.fetch
        if fetch is None:
            return None
        return self._once(
            ("fetched", address),
            lambda: self.corrected(
                Picture.from_bytes(fetch(address), PurePosixPath(address.partition("?")[0]).name or None)
            ),
        )

    def _once(self, key: Hashable, make: Callable[[], _Made]) -> _Made:
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return cast("_Made", self._kept[key])
        made = make()
        with self._lock:
            self._kept[key] = made
            while len(self._kept) > _MOST_KEPT:
                self._kept.popitem(last=False)
        return made

    # -- what a program calls --

    def chosen(self, value: Data, shown: int | None = None) -> FoundPicture | str:
        """Returns the picture that a value is or names, or the address of one elsewhere; `shown` is how wide a figure
        is."""
        if type(value).__module__.partition(".")[0] == "matplotlib":
            return self.corrected(Picture.from_figure(value, width=shown))
        value = canonical(value) if not isinstance(value, bytes) else value
        if isinstance(value, Picture):
            return self.corrected(value)
        if isinstance(value, bytes):
            return self._once(("bytes", value), lambda: self.corrected(Picture.from_bytes(value)))
        if kind(value) != "text":
            raise FieldError(f"a picture's source is a picture or its name, not {named(value)}")
        name = value.strip()
        if name.lower().startswith(("http:", "https:")):
            address = url_values.whole_address(name, picture=True)
            return self.fetched(address) or address
        if name.lower().startswith(("cid:", "data:")):
            return url_values.whole_address(name, picture=True)
        return self.find(permitted(name), None)

    def composed(
        self, parts: Sequence[str | tuple[Data]], near: Path | None, shown: int | None = None
    ) -> FoundPicture | str:
        """Returns the picture that several pieces name: texts of the template's, and values, each alone in a tuple."""
        values = [part[0] for part in parts if not isinstance(part, str)]
        if len(values) == 1 and not "".join(part for part in parts if isinstance(part, str)).strip():
            return self.chosen(values[0], shown)
        base = text(values[0]) if parts and not isinstance(parts[0], str) else ""
        if base.lower().startswith(("http:", "https:")):
            return _continue_address(base, parts[1:])
        name = "".join(part if isinstance(part, str) else name_piece(part[0]) for part in parts)
        return self.find(unquote(name.strip()), near)


def _continue_address(base: str, parts: Sequence[str | tuple[Data]]) -> str:
    """Returns an address that begins with a value and goes on with what the template wrote."""
    rest = "".join(part if isinstance(part, str) else url_values.percent_encode(name_piece(part[0])) for part in parts)
    if not rest.startswith(("/", "?", "#")):
        raise UnsafeValue("an address goes on directly after a value", hint='write a "/" after the mark')
    return url_values.whole_address((url_values.base if rest.startswith("/") else url_values.stem)(base) + rest)


def _is_of(file: str, what: str) -> bool:
    """Returns whether a file could be what is looked for, by its name."""
    is_sheet = file.lower().endswith(".css")
    return is_sheet if what == "style sheet" else not is_sheet and not file.lower().endswith(_NO_PICTURES)


def permitted(name: str) -> str:
    """Returns `name`, if data may name a picture so; raises `UnsafeValue` for what could lead out of a folder."""
    if not name:
        raise UnsafeValue("an empty name is no picture's")
    if name.startswith("/") or "\\" in name or ".." in name.split("/") or ":" in name or not name.isprintable():
        raise UnsafeValue(
            f'"{name[:60]}" may not name a picture',
            hint='data name pictures by a path within the template folder, without ".."',
        )
    return name


def name_piece(value: Data) -> str:
    """Returns a value that completes a picture's name: one piece of it, that leads nowhere else."""
    piece = permitted(text(value))
    if "/" in piece or piece.startswith("."):
        raise UnsafeValue(f'"{piece[:60]}" may not complete the name of a picture', hint='it may hold no "/"')
    return piece
