"""Signatures of DKIM (RFC 6376): what they lack, whether the body is still the one that was signed, and, where keys are
given, whether they verify."""

from __future__ import annotations

from collections.abc import Mapping

from pribble.mime.audit.report import Report
from pribble.mime.dkim import Signature
from pribble.mime.dkim_keys import verifies
from pribble.mime.reading import Entity, ReadField

_NEEDED = ("v", "a", "d", "s", "h", "bh", "b")
# Of so many signatures the hashes are computed: each is over the whole message.
_MOST_COMPUTED = 10


def check_signatures(message: Entity, report: Report) -> list[set[str]]:
    """Checks what signatures say; returns the names of the fields that each covers."""
    covered = []
    for field in message.all("dkim-signature"):
        signature = Signature.of(field.raw)
        lacking = [name for name in _NEEDED if not signature.tags.get(name)]
        if lacking:
            report.add_at("machines.dkim-tags", field, ", ".join(f"{name}=" for name in lacking))
        names = set(signature.names)
        if "h" not in lacking and "from" not in names:
            report.add_at("machines.dkim-from", field)
        covered.append(names)
    return covered


def check_signed_octets(root: Entity, raw: bytes, keys: Mapping[str, str] | None, report: Report) -> None:
    """Checks whether a message is still what was signed, and, by the published `keys`, by whom."""
    for field in root.all("dkim-signature")[:_MOST_COMPUTED]:
        signature = Signature.of(field.raw)
        if signature.octets("bh") and signature.fits_body(raw[root.body_start :]) is False:
            report.add_at("machines.dkim-body", field)
        elif keys is not None:
            _check_key(field, signature, raw, keys, report)


def _check_key(field: ReadField, signature: Signature, raw: bytes, keys: Mapping[str, str], report: Report) -> None:
    why = verifies(raw, (raw[field.start : field.start + len(field.name)], raw[field.value_start : field.end]), keys)
    if why is None:
        report.add_at("machines.dkim-unknown", field, signature.key_name)
    elif why:
        report.add_at("machines.dkim-broken", field, why)
