"""The document mode that a doctype asks for (WHATWG HTML 13.2.6.4.1)."""

from __future__ import annotations

import re
from typing import Literal

from pribble.regexes import regex

Mode = Literal["no-quirks", "limited-quirks", "quirks"]

_DOCTYPE = regex(
    r"<!doctype\s*+(?P<name>[^\s>]*+)(?:\s*+(?P<word>public|system)(?P<ids>.*+)|\s*+>?\Z)?", re.IGNORECASE | re.DOTALL
)
_IDENTIFIER = regex(r"\"([^\">]*)\"|'([^'>]*)'")
_QUIRKS = ("-//w3o//dtd w3 html strict 3.0//en//", "-/w3c/dtd html 4.0 transitional/en", "html")
# Public identifiers that begin so, by who issued them, ask for quirks mode.
_OLD = {
    "advasoft ltd": "html 3.0 aswedit + extensions",
    "as": "html 3.0 aswedit + extensions",
    "ietf": "html 2.0 level 1; html 2.0 level 2; html 2.0 strict level 1; html 2.0 strict level 2; html 2.0 "
    "strict; html 2.0; html 2.1e; html 3.0; html 3.2 final; html 3.2; html 3; html level 0; html level 1; "
    "html level 2; html level 3; html strict level 0; html strict level 1; html strict level 2; html "
    "strict level 3; html strict; html",
    "metrius": "metrius presentational",
    "microsoft": "internet explorer 2.0 html strict; internet explorer 2.0 html; internet explorer 2.0 tables; "
    "internet explorer 3.0 html strict; internet explorer 3.0 html; internet explorer 3.0 tables",
    "netscape comm. corp.": "html; strict html",
    "o'reilly and associates": "html 2.0; html extended 1.0; html extended relaxed 1.0",
    "softquad software": "hotmetal pro 6.0::19990601::extensions to html 4.0",
    "softquad": "hotmetal pro 4.0::19971010::extensions to html 4.0",
    "spyglass": "html 2.0 extended",
    "sq": "html 2.0 hotmetal + extensions",
    "sun microsystems corp.": "hotjava html; hotjava strict html",
    "w3c": "html 3 1995-03-24; html 3.2 draft; html 3.2 final; html 3.2; html 3.2s draft; html 4.0 frameset; "
    "html 4.0 transitional; html experimental 19960712; html experimental 970421; w3 html",
    "w3o": "w3 html 3.0",
    "webtechs": "mozilla html 2.0; mozilla html",
}
QUIRKS = (
    "+//silmaril//dtd html pro v0r11 19970101//",
    *(f"-//{issuer}//dtd {name}//" for issuer, names in _OLD.items() for name in names.split("; ")),
)
_TRANSITIONAL = ("-//w3c//dtd html 4.01 frameset//", "-//w3c//dtd html 4.01 transitional//")
_LIMITED = ("-//w3c//dtd xhtml 1.0 frameset//", "-//w3c//dtd xhtml 1.0 transitional//")
_QUIRKS_SYSTEM = "http://www.ibm.com/data/dtd/v11/ibmxhtml1-transitional.dtd"


def document_mode(written: str) -> Mode:
    """Returns the mode for a doctype as it is written, from ``<!`` to ``>``."""
    found = _DOCTYPE.match(written)
    if found is None or found["name"].lower() != "html":
        return "quirks"
    if found["word"] is None:
        rest = written[found.end("name") :].rstrip(">").strip()
        return "quirks" if rest else "no-quirks"
    identifiers = [(one or other).lower() for one, other in _IDENTIFIER.findall(found["ids"])]
    if found["word"].lower() == "system":
        return "quirks" if not identifiers or identifiers[0] == _QUIRKS_SYSTEM else "no-quirks"
    if not identifiers:
        return "quirks"
    public, system = identifiers[0], identifiers[1] if len(identifiers) > 1 else None
    if public in _QUIRKS or public.startswith(QUIRKS) or system == _QUIRKS_SYSTEM:
        return "quirks"
    if public.startswith(_TRANSITIONAL):
        return "quirks" if system is None else "limited-quirks"
    return "limited-quirks" if public.startswith(_LIMITED) else "no-quirks"
