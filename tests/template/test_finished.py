"""Renderings, messages, plain texts and errors are values: they are copied, pickled, and go to other processes."""

from __future__ import annotations

import copy
import inspect
import multiprocessing
import pickle
import subprocess
import sys
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from typing import Any

from pribble import (
    Attachment,
    DeliveryError,
    Group,
    Invitation,
    LimitReached,
    Message,
    PribbleError,
    Rendering,
    Template,
    TemplateFolder,
    audit,
    compare,
    plain_text,
)
from pribble.mime.message import MessageOptions
from pribble.pictures.picture_slots import EMBED
from tests.support import DEMO, Case, slow

FIXED: dict[str, Any] = {"sender": "Berth Office <berths@skerrow.example>", "date": datetime(2026, 7, 3, tzinfo=UTC)}
STRIPED = (
    "<!DOCTYPE html><style>p:nth-child(odd) { color: red } @media print { p { margin: 0 } }</style>"
    '<body class="page">{{ preheader: }}Before{{ :preheader }}{{ for x in l: }}<p>{{ x }}</p>{{ :for }}'
    '<img src="{{ picture }}" alt=""><!--[if mso]><b>{{ l[0] }}</b><![endif]--></body>'
)
WAYS: tuple[Callable[[Any], Any], ...] = (lambda one: pickle.loads(pickle.dumps(one)), copy.copy, copy.deepcopy)


def said(rendering: Rendering) -> list[object]:
    """All that a rendering says, in all forms."""
    message = rendering.message(**FIXED, to="ana@example.org", seed=b"1")
    return [
        rendering.subject,
        rendering.preheader,
        rendering.html,
        rendering.text,
        rendering.pictures,
        [str(finding) for finding in rendering.findings],
        *(rendering.fragment(embed=embed) for embed in EMBED if embed != "link"),
        bytes(message),
    ]


def sent(rendering: Rendering) -> bytes:
    return bytes(rendering.message(**FIXED, to="ana@example.org", seed=b"1"))


class Finished(Case):
    def renderings(self) -> Iterator[Rendering]:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        for name in folder:
            for sample in folder[name].samples.values():
                yield folder[name].render(sample)
        picture = (DEMO / "pictures/logo.png").read_bytes()
        striped = self.folder({"t.html": STRIPED})["t"]
        for embed in (None, "data", "none"):
            yield striped.render({"l": ["a", "b", "ä"], "picture": picture}, embed=embed)

    @slow
    def test_a_rendering_says_the_same_when_it_is_copied(self) -> None:
        for rendering in self.renderings():
            for used in (False, True):
                for way in WAYS:
                    wanted = said(rendering) if used else None
                    made = way(rendering)
                    self.assertEqual(said(made), wanted or said(rendering))
                    self.assertEqual((made, hash(made)), (rendering, hash(rendering)))
                    self.assertEqual(said(way(made)), said(rendering))

    def test_it_holds_nothing_of_its_template(self) -> None:
        for rendering in self.renderings():
            pickled = pickle.dumps(rendering)
            for name in (b"Dresser", b"Frames", b"Pattern", b"Template", b"PictureFinder"):
                self.assertNotIn(name + b"\x94", pickled)
        one, other = self.html("{{ x }}", {"x": 1}), self.html("{{ x }}", {"x": 2})
        self.assertNotEqual(one, other)
        template = Template.from_text("{{ x }}")
        self.assertNotEqual(template.render({"x": 1}), template.render({"x": 2}))
        self.assertEqual(template.render({"x": 1}), Template.from_text("{{ x }}").render({"x": 1}))

    def test_messages_texts_and_what_is_found(self) -> None:
        day = date(2026, 7, 3)
        message = Message(
            **FIXED,
            to=Group("Crew", ["ana@example.org"]),
            bcc="bo@example.net",
            text="a " * 60,
            attachments=[Attachment("a.txt", "x")],
            invitation=Invitation(day, day, "Stay", "berths@skerrow.example", "u@skerrow.example"),
        )
        stored = Message.from_bytes(bytes(message))
        text = plain_text("<blockquote>" + "word " * 40 + "</blockquote>" + "更多" * 60)
        for value in (message, stored, text, audit(b"x"), compare("<p>a", "b"), message.to):
            for way in WAYS:
                made = way(value)
                self.assertEqual(made, value)
                self.assertIs(type(made), type(value))
        for way in WAYS:
            self.assertEqual(bytes(way(message)), bytes(message))
            self.assertEqual((bytes(way(stored)), way(stored).envelope), (bytes(stored), stored.envelope))
            flowing = [bytes(Message(**FIXED, text=one, seed=b"1")) for one in (text, way(text), str(text))]
            self.assertEqual(flowing[0], flowing[1])
            self.assertNotEqual(flowing[0], flowing[2])

    def test_errors(self) -> None:
        folder = self.folder({"t.html": "{{ x }}"})
        for failing in (
            lambda: folder["t"].render({}),
            lambda: Template.from_text("{{ x"),
            lambda: Message(sender="x"),
            lambda: folder["u"],
        ):
            with self.assertRaises((PribbleError, KeyError)) as caught:
                failing()
            for way in WAYS:
                made = way(caught.exception)
                self.assertEqual((type(made), str(made)), (type(caught.exception), str(caught.exception)))
        for error in (DeliveryError("no", hint="wait", code=450), LimitReached("too much")):
            for way in WAYS:
                self.assertEqual((str(way(error)), vars(way(error))), (str(error), vars(error)))

    @slow
    def test_another_process_sends_the_same(self) -> None:
        renderings = list(self.renderings())
        with multiprocessing.get_context("spawn").Pool(1) as pool:
            self.assertEqual(pool.map(sent, renderings), [sent(rendering) for rendering in renderings])


class Options(Case):
    def test_message_takes_what_message_takes(self) -> None:
        given = {"sender", "to", "text", "html", "pictures", "id_domain"}
        wanted = set(inspect.signature(Message).parameters) - given
        self.assertEqual(set(MessageOptions.__annotations__), wanted)

    def test_a_subject_is_in_the_place_of_the_templates(self) -> None:
        rendering = Template.from_text("{{ subject: }}Berth {{ n }}{{ :subject }}<p>x").render({"n": 14})
        subjects = [
            rendering.message(**FIXED, **given).subject for given in ({}, {"subject": "Pier"}, {"subject": None})
        ]
        self.assertEqual(subjects, ["Berth 14", "Pier", None])
        for given, says in (
            ({"text": "x"}, "text comes from the rendering"),
            ({"sbject": "x"}, 'message takes no sbject .did you mean "subject"'),
        ):
            with self.assertRaisesRegex(TypeError, says):
                rendering.message(**FIXED, **given)  # type: ignore[arg-type]

    @slow
    def test_an_editor_finds_what_is_wrong(self) -> None:
        head = "from pribble import Template\nr = Template.from_text('x').render({})\n"
        path = self.folder({}).path / "snippet.py"
        for call, says in (
            ("r.message(sender='a@example.org', subject='x', bcc=['b@example.org'])", "Success"),
            ("r.message(sender='a@example.org', sbject='x')", 'Unexpected keyword argument "sbject"'),
            ("r.message(sender='a@example.org', importance='urgent')", "has incompatible type"),
            ("r.message(sender='a@example.org', subject=1)", "has incompatible type"),
        ):
            path.write_text(head + call + "\n")
            made = subprocess.run([sys.executable, "-m", "mypy", "--strict", str(path)], capture_output=True, text=True)
            self.assertIn(says, made.stdout, call)
