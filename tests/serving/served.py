"""A server to ask: in this process, or in one of its own; what it answers is held against its own description."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from http.client import HTTPConnection, HTTPMessage
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator

from pribble.delivery import Mailroom
from pribble.serving import Server, application
from tests.support import ROOT

TOKEN = "a-token-of-the-tests-0001"
AUTHORIZED = {"Authorization": f"Bearer {TOKEN}"}
PROJECT = """\
journal = "post.journal"
[senders]
default = "Office <office@skerrow.example>"
[transports.default]
url = "smtp://127.0.0.1:9"
[events.booked]
key = "{{ ref }}"
[[events.booked.messages]]
template = "thanks"
to = "{{ name? }} <{{ mail }}>"
[[events.booked.messages]]
name = "desk"
template = "thanks"
to = "desk@skerrow.example"
[events.noticed]
[[events.noticed.messages]]
template = "seasons/notice"
to = "{{ mail }}"
"""
FILES = {
    "pribble.toml": PROJECT,
    "templates/thanks.html": "{{ subject: }}Thanks, {{ name }}{{ :subject }}<p>For {{ ref }}, {{ price as money('GBP') }}</p>",
    "templates/seasons/notice.txt": "{{ subject: }}Notice{{ :subject }}Pier {{ pier }} opens.",
}
DATA = {"ref": "B 14", "name": "Ana", "mail": "ana@example.org", "price": 12.5}


@dataclass(frozen=True)
class Answer:
    status: int
    headers: HTTPMessage
    content: bytes

    @property
    def data(self) -> Any:
        return json.loads(self.content)


class Client:
    """Asks a server, and judges each answer by the server's description: status, type, schema."""

    def __init__(self, port: int, headers: Mapping[str, str] = AUTHORIZED) -> None:
        self.port, self._headers = port, headers
        self.description: dict[str, Any] = {}
        self.description = self("GET", "/openapi.json").data

    def __call__(
        self, method: str, path: str, body: object = None, *, headers: Mapping[str, str | None] | None = None
    ) -> Answer:
        raw = body if isinstance(body, bytes) else None if body is None else json.dumps(body).encode()
        given = {
            **self._headers,
            **({"Content-Type": "application/json"} if raw is not None else {}),
            **(headers or {}),
        }
        connection = HTTPConnection("127.0.0.1", self.port, timeout=60)
        try:
            connection.request(method, path, raw, {name: one for name, one in given.items() if one is not None})
            response = connection.getresponse()
            answer = Answer(response.status, response.headers, response.read())
        finally:
            connection.close()
        if self.description:
            self._judge(method, path, answer)
        return answer

    def _judge(self, method: str, path: str, answer: Answer) -> None:
        operation = self._operation(method, path)
        kind = answer.headers.get_content_type()
        if operation is None:
            assert answer.status in (401, 404, 405, 421) and kind == "application/problem+json", answer
            schema: Any = {"$ref": "#/components/schemas/Problem"}
        else:
            declared = operation["responses"].get(str(answer.status))
            assert declared, f"{method} {path} ended with {answer.status}, which its description does not know"
            assert kind in declared["content"], f"{method} {path}: {kind}"
            schema = declared["content"][kind]["schema"]
        if kind.endswith("json"):
            whole = {**schema, "components": self.description["components"]}
            Draft202012Validator(whole).validate(answer.data)
        if answer.status >= 400:
            assert answer.data["status"] == answer.status

    def _operation(self, method: str, path: str) -> Any:
        """The operation that a path belongs to; the longest one, since a name may have strokes in it."""
        for known in sorted(self.description["paths"], key=len, reverse=True):
            pattern = re.sub(r"\{event\}", "[^/]+", known)
            if re.fullmatch(re.sub(r"\{\w+\}", ".+", pattern), path.partition("?")[0]):
                found = self.description["paths"][known].get(method.lower())
                if found is not None:
                    return found
        return None


@contextmanager
def serving(mailroom: Mailroom, token: str | None = TOKEN, **options: Any) -> Iterator[Client]:
    """A client of a server in a thread of this process."""
    server = Server(application(mailroom, token=token, **options), "127.0.0.1", 0, threads=8)
    thread = threading.Thread(target=server.run)
    thread.start()
    try:
        yield Client(server.port, AUTHORIZED if token else {})
    finally:
        server.stop()
        thread.join()


class Process:
    """``pribble serve`` in a process of its own, in a folder with a project."""

    def __init__(self, folder: Path, *options: str) -> None:
        self._log = folder / "serve.log"
        with open(self._log, "ab") as log:
            began = log.tell()
            self._process = subprocess.Popen(
                [sys.executable, "-m", "pribble", "serve", "--port", "0", *options],
                cwd=folder,
                stdout=log,
                env={**os.environ, "PRIBBLE_TOKEN": TOKEN, "PYTHONPATH": str(ROOT / "src")},
            )
        while b"\n" not in (said := self._log.read_bytes()[began:]) and self._process.poll() is None:
            time.sleep(0.02)
        try:
            self.port = int(json.loads(said.partition(b"\n")[0])["listening"].rpartition(":")[2])
        except (ValueError, KeyError):
            self.kill()
            raise

    def __enter__(self) -> Process:
        return self

    def __exit__(self, *error: object) -> None:
        self.kill()

    def kill(self) -> None:
        """It is gone, whatever it does."""
        self._process.kill()
        self._process.wait()

    def terminate(self) -> None:
        """It is asked to end."""
        self._process.send_signal(signal.SIGTERM)

    def wait(self) -> int:
        """Returns its exit code, when it has ended."""
        return self._process.wait(timeout=60)

    @property
    def lines(self) -> list[dict[str, Any]]:
        """What it has logged."""
        return [json.loads(line) for line in self._log.read_text(encoding="utf-8").splitlines()]
