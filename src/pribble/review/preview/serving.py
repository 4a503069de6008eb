"""The preview on a server of its own, for whoever writes templates: what is saved is shown at once.

It listens on loopback alone, for one browser: the address that it gives holds a token, which that browser trades once
for a cookie, and every answer asks for the cookie.  What another page could make a browser send is refused: a name that
leads here (Host), a request that comes from elsewhere (Origin, Fetch Metadata), JSON that says it is something else.
"""

from __future__ import annotations

import hmac
import queue
import secrets
import socket
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from pribble.errors import DataError, PribbleError, Source, loaded, visible
from pribble.mime.address import mailbox
from pribble.mime.message import Message
from pribble.review.json_data import Json, written_json
from pribble.review.preview.live_templates import LiveTemplates
from pribble.review.preview.page_file import policy
from pribble.template import UnknownTemplate
from pribble.values.kinds import Data
from pribble.values.reading import read_json

if TYPE_CHECKING:
    from flask import Flask, Response

HOST = "127.0.0.1"
_LARGEST = 1_000_000  # bytes of what is posted
_MOST_LISTENERS = 20
_HEARTBEAT = 15.0  # seconds
# A save is announced after so many milliseconds in which nothing else was written, and at the latest after so many.
_STEP, _DEBOUNCE = 15, 60
_NEEDS = "a live preview needs the flask and watchfiles packages"


class PreviewServer:
    """Shows templates in one browser, and again at each save; use it as a context manager, or call `start` and `stop`.

    `port` 0 takes any free one.  `send` is called with a message and an address; what it returns, as a receipt, is
    shown as a text.  Raises `MissingExtra` where the packages of the extra ``preview`` are not installed, `OSError`
    where the port is taken.
    """

    def __init__(
        self, templates: LiveTemplates, *, port: int = 0, send: Callable[[Message, str], object] | None = None
    ) -> None:
        serving = loaded("werkzeug.serving", extra="preview", message=_NEEDS)
        self._watchfiles = loaded("watchfiles", extra="preview", message=_NEEDS)
        self._templates, self._send = templates, send
        self._listeners: list[queue.SimpleQueue[str | None]] = []
        self._stopping = threading.Event()
        self._token, self._cookie = secrets.token_urlsafe(24), secrets.token_urlsafe(24)
        self._lock = threading.Lock()
        quiet = type("_Quiet", (serving.WSGIRequestHandler,), {"log": _say_nothing, "version_string": _server_name})
        self._socket = socket.create_server((HOST, port))
        self._server = serving.make_server(
            HOST, 0, self._application(), threaded=True, request_handler=quiet, fd=self._socket.fileno()
        )
        self.port: int = self._socket.getsockname()[1]
        self._threads = [
            threading.Thread(target=each, daemon=True) for each in (self._serve, self._watch, self._prepare)
        ]

    @property
    def origin(self) -> str:
        """Where it listens: the scheme, the host, the port."""
        return f"http://{HOST}:{self.port}"

    @property
    def address(self) -> str:
        """The address for the browser, with the token that it trades once."""
        return f"{self.origin}/?token={self._token}"

    def start(self) -> None:
        """Begin to listen and to watch."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """End both."""
        self._stopping.set()
        for listener in list(self._listeners):
            listener.put(None)
        self._server.shutdown()
        for thread in self._threads:
            thread.join()
        self._server.server_close()
        self._socket.close()

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def _serve(self) -> None:
        self._server.serve_forever(poll_interval=0.1)

    def _prepare(self) -> None:
        """Make what the page shows, before somebody asks for it."""
        for name in self._templates.names:
            if self._stopping.is_set():
                return
            with suppress(UnknownTemplate):  # it has gone meanwhile
                self._templates.shown(name)

    # -- what is saved --

    def _watch(self) -> None:
        changes = self._watchfiles.watch(
            self._templates.path,
            watch_filter=lambda _, path: not Path(path).name.startswith("."),
            debounce=_DEBOUNCE,
            step=_STEP,
            rust_timeout=200,
            stop_event=self._stopping,
            raise_interrupt=False,
            yield_on_timeout=True,
        )
        is_first = True
        for found in changes:
            # What was saved while the watch was being set up is known by nothing else.
            if not found and not is_first:
                continue
            is_first = False
            came_or_went = any(change != self._watchfiles.Change.modified for change, _ in found)
            changed = self._templates.changed(files_came_or_went=came_or_went)
            if not found and not changed:
                continue
            said: Json = {"changed": changed, "names": self._templates.names}
            for listener in list(self._listeners):
                listener.put(f"event: saved\ndata: {written_json(said)}\n\n")

    def _events(self) -> Iterator[str]:
        listener: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._listeners.append(listener)
        try:
            yield ": here\n\n"
            while not self._stopping.is_set():
                try:
                    said = listener.get(timeout=_HEARTBEAT)
                except queue.Empty:
                    said = ": still here\n\n"
                if said is None:
                    return
                yield said
        finally:
            self._listeners.remove(listener)

    # -- routes --

    def _application(self) -> Flask:
        flask = loaded("flask", extra="preview", message=_NEEDS)
        app: Flask = flask.Flask("pribble.preview", static_folder=None, template_folder=None)
        app.config["MAX_CONTENT_LENGTH"] = _LARGEST
        app.before_request(lambda: self._refusal(flask.request))
        app.after_request(_with_headers)

        def problem(status: int, message: str) -> Response:
            made: Response = flask.Response(written_json({"message": message}), status, mimetype="application/json")
            return made

        self._problem = problem
        app.register_error_handler(PribbleError, lambda error: problem(422, _problem_and_hint(error)))
        # What is gone, or was changed, while it was looked at.
        for kind in (UnknownTemplate, OSError, ValueError):
            app.register_error_handler(kind, lambda error: problem(409, visible(str(error))))
        http_error = loaded("werkzeug.exceptions", extra="preview", message=_NEEDS).HTTPException
        app.register_error_handler(http_error, lambda error: problem(error.code, error.description))

        def answer(value: Json) -> Response:
            made: Response = flask.Response(written_json(value), mimetype="application/json")
            return made

        @app.get("/")
        def page() -> Response:
            given = flask.request.args.get("token")
            if given is not None:  # the check of the request has taken it
                response: Response = flask.redirect("/", 303)
                response.set_cookie(self._cookie_name, self._cookie, httponly=True, samesite="Strict", path="/")
                return response
            made: Response = flask.Response(self._templates.page(), mimetype="text/html")
            return made

        @app.get("/events")
        def events() -> Response:
            if len(self._listeners) >= _MOST_LISTENERS:
                return problem(503, "there are too many pages open")
            made: Response = flask.Response(self._events(), mimetype="text/event-stream")
            return made

        @app.get("/templates/<path:name>")
        def template(name: str) -> Response:
            if name not in self._templates.names:
                return problem(404, "there is no such template")
            asked = flask.request.args
            if "sample" in asked:
                viewers = asked.getlist("viewer")
                return answer(self._templates.first_sight(name, asked["sample"], asked.get("locale", ""), viewers))
            return answer(self._templates.shown(name))

        @app.post("/messages")
        def messages() -> Response:
            given = self._given(flask.request)
            return answer(
                self._templates.edited(
                    _posted_text(given, "template"), _posted_text(given, "locale"), given.get("data")
                )
            )

        @app.post("/samples")
        def samples() -> Response:
            given = self._given(flask.request)
            path = self._templates.keep(
                _posted_text(given, "template"),
                _posted_text(given, "label"),
                given.get("data"),
                over=given.get("over") is True,
            )
            return answer({"file": path.name})

        @app.post("/deliveries")
        def deliveries() -> Response:
            given = self._given(flask.request)
            if self._send is None:
                return problem(
                    409, "no transport is set up: start the preview with --through, or name one in pribble.toml"
                )
            to = _posted_text(given, "to")
            mailbox(to, "To")
            made = self._templates.message(
                _posted_text(given, "template"), _posted_text(given, "locale"), given.get("data"), to
            )
            return answer({"message": str(self._send(made, to))})

        return app

    @property
    def _cookie_name(self) -> str:
        return f"pribble-preview-{self.port}"

    def _refusal(self, request: Any) -> Response | None:
        """Returns the answer to a request that is refused; None for one that may go on."""
        if request.headers.get("Host") != f"{HOST}:{self.port}":
            return self._problem(421, "this server answers to its own name alone")
        token = request.args.get("token")
        if token is not None and request.path == "/" and request.method == "GET":
            used = "this address was used already; start the preview anew"
            return None if self._trade(token) else self._problem(403, used)
        # Another server on this machine gets our cookie, since ports share them, and is another site all the same.
        if request.headers.get("Sec-Fetch-Site", "none") not in ("same-origin", "none"):
            return self._problem(403, "this request comes from another page")
        if request.method == "POST":
            if request.headers.get("Origin") != self.origin:
                return self._problem(403, "this request comes from another page")
            if request.headers.get("Content-Type") != "application/json":
                return self._problem(415, "this takes application/json alone")
        cookie = request.cookies.get(self._cookie_name, "")
        if not hmac.compare_digest(cookie.encode(), self._cookie.encode()):
            return self._problem(403, "open the address that pribble preview gave, with its token")
        return None

    def _trade(self, token: str) -> bool:
        """Returns whether a token is the one that was given; it is so once."""
        with self._lock:
            fits = bool(self._token) and hmac.compare_digest(token.encode(), self._token.encode())
            if fits:
                self._token = ""
            return fits

    @staticmethod
    def _given(request: Any) -> Mapping[str, Data]:
        """Returns the object that was posted.  Raises `DataError`."""
        try:
            text = request.get_data().decode("utf-8")
        except UnicodeDecodeError:
            raise DataError("what was sent is no UTF-8") from None
        given = read_json(Source("the request", text))
        if not isinstance(given, Mapping):
            raise DataError("what was sent is no object")
        return given


def _posted_text(given: Mapping[str, Data], name: str) -> str:
    value = given.get(name)
    if not isinstance(value, str):
        raise DataError(f'"{name}" is a text')
    return value


def _problem_and_hint(error: PribbleError) -> str:
    return f"{error.problem} ({error.hint})" if error.hint else error.problem


def _with_headers(response: Response) -> Response:
    """What holds for every answer: nothing is kept, framed, guessed or told to others."""
    response.headers["Cache-Control"] = "no-store"
    response.headers["Content-Security-Policy"] = f"{policy(live=True)}; frame-ancestors 'none'"
    response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
    response.headers["Referrer-Policy"] = "no-referrer"
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["X-Frame-Options"] = "DENY"
    return response


def _say_nothing(*_: object) -> None:
    """Log nothing."""


def _server_name(_: object) -> str:
    return "pribble"
