"""The page in quoted-printable, from what its program kept: the template's own texts are encoded once, and a message
costs the encoding of its values.

A soft line break may stand anywhere (RFC 2045 6.7(5)), so a line begins with every text of the template and with every
value, and each is encoded as if it stood alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import groupby, zip_longest
from typing import NamedTuple

from pribble.cached_property import cached_property
from pribble.mime.encoding import Pieces, quoted_printable, quoted_values
from pribble.passes.pieces import AFTER_PREHEADER, BEFORE_PREHEADER, Piece
from pribble.pictures.picture_slots import PictureSlot

# What a program kept: of each run, each time it was run, the piece it made and the values in it.
KeptValues = Sequence[Sequence[Sequence[str]]]
# What stands where in a page; and the number of a run, if it is one, the frame, and how many pieces it is in each page.
Ordered = int | str | None
_Part = tuple[int | None, "_WireFrame", int]

_SOFT = b"=\r\n"
_HARD = b"\r\n"
_VALUE = b"%b"


class _WireFrame(NamedTuple):
    """Texts in quoted-printable, with ``%b`` for each value; the next one begins a line.

    `before_break` is the same where a line break follows, which ends the line anyway; but a value stays before a soft
    one.
    """

    octets: bytes
    before_break: bytes
    begins_with_break: bool
    ends_with_value: bool

    @classmethod
    def of(cls, texts: Sequence[str | None]) -> _WireFrame:
        """Returns the frame of texts, None where a value stands."""
        made = [_VALUE if text is None else quoted_printable(text).replace(b"%", b"%%") for text in texts if text != ""]
        octets = b"".join([piece if piece.endswith(_HARD) else piece + _SOFT for piece in made])
        ends_with_value = octets.endswith(_VALUE + _SOFT)
        before_break = octets if ends_with_value else octets.removesuffix(_SOFT)
        return cls(octets, before_break, octets.startswith(_HARD), ends_with_value)

    @classmethod
    def joined(cls, frames: Sequence[_WireFrame]) -> _WireFrame:
        """Returns frames of texts as one."""
        if not frames:
            return _NOTHING
        octets = [
            frame.before_break if following is not None and following.begins_with_break else frame.octets
            for frame, following in zip_longest(frames, frames[1:])
        ]
        before_break = b"".join([*octets[:-1], frames[-1].before_break])
        return cls(b"".join(octets), before_break, frames[0].begins_with_break, frames[-1].ends_with_value)


_NOTHING = _WireFrame(b"", b"", begins_with_break=False, ends_with_value=False)
_OF_VALUE = _WireFrame.of([None])
_OF_PICTURE = _WireFrame(_SOFT, b"", begins_with_break=False, ends_with_value=False)


class WireTemplate:
    """The runs of a page's program: of each the texts, None where a value stands; and texts that are a piece each.

    `order` are the pieces of a page as its program gives them, preheader included, where that is the same in all
    messages: the number of a run, which may have been run any number of times; a text; None for a piece that is of the
    message alone.
    """

    def __init__(self) -> None:
        self.runs: list[Sequence[str | None]] = []
        self.texts: set[str] = {BEFORE_PREHEADER, AFTER_PREHEADER}
        self.order: Sequence[Ordered] | None = None
        self._runs: dict[int, _WireFrame] = {}
        self._texts: dict[str, _WireFrame] = {}

    def quoted(
        self, pieces: Sequence[Piece], texts: Sequence[str], kept: KeptValues, *, as_given: bool
    ) -> Pieces | None:
        """Returns the page that `texts`, those of the `pieces`, make in quoted-printable; `kept` has for each run what
        it made, and its values.  `as_given` says that the pieces are those that the program gave.

        None where it takes the characters next to each other: a carriage return, or a value at the very end.
        """
        if as_given and self._parts is not None and len(texts) == self._parts[0] + sum(map(len, kept)):
            return self._in_order(self._parts[1], texts, kept)
        return self._found(pieces, texts, kept)

    @cached_property
    def _parts(self) -> tuple[int, list[_Part]] | None:
        """How many pieces a page has beside those of runs, and its pieces in their order, texts that follow each other
        as one."""
        if self.order is None:
            return None
        parts: list[_Part] = []
        for is_text, items in groupby(self.order, lambda item: isinstance(item, str)):
            if is_text:
                texts = [str(item) for item in items]
                parts.append((None, _WireFrame.joined([self._text(text) for text in texts if text]), len(texts)))
            else:
                runs = [item for item in items if not isinstance(item, str)]
                parts += [(None, _OF_VALUE, 1) if run is None else (run, self._run(run), 0) for run in runs]
        return sum(size for _, _, size in parts), parts

    def _in_order(self, parts: Iterable[_Part], texts: Sequence[str], kept: KeptValues) -> Pieces | None:
        frames: list[bytes] = []
        values: list[str] = []
        before, at = _OF_VALUE, 0
        for run, frame, size in parts:
            if run is not None:
                several = kept[run]
                at += len(several)
                if not several:
                    continue
                frames += [frame.octets] * len(several)
                for shown in several:
                    values += shown[1:]
            elif frame is _OF_VALUE:
                text = texts[at]
                at += 1
                if not text:
                    continue
                frames.append(frame.octets)
                values.append(text)
            else:
                at += size
                if frame is _NOTHING:
                    continue
                if frame.begins_with_break and frames:
                    frames[-1] = before.before_break  # the line ends here anyway
                frames.append(frame.octets)
            before = frame
        return _fill_frames(frames, values, before)

    def _found(self, pieces: Sequence[Piece], texts: Sequence[str], kept: KeptValues) -> Pieces | None:
        """Returns the same of pieces in any order: those of runs are known by what was kept of them."""
        made_of: dict[int, tuple[_WireFrame, Sequence[str]]] = {}
        for run, several in enumerate(kept):
            if several:
                frame = self._runs.get(run) or self._run(run)
                for shown in several:
                    made_of[id(shown[0])] = frame, shown
        frames: list[bytes] = []
        values: list[str] = []
        inside: list[tuple[int, int, bytes]] = []  # pictures inside the page, encoded already: between which of both
        before = _OF_VALUE
        for piece, text in zip(pieces, texts, strict=True):
            found = made_of.get(id(text))
            if found is not None:
                frame, shown = found
                values += shown[1:]
            elif piece.__class__ is PictureSlot and text is piece.picture.data_url:
                inside.append((len(frames), len(values), piece.picture.quoted_data_url))
                frame = _OF_PICTURE
            elif text in self.texts:
                frame = self._texts.get(text) or self._text(text)
                if frame.begins_with_break and frames:
                    frames[-1] = before.before_break  # the line ends here anyway
            elif text:  # of this message alone: a preheader, the address of a picture
                frame = _OF_VALUE
                values.append(text)
            else:
                continue
            frames.append(frame.octets)
            before = frame
        return _fill_frames(frames, values, before, inside)

    def _text(self, text: str) -> _WireFrame:
        known = self._texts[text] = _WireFrame.of([text])
        return known

    def _run(self, run: int) -> _WireFrame:
        known = self._runs[run] = _WireFrame.of(self.runs[run])
        return known


def _fill_frames(
    frames: list[bytes], values: Sequence[str], last: _WireFrame, inside: Iterable[tuple[int, int, bytes]] = ()
) -> Pieces | None:
    """Returns frames with values in them, pictures `inside` between; None where that is not known so."""
    made = quoted_values(values)
    if made is None or last.ends_with_value:
        return None
    frames[-1] = frames[-1].removesuffix(_SOFT)
    page: list[bytes] = []
    first_frame = first_value = 0
    for last_frame, last_value, picture in (*inside, (len(frames), len(values), b"")):
        page += (b"".join(frames[first_frame:last_frame]) % tuple(made[first_value:last_value]), picture)
        first_frame, first_value = last_frame, last_value
    return [piece for piece in page if piece]
