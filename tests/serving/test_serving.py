"""Events and templates over HTTP: each answer is one that the description of the interface knows."""

from __future__ import annotations

import json
import re
import socket
import threading
import time
import unittest
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from email import message_from_bytes, policy
from functools import partial
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from openapi_spec_validator import validate

from pribble import Template, TemplateFolder
from pribble.delivery import Mailroom
from pribble.delivery.journal_tables import JournalError
from pribble.errors import FieldError
from pribble.language.field_schema import field_schema
from pribble.mime.base import BaseMessage
from pribble.serving import application
from pribble.serving.bodies import LARGEST
from pribble.serving.openapi import openapi
from pribble.serving.problems import PROBLEM_KINDS
from pribble.serving.routes import ROUTES
from pribble.testing import Outbox
from tests.serving.served import AUTHORIZED, DATA, FILES, TOKEN, Client, serving
from tests.support import DEMO, Case, generated, slow


class Served(Case):
    """A server with a project of its own, whose messages come into an outbox."""

    def setUp(self) -> None:
        self.outbox, self.lines = Outbox(), list[Mapping[str, Any]]()

    @contextmanager
    def served(
        self, *, token: str | None = TOKEN, files: Mapping[str, str] = FILES, **options: Any
    ) -> Iterator[Client]:
        path = self.folder(files).path
        with (
            Mailroom.from_config(path / "pribble.toml", through={"default": self.outbox}, **options) as self.mailroom,
            serving(self.mailroom, token, log=self.lines.append) as client,
        ):
            yield client


class Events(Served):
    def test_an_event_is_posted_once(self) -> None:
        with self.served() as ask:
            first, again = ask("POST", "/events/booked", DATA), ask("POST", "/events/booked", DATA)
            place = first.headers["Location"]
            known = ask("GET", place)
        self.assertEqual([one.status for one in (first, again, known)], [200, 200, 200])
        self.assertEqual([one.data["is_new"] for one in (first, again)], [True, False])
        states = [[one["state"] for one in message["outcomes"]] for message in first.data["messages"]]
        self.assertEqual(states, [["accepted"], ["accepted"]])
        self.assertEqual(first.data["messages"], known.data["messages"])
        self.assertEqual(len(self.outbox.messages), 2)
        self.assertEqual(place, "/events/booked/B%2014")

    def test_respond_async(self) -> None:
        with self.served() as ask:
            kept = ask("POST", "/events/booked", DATA, headers={"Prefer": "wait=5, Respond-Async"})
            self.assertEqual((kept.status, kept.headers["Preference-Applied"]), (202, "respond-async"))
            self.assertEqual(self.outbox.messages, [])
            self.mailroom.send_waiting()
            self.assertEqual(len(self.outbox.messages), 2)
            again = ask("POST", "/events/booked", DATA)
        self.assertEqual((again.status, again.data["is_new"]), (200, False))

    def test_handed_over(self) -> None:
        handed: list[tuple[str, str]] = []
        with self.served(hand_over=lambda *what: handed.append(what)) as ask:
            self.assertEqual(ask("POST", "/events/booked", DATA).status, 202)
        self.assertEqual(handed, [("booked", "B 14")])
        self.assertEqual(self.outbox.messages, [])

    def test_every_problem_is_told_and_nothing_is_sent(self) -> None:
        with self.served() as ask:
            answer = ask("POST", "/events/booked", {"ref": "1", "mail": "a@example.org", "price": "much"})
            self.assertEqual(answer.status, 422)
            self.assertIsNone(self.mailroom.posted("booked", "1"))
            bad = ask("POST", "/events/booked", {**DATA, "mail": "nobody"})
        problems = [(one["name"], one["message"][:25]) for one in answer.data["problems"]]
        names = ["thanks", "thanks", "desk", "desk"]
        self.assertEqual([name for name, _ in problems], names)
        self.assertEqual({words for _, words in problems}, {'no field "name" in the da', "money takes a number, and"})
        self.assertEqual(answer.data["problems"][0]["where"]["line"], 1)
        self.assertEqual([one["name"] for one in bad.data["problems"]], ["thanks"])
        self.assertEqual(self.outbox.messages, [])

    def test_keys_of_the_header(self) -> None:
        with self.served() as ask:

            def posted(event: str, data: object, key: str) -> Any:
                return ask("POST", f"/events/{event}", data, headers={"Idempotency-Key": key})

            notice = {"mail": "ana@example.org", "pier": "A"}
            for key, found in (
                ("n1", "n1"),
                ('"n2"', "n2"),
                (r'"a \"b\" \\"', r'a "b" \ '.strip()),
                ("Zoë".encode().decode("latin-1"), "Zoë"),
                ("a/../b?c#d", "a/../b?c#d"),
            ):
                with self.subTest(key):
                    answer = posted("noticed", notice, key)
                    self.assertEqual((answer.data["key"], answer.data["is_new"]), (found, True))
                    self.assertFalse(posted("noticed", notice, key).data["is_new"])
                    self.assertEqual(ask("GET", answer.headers["Location"]).data["key"], found)
            self.assertEqual(len(self.outbox.messages), 5)
            for key in ('"open', '"a" b', "\xff\xfe", "", " ", "\x01"):
                with self.subTest(key):
                    self.assertEqual(posted("noticed", notice, key).status, 400)
            self.assertEqual(posted("booked", DATA, "B 14").status, 200)
            differs = posted("booked", DATA, "B 15")
            self.assertEqual((differs.status, differs.data["type"].rpartition(":")[2]), (400, "key-differs"))
            self.assertTrue(posted("noticed", notice, "n" * 1000).data["is_new"])
            self.assertEqual(posted("noticed", notice, "n" * 1001).status, 422)

    def test_without_any_key_each_is_another_one(self) -> None:
        notice = {"mail": "ana@example.org", "pier": "A"}
        with self.served() as ask:
            places = {ask("POST", "/events/noticed", notice).headers["Location"] for _ in range(3)}
        self.assertEqual((len(places), len(self.outbox.messages)), (3, 3))

    def test_while_it_is_posted(self) -> None:
        going, go = threading.Event(), threading.Event()

        class Slow(Outbox):
            def deliver(self, message: BaseMessage, **given: Any) -> Any:
                going.set()
                go.wait(20)
                return super().deliver(message, **given)

        self.outbox = Slow()
        with self.served() as ask, ThreadPoolExecutor() as pool:
            first = pool.submit(ask, "POST", "/events/booked", DATA)
            going.wait(20)
            meanwhile = ask("POST", "/events/booked", DATA)
            other = pool.submit(ask, "POST", "/events/booked", {**DATA, "ref": "B 15"})
            # Another process would know it by the journal alone.
            with serving(self.mailroom) as elsewhere:
                there = elsewhere("POST", "/events/booked", DATA)
            go.set()
            self.assertEqual((first.result().status, other.result().status), (200, 200))
        for one in (meanwhile, there):
            self.assertEqual((one.status, one.headers["Retry-After"]), (409, "2"))
        self.assertEqual(len(self.outbox.messages), 4)

    @slow
    def test_fifty_at_once(self) -> None:
        """Thirty events, twenty of them twice."""
        asked = [{**DATA, "ref": f"B {n}", "mail": f"p{n}@example.org"} for n in [*range(30), *range(20)]]
        with self.served() as ask, ThreadPoolExecutor(50) as pool:
            statuses = {one.status for one in pool.map(lambda data: ask("POST", "/events/booked", data), asked)}
            once_more = [ask("POST", "/events/booked", data) for data in asked]
        self.assertLessEqual(statuses, {200, 409})
        self.assertEqual({(one.status, one.data["is_new"]) for one in once_more}, {(200, False)})
        people = sorted(one for message in self.outbox.messages for one in message.envelope.recipients)
        self.assertEqual(people, sorted([*(f"p{n}@example.org" for n in range(30)), *["desk@skerrow.example"] * 30]))

    def test_what_is_not_there(self) -> None:
        with self.served() as ask:
            for path in ("/events/booked/none", "/events/boked/x", "/events/boked", "/", "/events", "/events/", "//"):
                with self.subTest(path):
                    answer = ask("GET", path) if "none" in path or path[-2:] == "/x" else ask("POST", path, {})
                    self.assertEqual(answer.status, 404)
            self.assertIn('did you mean "booked"?', ask("POST", "/events/boked", {}).data["detail"])
            wrong = ask("PUT", "/events/booked", {})
            self.assertEqual((wrong.status, wrong.headers["Allow"]), (405, "POST"))
            self.assertEqual(ask("OPTIONS", "/events/booked").status, 405)

    def test_a_journal_that_is_away(self) -> None:
        with self.served() as ask:
            with unittest.mock.patch.object(self.mailroom.journal, "transaction", side_effect=JournalError("away")):
                for answer in (ask("POST", "/events/booked", DATA), ask("GET", "/health")):
                    self.assertEqual((answer.status, answer.headers["Retry-After"]), (503, "30"))
            self.assertEqual(ask("POST", "/events/booked", DATA).status, 200)
        self.assertEqual(len(self.outbox.messages), 2)

    def test_a_fault_says_no_data(self) -> None:
        with self.served() as ask:
            with unittest.mock.patch.object(self.mailroom, "post", side_effect=RuntimeError("ana@example.org B 14")):
                answer = ask("POST", "/events/booked", DATA)
            self.assertEqual(answer.status, 500)
        self.assertNotIn("ana@", f"{answer.content!r} {self.lines}")
        self.assertEqual(self.lines[-1]["fault"], "RuntimeError")


class Templates(Served):
    def test_all_forms(self) -> None:
        with self.served() as ask:

            def rendered(accept: str | None, **more: object) -> Any:
                body = {"data": DATA, **more}
                return ask("POST", "/templates/thanks/render", body, headers={"Accept": accept})

            whole = rendered(None).data
            self.assertEqual((whole["subject"], whole["template"]), ("Thanks, Ana", "thanks"))
            self.assertIn("£12.50", whole["html"])
            html, text = rendered("text/html"), rendered("text/*;q=0.5, text/plain")
            self.assertEqual((html.content.decode(), text.content.decode()), (whole["html"], whole["text"]))
            self.assertIn("sandbox", html.headers["Content-Security-Policy"])
            self.assertEqual(rendered("application/*").data["text"], whole["text"])
            made = rendered("message/rfc822", to=["Zoë <zoe@example.org>", "b@example.org"], reply_to="c@example.org")
            read = message_from_bytes(made.content, policy=policy.default)
            self.assertEqual(read["To"], "Zoë <zoe@example.org>, b@example.org")
            self.assertEqual(read["From"], "Office <office@skerrow.example>")
            self.assertEqual(rendered("text/plain", locale="en_ZA").content.decode().count("12,50"), 1)
            self.assertEqual(rendered("image/png").status, 406)

    def test_what_is_wrong(self) -> None:
        with self.served() as ask:
            for body, status in (
                ({"data": {}}, 422),
                ({"data": DATA, "locale": "xx_yy"}, 422),
                ({"data": DATA, "timezone": "Nowhere/Else"}, 422),
                ({"data": DATA, "embed": "aside"}, 422),
                ({"data": DATA, "embed": "link"}, 200),
                ({"data": DATA, "locale": 5}, 400),
                ({"data": [1]}, 400),
                ({}, 400),
                ({"dat": DATA}, 400),
            ):
                with self.subTest(body):
                    self.assertEqual(ask("POST", "/templates/thanks/render", body).status, status)
            wrong = ask("POST", "/templates/thanks/render", {"data": {}})
            self.assertEqual(len(wrong.data["problems"]), 3)
            as_message = {"Accept": "message/rfc822"}
            for more in (
                {"to": "nobody"},
                {"to": [5]},
                {"sender": "boss"},
                {"to": "a@example.org\r\nBcc: b@c.example"},
            ):
                with self.subTest(more):
                    given = {"data": DATA, **more}
                    status = ask("POST", "/templates/thanks/render", given, headers=as_message).status
                    self.assertIn(status, (400, 422))

    def test_names(self) -> None:
        with self.served() as ask:
            names = [one["name"] for one in ask("GET", "/templates").data["templates"]]
            self.assertEqual(names, ["seasons/notice", "thanks"])
            for name in ("seasons/notice", "seasons%2Fnotice"):
                text = ask(
                    "POST", f"/templates/{name}/render", {"data": {"pier": "A"}}, headers={"Accept": "text/plain"}
                )
                self.assertEqual(text.content.decode().strip(), "Pier A opens.")
                self.assertEqual(ask("GET", f"/templates/{name}/fields").data["required"], ["pier"])
            for name in ("../templates/thanks", "..%2Fpribble", "%00", "layouts/x", "thank", "thanks.html", "a" * 5000):
                with self.subTest(name):
                    self.assertEqual(ask("GET", f"/templates/{name}/fields").status, 404)
            html = ask(
                "POST", "/templates/seasons/notice/render", {"data": {"pier": 1}}, headers={"Accept": "text/html"}
            )
            self.assertEqual(html.status, 406)

    def test_a_template_that_is_wrong(self) -> None:
        with self.served(files={**FILES, "templates/broken.html": "{{ if }}"}) as ask:
            answer = ask("POST", "/templates/broken/render", {"data": {}})
            self.assertEqual((answer.status, answer.data["type"].rpartition(":")[2]), (500, "broken"))
            self.assertEqual(ask("GET", "/templates/broken/fields").status, 500)


TAKING_ALL = Template.from_text(
    "{{ if a: }}{{ for x in d: }}{{ x }}{{ :for }}{{ :if }}{{ b.c? else 1 }}{{ a as number if b else '' }}"
)


class Fields(unittest.TestCase):
    """The schema of a template's data, against what rendering takes."""

    @slow
    def test_samples_conform_and_what_rendering_refuses_does_not(self) -> None:
        folder, left_out = TemplateFolder(DEMO), 0
        for name, template in folder.items():
            schema = field_schema(template.fields(), name)
            Draft202012Validator.check_schema(schema)
            judge = Draft202012Validator(schema)
            for label, whole in template.samples.items():
                sample = json.loads(json.dumps(whole, default=float))
                self.assertEqual(list(judge.iter_errors(sample)), [], f"{name} {label}")
                for way in list(ways(sample)):
                    less = without(sample, way)
                    if template.problems(less):
                        left_out += 1
                        self.assertFalse(judge.is_valid(less), f"{name}: without {way}")
        self.assertGreater(left_out, 30)

    @given(
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.text(),
            lambda inner: st.lists(inner) | st.dictionaries(st.sampled_from("abc"), inner),
            max_leaves=8,
        )
    )
    @generated(200)
    def test_no_data_that_render_are_refused(self, value: Any) -> None:
        template = TAKING_ALL
        judge = Draft202012Validator(field_schema(template.fields(), "t"))
        data = {"a": value, "b": {"c": value}, "d": [value]}
        try:
            template.render(data)
        except FieldError:
            return
        self.assertEqual([error.message for error in judge.iter_errors(data)], [])


def ways(value: Any, before: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """The ways to all members of objects in a value."""
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for step, one in inner:
        if isinstance(step, str):
            yield (*before, step)
        yield from ways(one, (*before, step))


def without(value: Any, way: tuple[str | int, ...]) -> Any:
    """A copy of a value without the member at the end of a way."""
    copied = json.loads(json.dumps(value))
    inner = copied
    for step in way[:-1]:
        inner = inner[step]
    del inner[way[-1]]
    return copied


class Description(Served):
    def test_it_is_one_of_openapi(self) -> None:
        for has_token in (True, False):
            made = openapi(has_token=has_token)
            validate(made)
            self.assertEqual("security" in made, has_token)

    def test_it_has_the_routes_of_the_application(self) -> None:
        path = self.folder(FILES).path
        with Mailroom.from_config(path / "pribble.toml") as mailroom:
            app = application(mailroom, token=None)
        rules = {
            (method, re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule.rule))
            for rule in app.url_map.iter_rules()
            for method in (rule.methods or set()) - {"HEAD"}
        }
        self.assertEqual(rules, {(route.method, route.path) for route in ROUTES})
        described = openapi(has_token=True)["paths"]
        self.assertEqual(rules, {(method.upper(), path) for path, one in described.items() for method in one})

    def test_every_kind_of_problem_is_one_of_a_route(self) -> None:
        used = {kind for route in ROUTES for kind in route.all_problems}
        self.assertEqual(set(PROBLEM_KINDS) - used, {"unsupported"})  # that is the server's own


class Gates(Served):
    def test_the_token(self) -> None:
        with self.served() as ask:
            for given in (
                None,
                "",
                "Bearer",
                "Bearer ",
                f"Bearer {TOKEN[:-1]}",
                f"Bearer {TOKEN}x",
                f"Basic {TOKEN}",
                TOKEN,
                f"Bearer {TOKEN.upper()}",
                "Bearer \xff",
            ):
                for route in ("/health", "/openapi.json", "/none", "/events/booked/x"):
                    with self.subTest(given, route=route):
                        answer = ask("GET", route, headers={"Authorization": given})
                        self.assertEqual(answer.status, 401)
                        self.assertTrue(answer.headers["WWW-Authenticate"].startswith("Bearer"))
            self.assertEqual(ask("GET", "/health", headers={"Authorization": f"bearer {TOKEN}"}).status, 200)
        self.assertNotIn(TOKEN, str(self.lines))

    def test_no_token(self) -> None:
        with self.served(token=None) as ask:
            self.assertEqual(ask("GET", "/health").status, 200)
            self.assertEqual(ask("GET", "/health", headers={"Host": "rebound.example"}).status, 421)

    def test_names_of_the_server(self) -> None:
        with self.served() as ask:
            for name, status in (
                ("localhost", 200),
                (f"LOCALHOST:{ask.port}", 200),
                ("127.0.0.1:1", 200),
                ("[::1]:8026", 200),
                ("evil.example", 421),
                ("localhost.evil.example", 421),
                ("localhost:80:80", 421),
                ("", 421),
                ("localhost@evil.example", 421),
            ):
                with self.subTest(name):
                    self.assertEqual(ask("GET", "/health", headers={"Host": name}).status, status)

    def test_bodies(self) -> None:
        with self.served() as ask:
            as_json = "application/json"
            for body, kind, status in (
                (b"{}", None, 415),
                (b"{}", "text/plain", 415),
                (b"{}", "application/json; charset=latin-1", 415),
                (b"a=b", "application/x-www-form-urlencoded", 415),
                (b"", as_json, 400),
                (b"[]", as_json, 400),
                (b"null", as_json, 400),
                (b'{"a": 1, "a": 2}', as_json, 400),
                (b'{"a": NaN}', as_json, 400),
                (b'{"a": "\xff"}', as_json, 400),
                (b'{"a": 1', as_json, 400),
                (b'{"a": ' + b"[" * 100_000, as_json, 400),
                (b'{"a": ' + b"[" * 99 + b"]" * 99 + b"}", as_json, 422),
                (b'{"a": ' + b"[" * 100 + b"]" * 100 + b"}", as_json, 400),
                (b'{"ref": "\\ud800", "mail": "a@example.org", "name": "x", "price": 1}', as_json, 422),
                (b'{"ref": "\\u0000", "mail": "a@example.org", "name": "x", "price": 1}', as_json, 422),
                (b'{"ref": 1e999999999, "mail": "a@example.org", "name": "x", "price": 1}', as_json, 422),
                (b'{"a": ' + b"9" * 5000 + b"}", as_json, 400),
                (b"\xef\xbb\xbf{}", as_json, 400),
            ):
                with self.subTest(body[:60], kind=kind):
                    answer = ask("POST", "/events/booked", body, headers={"Content-Type": kind})
                    self.assertEqual(answer.status, status, answer.content[:300])
            squeezed = ask("POST", "/events/booked", b"{}", headers={"Content-Encoding": "gzip"})
            self.assertEqual(squeezed.status, 415)
            large = {**DATA, "more": "x" * (LARGEST - 200)}
            self.assertEqual(ask("POST", "/events/booked", large).status, 200)
            self.assertEqual(ask("POST", "/events/booked", {**large, "even": "x" * 200}).status, 413)

    def test_the_log_has_no_data_and_no_keys(self) -> None:
        with self.served() as ask:
            ask("POST", "/events/booked", DATA)
            ask("POST", "/events/booked", {**DATA, "ref": "B 15", "mail": "none"})
            ask("GET", "/events/booked/B%2014")
        self.assertEqual([line["status"] for line in self.lines[1:]], [200, 422, 200])
        keys = {line["key"] for line in self.lines[1:]}
        self.assertEqual(len(keys), 2)
        said = json.dumps(self.lines, default=str)
        for secret in ("B 14", "B%2014", "B 15", "Ana", "ana@", TOKEN):
            self.assertNotIn(secret, said)


class Hostile(Served):
    """Octets that no client sends; the server answers with a problem or not at all, and goes on."""

    def test_octets(self) -> None:
        def line(*fields: str, path: str = "/health", method: str = "GET", body: bytes = b"") -> bytes:
            head = [
                f"{method} {path} HTTP/1.1",
                "Host: localhost",
                *(f"{a}: {b}" for a, b in AUTHORIZED.items()),
                *fields,
            ]
            return "\r\n".join([*head, "", ""]).encode("latin-1") + body

        post = partial(line, path="/events/booked", method="POST")
        cases: tuple[tuple[bytes, bytes], ...] = (
            (line(), b"200"),
            (line("Content-Length: x"), b"400"),
            (line("Content-Length: -1"), b"400"),
            (post("Content-Length: 5, 5"), b"400"),
            (line("Content-Length: 99999999999999999999"), b"413"),
            (post("Transfer-Encoding: chunked", "Content-Type: application/json", body=b"zz\r\n"), b"400"),
            (post("Transfer-Encoding: gzip"), b"501"),
            (line("X: " + "a" * 40_000), b"431"),
            (line("Bad Name: x"), b"400"),
            (line(" folded: x"), b"401"),
            (line(path="/health\x01"), b"404"),
            (line(path="http://evil.example/health"), b"200"),
            (line(path="*", method="OPTIONS"), b"404"),
            (b"GET /health\r\n\r\n", b"421"),
            (b"GET /health HTTP/1.1\r\n\r\n", b"421"),
            (b"GET /health HTTP/1.1\r\nHost: localhost\nX: y\r\n\r\n", b"400"),
            (b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n\r\n", b"400"),
            (b"\r\n\r\n\r\n", b""),
        )
        with self.served() as ask:
            for sent, status in cases:
                with self.subTest(sent[:80]):
                    answer = self.exchange(ask.port, sent)
                    self.assertEqual(answer[9:12], status, answer[:200])
                    if answer[9:10] in (b"4", b"5"):
                        self.assertIn(b"Content-Type: application/problem+json", answer)
                    self.assertEqual(ask("GET", "/health").status, 200)

    def test_two_lengths_are_no_second_request(self) -> None:
        """What a smuggler hides behind one length is no request of its own."""
        hidden = b"GET /templates HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer " + TOKEN.encode() + b"\r\n\r\n"
        for fields in (
            b"Content-Length: 0\r\nContent-Length: %d" % len(hidden),
            b"Content-Length: 4\r\nTransfer-Encoding: chunked",
        ):
            with self.subTest(fields), self.served() as ask:
                body = b"0\r\n\r\n" if b"chunked" in fields else b""
                head = b"POST /events/booked HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer " + TOKEN.encode()
                answer = self.exchange(ask.port, head + b"\r\n" + fields + b"\r\n\r\n" + body + hidden)
                self.assertIn(answer[9:10], (b"4", b""))

    def test_who_says_little_stops_nobody(self) -> None:
        with self.served() as ask:
            slow = []
            for _ in range(40):
                one = socket.create_connection(("127.0.0.1", ask.port))
                one.sendall(b"POST /events/booked HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000\r\n\r\n{")
                slow.append(one)
            began = time.monotonic()
            self.assertEqual(ask("POST", "/events/booked", DATA).status, 200)
            self.assertLess(time.monotonic() - began, 20)  # it would wait for the first of them, and they wait for ever
            for one in slow:
                one.close()

    @staticmethod
    def exchange(port: int, sent: bytes) -> bytes:
        """What comes back for octets, to the end of the connection."""
        with socket.create_connection(("127.0.0.1", port), timeout=10) as connection:
            connection.sendall(sent)
            with suppress(OSError):  # it may have closed already what it refuses
                connection.shutdown(socket.SHUT_WR)
            found = b""
            with suppress(ConnectionResetError):  # it does not read what it refuses
                while more := connection.recv(65536):
                    found += more
            return found
