"""The document mode that a doctype asks for (WHATWG HTML 13.2.6.4.1)."""

from __future__ import annotations

import re
from typing import Literal

Mode = Literal["no-quirks", "limited-quirks", "quirks"]

_DOCTYPE = re.compile(
    r"<!doctype\s*(?P<name>[^\s>]*)\s*(?:(?P<word>public|system)\s*(?P<ids>.*?))?\s*>?\Z", re.IGNORECASE | re.DOTALL)
_IDENTIFIER = re.compile(r"\"([^\">]*)\"|'([^'>]*)'")
_QUIRKS = ("-//w3o//dtd w3 html strict 3.0//en//", "-/w3c/dtd html 4.0 transitional/en", "html")
_QUIRKS_BEGIN = tuple("""
    +//silmaril//dtd html pro v0r11 19970101//
    -//as//dtd html 3.0 aswedit + extensions//
    -//advasoft ltd//dtd html 3.0 aswedit + extensions//
    -//ietf//dtd html
    -//metrius//dtd metrius presentational//
    -//microsoft//dtd internet explorer
    -//netscape comm. corp.//dtd html//
    -//netscape comm. corp.//dtd strict html//
    -//o'reilly and associates//dtd html
    -//sq//dtd html 2.0 hotmetal + extensions//
    -//softquad software//dtd hotmetal pro 6.0::19990601::extensions to html 4.0//
    -//softquad//dtd hotmetal pro 4.0::19971010::extensions to html 4.0//
    -//spyglass//dtd html 2.0 extended//
    -//sun microsystems corp.//dtd hotjava
    -//w3c//dtd html 3 1995-03-24//
    -//w3c//dtd html 3.2
    -//w3c//dtd html 4.0 frameset//
    -//w3c//dtd html 4.0 transitional//
    -//w3c//dtd html experimental
    -//w3c//dtd w3 html 3.0//
    -//w3o//dtd w3 html 3.0//
    -//webtechs//dtd mozilla html
""".strip().split("\n    "))
_TRANSITIONAL = ("-//w3c//dtd html 4.01 frameset//", "-//w3c//dtd html 4.01 transitional//")
_LIMITED = ("-//w3c//dtd xhtml 1.0 frameset//", "-//w3c//dtd xhtml 1.0 transitional//")
_QUIRKS_SYSTEM = "http://www.ibm.com/data/dtd/v11/ibmxhtml1-transitional.dtd"


def document_mode(written: str) -> Mode:
    """The mode for a doctype as it is written, from ``<!`` to ``>``."""
    found = _DOCTYPE.match(written)
    if found is None or found["name"].lower() != "html":
        return "quirks"
    if found["word"] is None:
        rest = written[found.end("name"):].rstrip(">").strip()
        return "quirks" if rest else "no-quirks"
    identifiers = [(one or other).lower() for one, other in _IDENTIFIER.findall(found["ids"])]
    if found["word"].lower() == "system":
        return "quirks" if not identifiers or identifiers[0] == _QUIRKS_SYSTEM else "no-quirks"
    if not identifiers:
        return "quirks"
    public, system = identifiers[0], identifiers[1] if len(identifiers) > 1 else None
    if public in _QUIRKS or public.startswith(_QUIRKS_BEGIN) or system == _QUIRKS_SYSTEM:
        return "quirks"
    if public.startswith(_TRANSITIONAL):
        return "quirks" if system is None else "limited-quirks"
    return "limited-quirks" if public.startswith(_LIMITED) else "no-quirks"
