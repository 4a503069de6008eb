"""Templates: where the language and the markup meet, and where files are read.

A `TemplateFolder` is a mapping from names to `Template`s; a template is compiled once and immutable; its
`render` gives a `Rendering`, all of whose forms come from one run over the data.
"""

from __future__ import annotations

import hashlib
import os
import re
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any

from pribble.compiled import Bound, Compiled, compile_page, compile_text
from pribble.compiler.html import size_attributes
from pribble.compiler.program import World
from pribble.compiler.trusted import MARKUP_FORMATTERS
from pribble.errors import DataError, FieldError, Place, PribbleError, Source, TemplateError, did_you_mean, visible
from pribble.findings import Finding
from pribble.language.fields import Field, fields
from pribble.language.linking import Found, link
from pribble.limits import Limits
from pribble.pictures.embedding import EMBED, PictureFinder
from pribble.pictures.picture import Picture
from pribble.pictures.picture import Source as PictureSource
from pribble.plaintext.flow import Open
from pribble.rendering import Embed, Rendering, with_preheader
from pribble.values.formatters import FORMATTERS, application_formatter
from pribble.values.reading import read_json
from pribble.values.settings import Settings, settings_text

_NOT_TEMPLATES = ("layouts", "parts")
_ENDINGS = (".html", ".txt")
_NAME = re.compile(r"[^\W\d]\w*")


class TemplateFolder(Mapping[str, "Template"]):
    """The templates of a folder, by name: ``folder["berth-confirmed"]`` is ``berth-confirmed.html``.

    `locale` and `timezone` are those of formatters; `embed` how pictures travel ("cid", the default, as parts
    of the message; "data" inside the HTML); `picture_folders` further folders that pictures may come from;
    `id_domain` the right side of their Content-IDs; `formatters` the application's own, each
    ``f(value, *arguments, locale=…)``; `common` values that every template sees, the data's own name first;
    `limits` what a template may multiply.  With `reload`, a template whose files changed is compiled anew.

    Raises `NotADirectoryError` where there is no folder, `ValueError` for settings that mean nothing.
    """

    def __init__(
        self,
        path: str | os.PathLike[str],
        *,
        locale: str = "en",
        timezone: str = "UTC",
        embed: Embed | None = None,
        picture_folders: Sequence[str | os.PathLike[str]] = (),
        id_domain: str = "pribble.invalid",
        formatters: Mapping[str, Callable[..., Any]] | None = None,
        common: Mapping[str, Any] | None = None,
        limits: Limits | None = None,
        reload: bool = False,
    ) -> None:
        self.path = Path(path)
        if not self.path.is_dir():
            raise NotADirectoryError(f'there is no template folder "{self.path}"')
        self._set_up(locale, timezone, embed, [self.path, *map(Path, picture_folders)], id_domain, formatters, common,
                     limits)
        self._reload, self._has_files = reload, True

    @classmethod
    def nowhere(cls) -> TemplateFolder:
        """A folder that has no files, for templates that need none."""
        folder = cls.__new__(cls)
        folder.path = Path()
        folder._set_up("en", "UTC", None, [], "pribble.invalid", None, None, None)
        folder._reload = folder._has_files = False
        return folder

    def _set_up(self, locale: str, timezone: str, embed: str | None, pictures: list[Path], id_domain: str,
                formatters: Mapping[str, Callable[..., Any]] | None, common: Mapping[str, Any] | None,
                limits: Limits | None) -> None:
        self.settings = Settings.checked(locale, timezone)
        self.embed = checked_embed(embed) or "cid"
        self.id_domain = id_domain
        self.pictures = PictureFinder(pictures)
        own = {name: application_formatter(f) for name, f in (formatters or {}).items()}
        for name in (*own, *(common or ())):
            if not _NAME.fullmatch(name):
                raise ValueError(f'"{name}" cannot be a name in a template')
        if taken := next((name for name in own if name in FORMATTERS or name in MARKUP_FORMATTERS), None):
            raise ValueError(f'there is a formatter "{taken}" already')
        helpers = {
            "picture": lambda value, place, wrap: self._source(self.pictures.chosen(value), wrap),
            "picture_composed": lambda parts, place, wrap: self._source(
                self.pictures.composed(parts, Path(place.source.name).parent), wrap),
            "picture_size": _picture_size,
            "Open": Open,
        }
        self.world = World(MappingProxyType({**FORMATTERS, **MARKUP_FORMATTERS, **own}), dict(common or {}),
                           limits or Limits(), helpers)
        self._templates: dict[str, tuple[Template, tuple[_Stamp, ...]]] = {}
        self._lock = threading.RLock()

    def _source(self, found: Picture | str, wrap: Callable[[str], str]) -> str:
        """The source of a picture, or the address of one elsewhere, fit for what it stands in."""
        return wrap(found) if isinstance(found, str) else PictureSource.of(found, self.id_domain)

    # -- the mapping --

    def __getitem__(self, name: str) -> Template:
        with self._lock:
            if name in self._templates:
                template, stamps = self._templates[name]
                if not self._reload or all(stamp == _Stamp.of(stamp.path) for stamp in stamps):
                    return template
            path = self._file(name)
            if path is None:
                raise UnknownTemplate(name, self)
            template = Template(self._read(path), name, self)
            self._templates[name] = template, tuple(map(_Stamp.of, template._paths()))
            return template

    def __iter__(self) -> Iterator[str]:
        found = {path.relative_to(self.path).with_suffix("").as_posix()
                 for ending in _ENDINGS for path in self.path.rglob(f"*{ending}")}
        for name in sorted(found):
            stem, dot, suffix = name.rpartition(".")
            if self._is_name(name) and not (dot and stem in found and _is_locale(suffix)):
                yield name

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self._file(name) is not None

    @staticmethod
    def _is_name(name: str) -> bool:
        parts = name.split("/")
        return parts[0] not in _NOT_TEMPLATES and all(part and not part.startswith(".") for part in parts)

    def _file(self, name: str) -> Path | None:
        """The plain file of a template; raises `TemplateError` where there are two."""
        if not self._has_files or not self._is_name(name):
            return None
        found = [path for ending in _ENDINGS if (path := self.path / f"{name}{ending}").is_file()]
        if len(found) > 1:
            raise TemplateError(f"there are both {found[0]} and {found[1]}",
                                hint="a template with HTML has its own text in a text: block")
        return found[0] if found else None

    # -- files --

    def _read(self, path: Path) -> Source:
        try:
            return Source(str(path), path.read_text(encoding="utf-8-sig"))
        except UnicodeDecodeError as error:
            raise TemplateError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
        except OSError as error:
            raise TemplateError(f"{path} cannot be read: {error.strerror or error}") from None

    def variant(self, path: Path, locale: str) -> tuple[Path, str | None]:
        """The file for a locale (``x.de-CH.html``, ``x.de.html``, ``x.html``), and the locale it is for."""
        parts = locale.replace("-", "_").split("_")
        for size in range(len(parts), 0, -1):
            for joint in "-_":
                found = path.with_suffix(f".{joint.join(parts[:size])}{path.suffix}")
                if found.is_file():
                    return found, "_".join(parts[:size])
        return path, None

    def find(self, name: str, source: Source, place: Place, locale: str) -> Found:
        """The layout or part called `name`, relative to the file that names it, for a locale if there is one."""
        if not self._has_files:
            raise TemplateError(f'there is no folder to look for "{name}" in', place=place,
                                hint="hand one in: Template.from_text(…, folder=…)")
        if not name.isprintable():
            raise TemplateError(f'"{visible(name)}" is the name of no file', place=place)
        path = Path(os.path.normpath(Path(source.name).parent / name))
        if not path.resolve().is_relative_to(self.path.resolve()):
            raise TemplateError(f'"{name}" lies outside the template folder', place=place)
        if not path.is_file():
            beside = [p.name for p in path.parent.iterdir() if p.is_file()] if path.parent.is_dir() else []
            raise TemplateError(f'there is no file "{name}"', place=place, hint=did_you_mean(path.name, beside))
        chosen, found = self.variant(path, locale)
        return Found(self._read(chosen), found)


@dataclass(frozen=True, slots=True)
class _Stamp:
    """What tells whether a file changed."""

    path: Path
    changed: int
    size: int

    @classmethod
    def of(cls, path: Path) -> _Stamp:
        try:
            status = path.stat()
        except OSError:
            return cls(path, 0, -1)
        return cls(path, status.st_mtime_ns, status.st_size)


def _is_locale(suffix: str) -> bool:
    try:
        settings_text("locale", suffix)
    except ValueError:
        return False
    return True


class UnknownTemplate(KeyError):
    """No template of that name is in the folder."""

    def __init__(self, name: str, folder: TemplateFolder) -> None:
        super().__init__(name)
        hint = did_you_mean(name, folder)
        self.message = f'there is no template "{name}" in {folder.path}' + (f" ({hint})" if hint else "")

    def __str__(self) -> str:
        return self.message


def checked_embed(embed: str | None) -> Embed | None:
    """`embed`, if it is a way for pictures to travel; raises `ValueError` otherwise."""
    if embed is not None and embed not in EMBED:
        raise ValueError(f'embed is one of {", ".join(EMBED)}, not "{embed}"')
    return embed  # type: ignore[return-value]


class Template:
    """A compiled template.  Immutable: any number of threads may render it at once.

    Raises `TemplateError` and `PictureError` for what is wrong with its files.
    """

    def __init__(self, source: Source, name: str, folder: TemplateFolder) -> None:
        self.name = name
        self.folder = folder
        self._source = source
        self._compiled: dict[str, Compiled] = {}
        self._bound: dict[tuple[str, str], Bound] = {}
        self._lock = threading.Lock()
        self._variant(folder.settings.locale)

    @classmethod
    def from_text(cls, text: str, *, name: str = "template", folder: TemplateFolder | None = None) -> Template:
        """A template without a file: layouts, parts and pictures are those of `folder`, where there is one.

        It is HTML unless its `name` ends in ``.txt``.
        """
        where = folder if folder is not None else TemplateFolder.nowhere()
        return cls(Source(str(where.path / name), text), name, where)

    def __repr__(self) -> str:
        return f"<Template {self.name!r}>"

    def render(self, data: Any, *, locale: str | None = None, timezone: str | None = None,
               embed: Embed | None = None) -> Rendering:
        """Fill the template with `data`: a mapping, a dataclass, any object that declares its fields.

        `locale` chooses the file and so the locale of its formatters.  Raises `FieldError` for a field that is
        missing or of no use here, `UnsafeValue` for a value that does not fit its place, `PictureError` for a
        picture that the data choose and that is not there, `LimitReached` for what grows beyond the limits.
        """
        bound = self._for(locale, timezone)
        try:
            return Rendering(
                subject=bound.subject(data) if bound.subject else None,
                preheader=(preheader := bound.preheader(data) if bound.preheader else None),
                embed=checked_embed(embed) or self.folder.embed,
                id_domain=self.folder.id_domain,
                pieces=with_preheader(bound.html(data), preheader) if bound.html else None,
                text=bound.text(data),
            )
        except FieldError as error:
            # The survey knows the positions in loops, which a program does not keep.
            found = self.problems(data, locale=locale, timezone=timezone)
            raise (found[0] if found else error) from None

    def problems(self, data: Any, *, locale: str | None = None, timezone: str | None = None) -> list[PribbleError]:
        """Every missing or unusable field at once, in the order of the template; empty where it would render."""
        return self._variant(self._asked(locale)).problems(self._settings(timezone), self.folder.world, data)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What is to be told of the template: a message is made, but a browser may show another one than is meant."""
        return self._variant(self.folder.settings.locale).findings

    def fields(self) -> list[Field]:
        """What the data must hold."""
        return fields(self._variant(self.folder.settings.locale).tape, self.folder.world.common)

    @property
    def version(self) -> str:
        """A hash over all files that the template is linked from, its locale variants among them."""
        digest = hashlib.sha256()
        for locale in self._locales():
            for source in self._variant(locale).tape.sources:
                digest.update(f"{Path(source.name).name}\0{source.text}\0".encode("utf-8", "surrogatepass"))
        return digest.hexdigest()[:16]

    @property
    def samples(self) -> dict[str, Any]:
        """The sample data beside the template, by label; that of ``NAME.sample.json`` has the label ""."""
        path = Path(self._source.name)
        labels = {found.name[len(path.stem) + len(".sample"):-len(".json")]: found
                  for found in path.parent.glob(f"{path.stem}.sample*.json")}
        return {label.removeprefix("-"): read_data(found) for label, found in sorted(labels.items())
                if not label or label.startswith("-")}

    # -- variants --

    def _locales(self) -> list[str]:
        """The locales that have a file of their own, after the folder's."""
        path = Path(self._source.name)
        found = [p.name[len(path.stem) + 1:-len(path.suffix)] for p in path.parent.glob(f"{path.stem}.*{path.suffix}")]
        return [self.folder.settings.locale, *sorted(s for s in found if s and _is_locale(s))]

    def _paths(self) -> list[Path]:
        return [Path(source.name) for compiled in self._compiled.values() for source in compiled.tape.sources]

    def _variant(self, locale: str) -> Compiled:
        """The template compiled for a locale: from its file for that locale, else from the plain one."""
        with self._lock:
            if locale not in self._compiled:
                self._compiled[locale] = self._compile(locale)
            return self._compiled[locale]

    def _compile(self, locale: str) -> Compiled:
        folder, source, own = self.folder, self._source, None
        path = Path(source.name)
        if path.is_file():
            chosen, own = folder.variant(path, locale)
            source = source if chosen == path else folder._read(chosen)
        is_html = path.suffix != ".txt"
        tape = link(Found(source, own), lambda name, named_in, place: folder.find(name, named_in, place, locale),
                    html=is_html, common=folder.world.common, limits=folder.world.limits)
        if not is_html:
            return compile_text(tape, folder.world)
        return compile_page(tape, folder.world, _WrittenPictures(folder.pictures, folder.id_domain))

    def _settings(self, timezone: str | None) -> Settings:
        base = self.folder.settings
        return base if timezone is None else Settings.checked(base.locale, timezone)

    def _asked(self, locale: str | None) -> str:
        """The locale that is asked for; raises `ValueError` for one that is unknown."""
        return self.folder.settings.locale if locale is None else settings_text("locale", locale)

    def _for(self, locale: str | None, timezone: str | None) -> Bound:
        asked = self._asked(locale)
        key = asked, timezone or self.folder.settings.timezone
        bound = self._bound.get(key)
        if bound is None:
            bound = self._variant(asked).bound(self._settings(timezone), self.folder.world)
            self._bound[key] = bound
        return bound


def _picture_size(source: str, width: str | None, height: str | None, complete: bool) -> str:
    return size_attributes(source.picture, width, height) if complete and isinstance(source, PictureSource) else ""


def read_data(path: Path) -> Any:
    """The data of a JSON file; raises `DataError`."""
    try:
        return read_json(Source(str(path), path.read_text(encoding="utf-8-sig")))
    except UnicodeDecodeError as error:
        raise DataError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None


@dataclass(frozen=True, slots=True)
class _WrittenPictures:
    """Finds pictures for the compiler and names the place where they are written."""

    finder: PictureFinder
    domain: str

    def written(self, name: str, place: Place) -> PictureSource:
        try:
            return PictureSource.of(self.finder.find(name, Path(place.source.name).parent), self.domain)
        except PribbleError as error:
            raise type(error)(error.problem, place=place, hint=error.hint) from None
