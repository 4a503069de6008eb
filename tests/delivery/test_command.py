"""Messages for a program: its arguments, what it is given, and what each way of ending means."""

from __future__ import annotations

import json
import sys
import threading
import unittest
from pathlib import Path

from pribble import Attachment, DeliveryError, Message
from pribble.delivery import transport
from pribble.delivery.command import Command
from tests.support import Case, slow

MESSAGE = Message(
    sender="a@x.example", to=["b@x.example", "-c@x.example"], bcc="d@x.example", text="x\n.\ny", seed=b"1"
)
LARGE = Message(sender="a@x.example", to="b@x.example", text="x", attachments=[Attachment("x.bin", bytes(3_000_000))])


class Programs(Case):
    def program(self, code: str, *arguments: str, longest: float = 20) -> Command:
        """A program of these lines of Python, with its arguments."""
        path = self.folder().path / "program.py"
        path.write_text(f"import json, os, signal, sys, time\n{code}\n")
        return Command((sys.executable, str(path), *arguments, "{recipients}"), longest)

    def test_what_it_gets(self) -> None:
        out = self.folder().path / "out"
        keep = f"json.dump([sys.argv[1:], sys.stdin.buffer.read().decode('latin-1')], open({str(out)!r}, 'w'))"
        receipt = self.program(keep, "-i", "-f", "{sender}").deliver(MESSAGE)
        arguments, content = json.loads(out.read_text())
        self.assertEqual(arguments, ["-i", "-f", "a@x.example", "--", "b@x.example", "-c@x.example", "d@x.example"])
        self.assertEqual(content.encode("latin-1"), b"\n".join(bytes(MESSAGE).split(b"\r\n")))
        self.assertNotIn("d@x.example", content)
        self.assertTrue(receipt.is_accepted)
        self.assertEqual(len(receipt.outcomes), 3)

    def test_an_address_is_one_argument(self) -> None:
        """No shell reads it."""
        out = self.folder().path / "out"
        sent = Message(
            sender='"$(touch x); `y`"@x.example', to=["a'b@x.example", '"c d"@x.example', "e|f@x.example"], text="x"
        )
        words = f"import json, sys; json.dump(sys.argv[1:], open({str(out)!r}, 'w')); sys.stdin.read()"
        way = transport(f'command:{sys.executable} -c "{words}" -f{{sender}} {{recipients}}')
        self.assertTrue(way.deliver(sent).is_accepted)
        envelope = sent.envelope
        self.assertEqual(json.loads(out.read_text()), [f"-f{envelope.sender}", "--", *envelope.recipients])

    def test_a_sender_is_no_option(self) -> None:
        sent = Message(sender="-oQ/tmp@x.example", to="b@x.example", text="x")
        with self.assertRaisesRegex(DeliveryError, "for an option"):
            self.program("sys.stdin.read()", "{sender}").deliver(sent)
        self.assertTrue(self.program("sys.stdin.read()", "-f{sender}").deliver(sent).is_accepted)

    def test_how_it_ends(self) -> None:
        read = "sys.stdin.buffer.read(); "
        for code, sent, state, words in (
            (read, MESSAGE, "accepted", "taken"),
            (read + "print('queued as 7', file=sys.stderr)", MESSAGE, "accepted", "queued as 7"),
            (read + "sys.exit(75)", MESSAGE, "deferred", "status 75"),
            (read + "sys.exit('no such user')", MESSAGE, "refused", "no such user"),
            (read + "sys.stderr.buffer.write(b'\\x1b[2Jno\\xff\\n' * 100000); sys.exit(67)", MESSAGE, "refused", "no"),
            (read + "os.kill(os.getpid(), signal.SIGKILL)", MESSAGE, "in_doubt", "ended by signal 9"),
            ("os.close(0); time.sleep(0.1)", LARGE, "in_doubt", "had not read all"),
            ("os.close(0); sys.exit(75)", LARGE, "in_doubt", "ended with status 75 and had not read all"),
            (read + "sys.stdout.buffer.write(bytes(10_000_000))", MESSAGE, "accepted", "taken"),
        ):
            with self.subTest(code):
                outcome = self.program(code).deliver(sent).outcomes[0]
                self.assertEqual((outcome.state, outcome.code), (state, None))
                self.assertIn(words, outcome.message)
                self.assertTrue(outcome.message.isprintable() and len(outcome.message) <= 500)

    @slow
    def test_one_that_does_not_end(self) -> None:
        for code, sent in (("sys.stdin.read(); time.sleep(60)", MESSAGE), ("time.sleep(60)", LARGE)):
            before = threading.active_count()
            outcome = self.program(code, longest=0.5).deliver(sent).outcomes[0]
            self.assertEqual((outcome.state, outcome.message), ("in_doubt", "it did not end in time"))
            self.assertLessEqual(threading.active_count(), before + 1)

    def test_one_that_is_not_there(self) -> None:
        for words in ("/nowhere/program {recipients}", f"{Path(__file__)} {{recipients}}", "'a\0b' {recipients}"):
            with self.subTest(words), self.assertRaisesRegex(DeliveryError, "cannot be started"):
                Command.from_words(words).deliver(MESSAGE)

    def test_what_commits_comes_before_the_end(self) -> None:
        out = self.folder().path / "out"
        keep = f"whole = sys.stdin.read(); open({str(out)!r}, 'w').write(whole)"
        seen: list[object] = []

        def commit(people: object) -> None:
            seen.append((people, out.exists()))

        class Full(Exception):
            pass

        def fail(people: object) -> None:
            raise Full

        with self.assertRaises(Full):
            self.program(keep).deliver(MESSAGE, committing=fail)
        self.assertFalse(out.exists())
        self.program(keep).deliver(MESSAGE, committing=commit)
        self.assertEqual(seen, [(MESSAGE.envelope.recipients, False)])
        self.assertTrue(out.exists())


if __name__ == "__main__":
    unittest.main()
