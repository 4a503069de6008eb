"""What people write who come from elsewhere, or mistype: better errors for marks that cannot be read."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.errors import TemplateError, nearest
from pribble.language.tokens import Token, TokenReader

# The words that open a block, and those that stand in one.
OPENING = frozenset("if for subject preheader text only into slot put locale timezone".split())
_INNER = {"elif": ":elif …:", "else": ":else:"}
# How other notations say that a block branches, ends or opens, or that a file comes in.
_BRANCHES = {**_INNER, "elseif": _INNER["elif"], "elsif": _INNER["elif"]}
_ENDS = {"endif": ":if", "endfor": ":for", "end": ":if"}
_ELSEWHERE = {
    **_ENDS,
    "foreach": "for … in …:",
    "each": "for … in …:",
    "while": "for … in …:",
    "unless": "if not …:",
    "switch": "if … == …:",
    "case": ":elif … == …:",
    "set": "let … = …",
    "include": 'put "…"',
    "extends": 'layout "…"',
}
_CLOSED = {**_ENDS, "foreach": ":for", "each": ":for", "while": ":for", "unless": ":if"}
_JOINING = frozenset("as if else in and or not is".split())
_SIGNS = ("#", "%", "!", ">", "^", "@")


def refuse_other_notation(reader: TokenReader) -> None:
    """Raise a better error for a mark that cannot be read, where it looks like something that is known."""
    likeliest = next(_candidates(reader.all, reader.whole_text), None)
    if likeliest is not None:
        problem, token, hint = likeliest
        raise TemplateError(problem, place=reader.whole if token is None else token.place, hint=hint) from None


def refuse_other_closing(word: Token, reader: TokenReader) -> None:
    """Raise a better error for a word behind a colon that is none of this language, but is known, or nearly one."""
    if word.text in OPENING or word.text in _INNER:
        return
    named = word.text.lower()
    meant = _CLOSED.get(named) or _BRANCHES.get(named)
    if meant is None and (near := nearest(named, (*OPENING, *_INNER))):
        meant = _INNER.get(near, f":{near}")
    if meant is not None:
        rest = reader.whole_text.partition(word.text)[2].strip(" :")
        raise TemplateError(
            f'"{word.text}" is no word of this language',
            place=word.place,
            hint=f"did you mean {_as_mark(meant, rest)}?",
        )


# What is wrong, with which token (None: with the whole mark), and what to write.
_Candidate = tuple[str, Token | None, str]


def _candidates(tokens: list[Token], written: str) -> Iterator[_Candidate]:
    """Yields what a mark with these tokens looks like, the likeliest first."""
    if tokens and tokens[0].kind == "name":
        yield from _from_words(tokens, written)
        yield from _from_names(tokens, written)
    elif tokens:
        yield from _from_signs(tokens, written)


def _from_words(tokens: list[Token], written: str) -> Iterator[_Candidate]:
    """Yields a word that opens, branches or closes a block, or does so elsewhere."""
    first, second = tokens[0], tokens[1] if len(tokens) > 1 else None
    word, rest = first.text.lower(), written[len(first.text) :].strip(" :")
    is_block = second is not None and second.kind in ("name", ":") and tokens[-1].kind == ":"
    unknown = f'"{first.text}" is no word of this language'
    if first.text in OPENING:
        colon = "with its colon there" if second is not None and second.kind == ":" else "without a colon"
        yield f'"{first.text}" opens no block {colon}', None, f"write {{{{ {f'{first.text} {rest}'.strip()}: }}}}"
    if word == "else" and second is not None and second.text == "if":
        yield '"else if" is one word here', None, f"write {_as_mark(_INNER['elif'], rest.removeprefix('if').strip())}"
    if word in _BRANCHES:
        problem = f'"{first.text}" needs a colon before it too' if first.text in _INNER else unknown
        yield problem, first, f"write {_as_mark(_BRANCHES[word], rest)}"
    if is_block and (near := nearest(word, (*OPENING, *_INNER))):
        meant = _INNER.get(near, f"{near} …:" if rest else f"{near}:")
        yield unknown, first, f'did you mean "{near}"? Write {_as_mark(meant, rest)}'
    if word in _ELSEWHERE:
        ends = word == "end" and second is not None and second.text in OPENING
        yield unknown, first, f"write {_as_mark(f':{rest}' if ends else _ELSEWHERE[word], rest)}"


def _from_names(tokens: list[Token], written: str) -> Iterator[_Candidate]:
    """Yields names side by side, as a table has them above its columns; a formatter without brackets; a style."""
    first, second = tokens[0], tokens[1] if len(tokens) > 1 else None
    plain = all(token.kind in ("name", "number") for token in tokens)
    if len(tokens) == 4 and plain and tokens[1].text == "as":
        value, _, name, argument = (token.text for token in tokens)
        yield (
            f'"{argument}" where the end of the mark should stand',
            tokens[3],
            f"write {{{{ {value} as {name}({argument}) }}}}",
        )
    if second is not None and plain and _JOINING.isdisjoint(token.text for token in tokens):
        hint = f'a field whose name is more than a word is written all["{written}"]'
        yield f'"{second.text}" where the end of the mark should stand', second, hint
    if second is not None and second.kind == ":":
        hint = "a mark holds a value, and no style: where two braces meet in a style sheet, put a space between them"
        yield f'":" behind "{first.text}" means nothing here', second, hint


def _from_signs(tokens: list[Token], written: str) -> Iterator[_Candidate]:
    """Yields a sign that closes, opens or trims elsewhere."""
    first = tokens[0]
    if first.kind == "-" and tokens[-1].kind == "-":
        hint = f"write {{{{ {written.strip('- ')} }}}}: a line that holds nothing but blocks leaves no line"
        yield "a mark has no strokes inside its braces", first, hint
    if first.kind == "/":
        word = tokens[1].text if len(tokens) > 1 else "if"
        yield "a slash closes nothing", first, f"write {{{{ :{word} }}}}"
    if first.kind in _SIGNS:
        hint = "a block opens with a word and a colon, {{ if paid: }}; a remark is {{ # … }}"
        yield f'"{first.text}" opens nothing', first, hint


def _as_mark(form: str, rest: str) -> str:
    """Returns a mark of this `form`, with the `rest` of what was written where one thing is left open."""
    if rest and form.count("…") == 1:
        form = form.replace("…", rest.strip("\"'") if '"' in form else rest)
    return f"{{{{ {form} }}}}"
