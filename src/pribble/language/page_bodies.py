"""A page that is a whole document, put into a layout: the inside of its body is the content, and the style sheets,
metas and links of its head join the layout's.

Told from the text alone, as comments are (`marks.py`): the markup is not read before all is linked.
"""

from __future__ import annotations

import re

from pribble.language.statements import Body, File, Let, LiteralText, Statement
from pribble.records import record, replace
from pribble.regexes import regex

_BODY = regex(r"<body(?=[\s/>])", re.IGNORECASE)
_BODY_END = regex(r"</body\s*>", re.IGNORECASE)
_JOINING = regex(
    r"<style(?=[\s>]).*?(?:</style\s*+>|\Z)|<(?:meta|link)(?=[\s/])[^>]*+(?:>|\Z)", re.IGNORECASE | re.DOTALL
)
_CHARSET = regex(r"<meta\s+charset", re.IGNORECASE)
HEAD_END = regex(r"</head\s*>", re.IGNORECASE)


@record(frozen=True, slots=True)
class SplitDocument:
    """The parts of a file that go into a layout: its `content`, and the stretches of its `head` that join the
    layout's."""

    content: Body
    head: tuple[LiteralText, ...]


def split_document(file: File) -> SplitDocument:
    """Returns the parts of a file; one without a ``<body>`` is content as a whole."""
    text = file.source.text
    opening = _found(_BODY, file.body, text)
    if opening is None:
        return SplitDocument(file.body, ())
    index, start = opening
    inside = _statements_from(file.body, index, text.find(">", start) + 1 or len(text))
    closing = _found(_BODY_END, inside, text)
    if closing is not None:
        last, end = closing
        inside = (*inside[:last], *_cut_statement(inside[last], end=end))
    before = file.body[:index]
    # What is set before the body is set for it too.
    settings = tuple(s for s in before if isinstance(s, Let))
    head = [
        LiteralText(found.start(), found.end())
        for s in (*before, LiteralText(_statement_start(file.body[index]), start))
        if isinstance(s, LiteralText)
        for found in _JOINING.finditer(text, s.start, s.end)
        if found[0].endswith(">") and not _CHARSET.match(found[0])
    ]
    return SplitDocument((*settings, *inside), tuple(head))


def _found(pattern: re.Pattern[str], body: Body, text: str) -> tuple[int, int] | None:
    """Returns the first of the literals of `body` in which `pattern` is found, and where it begins."""
    for index, statement in enumerate(body):
        if isinstance(statement, LiteralText) and (found := pattern.search(text, statement.start, statement.end)):
            return index, found.start()
    return None


def _statements_from(body: Body, index: int, offset: int) -> Body:
    """Returns the statements of `body` from `offset` on, which lies in statement `index` or in a literal after it."""
    for number, statement in enumerate(body[index:], index):
        if isinstance(statement, LiteralText) and offset <= statement.end:
            return (*_cut_statement(statement, start=max(offset, statement.start)), *body[number + 1 :])
    return ()


def _cut_statement(statement: Statement, start: int | None = None, end: int | None = None) -> Body:
    assert isinstance(statement, LiteralText)
    made = replace(
        statement, start=statement.start if start is None else start, end=statement.end if end is None else end
    )
    return (made,) if made.start < made.end else ()


def _statement_start(statement: Statement) -> int:
    assert isinstance(statement, LiteralText)
    return statement.start
