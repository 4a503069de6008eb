"""Which piece of an address each mark in it is (WHATWG URL 4.4, RFC 3986, RFC 6068, RFC 3966).

The address is read as its author wrote it, piece by piece.  What a mark is may show only later: one that begins
an address is the whole of it, or its beginning up to a ``/``, ``?`` or ``#``; one in a host is the host or a label.
"""

from __future__ import annotations

import re

from pribble.markup.contexts import MarkupError
from pribble.records import record, replace
from pribble.regexes import regex

_SCHEME = regex(r"([a-z][a-z0-9+.-]*):")
_PERHAPS_SCHEME = regex(r"[a-z][a-z0-9+.-]*\Z|\Z")
_SPECIAL = frozenset({"http", "https", "ftp", "ws", "wss", "file"})
_REFUSED = frozenset({"javascript", "vbscript", "data"})
# The standard drops these from an address before it is read, and those at its ends besides.
_DROPPED = regex("[\t\n\r]")
_AROUND = "".join(map(chr, range(0x21)))
_DOTS = regex(r"(?:\.|%2e)*\Z", re.IGNORECASE)


@record(frozen=True, slots=True)
class AddressState:
    """Where an address has been read to.

    `mode` is start, written (the author's beginning, not yet understood), odd (one that lacks ``//``), whole (behind a
    mark that began it), name (of a picture), host (behind ``//``), hosted (behind a mark there), path, query, fragment,
    mailboxes, number, parameter (of ``mailto:`` and ``sms:``).  `text` is the part of the author's writing that
    matters.  `marks` wait for what follows; in a path, they are those that must keep the segment from being empty or
    only dots, unless it is `safe` already.
    """

    mode: str = "start"
    text: str = ""
    marks: frozenset[int] = frozenset()
    safe: bool = False
    kept: bool = False  # in a path: one of `marks` stands in this segment for certain


class AddressReader:
    """Reads one address; `escapers` says of each mark how it is escaped.

    In a `picture` place a mark may be a picture or its name; where the place is the whole of an attribute, the name
    may be `composed` of several marks and texts.
    """

    start = AddressState()

    def __init__(self, *, picture: bool = False, composed: bool = False) -> None:
        self.picture, self.composed = picture, composed
        self.escapers: dict[int, str] = {}

    # -- literal text --

    def read(self, state: AddressState, text: str, offset: int) -> AddressState:
        """Read literal text, its references replaced by what they stand for."""
        text = _DROPPED.sub("", text)
        if state.mode == "start":
            text = text.lstrip(_AROUND)
        if not text or (state.mode in ("whole", "hosted") and not text.strip(_AROUND)):
            return state
        match state.mode:
            case "start" | "written":
                return self._beginning(replace(state, mode="written", text=state.text + text), offset)
            case "whole":
                return self._after_whole(state, text)
            case "host" | "hosted":
                return self._host(state, text)
            case "path":
                return self._path(state, text)
            case "query" if "#" in text:
                return AddressState("fragment")
            case "mailboxes" | "number":
                return self._recipients(state, text)
            case "parameter":
                return self._parameter(state, text)
        return state

    def _beginning(self, state: AddressState, offset: int) -> AddressState:
        """Returns the author's own beginning: its scheme, its host, or that a part of it is missing."""
        written = state.text
        scheme = _SCHEME.match(written.lower())
        if scheme is None:
            if self.composed or _PERHAPS_SCHEME.match(written.lower()):
                return state
            return AddressState("fragment") if written.startswith("#") else replace(state, safe=True)
        name, rest = scheme[1], written[scheme.end() :]
        if name in _REFUSED and not (self.picture and name == "data"):
            raise MarkupError(f"an address that begins with {name}:", offset, hint="no mail program follows it")
        if name == "mailto":
            return self._recipients(AddressState("mailboxes", ","), rest)
        if name in ("tel", "sms"):
            return self._recipients(AddressState("number", ","), rest)
        if name in _SPECIAL and not rest.startswith("//"):
            return state if len(rest) < 2 and not rest.strip("/") else AddressState("odd", name)
        if rest.startswith("//"):
            return self._host(AddressState("host"), rest[2:])
        return self._path(AddressState("path", safe=True), rest)

    def _after_whole(self, state: AddressState, text: str) -> AddressState:
        if text[0] not in "/?#":
            raise MarkupError(
                "an address goes on directly after a mark",
                min(state.marks),
                hint='write a "/" after the mark, or make the whole address the value',
            )
        for mark in state.marks:
            self.escapers[mark] = "base" if text[0] == "/" else "stem"
        return self._path(AddressState("path", safe=True), text)

    def _host(self, state: AddressState, text: str) -> AddressState:
        end = re.search(r"[/?#\\]", text)
        host = text[: end.start()] if end else text
        if state.mode == "hosted":
            if host.startswith("."):
                self.escapers.update(dict.fromkeys(state.marks, "label"))
            elif host or state.text:
                raise _in_host(min(state.marks))
        if end is None:
            return AddressState("host", (state.text + host)[-1:]) if host else state
        return self._path(AddressState("path", safe=True), text[end.start() :])

    def _path(self, state: AddressState, text: str) -> AddressState:
        """Read on in a path: a segment of dots alone, or of nothing, would lead elsewhere."""
        for index, character in enumerate(re.split(r"([/\\?#])", text)):
            if index % 2 == 0:
                state = replace(state, text=(state.text + character)[-8:])
                if character and not _DOTS.match(state.text):
                    state = replace(state, safe=True)
                continue
            self._end_segment(state)
            state = AddressState("path")
            if character == "?":
                return AddressState("fragment" if "#" in text[text.index("?") :] else "query")
            if character == "#":
                return AddressState("fragment")
        return state

    def _end_segment(self, state: AddressState) -> None:
        if not state.safe:
            self.escapers.update(dict.fromkeys(state.marks, "segment"))

    def _recipients(self, state: AddressState, text: str) -> AddressState:
        before, asked, after = text.partition("?")
        if before and before[0] != "," and state.marks and state.mode == "mailboxes":
            raise _no_mailbox(min(state.marks))
        if asked:
            return self._parameter(AddressState("parameter"), after)
        return AddressState(state.mode, before[-1:]) if before else state

    def _parameter(self, state: AddressState, text: str) -> AddressState:
        """Read on in the query of ``mailto:`` or ``sms:``; `text` of the state is the name, with its ``=``."""
        before, fragment, _ = text.partition("#")
        if fragment:
            return AddressState("fragment")
        last = before.rpartition("&")
        name = last[2] if last[1] else (state.text if state.text.endswith("=") else state.text + before)
        return AddressState("parameter", name.partition("=")[0].lower() + "=" if "=" in name else name)

    # -- marks --

    def value(self, state: AddressState, offset: int) -> AddressState:
        """Take note of a mark, and of what it is as far as is known."""
        match state.mode:
            case "start" | "written" | "name" | "whole":
                return self._at_beginning(state, offset)
            case "host" | "hosted":
                return self._at_host(state, offset)
            case "path" | "query" | "fragment":
                return self._behind_host(state, offset)
            case "mailboxes" | "number" | "parameter":
                return self._of_recipients(state, offset)
        raise _no_address(state, offset)

    def _at_beginning(self, state: AddressState, offset: int) -> AddressState:
        """Takes a mark before it is known what kind of address this is, or a mark in the name of a picture."""
        if state.mode == "start":
            self.escapers[offset] = "picture" if self.picture else "address"
            return AddressState("name") if self.composed else AddressState("whole", marks=frozenset({offset}))
        if state.mode == "name":
            self.escapers[offset] = "picture"
            return state
        if state.mode == "whole":
            raise MarkupError(
                "an address goes on directly after a mark",
                min(state.marks),
                other=("the next mark is", offset, offset + 1),
                hint='write a "/" between the two',
            )
        if self.composed and ":" not in state.text and not state.text.startswith("//"):
            self.escapers[offset] = "picture"
            return AddressState("name")
        raise _no_address(state, offset)

    def _at_host(self, state: AddressState, offset: int) -> AddressState:
        """Takes a mark in a host: it may be a whole host, or its first labels (``{{ shop }}.example``)."""
        if state.mode == "hosted" or state.text not in ("", "."):
            raise _in_host(offset)
        self.escapers[offset] = "host"
        return AddressState("hosted", state.text, frozenset({offset}))

    def _behind_host(self, state: AddressState, offset: int) -> AddressState:
        """Takes a mark in a segment of the path, in the query or in the fragment."""
        if state.mode != "path":
            self.escapers[offset] = "query"
            return state
        self.escapers[offset] = "piece"
        marks = state.marks if state.safe or state.kept else state.marks | {offset}
        return replace(state, marks=marks, kept=True)

    def _of_recipients(self, state: AddressState, offset: int) -> AddressState:
        """Takes a mark among the recipients of ``mailto:``, ``tel:`` or ``sms:``, or in a field behind them."""
        if state.mode == "mailboxes":
            if state.text != ",":
                raise _no_mailbox(offset)
            self.escapers[offset] = "mailbox"
            return AddressState("mailboxes", "", frozenset({offset}))
        if state.mode == "number":
            self.escapers[offset] = "telephone" if state.text == "," else "digits"
            return AddressState("number")
        if not state.text.endswith("="):
            raise MarkupError("a mark in the name of a field", offset, hint="write the name out: ?subject=")
        self.escapers[offset] = "body" if state.text == "body=" else "field"
        return state

    def merged(self, one: AddressState, other: AddressState) -> AddressState | None:
        """Returns two branches' states as one, where what follows can be read in one way."""
        if one == other:
            return one
        if one.mode != other.mode:
            return None
        match one.mode:
            case "whole" | "hosted" | "mailboxes" if one.text == other.text:
                return replace(one, marks=one.marks | other.marks)
            case "path":
                # Where one branch is safe and the other is not, the marks of neither may be empty.
                return AddressState(
                    "path",
                    one.text if one.text == other.text else "",
                    one.marks | other.marks,
                    one.safe and other.safe,
                    one.kept and other.kept,
                )
            case "parameter" if one.text.endswith("=") and other.text.endswith("="):
                return AddressState("parameter", "?=")
            case "number":
                return AddressState("number")
        return None

    def finish(self, state: AddressState) -> None:
        """The address ends."""
        if state.mode == "path":
            self._end_segment(state)
        elif state.mode == "hosted" and state.text:
            raise _in_host(min(state.marks))


def _in_host(offset: int) -> MarkupError:
    return MarkupError(
        "a mark in the host of an address",
        offset,
        hint='write a "/" before the mark, or make the whole host the value, or one label before a "."',
    )


def _no_mailbox(offset: int) -> MarkupError:
    return MarkupError(
        "a mark is a piece of an e-mail address",
        offset,
        hint='the whole address is the value: "mailto:{{ … }}", several with a comma between them',
    )


def _no_address(state: AddressState, offset: int) -> MarkupError:
    if state.mode == "odd":
        return MarkupError(f'a mark after {state.text}: without "//"', offset, hint=f"write {state.text}://")
    if state.mode == "written" and (":" in state.text or _PERHAPS_SCHEME.match(state.text.lower())):
        return MarkupError(
            "a mark where an address has its scheme or host",
            offset,
            hint='write "https://" and the host out, or make the whole address the value',
        )
    return MarkupError(
        "a relative address leads nowhere in a message",
        offset,
        hint="write it from https:// on, or begin it with a mark",
    )
