"""What differs between two messages, as their readers would notice it.

    for one in differences(before, after):
        print(one)

Header fields are compared by what they say, texts by line, pages by the words that show, how these look and where links
lead, pictures by their pixels, other parts by their bytes.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from pribble.arguments import are_instances, flags
from pribble.cached_property import cached_property
from pribble.errors import PictureError
from pribble.mime.base import BaseMessage
from pribble.mime.encoded_words import decoded_text
from pribble.mime.reading import Entity, read_message
from pribble.mime.stored import named_pictures, text_and_page
from pribble.pictures.decoding import open_image
from pribble.records import record
from pribble.regexes import regex
from pribble.rendering.rendering import Rendering
from pribble.review.aligning import Run, aligned
from pribble.review.cases import message_of
from pribble.review.page_view import WIDE, PageView

Kind = Literal["header", "part", "text", "words", "look", "link", "picture", "page", "size"]

# What each message has of its own, even if the same is said again.
_OF_ITS_OWN = frozenset({"date", "message-id", "received", "return-path", "dkim-signature"})
_OF_PARTS = ("content-type", "content-transfer-encoding", "content-id", "content-disposition", "mime-version")
_OF_A_PAGE = {"html": ("lang", "dir"), "body": ("lang", "dir", "bgcolor")}
_LONGEST = 200
# What a picture leaves in a text is no word.
_WORD = regex("[^\\s\ufffc]+")
# Words around a change that say where it is.
_AROUND = 3


@record(frozen=True, slots=True)
class Difference:
    """One difference: its `kind`, `what` it is in ("Subject", "line 7", a label), and what stands there in the `old`
    and the `new` message, "" for nothing."""

    kind: Kind
    what: str
    old: str
    new: str

    def __str__(self) -> str:
        """Returns it in a line: ``header Subject: "Berth B 14" → "Berth A 3"``."""
        if not self.old:
            return f"{self.kind} {self.what}: new: {self.new}"
        return (
            f"{self.kind} {self.what}: {self.old} → {self.new}"
            if self.new
            else f"{self.kind} {self.what}: gone: {self.old}"
        )


def differences(
    old: BaseMessage | Rendering | bytes, new: BaseMessage | Rendering | bytes, *, all: bool = False
) -> list[Difference]:
    """Returns what differs between two messages or renderings: header, parts, text, page, pictures, size.

    With `all`, what each message has of its own counts too: its date, ids and boundaries, how its parts are encoded.
    Two that say and look the same give an empty list.
    """
    are_instances((BaseMessage, Rendering, bytes), "a message, a rendering or bytes", old=old, new=new)
    flags(all=all)
    before, after = _Read.of(old), _Read.of(new)
    made = [
        *_header_differences(before.root, after.root, all=all),
        *_part_differences(before.root, after.root, all=all),
        *_line_differences(before.text, after.text),
        *_page_differences(before, after),
        *_picture_differences(before, after),
    ]
    if made and before.size != after.size:
        made.append(Difference("size", "bytes", f"{before.size:,}", f"{after.size:,}"))
    return made


@record(frozen=True)
class _Read:
    """A message that was read."""

    root: Entity
    text: str
    page: str | None
    size: int

    @classmethod
    def of(cls, given: BaseMessage | Rendering | bytes) -> _Read:
        raw = bytes(message_of(given) if isinstance(given, Rendering) else given)
        root = read_message(raw.decode("latin-1"))
        text, page = (given.text, given.html) if isinstance(given, BaseMessage | Rendering) else text_and_page(root)
        return cls(root, text or "", page, len(raw))

    @cached_property
    def view(self) -> PageView | None:
        """The page as its readers see it."""
        return None if self.page is None else PageView(self.page, lambda start, end: None)


# ---- header and parts -----------------------------------------------------------------------------------------------


def _header_differences(old: Entity, new: Entity, *, all: bool) -> Iterator[Difference]:
    before, after = _header_fields(old, all=all), _header_fields(new, all=all)
    for key in dict.fromkeys((*before, *after)):
        name, said = before.get(key, ("", []))
        other, says = after.get(key, ("", []))
        for run in aligned(said, says):
            if not run.same:
                yield Difference(
                    "header",
                    name or other,
                    "; ".join(said[run.old_start : run.old_end]),
                    "; ".join(says[run.new_start : run.new_end]),
                )


def _header_fields(root: Entity, *, all: bool) -> dict[str, tuple[str, list[str]]]:
    """Returns the fields of a header by their names: how the first is written, and what each says."""
    made: dict[str, tuple[str, list[str]]] = {}
    for field in root.fields:
        if all or (field.key not in _OF_ITS_OWN and field.key not in _OF_PARTS):
            made.setdefault(field.key, (field.name, []))[1].append(_short(decoded_text(field.value)))
    return made


def _part_differences(old: Entity, new: Entity, *, all: bool) -> Iterator[Difference]:
    before, after = ([_part_in_words(one, all=all) for one in root.walk()] for root in (old, new))
    for run in aligned(before, after):
        if not run.same:
            gone, come = before[run.old_start : run.old_end], after[run.new_start : run.new_end]
            yield Difference("part", "tree", "; ".join(gone), "; ".join(come))


def _part_in_words(one: Entity, *, all: bool) -> str:
    """Returns a part in words; what is neither text nor picture, by its bytes."""
    said = [one.type.value, one.file_name or "", one.disposition.value]
    if all:
        said += [one.encoding, one.type.get("boundary") or "", one.content_id or ""]
    is_other = not (one.parts or one.type.value.startswith(("text/", "image/")))
    if is_other or (one.disposition.value == "attachment" and not one.parts):
        content = one.decoded()
        said.append(f"{len(content):,} bytes, {_digest(content)}")
    return " ".join(filter(None, said))


# ---- text -----------------------------------------------------------------------------------------------------------


def _line_differences(old: str, new: str) -> Iterator[Difference]:
    before, after = (text.rstrip("\n").split("\n") if text else [] for text in (old, new))
    for run in aligned(before, after):
        if not run.same:
            gone, come = before[run.old_start : run.old_end], after[run.new_start : run.new_end]
            yield Difference("text", f"line {run.new_start + 1}", "\n".join(gone), "\n".join(come))


# ---- page -----------------------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class _Word:
    """A word of a page as it shows."""

    text: str
    look: tuple[str, ...]


def _page_differences(old: _Read, new: _Read) -> Iterator[Difference]:
    if old.page == new.page:
        return
    before, after = old.view, new.view
    if before is None or after is None:
        yield Difference("page", "HTML", "a page" if after is None else "", "" if after is None else "a page")
        return
    yield from _of_page(before, after)
    words, others = list(_words(before)), list(_words(after))
    runs = aligned([one.text for one in words], [one.text for one in others])
    yield from _word_differences(words, others, runs)
    yield from _look_differences(words, others, runs)
    yield from _link_differences(before, after)


def _of_page(old: PageView, new: PageView) -> Iterator[Difference]:
    """Yields the attributes of the whole page that matter."""
    before, after = (_page_attributes(view) for view in (old, new))
    for name in dict.fromkeys((*before, *after)):
        if before.get(name, "") != after.get(name, ""):
            yield Difference("page", name, before.get(name, ""), after.get(name, ""))


def _page_attributes(view: PageView) -> dict[str, str]:
    return {
        f"{element.local_name} {name}": element.values[name]
        for element in view.elements
        for name in _OF_A_PAGE.get(element.local_name, ())
        if element.values.get(name)
    }


def _words(view: PageView) -> Iterator[_Word]:
    """Yields the words that show, in order, each with its look."""
    grounds = view.grounds(WIDE)
    for block in view.blocks:
        for found in _WORD.finditer(block.text):
            element = view.element_at(block.offsets[found.start()])
            if element is not None:
                style, ground = view.style(element.number), grounds[element.number]
                seen, beneath = ground.seen(style.color)
                look = (str(seen), f"on {beneath}", f"{style.font_size:g}px", f"weight {style.font_weight}")
                yield _Word(found[0], look)


def _word_differences(old: Sequence[_Word], new: Sequence[_Word], runs: Sequence[Run]) -> Iterator[Difference]:
    for run in runs:
        if not run.same:
            before = _together(new[max(0, run.new_start - _AROUND) : run.new_start])
            where = f"after “{before}”" if before else "at the beginning"
            gone, come = old[run.old_start : run.old_end], new[run.new_start : run.new_end]
            yield Difference("words", where, _short(_together(gone)), _short(_together(come)))


def _look_differences(old: Sequence[_Word], new: Sequence[_Word], runs: Sequence[Run]) -> Iterator[Difference]:
    """Yields what looks otherwise of the words that both pages have: one difference for words in a row."""
    latest: tuple[str, str] | None = None
    words: list[_Word] = []
    for run in runs:
        for offset in range(run.old_end - run.old_start if run.same else 0):
            before, after = old[run.old_start + offset].look, new[run.new_start + offset].look
            changed = [(one, other) for one, other in zip(before, after, strict=True) if one != other]
            now = (", ".join(one for one, _ in changed), ", ".join(other for _, other in changed)) if changed else None
            if now != latest:
                if latest is not None:
                    yield Difference("look", f"“{_short(_together(words))}”", *latest)
                latest, words = now, []
            words.append(old[run.old_start + offset])
    if latest is not None:
        yield Difference("look", f"“{_short(_together(words))}”", *latest)


def _together(words: Sequence[_Word]) -> str:
    return " ".join([one.text for one in words])


def _link_differences(old: PageView, new: PageView) -> Iterator[Difference]:
    before, after = ([(_short(link.label), link.address) for link in view.links] for view in (old, new))
    for run in aligned(before, after):
        if run.same:
            continue
        gone, come = before[run.old_start : run.old_end], after[run.new_start : run.new_end]
        if [label for label, _ in gone] == [label for label, _ in come]:
            for (label, one), (_, other) in zip(gone, come, strict=True):
                yield Difference("link", f"“{label}”", one, other)
        else:
            yield from (Difference("link", f"“{label}”", one, "") for label, one in gone)
            yield from (Difference("link", f"“{label}”", "", one) for label, one in come)


# ---- pictures -------------------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class _Shown:
    """A picture of a page: what it is called, its alternative text, its size on the page, what its pixels are."""

    name: str
    alt: str
    size: str
    pixels: str


def _picture_differences(old: _Read, new: _Read) -> Iterator[Difference]:
    before, after = list(_shown_pictures(old)), list(_shown_pictures(new))
    for run in aligned(before, after):
        if run.same:
            continue
        gone, come = before[run.old_start : run.old_end], after[run.new_start : run.new_end]
        for one, other in zip(gone, come, strict=False):
            yield from _differences_of_picture(one, other)
        yield from (Difference("picture", one.name, one.pixels, "") for one in gone[len(come) :])
        yield from (Difference("picture", one.name, "", one.pixels) for one in come[len(gone) :])


def _differences_of_picture(old: _Shown, new: _Shown) -> Iterator[Difference]:
    for what, one, other in (
        ("alt", old.alt, new.alt),
        ("size", old.size, new.size),
        ("pixels", old.pixels, new.pixels),
    ):
        if one != other:
            yield Difference("picture", f"{what} of {new.name}", one or '""', other or '""')


def _shown_pictures(read: _Read) -> Iterator[_Shown]:
    if read.view is None:
        return
    parts: Mapping[str, Entity] = dict(named_pictures(read.root))
    for element in read.view.elements:
        if element.local_name == "img":
            address = element.values.get("src", "").strip()
            size = " × ".join(element.values.get(name, "auto") for name in ("width", "height"))
            entity = parts.get(address)
            name = (entity.file_name if entity is not None else None) or _short(address)
            pixels = _pixels_in_words(entity.decoded(), name) if entity is not None else _short(address)
            yield _Shown(name, element.values.get("alt", ""), size, pixels)


def _pixels_in_words(content: bytes, name: str) -> str:
    """Returns what a picture shows, in words that are the same for the same pixels, however they are stored."""
    try:
        image = open_image(content, name).convert("RGBA")
    except PictureError:  # a drawing, or what no picture is: by its bytes
        return f"{len(content):,} bytes, {_digest(content)}"
    return f"{image.width} × {image.height} pixels, {_digest(image.tobytes())}"


def _digest(content: bytes) -> str:
    return f"sha256 {hashlib.sha256(content).hexdigest()[:12]}"


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
