"""The marks within a start tag: values of attributes, and blocks between and in them.

Between attributes stands only an ``if``, whose branches are whole attributes that the tag does not have already.
In the value of an attribute blocks may stand as its language permits.
"""

from __future__ import annotations

from pribble.markup.address_reader import AddressReader
from pribble.markup.contexts import (
    CANDIDATES,
    MARK,
    URL_ATTRIBUTES,
    Context,
    MarkupError,
    is_picture_place,
    refusal,
)
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute, StartTag, lowered
from pribble.markup.srcset_reader import SrcsetReader
from pribble.markup.style_reader import StyleReader
from pribble.markup.value_branches import (
    CHOOSING,
    CLOSE,
    ENDING,
    OPENING,
    REPEATING,
    Role,
    ValuePiece,
    marks_in,
    read_branches,
    value_pieces,
)
from pribble.records import field, record, replace

_SPACE = "\t\n\f\r "


@record(slots=True)
class Tag:
    """What there is in a start tag.

    `marks` are the contexts of its values; `blocks` the offsets of block marks between attributes and in them,
    `in_values` of those in them; `joints` where a space must be put before an attribute.
    """

    name: str
    attributes: tuple[Attribute, ...]
    marks: dict[int, Context] = field(default_factory=dict)
    blocks: tuple[int, ...] = ()
    in_values: tuple[int, ...] = ()
    joints: tuple[int, ...] = ()


def read_tag(text: str, tag: StartTag, role: Role) -> Tag:
    """Read the marks of `tag`.  Raises `MarkupError`."""
    if MARK.search(text, tag.start, tag.end) is None:
        for attribute in tag.attributes:
            if attribute.name in URL_ATTRIBUTES:
                _Values(text, role).read(tag, attribute)
        return Tag(tag.name, tag.attributes)
    return _Tag(text, tag, role).read()


@record(slots=True)
class _AttributeBlock:
    """A block between attributes: whether it stands apart, the names in this branch and in those before it."""

    offset: int
    apart: bool
    branch: set[str] = field(default_factory=set)
    others: set[str] = field(default_factory=set)


class _Tag:
    def __init__(self, text: str, tag: StartTag, role: Role) -> None:
        self.text, self.tag, self.role = text, tag, role
        self.values = _Values(text, role)
        self.between: list[int] = []
        self.joints: list[int] = []
        self.attributes: list[Attribute] = []
        self.always: set[str] = set()  # names of attributes outside blocks
        self.sometimes: set[str] = set()  # names of those in blocks that have ended
        self.opened: list[_AttributeBlock] = []
        self.apart = False  # whether white space stands before the last marks, whichever branch is taken

    def read(self) -> Tag:
        name_end = self.tag.start + 1 + len(self.tag.name)
        name = self._name(self.tag.start + 1, name_end)
        for attribute in self.tag.attributes:
            own = self._around(attribute)
            if own is not None:
                self._attribute(own)
                self._behind(own, attribute)
        if self.opened:
            raise MarkupError(
                "a block begins in this tag and does not end in it",
                self.opened[-1].offset,
                hint="between attributes, a block holds whole attributes",
            )
        if name == "script" and self.between:
            raise MarkupError(
                "a block in the tag of a script",
                self.between[0],
                hint="mail programs run no scripts: leave the element out",
            )
        bare = replace(self.tag, name=name, attributes=tuple(self.attributes))
        for attribute in bare.attributes:
            self.values.read(bare, attribute)
        in_values = tuple(self.values.blocks)
        return Tag(
            name,
            bare.attributes,
            self.values.marks,
            tuple(sorted((*self.between, *in_values))),
            in_values,
            tuple(self.joints),
        )

    def _is_mark(self, offset: int) -> bool:
        return MARK.match(self.text, offset) is not None and self.role(offset) != "literal"

    def _name(self, start: int, end: int) -> str:
        """Returns the name of the tag; marks may follow it, but none stands in it."""
        stop = next((i for i in range(start, end) if self._is_mark(i)), end)
        for offset in range(stop, end):
            if not self._is_mark(offset):
                raise MarkupError(
                    "a mark in the name of a tag",
                    stop,
                    hint="names of tags are written out; before a block of attributes stands a space",
                )
            self._block(offset)
        return lowered(self.text[start:stop])

    def _around(self, attribute: Attribute) -> Attribute | None:
        """Returns the attribute without the marks around its name; None where there are only marks."""
        start, end = attribute.start, attribute.start + len(attribute.name)
        while start < end and self._is_mark(start):
            self._block(start)
            start += 1
        stop = next((i for i in range(start, end) if self._is_mark(i)), end)
        if start == end:
            if attribute.quote is not None:
                raise MarkupError("a mark in the name of an attribute", start - 1, hint="names are written out")
            return None
        if stop < end and attribute.quote is not None:
            raise MarkupError(
                "a mark in the name of an attribute",
                stop,
                hint="names are written out; an attribute with an empty value is left out",
            )
        name = lowered(self.text[start:stop])
        own_end = stop if attribute.quote is None else attribute.end
        value = (attribute.value_start, attribute.value_end) if attribute.quote is not None else (stop, stop)
        return Attribute(name, start, own_end, value[0], value[1], attribute.quote)

    def _behind(self, own: Attribute, attribute: Attribute) -> None:
        """The marks directly behind an attribute that has no value."""
        for offset in range(own.end, attribute.start + len(attribute.name)) if own.quote is None else ():
            if not self._is_mark(offset):
                raise MarkupError(
                    "a mark in the name of an attribute",
                    own.end,
                    hint="names are written out; a space stands around a block of attributes",
                )
            self._block(offset)

    def _attribute(self, attribute: Attribute) -> None:
        name = attribute.name
        before = self.text[attribute.start - 1]
        if self._is_mark(attribute.start - 1):
            if not self.apart:
                self.joints.append(attribute.start)
        elif before not in _SPACE and before not in "/\"'":
            raise MarkupError("a mark in the name of an attribute", attribute.start, hint="names are written out")
        in_branch = any(name in block.branch for block in self.opened)
        if in_branch or name in self.sometimes or (self.opened and name in self.always):
            raise MarkupError(
                f"the tag has {name} already",
                attribute.start,
                attribute.start + len(name),
                other=("the tag begins at", self.tag.start, self.tag.start + 1 + len(self.tag.name)),
                hint=f'write it once: {name}="{{{{ … if … else … }}}}"',
            )
        (self.opened[-1].branch if self.opened else self.always).add(name)
        found = marks_in(self.text, attribute.value_start, attribute.value_end, self.role)
        if not attribute.quote and (offset := next(found, None)) is not None:
            raise MarkupError(
                "a mark in an unquoted value",
                offset,
                hint=f'write {name}="{{{{ … }}}}"' if self.role(offset) == "show" else "put the value into quotes",
            )
        self.attributes.append(attribute)

    def _block(self, offset: int) -> None:
        """A mark between attributes: it begins, divides or ends a block."""
        role = self.role(offset)
        if role == "show":
            raise MarkupError(
                "a value between attributes",
                offset,
                hint='give an attribute the value: hidden="{{ … }}"; it is left out for nothing',
            )
        if role != CHOOSING and role not in ENDING:
            raise MarkupError(
                "only an if stands between attributes",
                offset,
                hint='its branches hold whole attributes: {{ if …: }} class="late"{{ :if }}',
            )
        if self.text[offset - 1] in "/-":
            raise MarkupError(
                f'a "{self.text[offset - 1]}" directly before a mark',
                offset - 1,
                hint="what stands behind the mark must not run together with it: put a space between",
            )
        self.between.append(offset)
        if role in OPENING:
            if not self._is_mark(offset - 1):
                self.apart = self.text[offset - 1] in _SPACE
            self.opened.append(_AttributeBlock(offset, self.apart))
            return
        if not self.opened:
            raise MarkupError(
                "a block ends in this tag and does not begin in it",
                offset,
                hint="between attributes, a block holds whole attributes",
            )
        block = self.opened[-1]
        block.others |= block.branch
        block.branch = set()
        self.apart = block.apart and role != CLOSE
        if role == CLOSE:
            self.opened.pop()
            (self.opened[-1].branch if self.opened else self.sometimes).update(block.others)


def _attribute_reader(written: str) -> str:
    return decode_references(written, attribute=True)


class _Values:
    """The values of the attributes of one tag."""

    def __init__(self, text: str, role: Role) -> None:
        self.text, self.role = text, role
        self.marks: dict[int, Context] = {}
        self.blocks: list[int] = []

    def read(self, tag: StartTag, attribute: Attribute) -> None:
        """Read the value of an attribute, in its language."""
        name = attribute.name
        value = list(value_pieces(self.text, attribute.value_start, attribute.value_end, self.role, _attribute_reader))
        marks = [piece for piece in value if piece.role]
        if marks:
            self._permit(tag, attribute, marks)
        if name in URL_ATTRIBUTES:
            self._address(tag, name, value)
        elif not marks:
            return
        elif name == "style":
            styles = StyleReader()
            read_branches(value, styles)
            self._add({offset: Context(way[0], way[1:]) for offset, way in styles.result().items()})
        elif name in CANDIDATES:
            candidates = SrcsetReader()
            read_branches(value, candidates)
            self._add({offset: Context(way, ("candidates",)) for offset, way in candidates.addresses.escapers.items()})
        else:
            read_branches(value, _Plain())
            self._add({piece.offset: Context("plain") for piece in marks if piece.role == "show"})
        self.blocks += [piece.offset for piece in marks if piece.role != "show"]

    def _address(self, tag: StartTag, name: str, value: list[ValuePiece]) -> None:
        picture = is_picture_place(tag.name, name)
        addresses = AddressReader(picture=picture, composed=picture)
        read_branches(value, addresses)
        self._add({offset: Context(way) for offset, way in addresses.escapers.items()})

    def _add(self, contexts: dict[int, Context]) -> None:
        self.marks |= {offset: context.wrapped("attribute") for offset, context in contexts.items()}

    def _permit(self, tag: StartTag, attribute: Attribute, marks: list[ValuePiece]) -> None:
        offset = marks[0].offset
        if hint := refusal(tag, attribute.name):
            raise MarkupError(f"a mark in the value of {attribute.name}", offset, hint=hint)
        depth = 0
        for mark in marks:
            if mark.role not in ("show", CHOOSING, REPEATING) and mark.role not in ENDING:
                raise MarkupError(
                    f"a setting or message block in the value of {attribute.name}",
                    mark.offset,
                    hint="it stands between tags",
                )
            depth += (mark.role in OPENING) - (mark.role == CLOSE)
            if depth < 0 or (depth == 0 and mark.role in ENDING and mark.role != CLOSE):
                raise MarkupError(
                    f"a block ends in the value of {attribute.name} and does not begin in it",
                    mark.offset,
                    hint="a value holds the whole block, or none of it",
                )
        if depth:
            raise MarkupError(
                f"a block begins in the value of {attribute.name} and does not end in it",
                offset,
                hint="a value holds the whole block, or none of it",
            )


class _Plain:
    """Reads a value that is any text: nothing in it means anything."""

    start = ()

    def read(self, state: tuple[()], text: str, offset: int) -> tuple[()]:
        return state

    def value(self, state: tuple[()], offset: int) -> tuple[()]:
        return state

    def merged(self, one: tuple[()], other: tuple[()]) -> tuple[()]:
        return one

    def finish(self, state: tuple[()]) -> None:
        pass
