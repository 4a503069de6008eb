"""The place of a mark: how its value is escaped, and what is around it.

A context names an *escaper*, and the wrappers around it from the inside out: the path of an address,
within a CSS function, within a quoted attribute, within a conditional comment.
"""

from __future__ import annotations

from pribble.markup.scanner import StartTag
from pribble.records import record
from pribble.regexes import regex

MARK = regex("[\U000f0000-\U0010ffff]")


class MarkupError(Exception):
    """The markup around a mark is wrong; `start` and `end` are offsets, `other` a second place and what it is."""

    def __init__(
        self,
        problem: str,
        start: int,
        end: int | None = None,
        *,
        hint: str | None = None,
        other: tuple[str, int, int] | None = None,
    ) -> None:
        super().__init__(problem)
        self.problem, self.start, self.hint, self.other = problem, start, hint, other
        self.end = start + 1 if end is None else end


@record(frozen=True, slots=True)
class Context:
    """How a value is shown.

    `escaper` is one of: ``markup`` (between tags), ``plain`` (any text); of an address ``address`` (whole), ``base``
    (up to a ``/``), ``stem`` (up to ``?`` or ``#``), ``host``, ``label``, ``segment`` and ``piece`` (of a path),
    ``query``, ``mailbox``, ``field``, ``body``, ``telephone``, ``digits``; ``picture``; of a style sheet ``css``,
    ``font``, ``string``; ``json`` and ``characters`` (of a JSON string).

    `wrappers` are: ``function`` (CSS ``url()``), ``candidates`` (``srcset``), ``attribute``, ``comment``
    (a conditional one), ``raw`` and ``edge`` (raw text in one; beside a dash or another value).

    `enclosing`, between tags, are the names of the elements that a fragment of markup may not close.
    """

    escaper: str
    wrappers: tuple[str, ...] = ()
    enclosing: tuple[str, ...] = ()

    def wrapped(self, *wrapping: str) -> Context:
        """Returns the same within one more."""
        return Context(self.escaper, (*self.wrappers, *wrapping), self.enclosing)

    @property
    def how(self) -> str:
        """A name for it: the escaper and the wrappers."""
        return "_in_".join((self.escaper, *self.wrappers))


URL_ATTRIBUTES = frozenset(
    "href src action formaction background cite poster longdesc data xlink:href "
    "codebase dynsrc lowsrc manifest ping".split()
)
CANDIDATES = frozenset({"srcset", "imagesrcset"})
_PICTURES = frozenset(
    {
        ("img", "src"),
        ("input", "src"),
        ("image", "href"),
        ("image", "xlink:href"),
        ("v:fill", "src"),
        ("v:image", "src"),
        ("v:imagedata", "src"),
    }
)
_ANIMATED = frozenset("animate set animatetransform animatemotion animatecolor".split())


def is_picture_place(tag: str, attribute: str) -> bool:
    """Returns whether the attribute names a picture that the element shows."""
    return (tag, attribute) in _PICTURES or attribute in ("background", "poster")


def refusal(tag: StartTag, name: str) -> str | None:
    """Returns what to write instead of a mark in an attribute whose value no value can be made safe for; None for
    others."""
    if name.startswith("on"):
        return "mail programs run no scripts: leave the attribute out"
    if name == "srcdoc":
        return "write the content between tags"
    if tag.name == "meta" and name == "content" and tag.attribute("http-equiv"):
        return "write the content out; no mail program goes where a meta element sends it"
    if tag.name == "script":
        return "mail programs run no scripts: leave the element out"
    if tag.name in _ANIMATED and name in ("to", "from", "by", "values", "attributename"):
        return "write the values of an animation out"
    return None
