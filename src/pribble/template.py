"""Templates: where the language and the markup meet, and where files are read.

A `TemplateFolder` is a mapping from names to `Template`s; a template is compiled once and immutable; its
`render` gives a `Rendering`, all of whose forms come from one run over the data.
"""

from __future__ import annotations

import glob
import hashlib
import os
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from pribble.arguments import are_instances, ensure, flags, numbers, possible_paths, texts
from pribble.compiler.formatter_results import FORMATTER_RESULTS, POINTED, FormatterResults
from pribble.errors import DataError, FieldError, Place, PribbleError, Source, TemplateError, did_you_mean, visible
from pribble.files import file_names, is_file, is_within, real_path
from pribble.findings import Finding
from pribble.limits import Limits
from pribble.mime.header_fields import DOMAIN, checked_domain
from pribble.pictures.corrections import ALL, checked_corrections
from pribble.pictures.picture_finder import PictureFinder
from pribble.pictures.picture_slots import Embed
from pribble.records import record, replace
from pribble.regexes import regex
from pribble.rendering.rendering import Rendering, RenderOptions, checked_base, checked_embed, with_preheader
from pribble.values.formatters import application_formatter
from pribble.values.kinds import Data
from pribble.values.lookup import known
from pribble.values.reading import read_json
from pribble.values.settings import Settings, is_locale, is_one_language, settings_text

# What reads, compiles and traces templates is loaded by the first that does so, since it is most of the package.
if TYPE_CHECKING:
    from pribble.compiler.compiled_page import StyledSource
    from pribble.compiler.compiled_template import BoundTemplate, CompiledTemplate, TracedTemplate
    from pribble.compiler.tracing import TracedProgram
    from pribble.language.fields import Field
    from pribble.language.linked_source import LinkedSource
    from pribble.language.linking import FoundFile
    from pribble.mime.address import Mailbox
    from pribble.mime.message import MessageOptions
    from pribble.passes.page_resources import TemplateResources
    from pribble.rendering.late_styling import LateStyler
    from pribble.rendering.traced import TracedRendering
    from pribble.rendering.traced_words import WordKey
    from pribble.series import TemplateSeries

_NOT_TEMPLATES = ("layouts", "parts")
_ENDINGS = (".html", ".txt")
_NAME = regex(r"[^\W\d]\w*")


class TemplateFolder(Mapping[str, "Template"]):
    """The templates of a folder, by name: ``folder["berth-confirmed"]`` is ``berth-confirmed.html``.

    - `path`: the folder.  Layouts, parts and pictures are named relative to the file that names them.
    - `locale`, `timezone`: of the reader, for formatters (a CLDR locale, an IANA time zone).
    - `embed`: how pictures travel.  "cid", the default: as parts of the message (RFC 2392).  "data": inside the HTML
      (RFC 2397).  "link": at an address below `picture_base`.  "none": as the author wrote them.
    - `picture_base`: the ``https:`` address below which linked pictures lie.
    - `picture_folders`: further folders in which pictures are looked for.
    - `density`: the most pixels that a picture has for each CSS pixel that it is shown with.
    - `put_right`: which corrections are made to pictures (docs/pictures-and-styles.md).
    - `presentational`: whether old attributes (``bgcolor``, ``align``) are written beside the styles.
    - `fetch`: a function that takes the address of a picture or style sheet and returns its bytes; without one, what is
      elsewhere stays there.
    - `id_domain`: the right side of Content-IDs.
    - `formatters`: formatters of the application, by name; each is called as ``f(value, *arguments, locale=…)``.
    - `common`: values that every template sees.  A field of the data with the same name goes before.
    - `limits`: where a template or rendering stops.
    - `reload`: whether a template is compiled anew when one of its files has changed.

    Raises `NotADirectoryError` (an `OSError`) if there is no such folder, `ValueError` for a setting that has no
    meaning, `TypeError` for an argument of another kind.
    """

    def __init__(
        self,
        path: str | os.PathLike[str],
        *,
        locale: str = "en",
        timezone: str = "UTC",
        embed: Embed | None = None,
        picture_base: str | None = None,
        picture_folders: Sequence[str | os.PathLike[str]] = (),
        density: float = 2,
        put_right: Collection[str] = ALL,
        presentational: bool = False,
        fetch: Callable[[str], bytes] | None = None,
        id_domain: str = DOMAIN,
        formatters: Mapping[str, Callable[..., Any]] | None = None,
        common: Mapping[str, Any] | None = None,
        limits: Limits | None = None,
        reload: bool = False,
    ) -> None:
        possible_paths(path=path)
        are_instances((list, tuple), "a list of paths", picture_folders=picture_folders)
        for one in picture_folders:
            possible_paths(picture_folders=one)
        if fetch is not None:
            ensure("fetch", "a function of an address", callable, fetch)
        self.path = Path(path)
        if not self.path.is_dir():
            raise NotADirectoryError(f'there is no template folder "{self.path}"')
        finder = PictureFinder(
            [self.path, *map(Path, picture_folders)], checked_corrections(put_right), _dense(density), fetch
        )
        options = RenderOptions(
            checked_embed(embed), checked_base(picture_base), checked_domain(id_domain, "id_domain")
        )
        self._set_up(locale, timezone, finder, options, formatters, common, limits)
        flags(reload=reload, presentational=presentational)
        self.presentational = presentational
        self._reload, self._has_files = reload, True

    @classmethod
    def nowhere(cls) -> TemplateFolder:
        """Returns a folder that has no files, for templates that need none."""
        folder = cls.__new__(cls)
        folder.path = Path()
        folder._set_up("en", "UTC", PictureFinder([]), RenderOptions(), None, None, None)
        folder._reload = folder._has_files = False
        return folder

    def _set_up(
        self,
        locale: str,
        timezone: str,
        finder: PictureFinder,
        options: RenderOptions,
        formatters: Mapping[str, Callable[..., Any]] | None,
        common: Mapping[str, Any] | None,
        limits: Limits | None,
    ) -> None:
        self.settings = Settings.checked(locale, timezone)
        self.options, self.pictures, self.presentational = options, finder, False
        limits = limits if limits is not None else Limits()
        are_instances(Limits, "Limits", limits=limits)
        are_instances(Mapping, "a mapping of names", formatters=formatters or {}, common=common or {})
        for name, function in (formatters or {}).items():
            ensure(f"formatters[{name!r}]", "a function", callable, function)
        own = {name: application_formatter(name, f) for name, f in (formatters or {}).items()}
        for name in (*own, *(common or ())):
            if not isinstance(name, str) or not _NAME.fullmatch(name):
                raise ValueError(f'formatters, common: "{visible(str(name)[:60])}" cannot be a name in a template')
        from pribble.compiler.template_world import template_world

        self.world = template_world(own, common or {}, limits, finder, options.id_domain)
        self.latest: StyledSource | None = None
        self._templates: dict[str, tuple[Template, tuple[_Stamp, ...]]] = {}
        self._lock = threading.RLock()

    # -- the mapping --

    def __getitem__(self, name: str) -> Template:
        texts(name=name)
        with self._lock:
            if name in self._templates:
                template, stamps = self._templates[name]
                if not self._reload or all(stamp == _Stamp.of(stamp.path) for stamp in stamps):
                    return template
            path = self._file(name)
            if path is None:
                raise UnknownTemplate.of(name, self)
            template = Template(self._read(path), name, self)
            self._templates[name] = template, tuple(map(_Stamp.of, template._paths()))
            return template

    def __iter__(self) -> Iterator[str]:
        found = {
            path.relative_to(self.path).with_suffix("").as_posix()
            for ending in _ENDINGS
            for path in self.path.rglob(f"*{ending}")
        }
        for name in sorted(found):
            stem, dot, suffix = name.rpartition(".")
            if self._is_name(name) and not (dot and stem in found and is_locale(suffix)) and self._files(name):
                yield name

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self._file(name) is not None

    @staticmethod
    def _is_name(name: str) -> bool:
        parts = name.split("/")
        return parts[0] not in _NOT_TEMPLATES and all(part and not part.startswith(".") for part in parts)

    def _holds(self, path: Path) -> bool:
        """Returns whether a file is there, and no link leads to it out of the folder."""
        return is_file(path) and is_within(path, self.path)

    def _files(self, name: str) -> list[Path]:
        return [path for ending in _ENDINGS if self._holds(path := self.path / f"{name}{ending}")]

    def _file(self, name: str) -> Path | None:
        """Returns the plain file of a template; raises `TemplateError` where there are two."""
        if not self._has_files or not self._is_name(name):
            return None
        found = self._files(name)
        if len(found) > 1:
            raise TemplateError(
                f"there are both {found[0]} and {found[1]}",
                hint="a template with HTML has its own text in a text: block",
            )
        return found[0] if found else None

    # -- files --

    def _resources(self, linked: LinkedSource, near: Path) -> TemplateResources:
        """Returns what a page sees of files."""
        from pribble.compiler.mark_analysis import brought_elements, may_be_nothing
        from pribble.passes.page_resources import TemplateResources

        return TemplateResources(
            self.pictures,
            self.options.id_domain,
            linked.place,
            near,
            may_lack=lambda offset: may_be_nothing(linked.mark(offset).value),
            brings=lambda offset: brought_elements(linked.mark(offset).value),
        )

    def _read(self, path: Path) -> Source:
        try:
            return Source(str(path), path.read_text(encoding="utf-8-sig"))
        except UnicodeDecodeError as error:
            raise TemplateError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
        except OSError as error:
            raise TemplateError(f"{path} cannot be read: {error.strerror or error}") from None

    def _variant_of(self, path: Path, locale: str) -> tuple[Path, str | None]:
        """Returns the file for a locale (``x.de-CH.html``, ``x.de.html``, ``x.html``), and the locale it is for."""
        parts = locale.replace("-", "_").split("_")
        for size in range(len(parts), 0, -1):
            for joint in "-_":
                found = path.with_suffix(f".{joint.join(parts[:size])}{path.suffix}")
                if self._holds(found):
                    return found, "_".join(parts[:size])
        return path, None

    def _find(self, name: str, source: Source, place: Place, locale: str) -> FoundFile:
        """Returns the layout or part called `name`, relative to the file that names it, for a locale if there is
        one."""
        from pribble.language.linking import FoundFile

        if not self._has_files:
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
        if not is_within(path, self.path):
            raise TemplateError(f'"{name[:100]}" lies outside the template folder', place=place)
        if not is_file(path):
            hint = did_you_mean(path.name[:100], file_names(path.parent))
            raise TemplateError(f'there is no file "{name[:100]}"', place=place, hint=hint)
        chosen, found = self._variant_of(path, locale)
        return FoundFile(self._read(chosen), found)


@record(frozen=True, slots=True)
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


class UnknownTemplate(KeyError):
    """No template of that name is in the folder."""

    def __init__(self, name: str, message: str) -> None:
        super().__init__(name, message)
        self.message = message

    @classmethod
    def of(cls, name: str, folder: TemplateFolder) -> UnknownTemplate:
        """Returns the error: that `folder` has no template called `name`; near ones are named."""
        hint = did_you_mean(name[:100], folder)
        problem = f'there is no template "{name[:100]}" in {folder.path}'
        return cls(name, visible(f"{problem} ({hint})" if hint else problem))

    def __str__(self) -> str:
        return self.message


def _dense(density: float) -> float:
    numbers(density=density)
    if not 0.5 <= density <= 10:
        raise ValueError("density is between 0.5 and 10 pixels to one of CSS")
    return density


class Template:
    """A compiled template.  It does not change: any number of threads may render it at once.

    Raises `TemplateError` and `PictureError` for mistakes in its files.
    """

    def __init__(self, source: Source, name: str, folder: TemplateFolder, settings: Settings | None = None) -> None:
        self.name = name
        self.folder = folder
        self.settings = settings or folder.settings
        self._source = source
        self._compiled: dict[str, CompiledTemplate] = {}
        self._traced: dict[str, TracedTemplate] = {}
        self._traced_texts: dict[str, TracedProgram] = {}
        self._languages: dict[str, str] = {}  # of the file that is chosen for a locale
        self._bound: dict[tuple[str, str], tuple[BoundTemplate, RenderOptions]] = {}
        self._lock = threading.Lock()
        self._variant(self.settings.locale)

    @classmethod
    def from_text(
        cls,
        text: str,
        *,
        name: str = "template",
        folder: TemplateFolder | None = None,
        locale: str | None = None,
        timezone: str | None = None,
    ) -> Template:
        """Returns a template without a file.

        `name` is what errors call it; it is HTML unless the name ends in ``.txt``.  Layouts, parts and pictures are
        those of `folder`, if one is given.  The template is written in `locale` and shows moments in `timezone`; both
        are those of the folder by default.  Raises `TemplateError`, `PictureError`, and `ValueError` for an unknown
        locale or time zone.
        """
        texts(text=text, name=name)
        where = folder if folder is not None else TemplateFolder.nowhere()
        are_instances(TemplateFolder, "a TemplateFolder", folder=where)
        settings = Settings.checked(locale or where.settings.locale, timezone or where.settings.timezone)
        return cls(Source(str(where.path / name), text), name, where, settings)

    def __repr__(self) -> str:
        return f"<Template {self.name!r}>"

    def render(
        self, data: Any, *, locale: str | None = None, timezone: str | None = None, embed: Embed | None = None
    ) -> Rendering:
        """Returns the template filled with `data`: a mapping, a dataclass, or any object that declares its fields.

        `locale` chooses the file of a language.  If that file has the same language and script, its formatters use
        `locale`; otherwise the file keeps its own locale, and a finding says so.  `timezone` is that of the reader,
        `embed` how pictures travel; both are those of the folder by default.

        Raises `FieldError` for a field that is missing or has the wrong kind, `UnsafeValue` for a value that does not
        fit its place, `PictureError` for a picture that the data name and that is not there, `LimitReached` for what
        exceeds the limits, `ValueError` for an unknown locale or time zone.
        """
        bound, options = self._for(locale, timezone)
        if embed is not None:
            options = replace(options, embed=checked_embed(embed))
        pointed: dict[Place, tuple[str, str]] = {}
        noting, issuing = POINTED.set(pointed), FORMATTER_RESULTS.set(FormatterResults())
        try:
            pieces, kept, given = bound.pieces(data)
            preheader = bound.preheader(given) if bound.preheader else None
            if pieces is not None and options.style_late is None:
                pieces = with_preheader(pieces, preheader)
            subject = bound.subject(given) if bound.subject else None
            text = bound.text(given)
            if pointed:
                options = replace(options, findings=(*options.findings, *_bare_numbers(pointed)))
            return Rendering(subject, preheader, options, pieces, text, kept)
        except FieldError as error:
            # The problem collector knows the positions in loops, which a program does not keep.
            found = self.problems(data, locale=locale, timezone=timezone)
            told = found[0] if found else error
            raise told from told.__cause__
        finally:
            POINTED.reset(noting)
            FORMATTER_RESULTS.reset(issuing)

    def series(self, *, sender: Mailbox, **options: Unpack[MessageOptions]) -> TemplateSeries:
        """Returns what makes many messages of this template, from `sender` and with these options of `Message`.

        What is the same in all of them is checked and written once.  Raises `HeaderError` and `AddressError` for what
        cannot be written, `TypeError` for an option that no message takes.
        """
        from pribble.series import TemplateSeries

        return TemplateSeries(self, sender, options)

    def problems(self, data: Any, *, locale: str | None = None, timezone: str | None = None) -> list[PribbleError]:
        """Returns every problem with `data`, in the order of the template; an empty list if it would render."""
        found = self._variant(self._asked(locale)).problems(self._settings(timezone), self.folder.world, data)
        if found:
            try:
                known(data, "the data")
            except FieldError as error:  # what no template can use, whichever field of it is asked for first
                return [error]
        return found

    @property
    def is_page(self) -> bool:
        """Whether it has HTML, and is no text as a whole."""
        return Path(self._source.name).suffix != ".txt"

    def explain(self) -> Explanation:
        """Returns when the template's styles are applied, and why."""
        return Explanation(self._variant(self.settings.locale).runtime_dependencies)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What an author should know about the template: a message is made, but a browser may show another one than is
        meant.
        """
        return self.findings_for(self.settings.locale)

    def findings_for(self, locale: str) -> tuple[Finding, ...]:
        """Returns the findings about the file for a locale."""
        return self._variant(self._asked(locale)).findings

    def fields(self, *, locale: str | None = None) -> list[Field]:
        """Returns the fields that the data must have, in the order of their first use; `locale` chooses the file of a
        language."""
        from pribble.language.fields import fields

        compiled = self._variant(self._asked(locale))
        return fields(compiled.linked, self.folder.world.common, compiled.pictures)

    @property
    def version(self) -> str:
        """A hash over all files that the template is linked from, among them its locale variants and style sheets."""
        digest = hashlib.sha256()
        for locale in self.locales:
            compiled = self._variant(locale)
            for source in compiled.linked.sources:
                digest.update(f"{Path(source.name).name}\0{source.text}\0".encode("utf-8", "surrogatepass"))
            for path in compiled.files:
                digest.update(f"{path.name}\0".encode() + path.read_bytes() + b"\0")
        return digest.hexdigest()[:16]

    @property
    def samples(self) -> dict[str, Data]:
        """The sample data beside the template, by label; the label of ``NAME.sample.json`` is ""."""
        path = Path(self._source.name)
        labels = {
            found.name[len(path.stem) + len(".sample") : -len(".json")]: found
            for found in self._beside(path, ".sample*.json")
        }
        return {
            label.removeprefix("-"): read_data(found)
            for label, found in sorted(labels.items())
            if not label or label.startswith("-")
        }

    def _beside(self, path: Path, endings: str) -> Iterator[Path]:
        """Returns the files of the folder beside `path` whose names are its own with some other ending."""
        pattern = glob.escape(path.stem) + endings
        return (found for found in path.parent.glob(pattern) if is_within(found, self.folder.path))

    # -- variants --

    @property
    def locales(self) -> list[str]:
        """The locales that have a file of their own, after that of the folder."""
        path = Path(self._source.name)
        found = [other.name[len(path.stem) + 1 : -len(path.suffix)] for other in self._beside(path, f".*{path.suffix}")]
        return [self.settings.locale, *sorted(s for s in found if s and is_locale(s))]

    def _paths(self) -> list[Path]:
        return [
            path
            for compiled in self._compiled.values()
            for path in (*(Path(source.name) for source in compiled.linked.sources), *compiled.files)
        ]

    def _variant(self, locale: str) -> CompiledTemplate:
        """Returns the template compiled for a locale: from its file for that locale, else from the plain one."""
        with self._lock:
            if locale not in self._compiled:
                self._compiled[locale] = self._compile(locale)
            return self._compiled[locale]

    def _linked(self, locale: str) -> LinkedSource:
        """Returns the file for a locale, with its layouts and parts."""
        from pribble.language.linking import FoundFile, link_template

        folder, source, own = self.folder, self._source, None
        path = Path(source.name)
        if is_file(path):
            chosen, own = folder._variant_of(path, locale)
            source = source if chosen == path else folder._read(chosen)
        self._languages[locale] = own or self.settings.locale

        def find(name: str, named_in: Source, place: Place) -> FoundFile:
            found = folder._find(name, named_in, place, locale)
            return replace(found, locale=self._written(found.locale, locale))

        return link_template(
            FoundFile(source, self._written(own, locale)),
            find,
            html=self.is_page,
            formatters=folder.world.formatters,
            common=folder.world.common,
            limits=folder.world.limits,
        )

    def _compile(self, locale: str) -> CompiledTemplate:
        from pribble.compiler.compiled_template import compile_text

        folder, linked = self.folder, self._linked(locale)
        if not self.is_page:
            return compile_text(linked, folder.world)
        from pribble.compiler.compiled_page import compile_page

        return compile_page(self._styled(linked), folder.world)

    def _traced_for(self, locale: str) -> TracedTemplate:
        """Returns the traced programs for a locale."""
        linked = self._variant(locale).linked
        with self._lock:
            if locale not in self._traced:
                self._traced[locale] = self._compile_traced(linked)
            return self._traced[locale]

    def _compile_traced(self, linked: LinkedSource) -> TracedTemplate:
        from pribble.compiler.compiled_page import compile_traced_page
        from pribble.compiler.compiled_template import compile_traced_text

        folder = self.folder
        if not self.is_page:
            return compile_traced_text(linked, folder.world)
        return compile_traced_page(self._styled(linked), folder.world)

    def _styled(self, linked: LinkedSource) -> StyledSource:
        """Returns a linked source as a page with its styles; the one that was read last is kept, since its programs
        and its traced programs are often made one after the other."""
        from pribble.compiler.compiled_page import read_styled_page

        folder, known = self.folder, self.folder.latest
        if known is None or known.linked is not linked:
            resources = folder._resources(linked, Path(linked.sources[0].name))
            known = folder.latest = read_styled_page(linked, resources, old_attributes=folder.presentational)
        return known

    def _written(self, own: str | None, asked: str) -> str | None:
        """Returns the locale that formats in a file whose `own` it is (None for that of the template): the one that is
        asked for, where it is of the same language and script."""
        written = own or self.settings.locale
        return asked if asked != written and is_one_language(written, asked) else own

    def _settings(self, timezone: str | None) -> Settings:
        base = self.settings
        return base if timezone is None else Settings.checked(base.locale, timezone)

    def _other_language(self, asked: str) -> Iterator[Finding]:
        """Returns a finding: that the file which was chosen is in another language than is asked for."""
        written = self._languages[asked]
        if not is_one_language(written, asked):
            yield Finding(
                "locale.other-language",
                "warning",
                None,
                f'"{self.name}" is asked for in {asked} and written in {written}, as are its numbers and dates',
                f"write it in {asked}, as {self.name}.{asked.replace('_', '-')}{Path(self._source.name).suffix}"
                if is_file(Path(self._source.name))
                else "from_text(locale=…) says what a text is written in",
                "Pribble, docs/language.md",
            )

    def _asked(self, locale: str | None) -> str:
        """Returns the locale that is asked for; raises `ValueError` for one that is unknown."""
        return self.settings.locale if locale is None else settings_text("locale", locale)

    def _for(self, locale: str | None, timezone: str | None) -> tuple[BoundTemplate, RenderOptions]:
        asked = self._asked(locale)
        key = asked, timezone or self.settings.timezone
        found = self._bound.get(key)
        if found is None:
            compiled, folder = self._variant(asked), self.folder
            is_late = compiled.runtime_dependencies or compiled.text_from_page
            late = self._late_styler(compiled) if is_late else None
            found = self._bound[key] = (
                compiled.bound(self._settings(timezone), folder.world),
                replace(
                    folder.options,
                    findings=(*self._other_language(asked), *compiled.corrections),
                    has_no_variants=compiled.has_no_variants,
                    wire_template=compiled.wire_template,
                    style_late=late.style if late and compiled.runtime_dependencies else None,
                    text_from_page=late.plain_text if late and compiled.text_from_page else None,
                ),
            )
        return found

    def _late_styler(self, compiled: CompiledTemplate) -> LateStyler:
        from pribble.rendering.late_styling import LateStyler

        folder, near = self.folder, Path(self._source.name)
        assert compiled.sheets is not None  # no text is styled
        return LateStyler(folder.pictures, folder.options.id_domain, near, folder.presentational, own=compiled.sheets)


def without_optimisations(folder: TemplateFolder) -> TemplateFolder:
    """Returns a folder, whose templates are compiled from now on without what makes many messages cheaper: for who
    renders few."""
    from pribble.compiler.program import Optimisations

    folder.world = replace(folder.world, optimisations=Optimisations(False, False, False))
    return folder


def linked_source(template: Template, locale: str) -> LinkedSource:
    """Returns the file of a template for a locale with its layouts and parts, as one source."""
    return template._variant(template._asked(locale)).linked


def read_files(template: Template) -> list[Path]:
    """Returns the files that a template was made of so far, its samples among them."""
    path = Path(template._source.name)
    return [*template._paths(), *template._beside(path, ".sample*.json")]


def trace(template: Template, data: Data, *, locale: str | None = None, timezone: str | None = None) -> TracedRendering:
    """Returns a template filled with `data`, and of each stretch of it which mark shows it, in which turn of a loop and
    from which data.

    The arguments are those of `Template.render`, and so are the errors.  The programs that trace are compiled when they
    are first asked for; others pay nothing for them.
    """
    from pribble.rendering.traced import run_traced

    rendering = template.render(data, locale=locale, timezone=timezone)
    traced = template._traced_for(template._asked(locale))
    noting, issuing = POINTED.set({}), FORMATTER_RESULTS.set(FormatterResults())
    try:
        return run_traced(traced, rendering, template._settings(timezone), template.folder.world, data)
    finally:
        POINTED.reset(noting)
        FORMATTER_RESULTS.reset(issuing)


def trace_derived_text(
    template: Template, data: Data, expected: str, *, locale: str | None = None, timezone: str | None = None
) -> Mapping[WordKey, tuple[int, int]]:
    """Returns where in the derived plain text, `expected`, the words of the page stand, by where they come from.

    The arguments are those of `Template.render`.  Nothing where the text is written by hand.
    """
    from pribble.compiler.compiled_page import compile_traced_text_page
    from pribble.rendering.traced import TracedPieces
    from pribble.rendering.traced_words import words_in_text

    asked = template._asked(locale)
    compiled, folder = template._variant(asked), template.folder
    if not template.is_page or any(mark.extracted and mark.extracted.kind == "text" for mark in compiled.linked.marks):
        return {}
    program = template._traced_texts.get(asked)
    if program is None:
        program = compile_traced_text_page(template._styled(compiled.linked), folder.world)
        template._traced_texts[asked] = program
    noting, issuing = POINTED.set({}), FORMATTER_RESULTS.set(FormatterResults())
    try:
        pieces, made = program.bound(template._settings(timezone), folder.world)(data)
    finally:
        POINTED.reset(noting)
        FORMATTER_RESULTS.reset(issuing)
    page = TracedPieces(pieces, made, program.sites, compiled.linked).as_written()
    return words_in_text(page, template._late_styler(compiled).plain_text, expected)


def _bare_numbers(pointed: Mapping[Place, tuple[str, str]]) -> Iterator[Finding]:
    """Returns a finding: that numbers were shown with a point in languages that do not write one."""
    for place, (shown, locale) in pointed.items():
        yield Finding(
            "locale.bare-number",
            "warning",
            place,
            f"{shown} is shown as it is, and {locale} writes no point before decimals",
            "say how: {{ … as number }}, or as number(2)",
            "Pribble, docs/language.md",
        )


@record(frozen=True, slots=True)
class Explanation:
    """Why a template is styled when it is rendered: places and reasons; none for one that is styled when it is
    compiled."""

    reasons: tuple[tuple[Place, str], ...] = ()

    @property
    def compiled(self) -> bool:
        """Whether all was decided when the template was compiled."""
        return not self.reasons

    def __str__(self) -> str:
        if self.compiled:
            return "style sheets and sizes were applied when the template was compiled"
        first = "style sheets and sizes are applied at each rendering, since they depend on the data:"
        return "\n".join((first, *(f"{place}: {says}\n{place.excerpt()}" for place, says in self.reasons)))


def read_data(path: Path) -> Data:
    """Returns the data of a JSON file; raises `DataError`."""
    try:
        return read_json(Source(str(path), path.read_text(encoding="utf-8-sig")))
    except UnicodeDecodeError as error:
        raise DataError(f"{path} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
