"""The demo: the berth office of Skerrow Haven confirms a booking and keeps a copy at its own desk, warns of a gale,
sends a code for the gate, a statement at the end of the month, and a notice to all skippers before the season.

`run_demo` goes all the way, from templates and an event's data to messages that a receiver has read back.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, time
from email import message_from_bytes, policy
from email.message import EmailMessage
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast
from zoneinfo import ZoneInfo

from pribble.delivery.receiver import Receiver
from pribble.delivery.transports import transport
from pribble.demo.charts import statement_pdf, usage_chart
from pribble.demo.season import SeasonNotice, send_notice
from pribble.errors import MissingExtra
from pribble.mime.address import Recipient
from pribble.mime.audit import audit
from pribble.mime.invitation import Invitation
from pribble.mime.message import Message, MessageOptions
from pribble.mime.part import Attachment
from pribble.records import record
from pribble.rendering.rendering import Rendering
from pribble.review.preview import preview
from pribble.template import TemplateFolder, without_optimisations

if TYPE_CHECKING:
    from pribble.demo.booked import BookedBerth

TEMPLATES = Path(__file__).parent / "templates"
OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"
DESK = "Harbour desk <desk@skerrow.example>"


@record(frozen=True, slots=True)
class DemoMessage:
    """One message as it was read back: what the standard library's parser calls defects, and in what an audit sees it
    depart from the standards."""

    template: str
    subject: str
    to: str
    parts: tuple[str, ...]
    size: int
    pictures: int
    unresolved: int
    defects: tuple[str, ...]
    departures: tuple[str, ...]
    eml: Path
    html: Path | None
    text: Path


@record(frozen=True, slots=True)
class Demo:
    """What the demo left: the messages that were read back, the page of a `preview` of all templates; and the event of
    a berth that is `booked` and the notice to all skippers, both None where the extra `journal` is not installed."""

    messages: Sequence[DemoMessage]
    preview: Path
    booked: BookedBerth | None = None
    notice: SeasonNotice | None = None


def run_demo(out: Path) -> Demo:
    """Render the demo's templates for their samples, send them through a receiver on loopback, read them back.

    The messages, HTML and text of each, and a preview of all are left in `out`.
    """
    templates = TemplateFolder(TEMPLATES, locale="en_GB", timezone="Europe/London")
    event = templates["berth-confirmed"].samples[""]
    skipper = (event["skipper"]["name"], event["skipper"]["email"])
    # (template, data, to whom, locale)
    statement, attached = charted(templates["mooring-statement"].samples[""])

    def made(name: str, rendering: Rendering, data: Any, to: Recipient) -> Message:
        """The message of a rendering, with what the office adds to it."""
        added: MessageOptions = {"auto_submitted": "auto-generated"}
        if name == "berth-confirmed":
            added["invitation"] = invited(data)
        elif name == "mooring-statement":
            added["attachments"] = attached
        return rendering.message(sender=OFFICE, to=[to], **added)

    messages: list[tuple[str, Any, Recipient, str | None]] = [
        ("berth-confirmed", event, skipper, None),
        ("berth-confirmed", event, skipper, "de"),
        ("desk-copy", event, DESK, None),
        ("gale-warning", templates["gale-warning"].samples[""], skipper, None),
        ("gate-code", templates["gate-code"].samples[""], skipper, None),
        ("mooring-statement", statement, skipper, None),
    ]
    out.mkdir(parents=True, exist_ok=True)
    outcomes = []
    with Receiver(out / "messages") as receiver, transport(receiver.address) as office:  # one connection for them all
        for name, data, to, locale in messages:
            rendering = templates[name].render(data, locale=locale)
            office.deliver(made(name, rendering, data, to))
            called = f"{name}.{locale}" if locale else name
            text, html = out / f"{called}.txt", None
            text.write_text(rendering.text, encoding="utf-8")
            if page := templates[name].render(data, locale=locale, embed="data").html:
                html = out / f"{called}.html"
                html.write_text(page, encoding="utf-8")
            received = receiver.received[-1]
            outcomes.append(
                read_back(called, received.path.replace(received.path.with_name(f"{called}.eml")), html, text)
            )
    shown = preview(
        without_optimisations(templates),
        out / "preview.html",
        compose=lambda name, rendering, data: made(name, rendering, data, skipper),
    )
    if find_spec("sqlalchemy") is None:
        return Demo(outcomes, shown.path)
    from pribble.demo.booked import post_booking

    return Demo(outcomes, shown.path, post_booking(out, event), send_notice(out, TEMPLATES, OFFICE))


def invited(event: Mapping[str, Any]) -> Invitation | None:
    """Returns the stay as an event for the skipper's calendar, in at two in the afternoon and out at eleven; None where
    the icalendar package is not installed."""
    zone = ZoneInfo("Europe/London")
    first, last = (date.fromisoformat(event["stay"][name]) for name in ("from", "to"))
    reference, berth = event["booking"]["reference"], event["berth"]
    try:
        return Invitation(
            datetime.combine(first, time(14), zone),
            datetime.combine(last, time(11), zone),
            f"{event['vessel']['name']} at berth {berth['pier']} {berth['number']}",
            OFFICE,
            f"{reference.lower()}@skerrow.example",
            location=f"Skerrow Haven, pier {berth['pier']}",
            description=f"Booking {reference}\n{event['booking']['link']}",
        )
    except MissingExtra:
        return None


def charted(sample: dict[str, Any]) -> tuple[dict[str, Any], list[Attachment]]:
    """Returns the statement's sample with its chart as a figure, and its PDF; where Matplotlib is not installed, with
    the picture that the sample names, and no PDF."""
    try:
        chart = usage_chart(sample["usage"]["kwh"], date.fromisoformat(sample["statement"]["from"]))
        pdf = statement_pdf(sample)
    except MissingExtra:
        return sample, []
    name = f"statement-{sample['statement']['number']}.pdf"
    return {**sample, "usage": {**sample["usage"], "chart": chart}}, [Attachment(name, pdf, "application/pdf")]


def read_back(template: str, path: Path, html: Path | None, text: Path) -> DemoMessage:
    """Returns what the standard library's parser makes of a message that came, and the audit."""
    raw = path.read_bytes()
    message = message_from_bytes(raw, policy=policy.default)
    page = message.get_body(("html",))
    wanted = set(re.findall(r'"cid:([^"]+)"', page.get_content())) if page else set()
    ids = {str(part["Content-ID"]).strip("<>") for part in message.walk() if part["Content-ID"]}
    return DemoMessage(
        template,
        str(message["Subject"]),
        str(message["To"]),
        tuple(tree(message)),
        len(raw),
        len(wanted & ids),
        len(wanted - ids),
        tuple(defects(message)),
        tuple(finding.rule for finding in audit(raw) if finding.severity != "note"),
        path,
        html,
        text,
    )


def tree(message: EmailMessage, depth: int = 0) -> Iterator[str]:
    """Yields the types of a message's parts, set in as they nest."""
    yield "  " * depth + message.get_content_type()
    if message.is_multipart():
        for part in message.iter_parts():
            yield from tree(cast(EmailMessage, part), depth + 1)


def defects(message: EmailMessage) -> Iterator[str]:
    """Everything that the parser found amiss, in any part or field."""
    for part in message.walk():
        for name, value in part.items():
            yield from (f"{name}: {defect}" for defect in getattr(value, "defects", ()))
        if not part.is_multipart():
            part.get_payload(decode=True)  # what is wrong with an encoding shows only now
        yield from (f"{part.get_content_type()}: {type(defect).__name__}" for defect in part.defects)
