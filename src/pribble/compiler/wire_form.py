"""The page in quoted-printable, from what its program kept: the template's own texts are encoded once, and a message
costs the encoding of its values.

A soft line break may stand anywhere (RFC 2045 6.7(5)), so a line begins with every text of the template and with every
value, and each is encoded as if it stood alone.
"""

from __future__ import annotations

from collections.abc import Sequence

from pribble.mime.encoding import Pieces, quoted_printable, quoted_values
from pribble.passes.pieces import AFTER_PREHEADER, BEFORE_PREHEADER, Piece
from pribble.pictures.picture_slots import PictureSlot

# What a program kept: of each run, each time it was run, the piece it made and the values in it.
KeptValues = Sequence[Sequence[Sequence[str]]]

_SOFT = b"=\r\n"
_HARD = b"\r\n"
_VALUE = b"%b"


class WireTemplate:
    """The runs of a page's program: of each the texts, None where a value stands; and texts that are a piece each."""

    def __init__(self) -> None:
        self.runs: list[Sequence[str | None]] = []
        self.texts: set[str] = {BEFORE_PREHEADER, AFTER_PREHEADER}
        self._runs: dict[int, bytes] = {}
        self._texts: dict[str, bytes] = {}

    def quoted(self, pieces: Sequence[Piece], texts: Sequence[str], kept: KeptValues) -> Pieces | None:
        """Returns the page that `texts`, those of the `pieces`, make in quoted-printable; `kept` has for each run what
        it made, and its values.

        None where it takes the characters next to each other: a carriage return, or a value at the very end.
        """
        made_of: dict[int, tuple[bytes, Sequence[str]]] = {}
        for run, several in enumerate(kept):
            for shown in several:
                made_of[id(shown[0])] = self._runs.get(run) or self._run(run), shown
        frames: list[bytes] = []
        values: list[str] = []
        inside: list[tuple[int, int, bytes]] = []  # pictures inside the page, encoded already: between which of both
        for piece, text in zip(pieces, texts, strict=True):
            found = made_of.get(id(text))
            if found is not None:
                frames.append(found[0])
                values += found[1][1:]
            elif isinstance(piece, PictureSlot) and text is piece.picture.data_url:
                inside.append((len(frames), len(values), piece.picture.quoted_data_url))
                frames.append(_SOFT)
            elif text in self.texts:
                frame = self._texts.get(text) or self._text(text)
                if frames and frame.startswith(_HARD) and not frames[-1].endswith(_VALUE + _SOFT):
                    frames[-1] = frames[-1].removesuffix(_SOFT)  # the line ends here anyway
                frames.append(frame)
            elif text:  # of this message alone: a preheader, the address of a picture
                frames.append(_VALUE + _SOFT)
                values.append(text)
        made = quoted_values(values)
        if made is None or not frames or frames[-1].endswith(_VALUE + _SOFT):
            return None
        frames[-1] = frames[-1].removesuffix(_SOFT)
        page: list[bytes] = []
        first_frame = first_value = 0
        for last_frame, last_value, picture in (*inside, (len(frames), len(values), b"")):
            page += (b"".join(frames[first_frame:last_frame]) % tuple(made[first_value:last_value]), picture)
            first_frame, first_value = last_frame, last_value
        return [piece for piece in page if piece]

    def _text(self, text: str) -> bytes:
        known = self._texts[text] = _frame([text])
        return known

    def _run(self, run: int) -> bytes:
        known = self._runs[run] = _frame(self.runs[run])
        return known


def _frame(texts: Sequence[str | None]) -> bytes:
    """Returns texts in quoted-printable, with ``%b`` for each value, ending at the beginning of a line."""
    made = [_VALUE if text is None else quoted_printable(text).replace(b"%", b"%%") for text in texts if text != ""]
    return b"".join([piece if piece.endswith(_HARD) else piece + _SOFT for piece in made])
