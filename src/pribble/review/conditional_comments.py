"""Conditional comments, as the one engine reads them that does, and the shapes that it draws in them.

``<!--[if mso]>…<![endif]-->`` is a comment to all others; ``<!--[if !mso]><!-->…<!--<![endif]-->`` is shown by all
others.  Simple shapes of VML become boxes, so that an eye sees the button once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache

from pribble.cascade.colours import legacy_colour
from pribble.edits import Edit, replaced
from pribble.markup.references import decode_references
from pribble.markup.scanner import Comment, EndTag, StartTag, Token, announce_start_tag, tokens
from pribble.markup.tree import OpenElements
from pribble.regexes import regex
from pribble.values.escaping import markup

_HIDDEN = regex(r"<!--\[if\b([^\]]{0,200}+)\]>", re.IGNORECASE)
_HIDDEN_END = regex(r"<!\[endif\]-->\Z", re.IGNORECASE)
_SHOWN = regex(r"<!--\[if\b([^\]]{0,200}+)\]>(?:<!)?-->\Z", re.IGNORECASE)
_SHOWN_END = regex(r"<!--<!\[endif\]-->\Z", re.IGNORECASE)
_TERM = regex(r"\s*+(!?)\s*+\(?\s*+(?:(lt|lte|gt|gte)\s++)?([a-z]++)(?:\s++([0-9.]++))?\s*+\)?\s*+", re.IGNORECASE)
_SHAPES = frozenset({"v:rect", "v:roundrect", "v:oval", "v:shape"})
_SIZE = regex(r"[0-9]{1,6}(?:\.[0-9]{1,4})?(?:px|pt|%)?\Z")
_SHARE = regex(r"([0-9]{1,4}(?:\.[0-9]{1,4})?)%\Z")


def engine_matches(condition: str, engine: str) -> bool:
    """Returns whether a condition holds for an engine, as "mso 16"; nothing holds for "", which reads no comments."""
    name, _, version = engine.lower().partition(" ")
    return any(
        all(_term_holds(term, name, float(version or 0)) for term in each.split("&")) for each in condition.split("|")
    )


def _term_holds(term: str, name: str, version: float) -> bool:
    found = _TERM.fullmatch(term)
    if found is None:
        return False
    own = found[3].lower() == name
    if own and found[4]:
        try:
            asked = float(found[4])
        except ValueError:
            return False
        own = {"lt": version < asked, "lte": version <= asked, "gt": version > asked, "gte": version >= asked}.get(
            (found[2] or "").lower(), version == asked
        )
    return not own if found[1] else own


def comments_as_read(html: str, engine: str) -> str:
    """Returns a page as an engine reads it: of conditional comments what they hold for it, and no comments else."""
    edits: list[Edit[str]] = []
    left: int | None = None  # where a stretch begins that this engine leaves out
    for start, end in _comments(html):
        written = html[start:end]
        if left is not None:
            if _SHOWN_END.search(written):
                edits.append(Edit(left, end, ()))
                left = None
            continue
        shown = _SHOWN.match(written)
        hidden = None if shown else _HIDDEN.match(written)
        closing = _HIDDEN_END.search(written) if hidden else None
        if shown and engine and not engine_matches(shown[1], engine):
            left = start
        elif hidden and closing and engine and engine_matches(hidden[1], engine):
            edits += [Edit(start, start + hidden.end(), ()), Edit(start + closing.start(), end, ())]
        else:
            edits.append(Edit(start, end, ()))
    return replaced(html, edits)


@lru_cache(maxsize=4)  # one page is often asked for by one viewer after the other
def _comments(html: str) -> Sequence[tuple[int, int]]:
    return [(token.start, token.end) for token in page_tokens(html) if isinstance(token, Comment)]


def page_tokens(html: str) -> Iterator[Token]:
    """Yields the tokens of a page."""
    opened = OpenElements()
    for token in tokens(html, opened):
        if isinstance(token, StartTag):
            announce_start_tag(opened, token)
        elif isinstance(token, EndTag):
            opened.end(token.name)
        yield token


# ---- shapes ---------------------------------------------------------------------------------------------------


def shapes_as_boxes(html: str) -> str:
    """Returns a page with the simple shapes of VML as boxes, and without other elements of that engine's own."""
    edits: list[Edit[str]] = []
    opened: list[str] = []
    for token in page_tokens(html):
        match token:
            case StartTag(name=name) if name in _SHAPES:
                box = "a" if token.attribute("href") else "span"
                edits.append(Edit(token.start, token.end, (_box(html, token, box),)))
                if not token.self_closing:
                    opened.append(box)
            case StartTag(name=name) | EndTag(name=name) if name == "v:textbox":
                edits.append(Edit(token.start, token.end, ()))
            case EndTag(name=name) if name in _SHAPES:
                edits.append(Edit(token.start, token.end, (f"</{opened.pop()}>" if opened else "",)))
            case StartTag(name=name) | EndTag(name=name) if name.startswith(("v:", "w:", "o:")):
                edits.append(Edit(token.start, token.end, ()))
    return replaced(html, edits)


def _box(html: str, tag: StartTag, box: str) -> str:
    values = {
        one.name: decode_references(html[one.value_start : one.value_end], attribute=True) for one in tag.attributes
    }
    styles = {"display": "inline-block", "box-sizing": "border-box", "overflow": "hidden"}
    for declaration in values.get("style", "").split(";"):
        name, _, value = declaration.partition(":")
        name, value = name.strip().lower(), value.strip().lower()
        if name in ("width", "height") and _SIZE.match(value):
            styles[name] = f"{value}px" if value[-1:].isdigit() else value
    if (fill := legacy_colour(values.get("fillcolor", ""))) is not None and values.get("fill", "t")[:1] != "f":
        styles["background-color"] = str(fill)
    if (line := legacy_colour(values.get("strokecolor", ""))) is not None and values.get("stroke", "t")[:1] != "f":
        styles["border"] = f"1px solid {line}"
    if tag.name == "v:roundrect" and (share := _SHARE.match(values.get("arcsize", ""))):
        sides = [float(styles[side][:-2]) for side in ("width", "height") if styles.get(side, "").endswith("px")]
        if sides:  # a share of the shorter side
            styles["border-radius"] = f"{min(float(share[1]), 50) / 100 * min(sides):g}px"
    if "height" in styles:
        styles["line-height"] = styles["height"]
    href = f' href="{markup(values["href"])}"' if box == "a" else ""
    return f'<{box}{href} style="{"; ".join(f"{name}: {value}" for name, value in styles.items())}">'
