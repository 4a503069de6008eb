"""Links: whether they lead anywhere a reader can follow, and whether their labels say where."""

from __future__ import annotations

import ipaddress
import re
from bisect import bisect_right

from pribble.errors import Place
from pribble.findings import Severity
from pribble.markup.events import Characters, Closed, Opened
from pribble.markup.references import decode_references
from pribble.regexes import regex
from pribble.review.checks.words import host_of, registrable, shortened
from pribble.review.page_view import Link, PageView
from pribble.review.report import CheckReport

_SCHEME = regex(r"([a-z][a-z0-9+.-]{0,30}):", re.IGNORECASE)
_FOLLOWED = frozenset("https http mailto tel sms cid geo webcal callto facetime xmpp sip sips".split())
# Names of hosts that no reader's network has (RFC 6761, RFC 6762), or that are made for examples (RFC 2606).
_NOWHERE = ("localhost", "local", "test", "invalid", "internal", "lan", "home.arpa")
_EXAMPLES = ("example", "example.com", "example.org", "example.net")
_ADDRESS_LABEL = regex(r"(?:https?://)?((?:[a-z0-9-]{1,63}\.){1,8}[a-z]{2,24})(?:[/?#:][^\s]*)?", re.IGNORECASE)
_VAGUE = frozenset(
    "here|click here|click|this|link|this link|more|read more|learn more|see more|details|go|hier|hier klicken|"
    "mehr|weiter|ici|cliquez ici|en savoir plus|aquí|haga clic aquí|qui|clicca qui|hier klikken|lees meer".split("|")
)


def check_links(view: PageView, report: CheckReport, *, for_real_readers: bool) -> None:
    """Each link of a page."""
    ids = {element.values[name] for element in view.elements for name in ("id", "name") if name in element.values}
    for link in view.links:
        _check_link_address(view, link, ids, report, for_real_readers=for_real_readers)
        _check_label(view, link, report)
    _check_same_labels(view, report)
    _check_twins(view, report)


def _check_link_address(
    view: PageView, link: Link, ids: set[str], report: CheckReport, *, for_real_readers: bool
) -> None:
    address, place = link.address, view.attribute_place(link.element, "href")
    scheme = _SCHEME.match(address)
    if address in ("", "#"):
        report.add("link.empty", place, shortened(link.label or address or 'href=""'))
    elif address.startswith("#"):
        if address[1:] not in ids and address[1:].lower() != "top":
            report.add("link.no-target", place, shortened(address))
    elif scheme is None and not address.startswith("//"):
        report.add("link.relative", place, shortened(address))
    elif scheme is not None and scheme[1].lower() not in _FOLLOWED:
        report.add("link.unsafe", place, shortened(address))
    else:
        host = host_of(address)
        if is_nowhere(host) or (for_real_readers and _ends_with(host, _EXAMPLES)):
            severity: Severity | None = "error" if for_real_readers else None
            report.add("link.unreachable", place, host, severity=severity)
        elif scheme is not None and scheme[1].lower() == "http":
            report.add("link.plain-http", place, shortened(address))


def is_nowhere(host: str) -> bool:
    """Returns whether a host is one that readers cannot reach, by its name alone: no connection is opened."""
    if _ends_with(host, _NOWHERE) or (host and "." not in host and ":" not in host):
        return True
    try:
        return not ipaddress.ip_address(host.strip("[]")).is_global
    except ValueError:
        return False


def _ends_with(host: str, names: tuple[str, ...]) -> bool:
    return any(host == name or host.endswith(f".{name}") for name in names)


def _check_label(view: PageView, link: Link, report: CheckReport) -> None:
    place = view.tag_place(link.element)
    shown = _ADDRESS_LABEL.fullmatch(link.label)
    host = host_of(link.address)
    if shown is not None and host and registrable(shown[1].lower()) != registrable(host):
        says = f"the label shows {shown[1]}, and the link leads to {host}"
        report.add("link.other-host", place, says)
    if link.label.casefold().strip(" .…›»>→") in _VAGUE:
        report.add("link.vague", place, shortened(link.label))


def _check_same_labels(view: PageView, report: CheckReport) -> None:
    known: dict[str, tuple[str, Place | None]] = {}
    for link in view.links:
        label, place = link.label.casefold(), view.tag_place(link.element)
        if not label:
            continue
        address, first = known.setdefault(label, (link.address, place))
        # In a loop all are written in one place, and lead where the data say.
        if address != link.address and first != place:
            report.add("link.same-label", place, shortened(link.label))


def _check_twins(view: PageView, report: CheckReport) -> None:
    """Buttons that one old engine alone reads, against the link that all others read."""
    starts = [link.element.opening.start for link in view.links]
    for start, end, address, label in _hidden_links(view):
        index = bisect_right(starts, start)
        if index == len(starts):
            continue
        following, place = view.links[index], view.place(start, end)
        if address != following.address:
            other = shortened(following.address)
            report.add(
                "link.twin", place, f"the button for old engines leads to {shortened(address)}, the link to {other}"
            )
        elif label.casefold() != following.label.casefold():
            says = f"the button for old engines says {shortened(label)}, and the link {shortened(following.label)}"
            report.add("link.twin", place, says)


def _hidden_links(view: PageView) -> list[tuple[int, int, str, str]]:
    """Returns the links within conditional comments: where their tags stand, their addresses and labels."""
    made: list[tuple[int, int, str, str]] = []
    opened: list[tuple[str, int, int, str]] = []
    words: list[str] = []
    for event in view.page.hidden:
        match event:
            case Opened(tag=tag) if (href := tag.attribute("href")) is not None and tag.name != "link":
                address = decode_references(view.html[href.value_start : href.value_end], attribute=True).strip()
                opened.append((tag.name, tag.start, tag.end, address))
                words = []
            case Characters(start=start, end=end, raw=""):
                words.append(decode_references(view.html[start:end]))
            case Closed(name=name) if opened and opened[-1][0] == name:
                _, start, end, address = opened.pop()
                made.append((start, end, address, " ".join("".join(words).split())))
    return made
