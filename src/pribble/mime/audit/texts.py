"""Texts that flow (RFC 3676)."""

from __future__ import annotations

from pribble.mime.audit.report import Report
from pribble.mime.flowed import SIGNATURE, read_line
from pribble.mime.reading import Entity


def check_flowed(entity: Entity, report: Report) -> None:
    """The lines of a text/plain with format=flowed."""
    form, delsp = (entity.type.get("format") or "").lower(), entity.type.get("delsp")
    if form not in ("", "fixed", "flowed") or (delsp is not None and form != "flowed"):
        field = entity.first("content-type")
        assert field is not None
        report.add_at("flowed.parameter", field)
    if form != "flowed":
        return
    octets, start = entity.decoded(), entity.body_start
    as_written = entity.encoding not in ("quoted-printable", "base64")
    position, before, flows = start, 0, False
    for line in octets.decode("latin-1").split("\n"):
        text = line.removesuffix("\r")
        content, depth, fixed = read_line(text)
        at = position if as_written else start  # an encoding moves places
        if flows and content == SIGNATURE:
            report.add("flowed.signature", at, at + len(text))
        elif flows and depth != before:
            report.add("flowed.depth", at, at + len(text))
        elif text.startswith("From "):
            report.add("flowed.from", at, at + len(text))
        flows = not fixed
        before = depth
        position += len(line) + 1
