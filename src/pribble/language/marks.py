"""Where a template's text stops and a mark begins.

This is the lexical floor of the language: it cuts a text into literal stretches and marks `{{ … }}`, and
knows of HTML only what comments need.  A plain comment whose whole content is one statement *is* that
statement, because comments are the one thing that every editor leaves alone between the rows of a table.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.errors import Place, Related, Source, TemplateError
from pribble.records import record
from pribble.regexes import regex

# What ends the literal stretch: a mark, a comment, or an element whose content holds no comments.
_STOP = regex(r"\{\{|<!--|<(?P<opaque>style|script|title|textarea)(?=[\s/>])", re.IGNORECASE)
# Inside a mark only its end, a mark in the mark, and the opening of a text matter.
_INSIDE = regex(r"\}\}|\{\{|[\"']")
_TEXT = {quote: regex(rf"{quote}(?:[^{quote}\\]|\\.)*{quote}", re.DOTALL) for quote in "\"'"}
_REMARK = regex(r"\s*#(?=\s|\}\})")
_REMARK_BLOCK = regex(r"\s*remark\s*:\s*")
_REMARK_END = regex(r"\{\{\s*:\s*remark\s*\}\}")
# What a comment may hold as its whole content: words with a colon at either end, and these settings.
_STATEMENT = regex(r"\s*+(?::.*|(?:let|layout|slot|put|takes)\b.*|.*:\s*)", re.DOTALL)


@record(frozen=True, slots=True)
class Literal:
    """Text of the author's, from `start` to `end`."""

    start: int
    end: int


@record(frozen=True, slots=True)
class Mark:
    """A mark; `start` and `end` take in its braces (and its comment), `inner_…` what stands between the braces."""

    start: int
    end: int
    inner_start: int
    inner_end: int
    remark: bool = False


def cut_marks(source: Source, *, html: bool = True, via: tuple[Related, ...] = ()) -> Iterator[Literal | Mark]:
    """Yields the literals and marks of `source` in order; together they cover it, but for dropped comments.

    Raises `TemplateError` for a mark that does not end or that holds another.  With `html` off the text is
    verbatim and comments mean nothing.
    """
    text = source.text
    literal = position = 0
    comments_from = 0  # no plain comment begins before this offset
    while stop := _STOP.search(text, position):
        begin = stop.start()
        if stop[0] == "{{":
            mark = _read_mark(source, begin, via)
        elif not html or begin < comments_from:
            position = stop.end()
            continue
        elif stop["opaque"]:
            closing = re.compile(rf"</{stop['opaque']}(?=[\s/>])", re.IGNORECASE).search(text, stop.end())
            comments_from = closing.start() if closing else len(text)
            position = stop.end()
            continue
        else:
            end = text.find("-->", begin + 4)
            if end < 0 or text[begin + 4 : begin + 7].lower() == "[if" or text.startswith(("<!", ">"), begin + 4):
                comments_from = len(text) if end < 0 else end
                position = stop.end()
                continue
            if text.find("{{", begin, end) < 0:
                position = end + 3
                continue
            if literal < begin:
                yield Literal(literal, begin)
            if (wrapped := _wrapped(source, begin, end, via)) is not None:
                yield wrapped
            literal = position = end + 3
            continue
        if literal < begin:
            yield Literal(literal, begin)
        yield mark
        literal = position = mark.end
    if literal < len(text):
        yield Literal(literal, len(text))


def _wrapped(source: Source, begin: int, end: int, via: tuple[Related, ...]) -> Mark | None:
    """Returns the statement that the comment from `begin` to `end` consists of, or None where it is to be dropped."""
    text = source.text
    inside = text[begin + 4 : end]
    opening = begin + 4 + len(inside) - len(inside.lstrip())
    if not text.startswith("{{", opening) or not inside.rstrip().endswith("}}"):
        return None
    mark = _read_mark(source, opening, via)
    if mark.remark or text[mark.end : end].strip():
        return None
    if mark.end > end or not _STATEMENT.fullmatch(text, mark.inner_start, mark.inner_end):
        return None
    return Mark(begin, end + 3, mark.inner_start, mark.inner_end)


def _read_mark(source: Source, begin: int, via: tuple[Related, ...]) -> Mark:
    """Returns the mark that opens at `begin`: it ends at the first `}}` outside a text."""
    text, inner = source.text, begin + 2
    opening = source.place(begin, begin + 2, via)
    if text.startswith("{", inner):
        raise TemplateError(
            "a mark has two braces",
            place=source.place(begin, begin + 3, via),
            hint='write {{ "{" }} for a brace before a value',
        )
    if _REMARK.match(text, inner):
        end = text.find("}}", inner)
        if end < 0:
            raise _unclosed(opening)
        return Mark(begin, end + 2, inner, end, remark=True)
    position = inner
    while found := _INSIDE.search(text, position):
        if found[0] == "}}":
            if _REMARK_BLOCK.fullmatch(text, inner, found.start()):
                closing = _REMARK_END.search(text, found.end())
                if closing is None:
                    raise TemplateError(
                        "a block is not closed",
                        place=source.place(begin, found.end(), via),
                        hint="write {{ :remark }} where it ends",
                    )
                return Mark(begin, closing.end(), inner, closing.start(), remark=True)
            return Mark(begin, found.end(), inner, found.start())
        if found[0] == "{{":
            raise _unclosed(opening, Related("another mark begins at", source.place(found.start(), found.end(), via)))
        if not (quoted := _TEXT[found[0]].match(text, found.start())):
            raise TemplateError(
                "a text in a mark is not closed",
                place=source.place(found.start(), found.start() + 1, via),
                hint=f"write {found[0]} where it ends",
                related=[Related("the mark begins at", opening)],
            )
        position = quoted.end()
    raise _unclosed(opening)


def _unclosed(opening: Place, *related: Related) -> TemplateError:
    return TemplateError(
        "a mark is not closed",
        place=opening,
        hint='write }} where it ends; a literal pair of braces is {{ "{{" }}',
        related=related,
    )
