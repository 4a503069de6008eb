"""A rendering: one run of a template over data, in all the forms a message needs."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from functools import cache, lru_cache
from typing import TYPE_CHECKING, Unpack

from pribble.arguments import maybe_texts, texts
from pribble.cached_property import cached_property
from pribble.compiler.wire_form import KeptValues, WireTemplate
from pribble.errors import PictureError, UnsafeValue, did_you_mean, visible
from pribble.findings import Finding
from pribble.mime.encoding import PreparedBody
from pribble.mime.grammar import LONGEST_LINE
from pribble.mime.header_fields import DOMAIN
from pribble.passes.pieces import (
    AFTER_PREHEADER,
    BEFORE_PREHEADER,
    PREHEADER,
    Piece,
    choose_variants,
    cut_fragment,
    texts_of,
    usual_texts,
)
from pribble.pictures.picture import Picture
from pribble.pictures.picture_slots import EMBED, Embed, NamedPicture, PictureSlot
from pribble.records import field, record, replace
from pribble.values.escaping import markup
from pribble.values.kinds import Data
from pribble.values.url_values import base

# What makes messages, and what lays texts out, is loaded when a message or a text is asked for.
if TYPE_CHECKING:
    from pribble.mime.address import Mailbox, Recipients
    from pribble.mime.message import Message, MessageOptions
    from pribble.mime.message_series import MessageSeries


@record(frozen=True, slots=True)
class RenderOptions:
    """How the pages of a template are finished: how their pictures travel, what linked ones are below, the right
    side of Content-IDs; what was corrected when it was compiled; and what styles a page that is styled late.  Pages
    that have `has_no_variants` have no stretch of two forms, and no picture that travels in its own way.  Pages are
    `is_usual` where they are as their programs gave them, and pictures travel beside them."""

    embed: Embed | None = None
    picture_base: str | None = None
    id_domain: str = DOMAIN
    findings: tuple[Finding, ...] = ()
    has_no_variants: bool = False
    wire_template: WireTemplate | None = None
    style_late: Callable[[Sequence[Piece]], tuple[list[Piece], list[Finding]]] | None = None
    text_from_page: Callable[[str], str] | None = None
    is_usual: bool = field(init=False)

    def __post_init__(self) -> None:
        is_usual = self.has_no_variants and self.style_late is None and self.embed in (None, "cid")
        object.__setattr__(self, "is_usual", is_usual)


@record(frozen=True, init=False, eq=False)
class Rendering:
    """A template filled with data: subject, preheader, HTML, plain text, pictures.

    `subject` and `preheader` are None if the template has none; `html` is None for a text-only template.  A rendering
    can be copied and pickled; the copy is finished, and holds nothing of the template.
    """

    subject: str | None
    preheader: str | None
    _options: RenderOptions = field(repr=False)
    _pieces: Sequence[Piece] | None = field(repr=False)
    _text: Sequence[Data] | str = field(repr=False)
    _kept: KeptValues = field(repr=False)

    def __init__(
        self,
        subject: str | None,
        preheader: str | None,
        options: RenderOptions,
        pieces: Sequence[Piece] | None,
        text: Sequence[Data] | str,
        kept: KeptValues = (),
    ) -> None:
        # One update and not five guarded assignments: there is one of these for every message.
        vars(self).update(
            subject=subject, preheader=preheader, _options=options, _pieces=pieces, _text=text, _kept=kept
        )

    def __getstate__(self) -> dict[str, Data]:
        """Returns what a copy of it consists of: the page and the text as they are, and nothing that makes them."""
        state: dict[str, Data] = {
            "subject": self.subject,
            "preheader": self.preheader,
            "_options": replace(
                self._options,
                wire_template=None,
                text_from_page=None,
                style_late=self._options.style_late and _styled_already,
            ),
            "_pieces": self._pieces,
            "_text": self.text,
            "_kept": (),
            "_wire": self._wire,
            "findings": self.findings,
        }
        if self._options.style_late is not None:
            state["_dressed"] = {by_cid: self._late(by_cid) for by_cid in (True, False)}
        return state

    def __setstate__(self, state: dict[str, Data]) -> None:
        vars(self).update(state)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Rendering) and self._said == other._said

    def __hash__(self) -> int:
        return hash((self.subject, self.html))

    @property
    def _said(self) -> tuple[object, ...]:
        """All that it says."""
        return self.subject, self.preheader, self.embed, self.html, self.text, self.pictures

    @property
    def embed(self) -> Embed:
        """How the pictures of `html` travel."""
        return self._options.embed or "cid"

    @cached_property
    def html(self) -> str | None:
        """The HTML, pictures embedded as asked for."""
        if self._pieces is None:
            return None
        if not self._options.is_usual:
            self._check_links(self._page(self.embed), self.embed)
        return "".join(self._texts)

    def fragment(self, *, embed: Embed | None = None) -> str | None:
        """Returns the HTML for a host that takes only the inside of a body, or None for a text-only template.

        The head is left out, the remaining style rules move inside, and a ``div`` has the attributes of the body.
        `embed` says how pictures travel: as the rendering was asked for, else inside the HTML ("data").  Raises
        `ValueError` for pictures that travel as links while there is no `picture_base`.
        """
        if self._pieces is None:
            return None
        chosen = checked_embed(embed) or self._options.embed or "data"
        pieces = cut_fragment(self._page(chosen))
        self._check_links(pieces, chosen)
        return "".join(texts_of(pieces, chosen, self._options.picture_base)).strip() + "\n"

    @cached_property
    def text(self) -> str:
        """The plain text: written by hand, or derived from the HTML, and laid out when it is first asked for."""
        if isinstance(self._text, str):
            return self._text
        if self._options.text_from_page:
            return self._options.text_from_page("".join(self._text))
        return _text_layout()(self._text)

    @cached_property
    def pictures(self) -> tuple[Picture, ...]:
        """The pictures that the HTML refers to by Content-ID, each once, in the order of their first use."""
        if self._pieces is None:
            return ()
        embed = self.embed
        others = self._others if self._options.is_usual else self._page(embed)
        slots = [piece for piece in others if isinstance(piece, PictureSlot) and (piece.travels or embed) == "cid"]
        return tuple(dict.fromkeys([slot.picture for slot in slots]))

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """The corrections that were made: sizes added, pictures resampled, turned or converted."""
        if self._pieces is None:
            return ()
        told = list(self._options.findings)
        for piece in self._others:
            if isinstance(piece, PictureSlot):
                told += piece.findings
                if piece.sized and piece.sized[0]:
                    from pribble.passes.page_resources import size_finding

                    told.append(size_finding(piece.sized[0], piece, piece.sized[1]))
        return (*told, *(self._late(self.embed == "cid")[1] if self._options.style_late else ()))

    def message(
        self,
        *,
        sender: Mailbox,
        to: Recipients = (),
        pictures: Sequence[Picture] = (),
        **envelope: Unpack[MessageOptions],
    ) -> Message:
        """Returns a `Message` of this rendering.

        `sender` and `to` are mailboxes, as `Message` takes them; `envelope` are its other arguments (cc, bcc,
        attachments, …).  A `subject` among them replaces that of the template.  `pictures` are further pictures, which
        the data name by ``cid:`` addresses.  Raises `PictureError` if the data name one that is not given,
        `HeaderError` and `AddressError` for what cannot be written, `TypeError` for an argument that no message takes
        or that the rendering has already.
        """
        checked_options(envelope)
        return message_in_series(self, _series(sender, self._options.id_domain), to, pictures, envelope)

    @cached_property
    def _wire(self) -> PreparedBody | None:
        """The form of the HTML on the wire, where its pieces tell."""
        template, kept = self._options.wire_template, self._kept
        if self._pieces is None or template is None or self._options.style_late is not None:
            return None
        # `self` in the function would make a circle, which only the collector finds.
        pieces, texts, is_usual = self._page(self.embed), self._texts, self._options.is_usual
        inside = not is_usual and any(
            isinstance(piece, PictureSlot) and len(text) > LONGEST_LINE
            for piece, text in zip(pieces, texts, strict=True)
        )
        return PreparedBody(lambda: template.quoted(pieces, texts, kept, as_given=is_usual), has_long_lines=inside)

    # -- pieces --

    @cached_property
    def _others(self) -> list[Piece]:
        """The pieces that are no texts."""
        return [piece for piece in self._pieces or () if piece.__class__ is not str]

    @cached_property
    def _texts(self) -> list[str]:
        """The texts of the page's pieces, pictures travelling as was asked for."""
        if self._options.is_usual:
            return usual_texts(self._pieces or ())
        return texts_of(self._page(self.embed), self.embed, self._options.picture_base)

    def _page(self, embed: Embed) -> Sequence[Piece]:
        """Returns the pieces of the page, each in the form that goes with the way pictures travel."""
        assert self._pieces is not None
        if self._options.style_late is not None:
            return self._late(embed == "cid")[0]
        return self._pieces if self._options.has_no_variants else choose_variants(self._pieces, by_cid=embed == "cid")

    def _late(self, by_cid: bool) -> tuple[list[Piece], list[Finding]]:
        """Returns the page styled now, and the corrections in it; done once for each form."""
        assert self._pieces is not None and self._options.style_late is not None
        known: dict[bool, tuple[list[Piece], list[Finding]]] = vars(self).setdefault("_dressed", {})
        if by_cid not in known:
            pieces, told = self._options.style_late(choose_variants(self._pieces, by_cid=by_cid))
            known[by_cid] = with_preheader(pieces, self.preheader), told
        return known[by_cid]

    def _check_links(self, pieces: Sequence[Piece], embed: Embed) -> None:
        """Raise `ValueError` where pictures travel as links, and nobody has said what they lie below."""
        slots = [piece for piece in pieces if isinstance(piece, PictureSlot)]
        if self._options.picture_base is None and any((piece.travels or embed) == "link" for piece in slots):
            raise ValueError("pictures that travel as links need the address they lie below (picture_base)")


@cache
def _text_layout() -> Callable[[Sequence[Data]], str]:
    """Returns what lays out the text that a program gave."""
    from pribble.plaintext.layout import WIDTH, layout
    from pribble.plaintext.pattern_filling import fill_patterns

    return lambda events: layout(fill_patterns(events, WIDTH))


def checked_options(options: MessageOptions) -> None:
    """Raise `TypeError` for options that no message takes, or that a rendering has already."""
    if not options:
        return
    from pribble.mime.message import MessageOptions

    taken = ("sender", "to", "pictures", *MessageOptions.__annotations__)
    for name in options.keys() - MessageOptions.__annotations__:
        raise TypeError(
            f"message: {name} comes from the rendering"
            if name in ("text", "html", "id_domain")
            else f"message takes no {name}" + (f" ({hint})" if (hint := did_you_mean(name, taken)) else "")
        )


@lru_cache(64)  # an application sends as one or a few
def _known_series(sender: Mailbox, id_domain: str) -> MessageSeries:
    from pribble.mime.message_series import MessageSeries

    return MessageSeries(sender=sender, id_domain=id_domain)


def _series(sender: Mailbox, id_domain: str) -> MessageSeries:
    """Returns the messages of a sender without options."""
    if isinstance(sender, str):
        return _known_series(sender, id_domain)
    is_known = not isinstance(sender, tuple) or all(isinstance(one, str) for one in sender)
    kept = _known_series if is_known and isinstance(sender, Hashable) else _known_series.__wrapped__
    return kept(sender, id_domain)


def message_in_series(
    rendering: Rendering, series: MessageSeries, to: Recipients, pictures: Sequence[Picture], own: MessageOptions
) -> Message:
    """Returns a rendering as a message of a series; `own` are its own options.

    The arguments are those of `Rendering.message`, and so are the errors.
    """
    if pictures != ():
        from pribble.mime.message_arguments import check_kinds

        check_kinds({"pictures": pictures})
    ids = {picture.content_id(rendering._options.id_domain) for picture in pictures}
    for piece in rendering._others:
        if piece.__class__ is NamedPicture and piece.address[4:] not in ids:
            raise PictureError(
                f'"{piece.address}" names no picture of the message',
                hint="give it to message(pictures=…), or let the data give the picture itself",
            )
    given: MessageOptions = {"subject": rendering.subject, **own}
    shown = (*rendering.pictures, *pictures)
    message = series.message(to=to, text=rendering.text, html=rendering.html, pictures=shown, **given)
    return message if rendering._wire is None else _prepare_html()(message, rendering._wire)


@cache
def _prepare_html() -> Callable[[Message, PreparedBody], Message]:
    from pribble.mime.message import prepare_html

    return prepare_html


def with_pieces(rendering: Rendering, pieces: Sequence[Piece]) -> Rendering:
    """Returns a rendering of the same data whose page is made of other pieces, as its program gave them."""
    if rendering._options.style_late is None:
        pieces = with_preheader(list(pieces), rendering.preheader)
    return Rendering(rendering.subject, rendering.preheader, rendering._options, pieces, rendering.text)


def final_pieces(rendering: Rendering) -> tuple[Sequence[Piece], list[str]]:
    """Returns the pieces of a rendering's HTML and their texts."""
    return rendering._page(rendering.embed), rendering._texts


def _styled_already(pieces: Sequence[Piece]) -> tuple[list[Piece], list[Finding]]:
    """Returns what stands for late styling in a finished rendering, whose pages are there in both forms."""
    raise AssertionError("a finished rendering is styled already")


def checked_embed(embed: str | None) -> Embed | None:
    """`embed`, if it is a way for pictures to travel; raises `ValueError` otherwise."""
    maybe_texts(embed=embed)
    if embed is not None and embed not in EMBED:
        raise ValueError(f'embed is one of {", ".join(EMBED)}, not "{visible(embed[:60])}"')
    return embed


def checked_base(picture_base: str | None) -> str | None:
    """`picture_base` as it can stand in a page, if pictures can lie below it; raises `ValueError` otherwise."""
    if picture_base is None:
        return None
    texts(picture_base=picture_base)
    try:
        made = base(picture_base)
    except UnsafeValue as error:
        told = f"{error.problem} ({error.hint})" if error.hint else error.problem
        raise ValueError(
            f"picture_base: the base of pictures is an address that begins with https://: {told}"
        ) from None
    # It stands in attributes, in lists of sources and in style sheets, quoted and bare.
    if found := set("'(),&") & set(made):
        raise ValueError(f"picture_base may hold no {min(found)} (write it as %{ord(min(found)):02X})")
    return made


def begins_preheader(piece: Piece) -> bool:
    """Returns whether the piece behind this one is the preheader."""
    return piece is BEFORE_PREHEADER


def with_preheader(pieces: list[Piece], preheader: str | None) -> list[Piece]:
    """Returns `pieces`, the preheader put in its place."""
    if preheader:
        for index, piece in enumerate(pieces):
            if piece is PREHEADER:
                pieces[index : index + 1] = BEFORE_PREHEADER, markup(preheader), AFTER_PREHEADER
                break
    return pieces
