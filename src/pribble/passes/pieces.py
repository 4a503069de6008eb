"""The pieces of a page: what a template's program gives, before it is known how pictures travel.

Most are texts.  The others stand for pictures, for stretches of two forms, and for the places where the preheader goes
and a fragment is cut.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from enum import Enum
from operator import attrgetter
from typing import Any

from pribble.passes.traces import TraceBegin, TraceEnd, TraceMark
from pribble.pictures.picture_slots import Embed, NamedPicture, PictureSlot
from pribble.records import record


class Boundary(Enum):
    """A place in a page that a fragment of it is cut at."""

    SHEET = "a style sheet of the head begins"
    SHEET_END = "it ends"
    BODY_TAG = "the attributes of the body begin"
    BODY = "its content begins"
    TAIL = "end tags begin that are no content"
    TAIL_END = "they end"


class PreheaderPlace(Enum):
    """Where the preheader goes."""

    PREHEADER = "preheader"


PREHEADER = PreheaderPlace.PREHEADER
# What hides it, in the customary way: each of these hides it from receivers that ignore the others.
BEFORE_PREHEADER = (
    '<div style="display:none;max-height:0;max-width:0;overflow:hidden;opacity:0;font-size:1px;'
    'line-height:1px;mso-hide:all">'
)
AFTER_PREHEADER = "</div>"


@record(frozen=True, slots=True)
class FragmentSlice:
    """A text between two boundaries, with the first of them: what a fragment takes or leaves as a whole."""

    boundary: Boundary
    text: str


@record(frozen=True, slots=True)
class VariantPiece:
    """A stretch that reads otherwise where pictures travel by Content-ID: `by_cid` there, `otherwise` elsewhere."""

    by_cid: tuple[str | PictureSlot, ...]
    otherwise: tuple[str | PictureSlot, ...]


_Other = PictureSlot | NamedPicture | VariantPiece | Boundary | FragmentSlice | PreheaderPlace | TraceMark
Piece = str | _Other


def texts_of(pieces: Iterable[Piece], embed: Embed = "cid", base: str | None = None) -> list[str]:
    """Returns the text of each piece, pictures travelling as `embed` says, linked ones below `base`."""
    return [piece if piece.__class__ is str else _text(piece, embed, base) for piece in pieces]


# What the text of a piece is, where pictures travel by Content-ID and nothing has two forms.
_USUAL: dict[type, Callable[[Any], str]] = {
    FragmentSlice: attrgetter("text"),
    PictureSlot: attrgetter("address"),
    NamedPicture: attrgetter("address"),
    **dict.fromkeys((Boundary, PreheaderPlace, TraceBegin, TraceEnd), lambda piece: ""),
}


def usual_texts(pieces: Iterable[Piece]) -> list[str]:
    """Returns the same for a page without variants, all pictures of which travel by Content-ID."""
    return [piece if piece.__class__ is str else _USUAL.get(piece.__class__, str)(piece) for piece in pieces]


def _text(piece: Piece, embed: Embed, base: str | None) -> str:
    if isinstance(piece, PictureSlot):
        return piece.filled(embed, base)
    if isinstance(piece, VariantPiece):
        return "".join(texts_of(piece.by_cid if embed == "cid" else piece.otherwise, embed, base))
    return _USUAL.get(piece.__class__, str)(piece)


def choose_variants(pieces: Iterable[Piece], *, by_cid: bool) -> list[Piece]:
    """Returns `pieces`, each stretch of two forms in one."""
    made: list[Piece] = []
    for piece in pieces:
        if isinstance(piece, VariantPiece):
            made += piece.by_cid if by_cid else piece.otherwise
        else:
            made.append(piece)
    return made


# ---- fragments --------------------------------------------------------------------------------------------------

_ENDS = {
    Boundary.SHEET: Boundary.SHEET_END,
    Boundary.BODY_TAG: Boundary.BODY,
    Boundary.TAIL: Boundary.TAIL_END,
}


def slice_after(begun: object, text: object, ended: object) -> FragmentSlice | None:
    """Returns a text that stands alone between two boundaries as one piece, since pieces cost time; None for others."""
    if isinstance(begun, Boundary) and isinstance(text, str) and _ENDS.get(begun) is ended:
        return FragmentSlice(begun, text)
    return None


def cut_fragment(pieces: Sequence[Piece]) -> list[Piece]:
    """Returns the pieces of a fragment: the head's style sheets, then the inside of the body, in a ``div`` where the
    body says something of it."""
    made: list[Piece] = []
    closing: list[Piece] = []
    body: list[Piece] | None = None
    taking = False
    for piece in _without_slices(pieces):
        match piece:
            case Boundary.SHEET:
                taking = True
            case Boundary.SHEET_END:
                taking = body is not None
            case Boundary.BODY_TAG:
                body, taking = [], True
            case Boundary.BODY:
                said = "".join(texts_of(body or ())).strip().rstrip("/").removesuffix(">").strip()
                if said and body:
                    made += ["<div", *body]
                    closing = ["</div>"]
                body, taking = [], True
            case Boundary.TAIL:
                taking = False
            case Boundary.TAIL_END:
                taking = True
            case _ if taking:
                (made if body is None else body).append(piece)
    return made if body is None else [*made, *body, *closing]


def _without_slices(pieces: Sequence[Piece]) -> Iterator[Piece]:
    for piece in pieces:
        if isinstance(piece, FragmentSlice):
            yield from (piece.boundary, piece.text, _ENDS[piece.boundary])
        else:
            yield piece
