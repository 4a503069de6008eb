"""Templates: where the language and the markup meet, and where files are read.

A `TemplateFolder` is a mapping from names to `Template`s; a template is compiled once and immutable; its
`render` gives a `Rendering`, all of whose forms come from one run over the data.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

from pribble.compiler.html import PREHEADER, LineSink, PieceSink, html_steps, line_steps, size_attributes, title_steps
from pribble.compiler.program import Program, Run, compiled, needed_bindings
from pribble.compiler.text import EventSink, text_steps
from pribble.errors import DataError, FieldError, Place, PribbleError, Related, Source, TemplateError, did_you_mean
from pribble.language.fields import Field, fields
from pribble.language.tape import LIFTED, LiftedBlock, Tape, link
from pribble.markup.contexts import MarkupError, read
from pribble.mime.address import Recipients
from pribble.mime.message import Message
from pribble.pictures.embedding import EMBED, PictureFinder, name_piece
from pribble.pictures.picture import Picture
from pribble.plaintext.flow import Open, flow
from pribble.plaintext.layout import layout
from pribble.values.escaping import markup
from pribble.values.formatters import Settings
from pribble.values.reading import read_json

Embed = Literal["cid", "data"]

# Hidden in the customary way: each of these hides it from receivers that ignore the others.
_PREHEADER = ('<div style="display:none;max-height:0;max-width:0;overflow:hidden;opacity:0;font-size:1px;'
              'line-height:1px;mso-hide:all">{}</div>')
_NOT_TEMPLATES = ("layouts", "parts")


class TemplateFolder(Mapping[str, "Template"]):
    """The templates of a folder, by name: ``folder["berth-confirmed"]`` is ``berth-confirmed.html``.

    `locale` and `timezone` are those of formatters, `embed` how pictures travel ("cid", the default, as parts
    of the message; "data" inside the HTML), `picture_folders` further folders that pictures may come from,
    `id_domain` the right side of their Content-IDs.  Raises `NotADirectoryError` where there is no folder.
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
    ) -> None:
        self.path = Path(path)
        if not self.path.is_dir():
            raise NotADirectoryError(f'there is no template folder "{self.path}"')
        self.settings = checked_settings(locale, timezone)
        self.embed = checked_embed(embed) or "cid"
        self.id_domain = id_domain
        self.pictures = PictureFinder([self.path, *map(Path, picture_folders)])
        self._templates: dict[str, Template] = {}
        self._lock = threading.Lock()
        self._has_files = True

    @classmethod
    def nowhere(cls) -> TemplateFolder:
        """A folder that has no files, for templates that need none."""
        folder = cls.__new__(cls)
        folder.path, folder.settings, folder.embed = Path(), Settings(), "cid"
        folder.id_domain, folder.pictures = "pribble.invalid", PictureFinder([])
        folder._templates, folder._lock, folder._has_files = {}, threading.Lock(), False
        return folder

    def __getitem__(self, name: str) -> Template:
        with self._lock:
            if name not in self._templates:
                path = self.path / f"{name}.html"
                if not self._is_name(name) or not path.is_file():
                    raise UnknownTemplate(name, self)
                self._templates[name] = Template(self._read(path), name, self)
            return self._templates[name]

    def __iter__(self) -> Iterator[str]:
        for path in sorted(self.path.rglob("*.html")):
            name = path.relative_to(self.path).with_suffix("").as_posix()
            if self._is_name(name):
                yield name

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self._is_name(name) and (self.path / f"{name}.html").is_file()

    @staticmethod
    def _is_name(name: str) -> bool:
        parts = name.split("/")
        return parts[0] not in _NOT_TEMPLATES and all(part and not part.startswith(".") for part in parts)

    def _read(self, path: Path) -> Source:
        try:
            return Source(str(path), path.read_text(encoding="utf-8-sig"))
        except UnicodeDecodeError as error:
            raise TemplateError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
        except OSError as error:
            raise TemplateError(f"{path} cannot be read: {error.strerror or error}") from None

    def find(self, name: str, source: Source, place: Place) -> Source:
        """The layout or part called `name`, relative to the file that names it."""
        if not self._has_files:
            raise TemplateError(f'there is no folder to look for "{name}" in', place=place,
                                hint="hand one in: Template.from_text(…, folder=…)")
        path = Path(os.path.normpath(Path(source.name).parent / name))
        if not path.resolve().is_relative_to(self.path.resolve()):
            raise TemplateError(f'"{name}" lies outside the template folder', place=place)
        if not path.is_file():
            beside = [p.name for p in path.parent.iterdir() if p.is_file()] if path.parent.is_dir() else []
            raise TemplateError(f'there is no file "{name}"', place=place, hint=did_you_mean(path.name, beside))
        return self._read(path)


class UnknownTemplate(KeyError):
    """No template of that name is in the folder."""

    def __init__(self, name: str, folder: TemplateFolder) -> None:
        super().__init__(name)
        hint = did_you_mean(name, folder)
        self.message = f'there is no template "{name}" in {folder.path}' + (f" ({hint})" if hint else "")

    def __str__(self) -> str:
        return self.message


def checked_settings(locale: str, timezone: str) -> Settings:
    """The settings of a locale and time zone; raises `ValueError` for one that is unknown."""
    from babel import UnknownLocaleError

    settings = Settings(locale.replace("-", "_"), timezone)
    try:
        settings.babel  # noqa: B018 - parsing it is the check
    except (UnknownLocaleError, ValueError):
        raise ValueError(f'"{locale}" is no locale that is known') from None
    try:
        settings.zone  # noqa: B018
    except (KeyError, ValueError, OSError):
        raise ValueError(f'"{timezone}" is no time zone that is known (write one as Europe/Berlin)') from None
    return settings


def checked_embed(embed: str | None) -> Embed | None:
    """`embed`, if it is a way for pictures to travel; raises `ValueError` otherwise."""
    if embed is not None and embed not in EMBED:
        raise ValueError(f'embed is one of {", ".join(EMBED)}, not "{embed}"')
    return embed  # type: ignore[return-value]


@dataclass(frozen=True, slots=True)
class _Programs:
    """What a template is compiled to; `subject` and `preheader` may be missing."""

    tape: Tape
    html: Program
    text: Program
    subject: Program | None
    preheader: Program | None


@dataclass(frozen=True, slots=True)
class _Bound:
    html: Run
    text: Run
    subject: Run | None
    preheader: Run | None


class Template:
    """A compiled template.  Immutable: any number of threads may render it at once.

    Raises `TemplateError` and `PictureError` for what is wrong with its files.
    """

    def __init__(self, source: Source, name: str, folder: TemplateFolder) -> None:
        self.name = name
        self.folder = folder
        self._path = Path(source.name)
        self._helpers = {
            "picture": lambda value, place: _fit(folder.pictures.chosen(value)),
            "picture_beside": lambda value, place: _fit(folder.pictures.beside(value, Path(place.source.name).parent)),
            "picture_name": name_piece,
            "picture_size": _picture_size,
            "Open": Open,
        }
        self._programs = _compile(source, folder)
        self._bound: dict[Settings, _Bound] = {}

    @classmethod
    def from_text(cls, text: str, *, name: str = "template", folder: TemplateFolder | None = None) -> Template:
        """A template without a file: layouts, parts and pictures are those of `folder`, where there is one."""
        where = folder if folder is not None else TemplateFolder.nowhere()
        return cls(Source(str(where.path / name), text), name, where)

    def __repr__(self) -> str:
        return f"<Template {self.name!r}>"

    def render(self, data: Any, *, locale: str | None = None, timezone: str | None = None,
               embed: Embed | None = None) -> Rendering:
        """Fill the template with `data`: a mapping, a dataclass, any object that declares its fields.

        Raises `FieldError` for a field that is missing or of no use here, `UnsafeValue` for a value that does
        not fit its place, `PictureError` for a picture that the data choose and that is not there.
        """
        settings = self._settings(locale, timezone)
        bound = self._for(settings)
        try:
            return Rendering(
                subject=bound.subject(data) if bound.subject else None,
                preheader=bound.preheader(data) if bound.preheader else None,
                embed=checked_embed(embed) or self.folder.embed,
                id_domain=self.folder.id_domain,
                _pieces=tuple(bound.html(data)),
                _events=tuple(bound.text(data)),
            )
        except FieldError as error:
            # The survey knows the positions in loops, which a program does not keep.
            found = self._survey(data, settings)
            raise (found[0] if found else error) from None

    def problems(self, data: Any, *, locale: str | None = None, timezone: str | None = None) -> list[PribbleError]:
        """Every missing or unusable field at once, in the order of the template; empty where it would render."""
        return self._survey(data, self._settings(locale, timezone))

    def fields(self) -> list[Field]:
        """What the data must hold."""
        return fields(self._programs.tape)

    @property
    def samples(self) -> dict[str, Any]:
        """The sample data beside the template, by label; that of ``NAME.sample.json`` has the label ""."""
        found = {}
        stem = self._path.name.removesuffix(".html")
        labels = {path.name[len(stem) + len(".sample"):-len(".json")]: path
                  for path in self._path.parent.glob(f"{stem}.sample*.json")}
        for label, path in sorted(labels.items()):
            if not label or label.startswith("-"):
                found[label.removeprefix("-")] = read_data(path)
        return found

    def _settings(self, locale: str | None, timezone: str | None) -> Settings:
        base = self.folder.settings
        if locale is None and timezone is None:
            return base
        return checked_settings(locale or base.locale, timezone or base.timezone)

    def _for(self, settings: Settings) -> _Bound:
        bound = self._bound.get(settings)
        if bound is None:
            made = self._programs
            subject = made.subject.bound(settings, self._helpers) if made.subject else None
            preheader = made.preheader.bound(settings, self._helpers) if made.preheader else None
            bound = _Bound(made.html.bound(settings, self._helpers), made.text.bound(settings, self._helpers),
                           subject, preheader)
            self._bound[settings] = bound
        return bound

    def _survey(self, data: Any, settings: Settings) -> list[PribbleError]:
        programs = (self._programs.subject, self._programs.preheader, self._programs.html, self._programs.text)
        found = [problem for program in programs if program
                 for problem in program.surveyed(settings, self._helpers, data)]
        return list({(str(p.place), p.problem): p for p in reversed(found)}.values())[::-1]


def _fit(source: Picture | str) -> Picture | str:
    """A picture, or the address of one fit for an attribute."""
    return markup(source) if isinstance(source, str) else source


def _picture_size(picture: Picture | str, width: str | None, height: str | None, complete: bool) -> str:
    return size_attributes(picture, width, height) if complete and isinstance(picture, Picture) else ""


def read_data(path: Path) -> Any:
    """The data of a JSON file; raises `DataError`."""
    try:
        return read_json(Source(str(path), path.read_text(encoding="utf-8-sig")))
    except UnicodeDecodeError as error:
        raise DataError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None


def _compile(source: Source, folder: TemplateFolder) -> _Programs:
    """All of a template that does not depend on the data is done here."""
    tape = link(source, folder.find)
    try:
        page = read(tape.text, lambda offset: tape.mark(offset).role)
    except MarkupError as error:
        related = [Related(error.other[0], tape.place(*error.other[1:]))] if error.other else []
        raise TemplateError(error.problem, place=tape.place(error.start, error.end), hint=error.hint,
                            related=related) from None
    lifted = {mark.lifted.kind: mark.lifted for mark in tape.marks if mark.role == LIFTED and mark.lifted}
    title = title_steps(tape, page) if "subject" not in lifted else None
    return _Programs(
        tape,
        html=compiled(html_steps(tape, page, _WrittenPictures(folder.pictures), preheader="preheader" in lifted),
                      PieceSink()),
        text=compiled(text_steps(tape, page), EventSink()),
        subject=_line(lifted["subject"]) if "subject" in lifted else compiled(title, LineSink()) if title else None,
        preheader=_line(lifted["preheader"]) if "preheader" in lifted else None,
    )


def _line(block: LiftedBlock) -> Program:
    return compiled(line_steps(block.tape), LineSink(), needed_bindings(block))


@dataclass(frozen=True, slots=True)
class _WrittenPictures:
    """Finds pictures for the compiler and names the place where they are written."""

    finder: PictureFinder

    def written(self, name: str, place: Place) -> Picture:
        try:
            return self.finder.find(name, Path(place.source.name).parent)
        except PribbleError as error:
            raise type(error)(error.problem, place=place, hint=error.hint) from None


@dataclass(frozen=True)
class Rendering:
    """A template filled with data: subject, preheader, HTML, plain text, pictures.

    `subject` and `preheader` are None where the template has none.
    """

    subject: str | None
    preheader: str | None
    embed: Embed
    id_domain: str = field(repr=False)
    _pieces: tuple[Any, ...] = field(repr=False)
    _events: tuple[Any, ...] = field(repr=False)

    @cached_property
    def html(self) -> str:
        """The HTML, pictures embedded as asked for."""
        return "".join([piece if piece.__class__ is str else self._filled(piece) for piece in self._pieces])

    def _filled(self, piece: Any) -> str:
        if piece is PREHEADER:
            return _PREHEADER.format(markup(self.preheader or "")) if self.preheader else ""
        if isinstance(piece, Picture):
            return f"cid:{piece.content_id(self.id_domain)}" if self.embed == "cid" else piece.data_url
        return str(piece)

    @cached_property
    def text(self) -> str:
        """The plain text that says the same, laid out when first asked for."""
        return layout(flow(self._events))

    @cached_property
    def pictures(self) -> tuple[Picture, ...]:
        """The pictures that the HTML refers to by Content-ID, each once, in the order of their first use."""
        if self.embed != "cid":
            return ()
        return tuple(dict.fromkeys(piece for piece in self._pieces if isinstance(piece, Picture)))

    def message(self, *, sender: Recipients, to: Recipients = (), **envelope: Any) -> Message:
        """A `Message` of this rendering; `envelope` takes what `Message` takes (cc, bcc, attachments, …)."""
        return Message(sender=sender, to=to, subject=self.subject, text=self.text, html=self.html,
                       pictures=self.pictures, id_domain=self.id_domain, **envelope)
