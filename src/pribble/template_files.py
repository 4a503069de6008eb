"""The files of a template folder: which of them are templates, which are for a locale, which a mark names."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from pribble.errors import DataError, Place, Source, TemplateError, did_you_mean
from pribble.files import file_names, is_file, is_within, real_path
from pribble.values.kinds import Data
from pribble.values.reading import read_json
from pribble.values.settings import is_locale

if TYPE_CHECKING:
    from pribble.language.linking import FoundFile

_NOT_TEMPLATES = ("layouts", "parts")
_ENDINGS = (".html", ".txt")


class TemplateFiles:
    """The files of a `folder`, of which nothing outside is one, wherever a link leads; with None there are none."""

    def __init__(self, folder: Path | None) -> None:
        self._folder = folder

    def names(self) -> Iterator[str]:
        """Yields the names of the templates, in order."""
        if self._folder is None:
            return
        found = {
            path.relative_to(self._folder).with_suffix("").as_posix()
            for ending in _ENDINGS
            for path in self._folder.rglob(f"*{ending}")
        }
        for name in sorted(found):
            stem, dot, suffix = name.rpartition(".")
            if _is_name(name) and not (dot and stem in found and is_locale(suffix)) and self._files(name):
                yield name

    def of_template(self, name: str) -> Path | None:
        """Returns the plain file of a template, None where there is none.  Raises `TemplateError` where there are
        two."""
        found = self._files(name) if _is_name(name) else []
        if len(found) > 1:
            raise TemplateError(
                f"there are both {found[0]} and {found[1]}",
                hint="a template with HTML has its own text in a text: block",
            )
        return found[0] if found else None

    def for_locale(self, path: Path, locale: str) -> tuple[Path, str | None]:
        """Returns the file for a locale (``x.de-CH.html``, ``x.de.html``, ``x.html``), and the locale it is for."""
        parts = locale.replace("-", "_").split("_")
        for size in range(len(parts), 0, -1):
            for joint in "-_":
                found = path.with_suffix(f".{joint.join(parts[:size])}{path.suffix}")
                if self._holds(found):
                    return found, "_".join(parts[:size])
        return path, None

    def locales_of(self, path: Path) -> list[str]:
        """Returns the locales for which a file has another one beside it, in order."""
        found = [other.name[len(path.stem) + 1 : -len(path.suffix)] for other in self._beside(path, f".*{path.suffix}")]
        return sorted(locale for locale in found if locale and is_locale(locale))

    def samples_of(self, path: Path) -> dict[str, Path]:
        """Returns the samples of a template's file, by label: that of ``NAME.sample-LABEL.json``, "" for
        ``NAME.sample.json``."""
        labels = {
            found.name[len(path.stem) + len(".sample") : -len(".json")]: found
            for found in self._beside(path, ".sample*.json")
        }
        return {
            label.removeprefix("-"): found
            for label, found in sorted(labels.items())
            if not label or label.startswith("-")
        }

    def named(self, name: str, source: Source, place: Place, locale: str) -> FoundFile:
        """Returns the layout or part called `name` at a place of `source`, relative to that file, for a locale if there
        is one.  Raises `TemplateError` where it is not there, lies outside, or cannot be read."""
        from pribble.language.linking import FoundFile

        if self._folder is None:
            raise TemplateError(
                f'there is no folder to look for "{name}" in',
                place=place,
                hint="hand one in: Template.from_text(…, folder=…)",
            )
        if not name.isprintable():
            raise TemplateError(f'"{name}" is the name of no file', place=place)
        path = Path(os.path.normpath(Path(source.name).parent / name))
        if real_path(path) is None:
            raise TemplateError(f'"{name[:100]}" is the name of no file, or a link that leads to itself', place=place)
        if not is_within(path, self._folder):
            raise TemplateError(f'"{name[:100]}" lies outside the template folder', place=place)
        if not is_file(path):
            hint = did_you_mean(path.name[:100], file_names(path.parent))
            raise TemplateError(f'there is no file "{name[:100]}"', place=place, hint=hint)
        chosen, found = self.for_locale(path, locale)
        return FoundFile(read_source(chosen), found)

    def _holds(self, path: Path) -> bool:
        return self._folder is not None and is_file(path) and is_within(path, self._folder)

    def _files(self, name: str) -> list[Path]:
        if self._folder is None:
            return []
        return [path for ending in _ENDINGS if self._holds(path := self._folder / f"{name}{ending}")]

    def _beside(self, path: Path, endings: str) -> Iterator[Path]:
        """Yields the files beside another one whose names are its own with some other ending."""
        if self._folder is not None:
            for found in path.parent.glob(glob.escape(path.stem) + endings):
                if is_within(found, self._folder):
                    yield found


def _is_name(name: str) -> bool:
    parts = name.split("/")
    return parts[0] not in _NOT_TEMPLATES and all(part and not part.startswith(".") for part in parts)


def read_source(path: Path) -> Source:
    """Returns what a template's file says.  Raises `TemplateError` where it cannot be read."""
    try:
        return Source(str(path), path.read_text(encoding="utf-8-sig"))
    except UnicodeDecodeError as error:
        raise TemplateError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
    except OSError as error:
        raise TemplateError(f"{path} cannot be read: {error.strerror or error}") from None


def read_data(path: Path) -> Data:
    """Returns the data of a JSON file.  Raises `DataError` for what is no JSON, `OSError` where it cannot be read."""
    try:
        return read_json(Source(str(path), path.read_text(encoding="utf-8-sig")))
    except UnicodeDecodeError as error:
        raise DataError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
