"""The whole public interface, knocked at: each call comes to an answer, or to an error that a user can be told."""

from __future__ import annotations

from contextlib import chdir
from random import Random

from tools.fuzz_interface import Knocking, public, warm_up

from pribble import Limits, Message, Template, TemplateFolder, plain_text
from tests.support import Case, examples, slow


class Interface(Case):
    @slow
    def test_calls_that_nobody_thought_of(self) -> None:
        """What a call costs is counted in functions that are called, and not in seconds."""
        warm_up()
        # In a folder of its own: a path may be "", and what is below this one is none of the test's.
        self.enterContext(chdir(self.folder().path))
        for seed in range(examples(4)):
            knocking = Knocking(Random(seed))
            for _ in range(120):
                finding = knocking.run()
                self.assertIsNone(finding, finding)

    def test_all_that_is_public_is_found(self) -> None:
        paths = {call.path for call in public()}
        for path in (
            "plain_text",
            "Template.from_text",
            "TemplateFolder",
            "Message.from_bytes",
            "Picture.open",
            "Group",
        ):
            self.assertIn(path, paths)

    def test_a_type_error_names_the_argument(self) -> None:
        folder = TemplateFolder.nowhere()
        for name, call in (
            ("html", lambda: plain_text(b"x")),  # type: ignore[arg-type]
            ("width", lambda: plain_text("x", width="72")),  # type: ignore[arg-type]
            ("raw", lambda: Message.from_bytes("x")),  # type: ignore[arg-type]
            ("text", lambda: Template.from_text(None)),  # type: ignore[arg-type]
            ("steps", lambda: Limits(steps="many")),  # type: ignore[arg-type]
            ("path", lambda: TemplateFolder(b"x")),  # type: ignore[arg-type]
            ("name", lambda: folder[1]),  # type: ignore[index]
            ("timezone", lambda: Template.from_text("x").render({}, timezone=1)),  # type: ignore[arg-type]
        ):
            with self.subTest(name), self.assertRaisesRegex(TypeError, rf"\b{name}\b"):
                call()
