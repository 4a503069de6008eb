"""A template for each locale: linked from the files that are for it, and compiled; each when it is first asked for."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from pribble.errors import Place, Source
from pribble.files import is_file
from pribble.findings import Finding
from pribble.records import replace
from pribble.template_files import read_source
from pribble.values.settings import Settings, is_one_language, settings_text

# What reads, compiles and traces templates is loaded by the first that does so, since it is most of the package.
if TYPE_CHECKING:
    from pribble.compiler.compiled_page import StyledSource
    from pribble.compiler.compiled_template import CompiledTemplate, TracedTemplate
    from pribble.compiler.tracing import TracedProgram
    from pribble.language.linked_source import LinkedSource
    from pribble.language.linking import FoundFile
    from pribble.rendering.late_styling import LateStyler
    from pribble.template import TemplateFolder

_Made = TypeVar("_Made")


class TemplateVariants:
    """The variants of the template of a `folder` with a `name`: `source` is its plain file, or a text that is in no
    file, written in the locale of its `settings`.  Any number of threads may ask for them at once."""

    def __init__(self, name: str, source: Source, settings: Settings, folder: TemplateFolder) -> None:
        self.name, self.source, self.settings, self.folder = name, source, settings, folder
        self._compiled: dict[str, CompiledTemplate] = {}
        self._traced: dict[str, TracedTemplate] = {}
        self._traced_texts: dict[str, TracedProgram] = {}
        self._languages: dict[str, str] = {}  # of the file that is chosen for a locale
        self._lock = threading.RLock()

    @property
    def path(self) -> Path:
        """The plain file; a text that is in none stands in for one of this name."""
        return Path(self.source.name)

    @property
    def is_page(self) -> bool:
        """Whether it has HTML, and is no text as a whole."""
        return self.path.suffix != ".txt"

    def asked(self, locale: str | None) -> str:
        """Returns the locale that is asked for.  Raises `ValueError` for one that is unknown."""
        return self.settings.locale if locale is None else settings_text("locale", locale)

    def settings_in(self, timezone: str | None) -> Settings:
        """Returns its settings in a time zone.  Raises `ValueError` for one that is unknown."""
        base = self.settings
        return base if timezone is None else Settings.checked(base.locale, timezone)

    def files_read(self) -> list[Path]:
        """Returns the files that the variants which are compiled so far were made of."""
        return [
            path
            for compiled in self._compiled.values()
            for path in (*(Path(source.name) for source in compiled.linked.sources), *compiled.files)
        ]

    def other_language(self, asked: str) -> Iterator[Finding]:
        """Yields a finding where the file that was chosen for a locale is in another language."""
        written = self._languages[asked]
        if not is_one_language(written, asked):
            yield Finding(
                "locale.other-language",
                "warning",
                None,
                f'"{self.name}" is asked for in {asked} and written in {written}, as are its numbers and dates',
                f"write it in {asked}, as {self.name}.{asked.replace('_', '-')}{self.path.suffix}"
                if is_file(self.path)
                else "from_text(locale=…) says what a text is written in",
                "Pribble, docs/language.md",
            )

    # -- programs --

    def compiled(self, locale: str | None) -> CompiledTemplate:
        """Returns the template compiled for a locale: from its file for that locale, else from the plain one.

        Raises `TemplateError` and `PictureError` for mistakes in its files, `ValueError` for an unknown locale.
        """
        asked = self.asked(locale)
        return self._once(self._compiled, asked, lambda: self._compile(self._link(asked)))

    def linked(self, locale: str | None) -> LinkedSource:
        """Returns the file for a locale with its layouts and parts, as one source."""
        return self.compiled(locale).linked

    def traced(self, locale: str | None) -> TracedTemplate:
        """Returns the programs for a locale that trace."""
        linked = self.linked(locale)
        return self._once(self._traced, self.asked(locale), lambda: self._compile_traced(linked))

    def traced_text(self, locale: str | None) -> TracedProgram:
        """Returns the program for a locale that traces the page which the plain text is derived from."""
        from pribble.compiler.compiled_page import compile_traced_text_page

        linked = self.linked(locale)
        return self._once(
            self._traced_texts,
            self.asked(locale),
            lambda: compile_traced_text_page(self.styled(linked), self.folder.world),
        )

    def styled(self, linked: LinkedSource) -> StyledSource:
        """Returns a linked source as a page with its styles.  Of the folder's pages the one that was read last is kept,
        since its programs and its traced programs are often made one after the other."""
        from pribble.compiler.compiled_page import read_styled_page
        from pribble.compiler.mark_analysis import brought_elements, may_be_nothing
        from pribble.passes.page_resources import TemplateResources

        folder, known = self.folder, self.folder.latest
        if known is None or known.linked is not linked:
            resources = TemplateResources(
                folder.pictures,
                folder.options.id_domain,
                linked.place,
                Path(linked.sources[0].name),
                may_lack=lambda offset: may_be_nothing(linked.mark(offset).value),
                brings=lambda offset: brought_elements(linked.mark(offset).value),
            )
            known = folder.latest = read_styled_page(linked, resources, old_attributes=folder.presentational)
        return known

    def late_styler(self, compiled: CompiledTemplate) -> LateStyler:
        """Returns what styles a rendering, and derives its plain text, where it takes the data to know how."""
        from pribble.rendering.late_styling import LateStyler

        folder = self.folder
        assert compiled.sheets is not None  # no text is styled
        return LateStyler(
            folder.pictures, folder.options.id_domain, self.path, folder.presentational, own=compiled.sheets
        )

    def _once(self, known: dict[str, _Made], locale: str, make: Callable[[], _Made]) -> _Made:
        with self._lock:
            if locale not in known:
                known[locale] = make()
            return known[locale]

    def _link(self, locale: str) -> LinkedSource:
        """Returns the file for a locale, with its layouts and parts."""
        from pribble.language.linking import FoundFile, link_template

        folder, source, own = self.folder, self.source, None
        if is_file(self.path):
            chosen, own = folder.files.for_locale(self.path, locale)
            source = source if chosen == self.path else read_source(chosen)
        self._languages[locale] = own or self.settings.locale

        def find(name: str, named_in: Source, place: Place) -> FoundFile:
            found = folder.files.named(name, named_in, place, locale)
            return replace(found, locale=self._written(found.locale, locale))

        return link_template(
            FoundFile(source, self._written(own, locale)),
            find,
            html=self.is_page,
            formatters=folder.world.formatters,
            common=folder.world.common,
            limits=folder.world.limits,
        )

    def _written(self, own: str | None, asked: str) -> str | None:
        """Returns the locale that formats in a file whose `own` it is (None for that of the template): the one that is
        asked for, where it is of the same language and script."""
        written = own or self.settings.locale
        return asked if asked != written and is_one_language(written, asked) else own

    def _compile(self, linked: LinkedSource) -> CompiledTemplate:
        from pribble.compiler.compiled_template import compile_text

        if not self.is_page:
            return compile_text(linked, self.folder.world)
        from pribble.compiler.compiled_page import compile_page

        return compile_page(self.styled(linked), self.folder.world)

    def _compile_traced(self, linked: LinkedSource) -> TracedTemplate:
        from pribble.compiler.compiled_page import compile_traced_page
        from pribble.compiler.compiled_template import compile_traced_text

        if not self.is_page:
            return compile_traced_text(linked, self.folder.world)
        return compile_traced_page(self.styled(linked), self.folder.world)
