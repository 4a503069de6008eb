"""What the preview keeps once: chunks of pages, whole pages, files."""

from __future__ import annotations

import re
import secrets
from bisect import bisect_left
from collections.abc import Iterable, Mapping

from pribble.errors import Place, Source
from pribble.review.json_data import Json


class Store:
    """Chunks of pages, each once; pages as lists of them, each once; the files that places are in."""

    def __init__(self) -> None:
        # What nobody who writes a page can know, so that a page cannot say what only the preview says.
        self.token = secrets.token_hex(4)
        self._chunks: dict[str, int] = {}
        self._pages: dict[tuple[int, ...], int] = {}
        self._files: dict[str, tuple[int, str]] = {}
        self._units: dict[str, Units] = {}

    def page(self, chunks: Iterable[str]) -> int:
        """Returns the number of the page that is made of chunks."""
        known = self._chunks
        numbers = tuple([known.setdefault(chunk, len(known)) for chunk in chunks])
        return self._pages.setdefault(numbers, len(self._pages))

    def sizes(self, owned: Mapping[str, Iterable[int]]) -> dict[str, int]:
        """Returns for each owner of pages how many characters the chunks have that nobody else uses."""
        pages, chunks = list(self._pages), list(self._chunks)
        users: dict[int, set[str]] = {}
        for owner, numbers in owned.items():
            for chunk in {chunk for number in numbers for chunk in pages[number]}:
                users.setdefault(chunk, set()).add(owner)
        sizes = dict.fromkeys(owned, 0)
        for chunk, owners in users.items():
            if len(owners) == 1:
                sizes[next(iter(owners))] += len(chunks[chunk])
        return sizes

    def file(self, source: Source) -> int:
        """Returns the number of a file."""
        return self._files.setdefault(source.name, (len(self._files), source.text))[0]

    def position(self, place: Place) -> tuple[int, int, int]:
        """Returns a place: the number of its file, and where it begins and ends, in UTF-16 units."""
        units = self._units.get(place.source.name)
        if units is None:
            units = self._units[place.source.name] = Units(place.source.text)
        return self.file(place.source), units(place.start), units(place.end)

    def place(self, place: Place | None) -> Json:
        """Returns a place as `position` has it, where there is one."""
        return None if place is None else self.position(place)

    def as_json(self) -> dict[str, Json]:
        return {
            "chunks": list(self._chunks),
            "pages": [list(page) for page in self._pages],
            "files": [{"name": name, "text": text} for name, (_, text) in self._files.items()],
        }


class Units:
    """Counts as scripts do: characters beyond U+FFFF are two units (ECMA-262 6.1.4)."""

    def __init__(self, text: str) -> None:
        self._wide = [found.start() for found in re.finditer("[\U00010000-\U0010ffff]", text)]

    def __call__(self, offset: int) -> int:
        return offset + bisect_left(self._wide, offset)
