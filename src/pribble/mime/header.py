"""Header fields: encoded-words and folding (RFC 5322 2.2.3, RFC 2047).

A `FieldWriter` takes the words of a field one by one and knows where the line stands, so that folding
happens only where the grammar has white space: between words.
"""

from __future__ import annotations

import base64
import unicodedata
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta, timezone

from pribble.arguments import wrong
from pribble.errors import HeaderError
from pribble.graphemes import belongs
from pribble.mime.grammar import (
    ASCII_ATOM,
    ATOM,
    DATE_TIME,
    ENCODED_WORD,
    ENCODED_WORD_START,
    FORBIDDEN,
    FORBIDDEN_IN_TEXT,
    LINE,
    LINE_WITH_ENCODED_WORD,
    LONGEST_LINE,
    MONTHS,
    WEEKDAYS,
)

_NAMES = {"\r": "a carriage return", "\n": "a line feed", "\0": "NUL", "\t": "a tab"}


def checked(field: str, value: str, *, text: bool = False) -> str:
    """`value`, if it may stand in header field `field`; raises `HeaderError` with field and position.

    `text` says that the field is free text, where a tab may stand.
    """
    if not isinstance(value, str):
        raise wrong(field, "a text", value)
    found = (FORBIDDEN_IN_TEXT if text else FORBIDDEN).search(value)
    if found is None:
        return value
    name = _NAMES.get(found[0], "a control character" if found[0] < "\x80" else "a character")
    raise HeaderError(
        f"{field}: {name} (U+{ord(found[0]):04X}) at position {found.start()}",
        hint="a header field is one line; nothing from outside may bring another",
    )


class FieldWriter:
    """Writes one header field, folding between words.

    With `utf8`, text outside ASCII is written as it is (RFC 6532); otherwise it goes into encoded-words.
    """

    def __init__(self, name: str, *, utf8: bool = False) -> None:
        self.name, self.utf8 = name, utf8
        self._lines: list[str] = []
        self._line = f"{name}:"
        self._empty = True  # nothing but the name, or the space of a continuation, stands on the line
        self._limit = LINE

    def word(self, word: str, *, encoded: bool = False) -> None:
        """Add a word that cannot be broken, after a space or a fold."""
        limit = LINE_WITH_ENCODED_WORD if encoded else self._limit
        if not self._empty and len(self._line) + 1 + len(word) > limit:
            self._fold()
        self._line += f" {word}"
        self._empty = False
        if encoded:
            self._limit = LINE_WITH_ENCODED_WORD

    def words(self, *words: str) -> None:
        """Add words that are ASCII and known to be fit."""
        for word in words:
            self.word(word)

    def text(self, text: str) -> None:
        """Add unstructured text (RFC 5322 2.2.1), what must be encoded in encoded-words."""
        if self.utf8:
            text = unicodedata.normalize("NFC", text)
            if ENCODED_WORD_START in text or text != text.strip(" \t") or max(map(len, text.split(" "))) > LINE - 1:
                self.encoded(text, _q_in_text)  # all of it: nothing raw stands beside one (RFC 6532 3.6)
            else:
                self._utf8_text(text)
            return
        words = text.split(" ")
        bare = [word.isascii() and 0 < len(word) < LINE and word.isprintable() for word in words]
        bare[0] = bare[0] and len(words[0]) < LINE - len(self.name) - 1
        if ENCODED_WORD_START in text:
            bare = [is_bare and ENCODED_WORD_START not in word for is_bare, word in zip(bare, words, strict=True)]
        if "" in words and len(words) > 1:
            _encode_with_neighbours(words, bare)
        bare.append(not bare[-1])  # where the last stretch ends
        start = 0
        while start < len(words):
            are_bare = bare[start]
            end = bare.index(not are_bare, start)
            together = " ".join(words[start:end])
            if are_bare:
                self._bare(together)
            elif together:  # between encoded-words no space is shown (RFC 2047 6.2)
                self.encoded(together, _q_in_text)
            start = end

    def _bare(self, text: str) -> None:
        """Add words between spaces, none of which is longer than a line."""
        start = 0
        while len(text) - start > (room := self._limit - len(self._line) - 1):
            end = text.rfind(" ", start, start + max(0, room + 1))
            if end > start:
                self._line += f" {text[start:end]}"
                start = end + 1
            self._fold()
        self._line += f" {text[start:]}"
        self._empty = False

    def phrase(self, phrase: str, after: str = "") -> None:
        """Add a display name (RFC 5322 3.2.5): atoms, a quoted string, or, as a whole, encoded-words; and what comes
        `after` it without a space."""
        if self.utf8:
            phrase = unicodedata.normalize("NFC", phrase)
        words = phrase.split(" ")
        atom = ATOM if self.utf8 else ASCII_ATOM
        if all(atom.fullmatch(word) and ENCODED_WORD_START not in word for word in words):
            self.words(*words[:-1], f"{words[-1]}{after}")
        elif (phrase.isascii() or self.utf8) and ENCODED_WORD_START not in phrase and len(phrase) < _LONGEST_QUOTED:
            self.word(f"{quoted_string(phrase)}{after}")
        else:
            self.encoded(phrase, _q_in_phrase)
            if after:
                self.word(after)

    def encoded(self, text: str, q: Callable[[str], str]) -> None:
        """Add `text` as encoded-words, B or Q, whichever is shorter; no character is split."""
        in_q, octets = q(text), text.encode("utf-8")
        use_q = len(in_q) <= -(-len(octets) // 3) * 4
        room = self._room(use_q)
        whole = len(in_q if use_q else octets)
        if room < whole <= self._full_room(use_q) and not self._empty:
            self._fold()  # it fits into one word on a line of its own
            room = self._room(use_q)
        if whole <= room:
            self._encoded_word(in_q if use_q else octets)
        else:
            self._encoded_words(text, q if use_q else str.encode, room, use_q)

    def _encoded_words(self, text: str, written: Callable[[str], str | bytes], room: int, use_q: bool) -> None:
        """Add what is too long for one encoded-word, of which the first has this much room."""

        def width(cluster: str) -> int:
            return len(written(cluster))

        chunk: list[str] = []
        used = 0
        for cluster in _clusters(text, width, self._full_room(use_q)):
            size = width(cluster)
            if used + size > room:
                if chunk:
                    self._encoded_word(written("".join(chunk)))
                elif not self._empty:
                    self._fold()
                chunk, used = [], 0
                room = self._room(use_q)
                if size > room and not self._empty:
                    self._fold()
                    room = self._room(use_q)
            chunk.append(cluster)
            used += size
        if chunk:
            self._encoded_word(written("".join(chunk)))

    def finished(self) -> bytes:
        """Returns the field with its line end; raises `HeaderError` where a line passes 998 octets, or holds what none
        may."""
        raw = [_header_line(self.name, line, utf8=self.utf8) for line in [*self._lines, self._line]]
        if max(map(len, raw)) > LONGEST_LINE:
            raise HeaderError(
                f"{self.name}: a word too long for a line of {LONGEST_LINE} octets",
                hint="it has no white space where it could be folded",
            )
        return b"\r\n".join(raw) + b"\r\n"

    def _fold(self) -> None:
        self._lines.append(self._line)
        self._line, self._empty, self._limit = "", True, LINE

    def _encoded_word(self, written: str | bytes) -> None:
        """Add an encoded-word of a text in Q, or of octets, in B."""
        if isinstance(written, str):
            self.word(f"=?utf-8?Q?{written}?=", encoded=True)
        else:
            self.word(f"=?utf-8?B?{base64.b64encode(written).decode('ascii')}?=", encoded=True)

    def _room(self, use_q: bool) -> int:
        """Returns how much of an encoded-word fits on this line, in characters of Q or octets before B.

        The room of the next line, where that on this one is not worth breaking a word for.
        """
        left = min(ENCODED_WORD, LINE_WITH_ENCODED_WORD - len(self._line) - 1) - _OVERHEAD
        if left < _LEAST_ENCODED and not self._empty:
            self._fold()
            return self._full_room(use_q)
        return left if use_q else left // 4 * 3

    @staticmethod
    def _full_room(use_q: bool) -> int:
        return ENCODED_WORD - _OVERHEAD if use_q else (ENCODED_WORD - _OVERHEAD) // 4 * 3

    def _utf8_text(self, text: str) -> None:
        # White space is all that a fold may add to, so a word takes what spaces follow it along.
        words = text.split(" ")
        pending = ""
        for number, word in enumerate(words):
            if not word and number < len(words) - 1:
                pending += " "
                continue
            self.word(pending + word)
            pending = ""


# What an encoded-word consists of beside its text.
_OVERHEAD = len("=?utf-8?Q??=")
# A word is not broken for less of it than that, at the end of a line.
_LEAST_ENCODED = 12
# A quoted string is not folded here, and a line holds 998 octets; a longer name goes into encoded-words.
_LONGEST_QUOTED = 200


def quoted_string(text: str) -> str:
    """Returns `text` as a quoted string (RFC 5322 3.2.4)."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _encode_with_neighbours(words: list[str], bare: list[bool]) -> None:
    """Mark the word beside an empty one (a space too many) as one that is encoded, since no encoded-word is empty."""
    last = len(words) - 1
    for index, word in enumerate(words):
        if not word:
            bare[index + 1 if index < last else index - 1] = False


# RFC 2047 4.2: "=", "?" and "_" are never bare, a space is "_"; 5(3): in a phrase, only letters, digits and
# "!*+-/" are.
_IN_PHRASE = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!*+-/")
_IN_TEXT = frozenset(chr(c) for c in range(0x21, 0x7F)) - frozenset("=?_")


class _Q(dict[str, str]):
    """What each character becomes in Q; of what is beyond ASCII only so much is kept."""

    def __init__(self, bare: frozenset[str]) -> None:
        super().__init__({c: c if c in bare else self[c] for c in map(chr, range(0x80))} | {" ": "_"})

    def __missing__(self, character: str) -> str:
        made = f"={character.encode('utf-8').hex('=')}".upper()
        if len(self) < _MOST_KEPT:
            self[character] = made
        return made


_MOST_KEPT = 1000
_Q_IN_TEXT, _Q_IN_PHRASE = _Q(_IN_TEXT), _Q(_IN_PHRASE)


def _q_in_text(text: str) -> str:
    return "".join([_Q_IN_TEXT[c] for c in text])


def _q_in_phrase(text: str) -> str:
    return "".join([_Q_IN_PHRASE[c] for c in text])


def _clusters(text: str, width: Callable[[str], int], most: int) -> Iterator[str]:
    """Yields what a reader takes for one character, each together; only one too wide for any word is taken apart."""
    cluster = ""
    for character in text:
        if cluster and not belongs(cluster, character):
            yield from [cluster] if width(cluster) <= most else cluster
            cluster = ""
        cluster += character
        if len(cluster) > 64:  # no writing system needs so many
            yield from cluster
            cluster = ""
    if cluster:
        yield from [cluster] if width(cluster) <= most else cluster


# ---- fields of their own form ---------------------------------------------------------------------------------


def write_field(name: str, *words: str) -> bytes:
    """Returns a field of words that are ASCII and not to be broken.  Raises `HeaderError` for what no line may hold."""
    line = f"{name}: {' '.join(words)}"
    if len(line) <= LINE:
        return _header_line(name, line) + b"\r\n"
    writer = FieldWriter(name)
    writer.words(*words)
    return writer.finished()


def _header_line(name: str, line: str, *, utf8: bool = False) -> bytes:
    """Returns a line of a field as octets: the one door through which all that a header says goes out."""
    if not utf8 and not line.isascii():
        found = next(character for character in line if not character.isascii())
        raise HeaderError(f"{name}: a character beyond ASCII (U+{ord(found):04X}), which this field cannot hold")
    return checked(name, line, text=True).encode("utf-8")


def free_text(name: str, value: str, *, utf8: bool = False) -> bytes:
    """Returns a field of unstructured text (RFC 5322 3.6.5), which has been checked."""
    # What most fields are is written at once, as a writer would write it.
    line = f"{name}: {value}"
    if len(line) <= LINE and value.isascii() and value.isprintable() and not _is_odd(value):
        return _header_line(name, line) + b"\r\n"
    writer = FieldWriter(name, utf8=utf8)
    writer.text(value)
    return writer.finished()


def _is_odd(text: str) -> bool:
    """Returns whether a text has white space that folding would not leave alone, or reads as encoded."""
    return "  " in text or text[:1] in " " or text[-1] == " " or ENCODED_WORD_START in text


def usual_mailbox(field: str, name: str, addr: str) -> bytes | None:
    """Returns a field of one mailbox that fits on one line, its name in atoms; None for any other."""
    line = f"{field}: {name} <{addr}>" if name else f"{field}: {addr}"
    if len(line) > LINE or not line.isascii() or ENCODED_WORD_START in name:
        return None
    is_plain = not name or all(map(ASCII_ATOM.fullmatch, name.split(" ")))
    return _header_line(field, line) + b"\r\n" if is_plain else None


def date_time(moment: datetime) -> str:
    """Returns a date-time (RFC 5322 3.3), in English whatever the locale; raises `HeaderError` for one without a
    zone."""
    offset = moment.utcoffset()
    if offset is None:
        raise HeaderError(
            "Date: a moment without a time zone", hint="hand in an aware datetime: datetime.now(timezone.utc)"
        )
    minutes = round(offset.total_seconds() / 60)
    zone = f"{'-' if minutes < 0 else '+'}{abs(minutes) // 60:02}{abs(minutes) % 60:02}"
    return (
        f"{WEEKDAYS[moment.weekday()]}, {moment.day:02} {MONTHS[moment.month - 1]} {moment.year:04} "
        f"{moment.hour:02}:{moment.minute:02}:{moment.second:02} {zone}"
    )


def read_date_time(value: str) -> datetime | None:
    """Returns the moment that a date-time names (RFC 5322 3.3); None where it is none, or has a zone without a
    number."""
    found = DATE_TIME.fullmatch(value)
    if found is None or found["zone"][0] not in "+-":
        return None
    zone = found["zone"]
    offset = timedelta(hours=int(zone[1:3]), minutes=int(zone[3:])) * (-1 if zone[0] == "-" else 1)
    try:
        return datetime(
            int(found["year"]),
            MONTHS.index(found["month"].capitalize()) + 1,
            int(found["day"]),
            int(found["hour"]),
            int(found["minute"]),
            int(found["second"] or 0),
            tzinfo=timezone(offset),
        )
    except (ValueError, OverflowError):
        return None
