"""The pictures of a page as steps: found when the template is compiled, or chosen by the data."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from pribble.cascade import urls
from pribble.cascade.style_attribute import decode_with_offsets
from pribble.compiler.steps import (
    BeginCapture,
    CapturedValue,
    DynamicPicture,
    DynamicPictureSize,
    EmbedVariants,
    StaticPicture,
    Step,
    value_parts,
)
from pribble.edits import Edit
from pribble.errors import TemplateError, did_you_mean
from pribble.language.linked_source import SHOW, LinkedSource
from pribble.markup.contexts import MARK, is_picture_place
from pribble.markup.events import Opened, between
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute, StartTag
from pribble.markup.srcset_reader import candidates
from pribble.passes.page_resources import TemplateResources
from pribble.passes.picture_sizes import PictureSize
from pribble.pictures.picture import Picture
from pribble.pictures.picture_slots import EMBED, Embed, PictureSlot
from pribble.records import record

TRAVEL = "data-travel"


@record(slots=True)
class PictureEdits:
    """The pictures of one page; `sizes` are their stated sizes, by the offsets of their tags, None where that is only
    known with the data."""

    linked: LinkedSource
    resources: TemplateResources
    sizes: dict[int, PictureSize] | None

    def shown_widths(self, tags: Iterable[Opened]) -> dict[Picture, int | None]:
        """Returns how wide each picture named in ``src`` is shown at the most; None where it is shown at its own
        size."""
        widths: dict[Picture, int | None] = {}
        for opened in tags:
            source = opened.tag.attribute("src")
            size = (self.sizes or {}).get(opened.tag.start)
            if source is None or size is None or self._marks(opened, source):
                continue
            found = self._found(source, None)
            if found is not None:
                shown = size.width_of(found.picture)
                before = widths.get(found.picture, 0)
                widths[found.picture] = None if shown is None or before is None else max(shown, before)
        return widths

    def edits(self, opened: Opened, widths: dict[Picture, int | None]) -> Iterator[Edit[Step]]:
        """Yields the edits of a tag's pictures."""
        tag = opened.tag
        travels = self._travels(opened)
        candidates = self._candidates(opened, travels)
        if travel := tag.attribute(TRAVEL):
            yield Edit(outer_start(self.linked, travel), travel.end, ())
        size = (self.sizes or {}).get(tag.start)
        for attribute in tag.attributes:
            if not is_picture_place(tag.name, attribute.name):
                continue
            if marks := self._marks(opened, attribute):
                yield from self._chosen(opened, attribute, marks, size if attribute.name == "src" else None, travels)
            elif found := self._found(attribute, travels):
                own = size if attribute.name == "src" else None
                yield from self._named(attribute, found, own, widths, candidates)
        yield from self._srcset(tag, candidates, travels)

    def _marks(self, opened: Opened, attribute: Attribute) -> Sequence[int]:
        if not opened.marks:
            return ()
        return between(sorted(opened.marks), attribute.value_start, attribute.value_end)

    def _travels(self, opened: Opened) -> Embed | None:
        attribute = opened.tag.attribute(TRAVEL)
        if attribute is None:
            return None
        given = self.linked.text[attribute.value_start : attribute.value_end].strip().lower()
        place = self.linked.place(attribute.start, attribute.end)
        if MARK.search(given):
            raise TemplateError(
                f"a mark in {TRAVEL}", place=place, hint="render(embed=…) chooses for a whole rendering"
            )
        if given not in EMBED:
            raise TemplateError(
                f'{TRAVEL}="{given}" is no way for a picture to travel', place=place, hint=did_you_mean(given, EMBED)
            )
        return given

    def _found(self, attribute: Attribute, travels: Embed | None) -> PictureSlot | None:
        name = decode_references(self.linked.text[attribute.value_start : attribute.value_end], attribute=True).strip()
        if not name:
            return None
        return self.resources.picture(name, attribute.value_start, attribute.value_end, travels)

    def _named(
        self,
        attribute: Attribute,
        found: PictureSlot,
        size: PictureSize | None,
        widths: dict[Picture, int | None],
        candidates: Sequence[tuple[str | PictureSlot, str]],
    ) -> Iterator[Edit[Step]]:
        place = attribute.value_start, attribute.value_end
        missing = ""
        if size is not None:
            found, missing = self.resources.completed(found, size, widths.get(found.picture), *place)
        quote = attribute.quote or '"'
        name = self.linked.text[attribute.start : attribute.start + len(attribute.name)]
        address: StaticPicture | EmbedVariants = StaticPicture(found)
        if candidates and attribute.name == "src":
            address = EmbedVariants((StaticPicture(self._nearest(candidates, found, size)),), (StaticPicture(found),))
        yield Edit(attribute.start, attribute.end, (f"{name}={quote}", address, quote + missing))

    # -- chosen by the data --

    def _chosen(
        self,
        opened: Opened,
        attribute: Attribute,
        marks: Sequence[int],
        size: PictureSize | None,
        travels: Embed | None,
    ) -> Iterator[Edit[Step]]:
        if opened.marks[marks[0]].escaper != "picture":
            return  # its author wrote where it is
        place = self.linked.place(attribute.value_start, attribute.value_end)
        within = opened.marks[marks[0]].wrappers
        value = None
        if attribute.value_end - attribute.value_start == 1:
            value = self.linked.mark(marks[0]).value
        chosen = DynamicPicture(value, place, within, size, travels)
        steps = (chosen,) if value is not None else (BeginCapture(), *self._held(attribute), chosen)
        yield Edit(attribute.value_start, attribute.value_end, steps)
        if size and self.resources.complete:
            yield Edit(attribute.end, attribute.end, (DynamicPictureSize(place, size),))

    def _held(self, attribute: Attribute) -> Iterator[Step]:
        """Yields the pieces of a picture's name."""
        for part in value_parts(self.linked, attribute):
            if isinstance(part, str):
                yield part
            else:
                mark = self.linked.mark(part)
                yield CapturedValue(mark.value) if mark.role == SHOW and mark.value is not None else mark

    # -- several to choose from --

    def _candidates(self, opened: Opened, travels: Embed | None) -> list[tuple[str | PictureSlot, str]]:
        """Returns the candidates of a ``srcset`` without marks: address and descriptor (WHATWG HTML 4.8.4.2.2)."""
        attribute = opened.tag.attribute("srcset")
        if attribute is None or self._marks(opened, attribute) or opened.tag.name not in ("img", "source"):
            return []
        value = decode_references(self.linked.text[attribute.value_start : attribute.value_end], attribute=True)
        found = list(candidates(value))
        start, end = attribute.value_start, attribute.value_end
        return [(self.resources.picture(name, start, end, travels) or name, descriptor) for name, descriptor in found]

    def _nearest(
        self, candidates: Sequence[tuple[str | PictureSlot, str]], own: PictureSlot, size: PictureSize | None
    ) -> PictureSlot:
        """Returns the candidate whose density is nearest to what is wanted."""
        shown = size.width_of(own.picture) if size else None

        def density(descriptor: str) -> float:
            number = _density_number(descriptor[:-1])
            return number if descriptor.endswith("x") else number / (shown or own.picture.shown_width)

        every = [(own, 1.0), *((name, density(descriptor)) for name, descriptor in candidates)]
        sources = [(name, dense) for name, dense in every if isinstance(name, PictureSlot)]
        wanted = self.resources.density
        return min(sources, key=lambda each: (abs(each[1] - wanted), -each[1]))[0]

    def _srcset(
        self, tag: StartTag, candidates: Sequence[tuple[str | PictureSlot, str]], travels: Embed | None
    ) -> Iterator[Edit[Step]]:
        attribute = tag.attribute("srcset")
        if attribute is None or not any(isinstance(name, PictureSlot) for name, _ in candidates):
            return
        pieces: list[str | StaticPicture] = [' srcset="']
        for index, (name, descriptor) in enumerate(candidates):
            pieces += [", "] if index else []
            pieces += [
                StaticPicture(name) if isinstance(name, PictureSlot) else name.replace('"', "&quot;"),
                f" {descriptor}",
            ]
        yield Edit(outer_start(self.linked, attribute), attribute.end, (EmbedVariants((), (*pieces, '"')),))

    # -- in style sheets --

    def css_edits(self, start: int, end: int, quote: str | None = None) -> Iterator[Edit[Step]]:
        """Yields the pictures that the literal CSS of a stretch names; `quote` is that of the attribute it is in."""
        text = self.linked.text[start:end]
        css, places = decode_with_offsets(text) if quote else (text, range(len(text) + 1))
        for named in urls.find_urls(css):
            first, last = start + places[named.start], start + places[named.end]
            if named.font or MARK.search(css, named.start, named.end):
                continue
            if (found := self.resources.picture(named.address, first, last)) is not None:
                yield Edit(first, last, ("url(", StaticPicture(found), ")"))


def _density_number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 1.0


def outer_start(linked: LinkedSource, attribute: Attribute) -> int:
    """Returns where the white space before an attribute begins."""
    start = attribute.start
    while linked.text[start - 1] in "\t\n\f\r ":
        start -= 1
    return start
