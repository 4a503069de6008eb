"""What a request can end with instead of an answer: problem details (RFC 9457), one row each."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pribble.delivery.composing import words_of
from pribble.errors import PribbleError, did_you_mean, visible
from pribble.records import record
from pribble.serving.json_body import json_body

PROBLEM_TYPE = "application/problem+json"
# What types begin with: names that are compared, and no addresses to open (RFC 4151).
_TYPES = "tag:pribble.example,2026:"


@record(frozen=True, slots=True)
class ProblemKind:
    """A kind of problem: its status (RFC 9110 15), and what a client can make of it."""

    status: int
    title: str
    advice: str


PROBLEM_KINDS: Mapping[str, ProblemKind] = {
    "malformed": ProblemKind(400, "this is no request of HTTP", "mend the client"),
    "unreadable": ProblemKind(400, "the body cannot be read", "send one object of JSON in UTF-8"),
    "key-differs": ProblemKind(400, "the event is named by two keys", "leave Idempotency-Key out, or mend it"),
    "unauthorized": ProblemKind(401, "the token is missing, or another one", "send Authorization: Bearer TOKEN"),
    "unknown": ProblemKind(404, "there is nothing of this name", "look at its name"),
    "wrong-method": ProblemKind(405, "this takes another method", "use the one that Allow names"),
    "not-acceptable": ProblemKind(406, "there is no such form", "ask in Accept for one that there is"),
    "under-way": ProblemKind(409, "the event is being posted now", "ask again after Retry-After"),
    "too-large": ProblemKind(413, "the body is too large", "send less"),
    "not-json": ProblemKind(415, "the body is of another type", "send application/json, not compressed"),
    "unknown-host": ProblemKind(421, "this server has another name", "start it with --name NAME"),
    "not-made": ProblemKind(422, "a message cannot be made", "mend the data: each problem is told"),
    "fault": ProblemKind(500, "the server failed", "look at its log"),
    "broken": ProblemKind(500, "a template or setting is wrong", "mend it, and start the server again"),
    "unsupported": ProblemKind(501, "the request asks for what this server has not", "mend the client"),
    "no-journal": ProblemKind(503, "the journal cannot be reached", "ask again after Retry-After"),
}


class Problem(Exception):
    """A request ends with a problem of a kind: `detail` says what is wrong with this one, `members` are further ones of
    its object."""

    def __init__(self, kind: str, detail: str, headers: Mapping[str, str] | None = None, **members: Any) -> None:
        super().__init__(detail)
        self.kind = kind
        self.detail, self.members, self.headers = visible(detail), members, headers or {}

    @property
    def status(self) -> int:
        """The status of the response."""
        return PROBLEM_KINDS[self.kind].status

    def body(self) -> bytes:
        """Returns the object of RFC 9457 3 as JSON."""
        kind = PROBLEM_KINDS[self.kind]
        said = {"type": f"{_TYPES}{self.kind}", "title": kind.title, "status": kind.status, "detail": self.detail}
        return json_body({**said, **self.members})


def unknown(what: str, name: str, known: Iterable[str]) -> Problem:
    """Returns the problem of a name that there is not; near ones are told."""
    return Problem("unknown", with_hint(f'there is no {what} "{name[:100]}"', did_you_mean(name, known)))


def with_hint(words: str, hint: str | None) -> str:
    """Returns words, and behind them what would be right, where that is known."""
    return f"{words} ({hint})" if hint else words


def not_made(detail: str, problems: Iterable[tuple[str | None, Exception]]) -> Problem:
    """Returns the problem of what cannot be made, with all that is wrong: the names of messages, and errors."""
    told = [{**({"name": name} if name else {}), **_problem_data(error)} for name, error in problems]
    return Problem("not-made", detail, problems=told)


def _problem_data(error: Exception) -> dict[str, Any]:
    if isinstance(error, PribbleError):
        return error.as_data()
    return {"message": visible(words_of(error)), "hint": None, "where": None}
