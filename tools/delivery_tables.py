"""The tables of docs/delivery.md: the states of a recipient, and which answer leads to which."""

from __future__ import annotations

from pribble.delivery.smtp import TIME_LIMITS
from pribble.delivery.states import MOVES, ROWS, Answer, Next, Row, Step

_STEPS: dict[Step, str] = {
    "connect": "connecting",
    "greeting": "the connection",
    "ehlo": "EHLO",
    "starttls": "STARTTLS",
    "tls": "the beginning of TLS",
    "auth": "AUTH",
    "rset": "RSET",
    "mail": "MAIL",
    "rcpt": "RCPT",
    "data": "DATA",
    "body": "the body, before the dot",
    "dot": "the dot",
}
_ANSWERS: dict[Answer, str] = {
    "ok": "2yz",
    "more": "3yz",
    "later": "4yz",
    "no": "5yz",
    "full": "452, 552",
    "closing": "421",
    "closed": "closed",
    "silent": "silence",
    "broken": "no reply",
}
_OTHERWISE: dict[tuple[Step, Answer], str] = {
    ("connect", "ok"): "taken",
    ("connect", "no"): "no name of a host",
    ("tls", "ok"): "agreed",
    ("tls", "no"): "a certificate that does not convince",
    ("starttls", "no"): "5yz, or not offered",
    ("auth", "no"): "5yz, or none that is known",
}
_NEXT: dict[Next, str] = {
    "continue": "go on",
    "again": "a further transaction for these",
    "reset": "end of the message; RSET before the next one",
    "close": "end of the message and of the connection",
    "reconnect": "at once over a fresh connection",
    "pause": "`DeliveryError`; another time it may be taken",
    "stop": "`DeliveryError`, `is_lasting`",
}


def moves() -> str:
    """The states, as a diagram."""
    lines = [f"    {one.before} --> {one.after}: {one.why}" for one in MOVES]
    return "\n".join(["```mermaid", "stateDiagram-v2", "    [*] --> planned", *lines, "```"])


def answers() -> str:
    """What each answer means."""
    head = "| to | answer | connection | recipients are | then | within |\n|---|---|---|---|---|---|\n"
    return head + "\n".join(map(_row, ROWS))


def _row(row: Row) -> str:
    said = ", ".join(_OTHERWISE.get((row.step, one), _ANSWERS[one]) for one in row.answers)
    ages = " or ".join(row.ages)
    limit = f"{TIME_LIMITS[row.step]:.0f} s"
    return f"| {_STEPS[row.step]} | {said} | {ages} | {row.state.replace('_', ' ')} | {_NEXT[row.next]} | {limit} |"
