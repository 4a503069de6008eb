"""The application: what each route does, as a WSGI application (PEP 3333)."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from pribble.delivery.composing import words_of
from pribble.delivery.journal_tables import JournalError
from pribble.delivery.mailroom import EventError, KeyDiffers, Mailroom, Posted, UnderWay
from pribble.errors import FieldError, PribbleError, TemplateError, loaded
from pribble.language.field_schema import field_schema
from pribble.rendering.rendering import Rendering, checked_embed
from pribble.serving import bodies
from pribble.serving.gate import LOOPBACK_NAMES, Gate, checked_token
from pribble.serving.json_body import json_body
from pribble.serving.openapi import RENDERING_MEMBERS, openapi
from pribble.serving.problems import PROBLEM_TYPE, Problem, not_made, unknown
from pribble.serving.request_log import RequestLog, place_of
from pribble.serving.routes import HTML, JSON, MESSAGE, ROUTES, TEXT
from pribble.template import Template, UnknownTemplate
from pribble.values.kinds import Data

if TYPE_CHECKING:
    from flask import Flask, Request, Response

NEEDS = "serving needs the flask and waitress packages"
_AGAIN = {"Retry-After": "2"}  # seconds after which what is under way may have ended
_LATER = {"Retry-After": "30"}
_HEADERS = {
    "Cache-Control": "no-store",
    "X-Content-Type-Options": "nosniff",
    # A page that a template makes is shown, where a browser asks for it, and does nothing.
    "Content-Security-Policy": "default-src 'none'; img-src data:; style-src 'unsafe-inline'; sandbox",
}


def application(
    mailroom: Mailroom,
    *,
    token: str | None,
    names: Collection[str] = LOOPBACK_NAMES,
    log: Callable[[Mapping[str, Any]], None] | None = None,
    waits: Callable[[], None] | None = None,
) -> Flask:
    """Returns the application that answers for a mailroom, for any WSGI server.

    - `token`: what requests say in ``Authorization: Bearer`` (RFC 6750); None lets everybody in.
    - `names`: the names that the server has in Host.
    - `log`: called with what is known of each request, when it ends; no key in it can be read, and no data.
    - `waits`: called when something waits that `Mailroom.send_waiting` should send.

    Raises `DataError` for a token that is none, `MissingExtra` where Flask is not installed.
    """
    flask = loaded("flask", extra="serve", message=NEEDS)
    gate = Gate(None if token is None else checked_token(token), frozenset(name.lower() for name in names))
    app: Flask = flask.Flask("pribble.serving", static_folder=None, template_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = bodies.LARGEST
    app.url_map.merge_slashes = app.url_map.strict_slashes = False
    app.url_map.converters["rest"] = _rest_of_path()
    _Application(flask, app, mailroom, gate, RequestLog(log), waits or (lambda: None))
    return app


def _rest_of_path() -> Any:
    """Returns what reads a parameter that goes on to the end of the path, whatever stands in it."""
    routing = loaded("werkzeug.routing", extra="serve", message=NEEDS)
    return type("Rest", (routing.BaseConverter,), {"regex": ".+", "part_isolating": False})


# How Flask reads the parameters of a path.
_READ_AS = {"{event}": "<event>", "{key}": "<rest:key>", "{template}": "<path:template>"}


class _Application:
    """The routes, by the names that they have in the table."""

    def __init__(
        self, flask: Any, app: Flask, mailroom: Mailroom, gate: Gate, log: RequestLog, waits: Callable[[], None]
    ) -> None:
        self._flask, self._mailroom, self._waits, self._log = flask, mailroom, waits, log
        self._under_way = _UnderWay()
        self._interface = json_body(openapi(has_token=gate.token is not None))
        for route in ROUTES:
            rule = route.path
            for written, read in _READ_AS.items():
                rule = rule.replace(written, read)
            app.add_url_rule(
                rule, route.name, getattr(self, route.name), methods=[route.method], provide_automatic_options=False
            )
        app.before_request(log.begin)
        app.before_request(lambda: gate.check(flask.request))
        app.after_request(self._ended)
        app.register_error_handler(Exception, self._problem)

    @property
    def _request(self) -> Request:
        return self._flask.request  # type: ignore[no-any-return]

    # ---- routes -------------------------------------------------------------------------------------------------

    def post_event(self, event: str) -> Response:
        self._known_event(event)
        data, given = bodies.posted_object(self._request), bodies.idempotency_key(self._request)
        later = bodies.prefers(self._request, "respond-async")
        try:
            key = self._mailroom.key_of(event, data, given)
        except KeyDiffers as error:
            raise Problem("key-differs", error.problem) from None
        except (PribbleError, ValueError) as error:
            raise not_made(f"the event has no key: {words_of(error)}", [(None, error)]) from None
        self._log.note(event=event, key=key)
        with self._under_way.alone(event, key):
            try:
                posted = self._mailroom.post(event, data, key=key, later=later, wait=False)
            except UnderWay:
                raise Problem("under-way", "another process is posting it", _AGAIN) from None
            except EventError as error:
                raise not_made(error.problem, error.problems) from None
        later = later or self._mailroom.hands_over
        if later:
            self._waits()
        return self._answer(
            posted.as_data(),
            status=202 if later else 200,
            headers={"Location": _address(posted), **({"Preference-Applied": "respond-async"} if later else {})},
        )

    def event_posted(self, event: str, key: str) -> Response:
        self._known_event(event)
        self._log.note(event=event, key=key)
        posted = self._mailroom.posted(event, key)
        if posted is None:
            raise Problem("unknown", f'no event "{event}" was posted with this key')
        return self._answer(posted.as_data())

    def render(self, template: str) -> Response:
        chosen = self._template(template)
        given = bodies.posted_object(self._request)
        bodies.checked_members(given, RENDERING_MEMBERS)
        data = given.get("data")
        if not isinstance(data, Mapping):
            raise Problem("unreadable", '"data" is an object')
        types = (JSON, HTML, TEXT, MESSAGE)
        asked = self._request.accept_mimetypes
        wanted = asked.best_match(types) if asked else JSON
        if wanted is None:
            raise Problem("not-acceptable", f"there is {', '.join(types)}")
        try:
            return self._rendered(chosen, given, wanted)
        except FieldError as error:
            locale = bodies.member_text(given, "locale")
            problems = chosen.problems(data, locale=locale) or [error]
            raise not_made(error.problem, [(None, one) for one in problems]) from None
        except (PribbleError, ValueError) as error:
            raise not_made(words_of(error), [(None, error)]) from None

    def templates(self) -> Response:
        return self._answer({"templates": [{"name": name} for name in self._mailroom.templates]})

    def template_fields(self, template: str) -> Response:
        chosen = self._template(template)
        return self._answer(field_schema(chosen.fields(), template), kind="application/schema+json")

    def health(self) -> Response:
        return self._answer({"status": "ok", "waiting": self._mailroom.journal.count_waiting()})

    def interface(self) -> Response:
        return self._respond(self._interface, JSON)

    # ---- what they share ----------------------------------------------------------------------------------------

    def _known_event(self, name: str) -> None:
        """Raise `Problem` for an event that there is not, or in whose settings there is a mistake."""
        events = self._mailroom.settings.events
        if name not in events:
            raise unknown("event", name, events)
        try:
            self._mailroom.event(name)
        except PribbleError as error:
            raise Problem("broken", str(error).partition("\n")[0]) from None

    def _template(self, name: str) -> Template:
        """Returns the template with a name.  Raises `Problem` where there is none, or it is wrong."""
        try:
            return self._mailroom.templates[name]
        except UnknownTemplate:
            raise unknown("template", name, self._mailroom.templates) from None
        except TemplateError as error:
            raise Problem("broken", str(error).partition("\n")[0]) from None

    def _rendered(self, template: Template, given: Mapping[str, Data], wanted: str) -> Response:
        """Returns the form of a template that is wanted.  Raises what rendering and `Message` raise."""
        embed = checked_embed(bodies.member_text(given, "embed"))
        if embed is None and wanted in (JSON, HTML) and self._mailroom.settings.embed is None:
            embed = "data"  # whoever gets a page alone has no other part that pictures could be in
        made = template.render(
            given["data"],
            locale=bodies.member_text(given, "locale"),
            timezone=bodies.member_text(given, "timezone"),
            embed=embed,
        )
        if wanted == MESSAGE:
            return self._respond(self._message(made, given), MESSAGE)
        if wanted == TEXT:
            return self._respond(made.text.encode("utf-8"), f"{TEXT}; charset=utf-8")
        if wanted == HTML:
            if made.html is None:
                raise Problem("not-acceptable", "the template is text only")
            return self._respond(made.html.encode("utf-8"), f"{HTML}; charset=utf-8")
        forms = {name: getattr(made, name) for name in ("subject", "preheader", "html", "text")}
        findings = [one.as_data() for one in (*template.findings, *made.findings)]
        return self._answer({"template": template.name, **forms, "findings": findings})

    def _message(self, made: Rendering, given: Mapping[str, Data]) -> bytes:
        settings = self._mailroom.settings
        named = bodies.member_text(given, "sender")
        sender = settings.sender(named or "default") or named
        if sender is None or "@" not in sender:
            raise Problem("not-made", '"sender" is a mailbox, or a name in [senders] of pribble.toml')
        to, cc, reply_to = (bodies.member_texts(given, name) for name in ("to", "cc", "reply_to"))
        return bytes(made.message(sender=sender, to=to, cc=cc, reply_to=reply_to))

    def _answer(
        self,
        value: Mapping[str, Any],
        *,
        status: int = 200,
        headers: Mapping[str, str] | None = None,
        kind: str = JSON,
    ) -> Response:
        return self._respond(json_body(value), kind, status=status, headers=headers)

    def _respond(
        self, content: bytes, kind: str, *, status: int = 200, headers: Mapping[str, str] | None = None
    ) -> Response:
        made: Response = self._flask.Response(content, status, content_type=kind, headers=dict(headers or {}))
        return made

    def _problem(self, error: Exception) -> Response:
        """Returns the response to what a request ended with."""
        problem = self._as_problem(error)
        self._log.note(problem=problem.kind)
        return self._respond(problem.body(), PROBLEM_TYPE, status=problem.status, headers=problem.headers)

    def _as_problem(self, error: Exception) -> Problem:
        if isinstance(error, Problem):
            return error
        if isinstance(error, JournalError):
            self._log.note(error=error.problem)
            return Problem("no-journal", "the journal cannot be reached, or is busy", _LATER)
        match getattr(error, "code", None):
            case 404:
                return Problem("unknown", "there is nothing at this address; GET /openapi.json says what there is")
            case 405:
                allowed = ", ".join(sorted(set(getattr(error, "valid_methods", None) or ()) - {"HEAD"}))
                return Problem("wrong-method", f"this takes {allowed}", {"Allow": allowed})
            case 413:
                return bodies.too_large()
            case 400:
                return Problem("malformed", "the request cannot be read")
        self._log.note(fault=type(error).__name__, where=place_of(error))
        return Problem("fault", "the server failed; its log says where")

    def _ended(self, response: Response) -> Response:
        for name, value in _HEADERS.items():
            response.headers[name] = value
        self._log.write(self._request, response)
        return response


class _UnderWay:
    """The events that are being posted now."""

    def __init__(self) -> None:
        self._known: set[tuple[str, str]] = set()
        self._lock = threading.Lock()

    @contextmanager
    def alone(self, event: str, key: str) -> Iterator[None]:
        """What is done in it is done once at a time for each event and key.  Raises `Problem` where it is done now."""
        with self._lock:
            if (event, key) in self._known:
                raise Problem("under-way", "another request is posting it", _AGAIN)
            self._known.add((event, key))
        try:
            yield
        finally:
            with self._lock:
                self._known.discard((event, key))


def _address(posted: Posted) -> str:
    """Returns the path at which one can ask what became of an event."""
    return f"/events/{quote(posted.event, safe='')}/{quote(posted.key, safe='')}"
