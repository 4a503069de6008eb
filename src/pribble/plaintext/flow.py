"""Events of a page become blocks: paragraphs, headings, lists, tables, with nothing of markup left.

Events are texts, `Open` and `Close`; they come from a template's text program or from any page.  What a
page does not show is not said.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

# The attributes that matter to what a page says.
READ_ATTRIBUTES = frozenset("href alt start reversed value role hidden style colspan type".split())

_SPACES = re.compile(r"[ \t\n\f\r]+")
# Soft hyphen, byte order mark and grapheme joiner are seen by nobody.
_UNSEEN = dict.fromkeys(map(ord, "\u00ad\ufeff\u034f\u200b\u2060"))
_NOT_SAID = frozenset("head script style template title noscript object iframe noembed noframes select".split())
_HIDING = re.compile(r"(?:^|;)\s*display\s*:\s*none\s*(?:!important\s*)?(?:;|$)", re.IGNORECASE)
_SILENT_LINKS = ("#", "javascript:", "cid:", "data:", "vbscript:")
_BLOCKS = frozenset(
    "address article aside blockquote body center details dialog dd dir div dl dt fieldset figcaption figure footer "
    "form header hgroup hr html legend li main menu nav ol p pre search section summary table tr td th tbody thead "
    "tfoot caption ul".split()) | frozenset(f"h{n}" for n in range(1, 7))
# Lists, quotes and tables within each other beyond this depth are read on one level.
_DEEPEST = 40


@dataclass(frozen=True, slots=True)
class Open:
    """A start tag; an attribute whose value is None is as good as absent."""

    name: str
    attributes: Mapping[str, str | None]
    void: bool = False


@dataclass(frozen=True, slots=True)
class Close:
    """The end of an element, whether or not an end tag was written."""

    name: str


Event = str | Open | Close


@dataclass(slots=True)
class Paragraph:
    """Lines of running text; `level` is that of a heading, 0 for none."""

    text: str
    level: int = 0


@dataclass(slots=True)
class Preformatted:
    text: str


@dataclass(slots=True)
class Rule:
    pass


@dataclass(slots=True)
class Group:
    """Blocks within a block: ``body``, ``list``, ``item`` (with its marker), ``quote``, ``indent``."""

    kind: str
    blocks: list[Block] = field(default_factory=list)
    marker: str = ""
    number: int = 1
    step: int = 0  # of a numbered list


@dataclass(slots=True)
class Cell:
    content: Group
    header: bool
    span: int


@dataclass(slots=True)
class Table:
    """`rows` of cells; `layout` where the page says that it only arranges, `header` how many rows lead it."""

    layout: bool
    rows: list[list[Cell]] = field(default_factory=list)
    feet: list[list[Cell]] = field(default_factory=list)
    caption: Group | None = None
    section: str = ""

    @property
    def all_rows(self) -> list[list[Cell]]:
        """The rows, those of the foot last."""
        return [*self.rows, *self.feet]

    @property
    def is_data(self) -> bool:
        """Whether the table says something by its columns, and does not merely arrange."""
        widest = max((len(row) for row in self.all_rows), default=0)
        return not self.layout and widest > 1 and (
            self.caption is not None or any(cell.header for row in self.all_rows for cell in row))


Block = Paragraph | Preformatted | Rule | Group | Table


@dataclass(slots=True)
class _Link:
    href: str
    start: int
    picture: str | None = None


def flow(events: Iterable[Event | tuple[Event, ...]]) -> Group:
    """The blocks of a page; several events may come as one tuple."""
    builder = _Flow()
    for event in _flat(events):
        if isinstance(event, str):
            builder.text(event)
        elif isinstance(event, Open):
            builder.open(event)
        else:
            builder.close(event.name)
    return builder.finished()


def _flat(events: Iterable[Event | tuple[Event, ...]]) -> Iterable[Event]:
    for event in events:
        if isinstance(event, tuple):
            yield from event
        else:
            yield event


class _Flow:
    def __init__(self) -> None:
        self.body = Group("body")
        self.groups: list[Group] = [self.body]
        self.tables: list[Table] = []
        self.open_groups: list[tuple[str, bool]] = []  # names of the elements that opened a group, and whether they did
        self.inline: list[str] = []
        self.links: list[_Link | None] = []
        self.hidden = 0  # how many elements are open within an unsaid one, itself included
        self.preformatted = 0
        self.level = 0

    def finished(self) -> Group:
        self._flush()
        return self.body

    # -- running text --

    def text(self, text: str) -> None:
        if self.hidden or not text:
            return
        text = text.translate(_UNSEEN)
        if "\u2028" in text and not self.preformatted:
            for number, line in enumerate(text.split("\u2028")):
                if number:
                    self._break()
                self.text(line)
            return
        if self.preformatted:
            self.inline.append(text.replace("\r\n", "\n").replace("\r", "\n"))
            return
        text = _SPACES.sub(" ", text)
        if text.startswith(" ") and (not self.inline or self.inline[-1][-1:] in (" ", "\n")):
            text = text[1:]
        if text:
            self.inline.append(text)

    def _break(self) -> None:
        while self.inline and self.inline[-1].endswith(" "):
            self.inline[-1] = self.inline[-1].rstrip(" ")
            if self.inline[-1]:
                break
            self.inline.pop()
        self.inline.append("\n")

    def _flush(self) -> None:
        """End the paragraph."""
        text = "".join(self.inline)
        self.inline.clear()
        for link in self.links:
            if link is not None:
                link.start = 0
        if self.preformatted:
            if text.strip("\n"):
                self._add(Preformatted(text.removeprefix("\n").rstrip("\n")))
            return
        text = text.strip(" \n")
        if text.strip("\u00a0\u202f \n\u200c\u200d"):
            self._add(Paragraph(text, self.level))

    def _add(self, block: Block) -> None:
        self.groups[-1].blocks.append(block)

    # -- elements --

    def open(self, tag: Open) -> None:
        if self.hidden or self._unsaid(tag):
            self.hidden += not tag.void
            return
        name = tag.name
        if name in _BLOCKS:
            self._flush()
        match name:
            case "br":
                self._break()
            case "hr":
                self._add(Rule())
            case "a":
                self.links.append(self._link(tag.attributes.get("href")))
            case "img":
                self._picture(tag.attributes.get("alt"))
            case "q":
                self.text("“")
            case "pre":
                self.preformatted += 1
            case "h1" | "h2" | "h3" | "h4" | "h5" | "h6":
                self.level = int(name[1])
            case "ul" | "ol" | "menu" | "dir":
                self._enter(name, self._list(tag))
            case "li":
                self._enter(name, Group("item", marker=self._marker(tag)))
            case "blockquote":
                self._enter(name, Group("quote"))
            case "dd":
                self._enter(name, Group("indent"))
            case "table":
                self._enter_table(tag)
            case "tr" | "thead" | "tbody" | "tfoot" | "td" | "th" | "caption":
                self._in_table(tag)

    def close(self, name: str) -> None:
        if self.hidden:
            self.hidden -= 1
            return
        if name in _BLOCKS:
            self._flush()
        match name:
            case "a":
                self._end_link()
            case "q":
                self.text("”")
            case "pre":
                self.preformatted = max(0, self.preformatted - 1)
            case "h1" | "h2" | "h3" | "h4" | "h5" | "h6":
                self.level = 0
            case "ul" | "ol" | "menu" | "dir" | "li" | "blockquote" | "dd" | "td" | "th" | "caption" | "table":
                self._leave(name)
            case "thead" | "tbody" | "tfoot" if self.tables:
                self.tables[-1].section = ""

    @staticmethod
    def _unsaid(tag: Open) -> bool:
        if tag.name in _NOT_SAID or tag.attributes.get("hidden") is not None:
            return True
        style = tag.attributes.get("style")
        return bool(style and _HIDING.search(style))

    def _enter(self, name: str, group: Group) -> None:
        deep = len(self.groups) >= _DEEPEST
        if not deep:
            self._add(group)
            self.groups.append(group)
        self.open_groups.append((name, not deep))

    def _leave(self, name: str) -> None:
        if not self.open_groups or self.open_groups[-1][0] != name:
            return
        _, entered = self.open_groups.pop()
        if entered and name == "table":
            self.tables.pop()
        elif entered:
            self.groups.pop()

    # -- links and pictures --

    def _link(self, href: str | None) -> _Link | None:
        href = _SPACES.sub("", href or "")
        if not href or href.lower().startswith(_SILENT_LINKS):
            return None
        return _Link(href.replace("<", "%3C").replace(">", "%3E"), len(self.inline))

    def _picture(self, alt: str | None) -> None:
        alt = _SPACES.sub(" ", alt or "").strip()
        if not alt:
            return
        shown = f"[{alt}]"
        if self.links and (link := self.links[-1]) is not None:
            link.picture = alt
        self.text(shown)

    def _end_link(self) -> None:
        link = self.links.pop() if self.links else None
        if link is None:
            return
        label = "".join(self.inline[link.start:])
        del self.inline[link.start:]
        if link.picture is not None and label.strip() == f"[{link.picture}]":
            label = label.replace(f"[{link.picture}]", link.picture)
        stripped = label.rstrip(" \n")
        if _is_the_address(stripped, link.href):
            self.inline.append(label)
            return
        address = f"<{link.href}>"
        if not stripped.strip() and link.start == 0 and self.groups[-1].blocks and isinstance(
                last := self.groups[-1].blocks[-1], Paragraph) and not self.inline:
            # The label was a block of its own and ended before the link did.
            if not _is_the_address(last.text, link.href):
                last.text += f" {address}"
            return
        self.inline += [stripped, " " if stripped.strip() else "", address, label[len(stripped):]]
        self.inline = [piece for piece in self.inline if piece]

    # -- lists --

    @staticmethod
    def _list(tag: Open) -> Group:
        if tag.name != "ol":
            return Group("list")
        start = tag.attributes.get("start") or ""
        first = int(start) if re.fullmatch(r"-?[0-9]{1,9}", start.strip()) else 1
        return Group("list", number=first, step=-1 if tag.attributes.get("reversed") is not None else 1)

    def _marker(self, tag: Open) -> str:
        listed = self.groups[-1]
        if listed.kind != "list" or not listed.step:
            return "- "
        value = tag.attributes.get("value") or ""
        if re.fullmatch(r"-?[0-9]{1,9}", value.strip()):
            listed.number = int(value)
        marker = f"{listed.number}. "
        listed.number += listed.step
        return marker

    # -- tables --

    def _enter_table(self, tag: Open) -> None:
        deep = len(self.groups) + len(self.tables) >= _DEEPEST
        if not deep:
            role = (tag.attributes.get("role") or "").strip().lower()
            table = Table(layout=role in ("presentation", "none"))
            self._add(table)
            self.tables.append(table)
        self.open_groups.append(("table", not deep))

    def _in_table(self, tag: Open) -> None:
        inside = any(name == "table" and entered for name, entered in self.open_groups[-2:])
        if not self.tables or not inside:
            self.open_groups += [(tag.name, False)] if tag.name in ("td", "th", "caption") else []
            return
        table = self.tables[-1]
        rows = table.feet if table.section == "tfoot" else table.rows
        match tag.name:
            case "thead" | "tbody" | "tfoot":
                table.section = tag.name
            case "tr":
                rows.append([])
            case "caption":
                table.caption = Group("body")
                self.groups.append(table.caption)
                self.open_groups.append(("caption", True))
            case _:
                if not rows:
                    rows.append([])
                span = tag.attributes.get("colspan") or ""
                cell = Cell(Group("body"), tag.name == "th",
                            min(int(span), 100) if re.fullmatch("[1-9][0-9]{0,3}", span.strip()) else 1)
                rows[-1].append(cell)
                self.groups.append(cell.content)
                self.open_groups.append((tag.name, True))


def _is_the_address(label: str, href: str) -> bool:
    """Whether a link's label says its address already."""
    label = label.strip()
    for prefix in ("", "https://", "http://", "mailto:", "tel:"):
        if f"{prefix}{label}".rstrip("/") == href.rstrip("/"):
            return True
    return href.startswith("tel:") and re.sub(r"[^+0-9]", "", label) == re.sub(r"[^+0-9]", "", href) != ""
