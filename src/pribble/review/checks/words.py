"""What several checks look for in texts: words, placeholders, hosts."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from pribble.language.data_paths import path_steps
from pribble.regexes import regex

CURRENCY_SIGNS = "€$£¥₹₺₩"
_INSIDE = r"[^\W\d_][\w .:'-]{0,40}"
# A word between doubled brackets, or between signs that no sentence has.
_DOUBLED = regex(
    rf"\[\[\s{{0,3}}{_INSIDE}\s{{0,3}}\]\]|\{{\{{\s{{0,3}}{_INSIDE}\s{{0,3}}\}}\}}|<<\s{{0,3}}{_INSIDE}\s{{0,3}}>>"
    rf"|\{{%\s{{0,3}}{_INSIDE}\s{{0,3}}%\}}|%%{_INSIDE}%%|[$#@]\{{\s{{0,3}}{_INSIDE}\s{{0,3}}\}}"
    rf"|\*\|\s{{0,3}}{_INSIDE}\s{{0,3}}\|\*|@@\w{{1,40}}@@|##[^\W\d]\w{{1,40}}##|__[A-Z][A-Z0-9_]{{1,40}}?__"
)
# A word between single ones, which sentences have too.
_SINGLE = regex(
    rf"\[({_INSIDE})\]|\{{({_INSIDE})\}}|<({_INSIDE})>|%([^\W\d]\w{{1,40}})%|«({_INSIDE})»|\$([A-Z][A-Z_]{{1,40}})\b"
)
# What templates everywhere leave to be filled in.
_STOCK = frozenset(
    "name|first name|firstname|fname|last name|lastname|lname|surname|full name|fullname|customer name|customer|"
    "recipient|recipient name|user|username|user name|your name|company|company name|your company|organisation|"
    "organization|address|street|city|town|postcode|zip|zip code|country|email|e-mail|email address|phone|"
    "phone number|telephone|date|today|time|amount|total|price|order number|order id|invoice number|reference|"
    "reference number|url|link|insert link|link here|insert name|insert name here|insert date|insert text|"
    "insert image|image|logo|title|subject|signature|your signature|job title|unsubscribe|unsubscribe link|code|"
    "salutation|greeting|placeholder|text|website|number|product|product name".split("|")
)
# What is asked for in several words: "[Your Name Here]", "[Insert date]".
_NOUNS = frozenset("name date company link url email e mail address phone amount title city number code logo".split())
_BESIDE = frozenset(
    "your insert enter add first last full here customer recipient client user order invoice company s event to "
    "contact business product account reference street job the this my our".split()
)
_FILLER = regex(r"\blorem\s+ipsum\b|\bdolor\s+sit\s+amet\b|\A(?:TODO|FIXME|TBD|XXX)\b(?!\w)", re.IGNORECASE)


def placeholders(text: str, fields: Collection[str]) -> Iterator[tuple[int, int]]:
    """Yields the stretches of a text that look like placeholders; `fields` are the names that a template knows."""
    taken = 0
    for found in _DOUBLED.finditer(text):
        yield found.span()
    doubled = [found.span() for found in _DOUBLED.finditer(text)]
    for found in _SINGLE.finditer(text):
        while taken < len(doubled) and doubled[taken][1] <= found.start():
            taken += 1
        inside = next(group for group in found.groups() if group is not None)
        if (taken == len(doubled) or doubled[taken][0] >= found.end()) and is_name(inside, fields):
            yield found.span()


def is_everyday(written: str, fields: Collection[str]) -> bool:
    """Returns whether a word between single signs is none that somebody fills in."""
    found = _SINGLE.fullmatch(written)
    return found is not None and not is_name(next(group for group in found.groups() if group is not None), fields)


def is_name(inside: str, fields: Collection[str]) -> bool:
    """Returns whether what stands between two signs is a name to be filled in."""
    plain = folded(inside)
    words = plain.split()
    asked = len(words) < 6 and not _NOUNS.isdisjoint(words) and all(word in _NOUNS or word in _BESIDE for word in words)
    return plain in _STOCK or plain.replace(" ", "") in fields or (asked and len(words) > 1)


def folded(name: str) -> str:
    """Returns a name as it is compared: its words in small letters, apart."""
    return " ".join(re.sub(r"[\W_]+", " ", name).casefold().split())


def known_names(paths: Collection[str]) -> frozenset[str]:
    """Returns the names of fields as they are compared: the last of each path, and the whole."""
    made: set[str] = set()
    for path in paths:
        names = [step for step in path_steps(path) if isinstance(step, str)]
        made |= {folded(name).replace(" ", "") for name in (*names[-1:], path)}
    return frozenset(name for name in made if len(name) > 1)


def is_filler(text: str) -> bool:
    """Returns whether a paragraph is text that only fills space."""
    return _FILLER.search(text) is not None


def shortened(text: str, size: int = 60) -> str:
    """Returns a text as findings quote it."""
    text = " ".join(text.split())
    return f"“{text}”" if len(text) <= size else f"“{text[: size - 1]}…”"


# ---- addresses ------------------------------------------------------------------------------------------------

_SECOND_LEVEL = frozenset("ac co com edu gob gov ltd me net nhs nic nom or org plc sch".split())


def host_of(address: str) -> str:
    """Returns the host of an address, in small letters; "" where it has none."""
    found = re.match(
        r"(?:[a-z][a-z0-9+.-]{0,20}:)?//(?:[^/?#@]{0,200}@)?(\[[^\]]{1,60}\]|[^/?#:]{1,253})", address, re.I
    )
    return found[1].lower().rstrip(".") if found else ""


def registrable(host: str) -> str:
    """Returns the part of a host that somebody registers, by its form: its last two labels, or three."""
    labels = host.split(".")
    deep = len(labels) > 2 and len(labels[-1]) == 2 and labels[-2] in _SECOND_LEVEL
    return ".".join(labels[-3 if deep else -2 :])
