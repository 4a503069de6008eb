"""Templates: where the language and the markup meet.

A `TemplateFolder` is a mapping from names to `Template`s; a template is compiled once and immutable; its
`render` gives a `Rendering`, all of whose forms come from one run over the data.
"""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from pribble.arguments import are_instances, ensure, flags, numbers, possible_paths, texts
from pribble.compiler.formatter_results import FORMATTER_RESULTS, POINTED, FormatterResults
from pribble.errors import FieldError, Place, PribbleError, Source, did_you_mean, visible
from pribble.files import FileStamp
from pribble.findings import Finding
from pribble.limits import Limits
from pribble.mime.header_fields import DOMAIN, checked_domain
from pribble.pictures.corrections import ALL, checked_corrections
from pribble.pictures.picture_finder import PictureFinder
from pribble.pictures.picture_slots import Embed
from pribble.records import record, replace
from pribble.regexes import regex
from pribble.rendering.rendering import Rendering, RenderOptions, checked_base, checked_embed, with_preheader
from pribble.template_files import TemplateFiles, read_data, read_source
from pribble.template_variants import TemplateVariants
from pribble.values.formatters import application_formatter
from pribble.values.kinds import Data
from pribble.values.lookup import known
from pribble.values.settings import Settings

if TYPE_CHECKING:
    from pribble.compiler.compiled_page import StyledSource
    from pribble.compiler.compiled_template import BoundTemplate
    from pribble.language.fields import Field
    from pribble.mime.address import Mailbox
    from pribble.mime.message import MessageOptions
    from pribble.series import TemplateSeries

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
        self.files, self._reload = TemplateFiles(self.path), reload

    @classmethod
    def nowhere(cls) -> TemplateFolder:
        """Returns a folder that has no files, for templates that need none."""
        folder = cls.__new__(cls)
        folder.path = Path()
        folder._set_up("en", "UTC", PictureFinder([]), RenderOptions(), None, None, None)
        folder.files, folder._reload = TemplateFiles(None), False
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
        self.latest: StyledSource | None = None  # of its pages, the one that was read last
        self._templates: dict[str, tuple[Template, tuple[FileStamp, ...]]] = {}
        self._lock = threading.RLock()

    # -- the mapping --

    def __getitem__(self, name: str) -> Template:
        texts(name=name)
        with self._lock:
            if name in self._templates:
                template, stamps = self._templates[name]
                if not self._reload or all(stamp.is_of_today for stamp in stamps):
                    return template
            path = self.files.of_template(name)
            if path is None:
                raise UnknownTemplate.of(name, self)
            template = Template(read_source(path), name, self)
            self._templates[name] = template, tuple(map(FileStamp.of, template.variants.files_read()))
            return template

    def __iter__(self) -> Iterator[str]:
        return self.files.names()

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self.files.of_template(name) is not None


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
        self.variants = TemplateVariants(name, source, self.settings, folder)
        self._bound: dict[tuple[str, str], tuple[BoundTemplate, RenderOptions]] = {}
        self.variants.compiled(self.settings.locale)

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
        found = self.variants.compiled(locale).problems(self.variants.settings_in(timezone), self.folder.world, data)
        if found:
            try:
                known(data, "the data")
            except FieldError as error:  # what no template can use, whichever field of it is asked for first
                return [error]
        return found

    @property
    def is_page(self) -> bool:
        """Whether it has HTML, and is no text as a whole."""
        return self.variants.is_page

    def explain(self) -> Explanation:
        """Returns when the template's styles are applied, and why."""
        return Explanation(self.variants.compiled(self.settings.locale).runtime_dependencies)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What an author should know about the template: a message is made, but a browser may show another one than is
        meant.
        """
        return self.findings_for(self.settings.locale)

    def findings_for(self, locale: str) -> tuple[Finding, ...]:
        """Returns the findings about the file for a locale."""
        return self.variants.compiled(locale).findings

    def fields(self, *, locale: str | None = None) -> list[Field]:
        """Returns the fields that the data must have, in the order of their first use; `locale` chooses the file of a
        language."""
        from pribble.language.fields import fields

        compiled = self.variants.compiled(locale)
        return fields(compiled.linked, self.folder.world.common, compiled.pictures)

    @property
    def version(self) -> str:
        """A hash over all files that the template is linked from, among them its locale variants and style sheets."""
        digest = hashlib.sha256()
        for locale in self.locales:
            compiled = self.variants.compiled(locale)
            for source in compiled.linked.sources:
                digest.update(f"{Path(source.name).name}\0{source.text}\0".encode("utf-8", "surrogatepass"))
            for path in compiled.files:
                digest.update(f"{path.name}\0".encode() + path.read_bytes() + b"\0")
        return digest.hexdigest()[:16]

    @property
    def samples(self) -> dict[str, Data]:
        """The sample data beside the template, by label; the label of ``NAME.sample.json`` is ""."""
        found = self.folder.files.samples_of(self.variants.path)
        return {label: read_data(path) for label, path in found.items()}

    @property
    def locales(self) -> list[str]:
        """The locales that have a file of their own, after that of the folder."""
        return [self.settings.locale, *self.folder.files.locales_of(self.variants.path)]

    def _for(self, locale: str | None, timezone: str | None) -> tuple[BoundTemplate, RenderOptions]:
        asked = self.variants.asked(locale)
        key = asked, timezone or self.settings.timezone
        found = self._bound.get(key)
        if found is None:
            compiled, folder = self.variants.compiled(asked), self.folder
            is_late = compiled.runtime_dependencies or compiled.text_from_page
            late = self.variants.late_styler(compiled) if is_late else None
            found = self._bound[key] = (
                compiled.bound(self.variants.settings_in(timezone), folder.world),
                replace(
                    folder.options,
                    findings=(*self.variants.other_language(asked), *compiled.corrections),
                    has_no_variants=compiled.has_no_variants,
                    wire_template=compiled.wire_template,
                    style_late=late.style if late and compiled.runtime_dependencies else None,
                    text_from_page=late.plain_text if late and compiled.text_from_page else None,
                ),
            )
        return found


def without_optimisations(folder: TemplateFolder) -> TemplateFolder:
    """Returns a folder, whose templates are compiled from now on without what makes many messages cheaper: for who
    renders few."""
    from pribble.compiler.program import Optimisations

    folder.world = replace(folder.world, optimisations=Optimisations(False, False, False))
    return folder


def read_files(template: Template) -> list[Path]:
    """Returns the files that a template was made of so far, its samples among them."""
    samples = template.folder.files.samples_of(template.variants.path)
    return [*template.variants.files_read(), *samples.values()]


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
