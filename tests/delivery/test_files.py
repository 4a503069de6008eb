"""Messages as files: whole or not at all, also where the disk is full or the process is killed at any step."""

from __future__ import annotations

import json
import mailbox
import os
import signal
import stat
import subprocess
import sys
import unittest
import unittest.mock
from concurrent.futures import ThreadPoolExecutor
from email import message_from_bytes, policy
from pathlib import Path
from typing import cast

from pribble import DeliveryError, Message
from pribble.delivery import files, transport
from pribble.delivery.files import DraftFolder, FileTransport, Folder, Maildir
from tests.support import ROOT, Case, large, small_disk

KINDS = (Folder, Maildir, DraftFolder)
MESSAGE = Message(
    sender="Berth Office <berths@skerrow.example>",
    to="Ana <ana@example.org>",
    bcc="Bo <bo@example.net>",
    subject="Your berth",
    text="x\n.\nFrom y\n" * 2000,
    seed=b"1",
)


def kept(folder: Path) -> list[Path]:
    """The files of messages that a reader of the folder would find."""
    found = [path for path in folder.rglob("*") if path.is_file() and path.parent.name != "tmp"]
    return sorted(path for path in found if not path.name.startswith(".") and not path.name.endswith(".json"))


def content(kind: type[FileTransport], message: Message = MESSAGE) -> bytes:
    """What such a file must hold, written a second time and plainly."""
    raw = bytes(message)
    if kind is Maildir:
        return b"Return-Path: <berths@skerrow.example>\n" + b"\n".join(raw.split(b"\r\n"))
    if kind is DraftFolder:
        return b"X-Unsent: 1\r\nBcc: Bo <bo@example.net>\r\n" + raw
    return raw


class Files(Case):
    def test_what_is_kept(self) -> None:
        for kind in KINDS:
            with self.subTest(kind.__name__):
                folder = self.folder().path / "new/deep"
                way = kind(folder)
                self.assertFalse(way.holds(MESSAGE))
                receipt = way.deliver(MESSAGE)
                (path,) = kept(folder)
                self.assertEqual(path.read_bytes(), content(kind))
                self.assertEqual([one.recipient for one in receipt.outcomes], ["ana@example.org", "bo@example.net"])
                self.assertTrue(receipt.is_accepted)
                self.assertTrue(receipt.outcomes[0].message.endswith(str(path)), receipt)
                self.assertTrue(way.holds(MESSAGE))
                self.assertFalse(way.holds(Message(sender="a@x.example", to="b@x.example", text="x", seed=b"1")))
                # Nothing is left over, and a second one is a second file.
                everything = {path for path in folder.rglob("*") if path.is_file()}
                self.assertEqual(len(everything), 2 if kind is Folder else 1)
                way.deliver(MESSAGE)
                self.assertEqual([path.read_bytes() for path in kept(folder)], [content(kind)] * 2)

    def test_an_envelope_stands_beside(self) -> None:
        folder = self.folder().path
        transport(f"folder:{folder}").deliver(MESSAGE)
        (path,) = folder.glob("*.envelope.json")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        self.assertEqual(
            json.loads(path.read_bytes()),
            {
                "message_id": MESSAGE.message_id,
                "sender": "berths@skerrow.example",
                "recipients": ["ana@example.org", "bo@example.net"],
            },
        )
        self.assertEqual(path.name.removesuffix(".envelope.json"), kept(folder)[0].stem)
        self.assertNotIn(b"bo@example.net", kept(folder)[0].read_bytes())

    def test_a_maildir_is_one(self) -> None:
        """The standard library reads it; what a mail program has moved and flagged is still known."""
        folder = self.folder().path
        way = Maildir(folder)
        way.deliver(MESSAGE)
        box = mailbox.Maildir(folder, create=False)
        ((key, read),) = box.items()
        self.assertEqual((read["Subject"], read["Return-Path"]), ("Your berth", "<berths@skerrow.example>"))
        (path,) = kept(folder)
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        read.set_subdir("cur")
        read.add_flag("S")
        box[key] = read
        self.assertEqual([one.parent.name for one in kept(folder)], ["cur"])
        self.assertTrue(way.holds(MESSAGE))
        path.unlink(missing_ok=True)
        kept(folder)[0].unlink()
        self.assertFalse(way.holds(MESSAGE))

    def test_a_draft_is_for_a_person(self) -> None:
        folder = self.folder().path
        signed = Message(
            sender="a@x.example",
            to="b@x.example",
            bcc="c@x.example",
            text="x",
            auto_submitted="auto-generated",
            sign=lambda raw: b"DKIM-Signature: v=1; a=rsa-sha256; b=x\r\n",
        )
        self.assertIn(b"DKIM-Signature", bytes(signed))
        self.assertIn(b"Auto-Submitted", bytes(signed))
        stored = Message.from_bytes(b"Bcc: c@x.example\r\n" + bytes(signed))
        for sent in (signed, stored):
            receipt = DraftFolder(folder).deliver(sent)
            self.assertIn("kept as a draft in", receipt.outcomes[0].message)
            path = max(kept(folder), key=lambda path: path.stat().st_mtime_ns)
            read = message_from_bytes(path.read_bytes(), policy=policy.default)
            self.assertEqual(
                (read["X-Unsent"], read["Bcc"], read["Message-ID"]), ("1", "c@x.example", signed.message_id)
            )
            self.assertEqual((read["Auto-Submitted"], read["DKIM-Signature"]), (None, None))
            self.assertEqual(read.get_content(), "x\r\n")
        # The message itself has stayed as it was.
        self.assertIn(b"DKIM-Signature", bytes(signed))
        self.assertIn("DKIM-Signature", str(signed.to_email_message(bcc="keep")))

    def test_names_come_from_ids_and_are_names(self) -> None:
        folder = self.folder().path
        for number, (message_id, name) in enumerate(
            (
                ("<berth.7@x.example>", "berth.7"),
                ("<a/../b@x.example>", None),
                ("<..@x.example>", None),
                ("<.hidden.@x.example>", None),
                (f"<{'long' * 50}@x.example>", ("long" * 50)[:60]),
                ("<$%&@x.example>", None),
                ("<con.a+b=c@x.example>", "con.a-b-c"),
            )
        ):
            with self.subTest(message_id):
                raw = b"From: a@x.example\r\nTo: b@x.example\r\nMessage-ID: %s\r\n\r\n%d\r\n"
                sent = Message.from_bytes(raw % (message_id.encode(), number))
                Folder(folder).deliver(sent)
                made = [path for path in kept(folder) if path.read_bytes() == bytes(sent)]
                self.assertEqual(len(made), 1)
                self.assertEqual(made[0].parent, folder)
                if name:
                    self.assertEqual(made[0].stem, name)

    def test_many_of_one_name(self) -> None:
        """No try goes through all names before it, and threads do not meet."""
        folder = self.folder().path
        count = large(2_000)
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda _: Folder(folder).deliver(MESSAGE), range(count)))
        paths = kept(folder)
        self.assertEqual({path.read_bytes() for path in paths}, {bytes(MESSAGE)})
        self.assertEqual(len(paths), count)
        self.assertEqual(len(list(folder.glob("*.envelope.json"))), count)

    def test_what_commits_comes_last(self) -> None:
        for kind in KINDS:
            with self.subTest(kind.__name__):
                folder = self.folder().path
                seen: list[object] = []

                def commit(people: object, folder: Path = folder, seen: list[object] = seen) -> None:
                    seen.append((people, kept(folder)))

                def fail(people: object) -> None:
                    raise OSError("the journal's own trouble")

                with self.assertRaisesRegex(OSError, "own trouble"):
                    kind(folder).deliver(MESSAGE, committing=fail)
                self.assertEqual([path for path in folder.rglob("*") if path.is_file()], [])
                kind(folder).deliver(MESSAGE, committing=commit)
                self.assertEqual(seen, [(("ana@example.org", "bo@example.net"), [])])


class Trouble(Case):
    """What cannot be written is told, and leaves nothing."""

    def test_a_folder_that_is_none(self) -> None:
        file = self.folder().path / "file"
        file.write_text("x")
        for kind in KINDS:
            for path in (file, file / "below", Path("/proc/none"), Path("x" * 300)):
                with (
                    self.subTest(kind.__name__, path=str(path)[:40]),
                    self.assertRaisesRegex(DeliveryError, "cannot be written"),
                ):
                    kind(path).deliver(MESSAGE)

    def test_a_folder_that_nobody_may_write(self) -> None:
        """Another user tries, where this one is one whom no rights bind."""
        folder = self.folder().path
        folder.chmod(0o555)
        code = (
            "import os, sys; from pathlib import Path; from pribble import DeliveryError, Message\n"
            "from pribble.delivery.files import DraftFolder, Folder, Maildir\n"
            "if os.getuid() == 0: os.setgroups([]); os.setgid(65534); os.setuid(65534)\n"
            "for kind in (Folder, Maildir, DraftFolder):\n"
            f"  try: kind(Path({str(folder)!r}) / 'in').deliver(Message(sender='a@x.example', to='b@x.example'))\n"
            "  except DeliveryError as error: print(error)"
        )
        try:
            done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, text=True, timeout=60)
        finally:
            folder.chmod(0o755)
        self.assertEqual(done.stdout, f"{folder}/in cannot be written: Permission denied\n" * 3, done.stderr)

    def test_a_full_disk(self) -> None:
        with small_disk() as (folder, fill):
            for kind in KINDS:
                with self.subTest(kind.__name__):
                    into = folder / kind.__name__
                    kind(into).deliver(MESSAGE)
                    before = {path: path.read_bytes() for path in into.rglob("*") if path.is_file()}
                    with fill(), self.assertRaisesRegex(DeliveryError, "No space left|File too large"):
                        kind(into).deliver(MESSAGE)
                    self.assertEqual({path: path.read_bytes() for path in into.rglob("*") if path.is_file()}, before)
                    self.assertTrue(kind(into).deliver(MESSAGE).is_accepted)

    def test_a_disk_that_does_not_confirm(self) -> None:
        """The message has its name, and nobody knows for how long: that is doubt, and no refusal."""

        def fails(folder: Path) -> None:
            if kept(folder.parent if folder.name == "new" else folder):
                raise OSError(5, "Input/output error")

        for kind in KINDS:
            with self.subTest(kind.__name__), unittest.mock.patch.object(files, "fsync_folder", fails):
                way = kind(self.folder().path)
                outcome = way.deliver(MESSAGE).outcomes[0]
                self.assertEqual(outcome.state, "in_doubt")
                self.assertIn("did not confirm: Input/output error", outcome.message)
                self.assertTrue(way.holds(MESSAGE))


@unittest.skipUnless(hasattr(os, "fork"), "this system copies no processes")
class Kills(Case):
    """SIGKILL at each step: a copy of this process delivers, and is killed when it is about to call the system for the
    nth time.  What there is then is whole or nothing, `holds` says which, and another try makes it right."""

    def test_each_step(self) -> None:
        for kind in KINDS:
            whole = nothing = 0
            for count in range(200):
                folder = self.folder().path
                if not self.killed_at(count, kind(folder)):
                    break
                with self.subTest(kind.__name__, killed_at=count):
                    found = kept(folder)
                    self.assertLessEqual(len(found), 1)
                    for path in found:
                        self.assertEqual(path.read_bytes(), content(kind))
                        if kind is Folder:
                            self.assertTrue(path.with_suffix(".envelope.json").is_file())
                    self.assertEqual(kind(folder).holds(MESSAGE), bool(found))
                    whole, nothing = whole + bool(found), nothing + (not found)
                    if not found:
                        self.assertTrue(kind(folder).deliver(MESSAGE).is_accepted)
                        self.assertEqual([path.read_bytes() for path in kept(folder)], [content(kind)])
                        self.assertEqual(len(list(folder.glob("*.envelope.json"))), kind is Folder)
            self.assertGreaterEqual(nothing, 5)
            self.assertGreaterEqual(whole, 2)

    def killed_at(self, count: int, way: FileTransport) -> bool:
        """Returns whether a copy of this process was killed before it had made so many calls."""
        child = os.fork()
        if child == 0:
            left = [count]

            def hook(event: str, arguments: tuple[object, ...]) -> None:
                """Called by the interpreter before files are opened, linked, made and removed."""
                if event in ("open", "os.link", "os.mkdir", "os.remove"):
                    step()

            def step() -> None:
                if left[0] == 0:
                    os.kill(os.getpid(), signal.SIGKILL)
                left[0] -= 1

            fsync = os.fsync

            def counted_fsync(descriptor: int) -> None:
                step()
                fsync(descriptor)
                step()

            os.fsync = cast(object, counted_fsync)  # type: ignore[assignment]
            sys.addaudithook(hook)
            way.deliver(MESSAGE)
            os._exit(0)
        return os.WIFSIGNALED(os.waitpid(child, 0)[1])


if __name__ == "__main__":
    unittest.main()
