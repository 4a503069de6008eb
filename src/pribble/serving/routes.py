"""What can be asked, a row each; the application has these routes, and the description of the interface says them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pribble.records import field, record

JSON, HTML, TEXT, MESSAGE = "application/json", "text/html", "text/plain", "message/rfc822"
# What every request can end with, and what every body can.
ALWAYS = ("malformed", "unauthorized", "wrong-method", "unknown-host", "fault")
OF_BODIES = ("unreadable", "too-large", "not-json")


@record(frozen=True, slots=True)
class Answer:
    """What a request ends with: its words, the name of its schema, its types; whether Location is there."""

    words: str
    schema: str
    types: Sequence[str] = (JSON,)
    location: bool = False


@record(frozen=True, slots=True)
class Route:
    """A route: its path, with the names of its parameters in braces; the name of its body's schema; what it ends with,
    by status, and with which problems besides those of all."""

    name: str
    method: str
    path: str
    words: str
    answers: Mapping[int, Answer]
    body: str | None = None
    problems: Sequence[str] = ()
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def all_problems(self) -> tuple[str, ...]:
        """The problems that it can end with."""
        return (*ALWAYS, *(OF_BODIES if self.body else ()), *self.problems)


_HEADERS = {
    "Idempotency-Key": "the event's key, where its data give it none",
    "Prefer": "`respond-async`: keep the event, and send its messages after the answer (RFC 7240)",
}

ROUTES = (
    Route(
        "post_event",
        "POST",
        "/events/{event}",
        "Post an event: all its messages are made, kept, and sent.  Posted again, nothing is sent twice.",
        {
            200: Answer("what became of it, for each recipient", "Posted", location=True),
            202: Answer("it is kept, and its messages are sent later", "Posted", location=True),
        },
        "Data",
        ("key-differs", "unknown", "under-way", "not-made", "broken", "no-journal"),
        _HEADERS,
    ),
    Route(
        "event_posted",
        "GET",
        "/events/{event}/{key}",
        "What became of an event that was posted.",
        {200: Answer("what is known of each recipient", "Posted")},
        problems=("unknown", "no-journal"),
    ),
    Route(
        "render",
        "POST",
        "/templates/{template}/render",
        "Fill a template: all its forms as JSON, or the one that Accept asks for.",
        {200: Answer("the template, filled", "Rendered", (JSON, HTML, TEXT, MESSAGE))},
        "Rendering",
        ("unknown", "not-acceptable", "not-made", "broken"),
    ),
    Route(
        "templates",
        "GET",
        "/templates",
        "The names of all templates.",
        {200: Answer("their names", "Templates")},
    ),
    Route(
        "template_fields",
        "GET",
        "/templates/{template}/fields",
        "What data a template needs, as a JSON Schema.",
        {200: Answer("a JSON Schema, draft 2020-12", "Schema", ("application/schema+json",))},
        problems=("unknown", "broken"),
    ),
    Route(
        "health",
        "GET",
        "/health",
        "Whether the server answers and reaches its journal.",
        {200: Answer("it does", "Health")},
        problems=("no-journal",),
    ),
    Route(
        "interface",
        "GET",
        "/openapi.json",
        "This description.",
        {200: Answer("a description after OpenAPI 3.1", "Interface")},
    ),
)
