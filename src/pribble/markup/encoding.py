"""In which charset the octets of a page are: by a byte order mark or what the page declares, as browsers find it.

HTML 13.2.3.2 says where a page declares its charset, the WHATWG Encoding standard (4.2) what the labels mean.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import webencodings

from pribble.errors import DataError, Source
from pribble.findings import Finding
from pribble.records import record
from pribble.regexes import regex

# A declaration further in is not looked for.
_LOOKED_AT = 1024
_META = regex(r"<meta(?=[\s/])", re.IGNORECASE)
_TAG = regex(r"</?[a-z][^\s/>]*", re.IGNORECASE)
_ATTRIBUTE = regex(r"[\s/]*([^\s/>][^\s/>=]*)(?:\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>\"'][^\s>]*)))?")
_CHARSET = regex(r"charset\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s;\"'][^\s;]*))", re.IGNORECASE)
# What a page that was read as ASCII cannot be in, and what is meant then.
_MEANT = {"utf-16le": "utf-8", "utf-16be": "utf-8", "x-user-defined": "windows-1252"}


@record(frozen=True, slots=True)
class _Value:
    text: str
    start: int
    end: int


def decoded_page(octets: bytes, name: str) -> tuple[str, list[Finding]]:
    """Returns the text of a page, and, where it is in another charset than UTF-8, that it is: the text declares UTF-8
    then, as it is written so.

    Raises `DataError`, which names the page by `name`, for octets that are not in the charset.
    """
    declared = _declared_charset(octets[:_LOOKED_AT].decode("latin-1"))
    named = webencodings.lookup(declared.text).name if declared else "utf-8"
    encoding = webencodings.lookup(_MEANT.get(named, named))
    try:
        # A byte order mark stands above what is declared.
        text, encoding = webencodings.decode(octets, encoding, errors="strict")
    except UnicodeDecodeError as error:
        called = "UTF-8" if encoding is webencodings.UTF8 else f"{encoding.name}, as it declares"
        raise DataError(
            f"{name} is no {called} (at byte {error.start})",
            hint='save it as UTF-8, or declare what it is in: <meta charset="windows-1252">'
            if declared is None
            else "declare the charset that it is in, or save it as UTF-8",
        ) from None
    if encoding is webencodings.UTF8:
        return text, []
    written = _declared_charset(text[:_LOOKED_AT])
    finding = Finding(
        "page.charset",
        "note",
        Source(name, text).place(written.start, written.end) if written else None,
        f"the page is in {encoding.name}, and is written in UTF-8",
        "save it as UTF-8",
        "WHATWG HTML 13.2.3.2",
    )
    return f"{text[: written.start]}utf-8{text[written.end :]}" if written else text, [finding]


def _declared_charset(head: str) -> _Value | None:
    """Returns the charset that a page declares in its `head`, its first characters."""
    position = 0
    while (start := head.find("<", position)) >= 0:
        position = start + 1
        if head.startswith("<!--", start):
            end = head.find("-->", start + 2)
            position = end + 3 if end >= 0 else len(head)
        elif tag := _TAG.match(head, start):
            attributes: dict[str, _Value] = {}
            position = tag.end()
            for name, value in _attributes(head, position):
                attributes.setdefault(name, value)
                position = value.end
            found = _charset(attributes) if _META.match(head, start) else None
            if found is not None and webencodings.lookup(found.text):  # a label that nobody knows declares nothing
                return found
        elif head[position : position + 1] in ("!", "/", "?"):
            end = head.find(">", start)
            position = end + 1 if end >= 0 else len(head)
    return None


def _attributes(head: str, position: int) -> Iterator[tuple[str, _Value]]:
    while found := _ATTRIBUTE.match(head, position):
        position = found.end()
        group = next((n for n in (2, 3, 4) if found[n] is not None), 0)
        value = _Value(found[group], *found.span(group)) if group else _Value("", position, position)
        yield found[1].lower(), value


def _charset(attributes: dict[str, _Value]) -> _Value | None:
    """Returns the charset that a ``meta`` with these attributes declares, if any."""
    if "charset" in attributes:
        return attributes["charset"]
    pragma, content = attributes.get("http-equiv"), attributes.get("content")
    if pragma is None or content is None or pragma.text.lower() != "content-type":
        return None
    found = _CHARSET.search(content.text)
    if found is None:
        return None
    group = next(n for n in (1, 2, 3) if found[n] is not None)
    start, end = found.span(group)
    return _Value(found[group], content.start + start, content.start + end)
