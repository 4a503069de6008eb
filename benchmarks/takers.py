"""Every parameter of the public interface that takes a text or bytes, found by introspection; the others are fit."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import Any

import pribble
from pribble import Address, Invitation, Message, Template

# What the parameters that have to be given are given, by their names.
_MOMENT = datetime(2026, 7, 3, 14, tzinfo=UTC)
_FIT: dict[str, Any] = {
    "addr": "ana@example.org",
    "content": b"x",
    "end": _MOMENT,
    "height": 1,
    "html": "<p>x</p>",
    "name": "Ana",
    "organizer": "ana@example.org",
    "raw": b"From: ana@example.org\r\n\r\nx\r\n",
    "recipients": ("ana@example.org",),
    "sender": "ana@example.org",
    "start": _MOMENT,
    "summary": "x",
    "text": "x",
    "type": "image/png",
    "uid": "x@example.org",
    "width": 1,
}
# Where a text is the name of a file or one of a few words, and goes to the system or is looked up.
_NO_TEXTS = frozenset({"path", "folder", "links", "nested", "method", "locale", "timezone", "embed", "text_format"})
UNITS = (
    "a",
    " ",
    '"',
    "'",
    "<",
    ">",
    "-",
    "&",
    "&a",
    "&#1",
    "%",
    "%41",
    "é",
    "漢",
    "(",
    ")",
    "a(",
    "[",
    "{",
    "{{",
    "}}",
    ".",
    "a.",
    "a@",
    "@",
    ",",
    "a@b.example,",
    ";",
    ";a=b",
    "\\",
    "/",
    "../",
    ":",
    "=",
    "=?",
    "=?a?b?c?= ",
    "?",
    "#",
    "*",
    "|",
    "\n",
    "\r\n",
    "\r\n ",
    "\t",
    "\0",
    "1",
    "1,",
    "0.",
    "<p>",
    "</p>",
    "<b>",
    "<a ",
    "<!--",
    "-->",
    "<!---->",
    "<style>",
    "a{b:c}",
    "{{ 1 }}",
    "\u0301",
    "\u200d",
    "\U0001f1e9\U0001f1ea",
    "\U0001f468\u200d",
    "\u202e",
    "İ",
    "ß",
    "xn--",
    "BEGIN:",
)


def takers() -> Iterator[tuple[str, Callable[[str], object]]]:
    """Each parameter by its name, with what calls its function with a text."""
    for name in pribble.__all__:
        found = getattr(pribble, name)
        if not inspect.isclass(found):
            yield from _of(name, found)
        elif issubclass(found, BaseException) or name in ("Audit", "Field", "Finding", "Rendering", "TemplateFolder"):
            continue
        else:
            if name != "Template":
                yield from _of(name, found)
            for inner, method in inspect.getmembers(found, inspect.ismethod):
                if not inner.startswith("_"):
                    yield from _of(f"{name}.{inner}", method)


def _of(name: str, function: Callable[..., Any]) -> Iterator[tuple[str, Callable[[str], object]]]:
    parameters = inspect.signature(function).parameters.values()
    given = {p.name: _FIT.get(p.name) for p in parameters if p.default is p.empty and p.kind is not p.VAR_KEYWORD}
    for parameter in parameters:
        said = str(parameter.annotation)
        if parameter.name in _NO_TEXTS or "Callable" in said or "Figure" in said or "Any" in said:
            continue
        if name.endswith(("from_path", "open", "from_figure")):
            continue
        taken = [part.strip() for part in said.replace("Sequence[str]", "str").split("|")]
        if taken[0] == "bytes":
            yield f"{name}({parameter.name})", _calling(function, given, parameter.name, _as_octets)
        elif taken[0] in ("str", "Mailbox", "Recipients"):
            yield f"{name}({parameter.name})", _calling(function, given, parameter.name, str)
        elif taken[0].startswith("Mapping[str, str]"):
            yield f"{name}({parameter.name})", _calling(function, given, parameter.name, lambda text: {"X-Text": text})


def _as_octets(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


def _calling(
    function: Callable[..., Any], given: dict[str, Any], name: str, taken: Callable[[str], Any]
) -> Callable[[str], object]:
    return lambda text: _finished(function(**{**given, name: taken(text)}))


def _finished(made: Any) -> object:
    """What a user would do next with what was made: a text is read only then."""
    if isinstance(made, Message):
        return bytes(made), made.envelope
    if isinstance(made, Template):
        return made.fields()
    if isinstance(made, Invitation):
        return made.calendar([Address("", "ana@example.org")], _MOMENT)
    return str(made)
