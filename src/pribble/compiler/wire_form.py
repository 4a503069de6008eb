"""The page in quoted-printable, from what its program kept: the template's own texts are encoded once, and a message
costs the encoding of its values.

A soft line break may stand anywhere (RFC 2045 6.7(5)), so a line begins with every text of the template and with every
value, and each is encoded as if it stood alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from pribble.mime.encoding import Pieces, quoted_printable, quoted_values
from pribble.passes.pieces import AFTER_PREHEADER, BEFORE_PREHEADER, Piece
from pribble.pictures.picture_slots import PictureSlot

# What a program kept: of each run, each time it was run, the piece it made and the values in it.
KeptValues = Sequence[Sequence[Sequence[str]]]

_SOFT = b"=\r\n"
_HARD = b"\r\n"
_VALUE = b"%b"


class _Frame(NamedTuple):
    """Texts in quoted-printable, with ``%b`` for each value; the next one begins a line.

    `before_break` is the same where a line break follows, which ends the line anyway; but a value stays before a soft
    one.
    """

    octets: bytes
    before_break: bytes
    begins_with_break: bool
    ends_with_value: bool

    @classmethod
    def of(cls, texts: Sequence[str | None]) -> _Frame:
        """Returns the frame of texts, None where a value stands."""
        made = [_VALUE if text is None else quoted_printable(text).replace(b"%", b"%%") for text in texts if text != ""]
        octets = b"".join([piece if piece.endswith(_HARD) else piece + _SOFT for piece in made])
        ends_with_value = octets.endswith(_VALUE + _SOFT)
        before_break = octets if ends_with_value else octets.removesuffix(_SOFT)
        return cls(octets, before_break, octets.startswith(_HARD), ends_with_value)


_OF_VALUE = _Frame.of([None])
_OF_PICTURE = _Frame(_SOFT, b"", begins_with_break=False, ends_with_value=False)


class WireTemplate:
    """The runs of a page's program: of each the texts, None where a value stands; and texts that are a piece each."""

    def __init__(self) -> None:
        self.runs: list[Sequence[str | None]] = []
        self.texts: set[str] = {BEFORE_PREHEADER, AFTER_PREHEADER}
        self._runs: dict[int, _Frame] = {}
        self._texts: dict[str, _Frame] = {}

    def quoted(self, pieces: Sequence[Piece], texts: Sequence[str], kept: KeptValues) -> Pieces | None:
        """Returns the page that `texts`, those of the `pieces`, make in quoted-printable; `kept` has for each run what
        it made, and its values.

        None where it takes the characters next to each other: a carriage return, or a value at the very end.
        """
        made_of: dict[int, tuple[_Frame, Sequence[str]]] = {}
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
        made = quoted_values(values)
        if made is None or before.ends_with_value:
            return None
        frames[-1] = frames[-1].removesuffix(_SOFT)
        page: list[bytes] = []
        first_frame = first_value = 0
        for last_frame, last_value, picture in (*inside, (len(frames), len(values), b"")):
            page += (b"".join(frames[first_frame:last_frame]) % tuple(made[first_value:last_value]), picture)
            first_frame, first_value = last_frame, last_value
        return [piece for piece in page if piece]

    def _text(self, text: str) -> _Frame:
        known = self._texts[text] = _Frame.of([text])
        return known

    def _run(self, run: int) -> _Frame:
        known = self._runs[run] = _Frame.of(self.runs[run])
        return known
