"""What people write who come from elsewhere, or mistype: better errors for marks that cannot be read."""

from __future__ import annotations

from typing import NoReturn

from pribble.errors import TemplateError, nearest
from pribble.language.tokens import Reader, Token

# The words that open a block, and those that stand in one.
OPENING = frozenset("if for subject preheader text only into slot put locale timezone".split())
INNER = {"elif": ":elif …:", "else": ":else:"}
_BRANCHES = {**INNER, "elseif": INNER["elif"], "elsif": INNER["elif"]}
# What other notations close with a word of their own.
_CLOSED = {
    "endif": ":if",
    "endfor": ":for",
    "end": ":if",
    "foreach": ":for",
    "each": ":for",
    "while": ":for",
    "unless": ":if",
}
# How other notations say that a block ends or branches, or that a file comes in.
_ELSEWHERE = {
    "endif": ":if",
    "endfor": ":for",
    "end": ":if",
    "foreach": "for … in …:",
    "each": "for … in …:",
    "unless": "if not …:",
    "while": "for … in …:",
    "switch": "if … == …:",
    "case": ":elif … == …:",
    "set": "let … = …",
    "include": 'put "…"',
    "extends": 'layout "…"',
}
_JOINING = frozenset("as if else in and or not is".split())
_SIGNS = ("#", "%", "!", ">", "^", "@")


def refuse_habits(reader: Reader, first: Token, second: Token) -> None:
    """Raise a better error where a mark that cannot be read, of which these are the first tokens, looks like something
    that is known."""
    written = reader.whole_text
    if first.kind == "name" and first.text in OPENING:
        _refuse_open(reader, first, second, written)
    if first.kind == "name" and first.text.lower() == "else" and second.text == "if":
        rest = written.partition("if")[2].strip(" :")
        raise TemplateError(
            '"else if" is one word here', place=reader.whole, hint=f"write {{{{ :elif {rest}: }}}}"
        ) from None
    if first.kind == "name" and (branch := _BRANCHES.get(first.text.lower())):
        rest = written[len(first.text) :].strip(" :")
        raise TemplateError(
            f'"{first.text}" needs a colon before it too'
            if first.text in INNER
            else f'"{first.text}" is no word of this language',
            place=first.place,
            hint=f"write {{{{ {branch.replace('…', rest or '…')} }}}}",
        ) from None
    if first.kind == "name" and second.kind in ("name", ":") and reader.last.kind == ":":
        _refuse_word(first, written)
    if first.kind == "name" and first.text.lower() in _ELSEWHERE:
        meant, rest = _ELSEWHERE[first.text.lower()], written[len(first.text) :].strip(" :")
        if first.text == "end" and second.text in OPENING:
            meant = f":{second.text}"
        if rest and meant.count("…") == 1:
            meant = meant.replace("…", rest.strip("\"'"))
        raise TemplateError(
            f'"{first.text}" is no word of this language', place=first.place, hint=f"write {{{{ {meant} }}}}"
        ) from None
    if first.kind == "-" and reader.last.kind == "-":
        raise TemplateError(
            "a mark has no strokes inside its braces",
            place=first.place,
            hint=f"write {{{{ {written.strip('- ')} }}}}: a line that holds nothing but blocks leaves no line",
        ) from None
    if first.kind == "/":
        raise TemplateError(
            "a slash closes nothing", place=first.place, hint=f"write {{{{ :{second.text or 'if'} }}}}"
        ) from None
    if first.kind in _SIGNS:
        raise TemplateError(
            f'"{first.text}" opens nothing',
            place=first.place,
            hint="a block opens with a word and a colon, {{ if paid: }}; a remark is {{ # … }}",
        ) from None
    _refuse_names(reader, written)
    if first.kind == "name" and second.kind == ":":
        raise TemplateError(
            f'":" behind "{first.text}" means nothing here',
            place=second.place,
            hint="a mark holds a value, and no style: where two braces meet in a style sheet, put a space between them",
        ) from None


def _refuse_open(reader: Reader, first: Token, second: Token, written: str) -> NoReturn:
    rest = written.removeprefix(first.text).strip(" :")
    raise TemplateError(
        f'"{first.text}" opens no block with its colon there'
        if second.kind == ":"
        else f'"{first.text}" opens no block without a colon',
        place=reader.whole,
        hint=f"write {{{{ {first.text} {rest}: }}}}" if rest else f"write {{{{ {first.text}: }}}}",
    ) from None


def _refuse_word(first: Token, written: str) -> None:
    """A block that begins with a word that is none, but nearly one."""
    meant = nearest(first.text.lower(), (*OPENING, *INNER))
    if meant is not None:
        rest = written.removeprefix(first.text).strip(" :")
        opened = f"{meant} {rest}".strip()
        shown = f":{opened}:" if meant in INNER else f"{opened}:"
        raise TemplateError(
            f'"{first.text}" is no word of this language',
            place=first.place,
            hint=f'did you mean "{meant}"? Write {{{{ {shown} }}}}',
        ) from None


def _refuse_names(reader: Reader, written: str) -> None:
    """Names side by side, as a table has them above its columns."""
    tokens = reader.all
    if len(tokens) == 4 and tokens[1].text == "as" and tokens[3].kind in ("name", "number"):
        raise TemplateError(
            f'"{tokens[3].text}" where the end of the mark should stand',
            place=tokens[3].place,
            hint=f"write {{{{ {tokens[0].text} as {tokens[2].text}({tokens[3].text}) }}}}",
        ) from None
    if len(tokens) > 1 and all(token.kind in ("name", "number") and token.text not in _JOINING for token in tokens):
        raise TemplateError(
            f'"{tokens[1].text}" where the end of the mark should stand',
            place=tokens[1].place,
            hint=f'a field whose name is more than a word is written all["{written}"]',
        ) from None


def refuse_closing(word: Token, reader: Reader) -> None:
    """Raise a better error for a word behind a colon that is none of this language, but nearly one."""
    if word.text in OPENING or word.text in INNER:
        return
    near = nearest(word.text.lower(), (*OPENING, *INNER))
    named = word.text.lower()
    meant = _CLOSED.get(named) or _BRANCHES.get(named) or (near and INNER.get(near, f":{near}"))
    if meant is not None:
        rest = reader.whole_text.partition(word.text)[2].strip(" :")
        raise TemplateError(
            f'"{word.text}" is no word of this language',
            place=word.place,
            hint=f"did you mean {{{{ {meant.replace('…', rest or '…')} }}}}?",
        )
