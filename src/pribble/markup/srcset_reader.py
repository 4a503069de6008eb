"""The candidates of a ``srcset``: which pieces of addresses its marks are (WHATWG HTML 4.8.4.2.2)."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.markup.address_reader import AddressReader
from pribble.markup.address_reader import AddressState as Address
from pribble.markup.contexts import MarkupError
from pribble.records import record, replace
from pribble.regexes import regex

_ADDRESS = regex(r"[\t\n\f\r ,]*+([^\t\n\f\r ,][^\t\n\f\r ]*+)")
_PIECE = regex(r"[\t\n\f\r ]+|[^\t\n\f\r ]+")


_SPACE = "\t\n\f\r "
_DESCRIPTOR = regex(r"[0-9.]++[wx]")


def candidates(value: str) -> Iterator[tuple[str, str]]:
    """Yields the addresses of a ``srcset`` without marks, each with its descriptor, ``1x`` where it has none."""
    position = 0
    while found := _ADDRESS.match(value, position):
        address, position = found[1], found.end()
        if address.endswith(","):
            yield address.rstrip(","), "1x"
            continue
        comma = value.find(",", position)
        end = comma if comma >= 0 else len(value)
        descriptor = value[position:end].strip(_SPACE)
        position = end
        if not descriptor or _DESCRIPTOR.fullmatch(descriptor):
            yield address, descriptor or "1x"


@record(frozen=True, slots=True)
class SrcsetState:
    """`mode` is before (an address is to come), address, descriptor."""

    mode: str = "before"
    address: Address = AddressReader.start


class SrcsetReader:
    """Reads a ``srcset``; `addresses.escapers` says of each mark how it is escaped."""

    start = SrcsetState()

    def __init__(self) -> None:
        self.addresses = AddressReader(picture=True)

    def read(self, state: SrcsetState, text: str, offset: int) -> SrcsetState:
        """Read literal text: an address ends at white space, or at a comma that white space or a mark follows."""
        for found in _PIECE.finditer(text):
            piece, position = found[0], offset + found.start()
            if piece.isspace():
                if state.mode == "address":
                    self.addresses.finish(state.address)
                    state = SrcsetState("descriptor")
            elif state.mode == "descriptor":
                before, comma, after = piece.rpartition(",")
                state = self.read(SrcsetState(), after, position + len(before) + 1) if comma else state
            else:
                address = piece.lstrip(",") if state.mode == "before" else piece
                ends = address.endswith(",")
                state = (
                    SrcsetState("address", self.addresses.read(state.address, address.rstrip(","), position))
                    if address.strip(",")
                    else state
                )
                if ends:
                    self.addresses.finish(state.address)
                    state = SrcsetState()
        return state

    def value(self, state: SrcsetState, offset: int) -> SrcsetState:
        """Take note of a mark."""
        if state.mode == "descriptor":
            raise MarkupError(
                "a mark in the descriptor of a srcset",
                offset,
                hint="write the width or density out; the address can be the mark",
            )
        return replace(state, mode="address", address=self.addresses.value(state.address, offset))

    def merged(self, one: SrcsetState, other: SrcsetState) -> SrcsetState | None:
        """Returns two branches' states as one."""
        address = self.addresses.merged(one.address, other.address)
        return None if one.mode != other.mode or address is None else SrcsetState(one.mode, address)

    def finish(self, state: SrcsetState) -> None:
        """The value ends."""
        self.addresses.finish(state.address)
