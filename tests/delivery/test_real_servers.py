"""Delivery to real servers: Postfix, with TLS and logins that Dovecot judges, and Dovecot over a maildir of ours."""

from __future__ import annotations

import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from pribble import DeliveryError, Message, TemplateFolder, audit
from pribble.delivery import Batch, Journal, transport
from pribble.delivery.files import Maildir
from tests.delivery.certificates import Authority
from tests.mime.test_dkim import by_dkimpy, records, signer
from tests.servers import mailboxes, needs_server, postfix, submission
from tests.support import Case, proof


def message(*to: str, subject: str = "x", text: str = "x") -> Message:
    return Message(sender="office@skerrow.example", to=list(to), subject=subject, text=text)


def arrived(folder: Path, count: int, first: bytes = b"\nFrom: ") -> list[bytes]:
    """The messages that have been delivered, when there are so many, without what was put before their `first` field on the way."""
    for _ in range(300):
        paths = list(folder.glob("*")) if folder.is_dir() else []
        if len(paths) >= count:
            break
        time.sleep(0.1)
    whole = [path.read_bytes() for path in paths]
    return [raw[raw.index(first) + 1 :].replace(b"\n", b"\r\n") for raw in whole]


@proof
@needs_server("postfix")
@needs_server("dovecot")
class Servers(Case):
    def test_a_submission_server(self) -> None:
        authority = Authority(self.folder().path)
        with submission(authority.issue("localhost")) as (port, at_once, folder):
            ca = f"?ca={authority.file}&timeout=60"
            sent: list[Message] = []
            for address in (f"smtp://ana@localhost:{port}{ca}", f"smtps://ana@localhost:{at_once}{ca}"):
                with (
                    self.subTest(address),
                    transport(address, "tide", connections=4) as way,
                    ThreadPoolExecutor(4) as pool,
                ):
                    some = [message("ana@example.org", subject=f"Grüße {n}", text="é\n.\n" * n) for n in range(20)]
                    receipts = list(pool.map(way.deliver, some))
                    self.assertTrue(all(receipt.is_accepted for receipt in receipts))
                    self.assertEqual(receipts[0].outcomes[0].enhanced, "2.0.0")
                    sent += some
            self.assertEqual(sorted(arrived(folder, len(sent))), sorted(map(bytes, sent)))

            way = transport(f"smtp://ana@localhost:{port}{ca}", "tide")
            outcomes = way.deliver(message("ana@example.org", "gone@example.org", "busy@example.org")).outcomes
            self.assertEqual([one.state for one in outcomes], ["accepted", "refused", "deferred"])
            self.assertEqual([one.enhanced for one in outcomes[1:]], ["5.1.1", "4.2.1"])

            # It takes three at a time; each of them gets it, once.
            before = len(arrived(folder, len(sent) + 1))
            many = [f"r{n}@example.org" for n in range(10)]
            self.assertTrue(way.deliver(message(*many)).is_accepted)
            self.assertEqual(len(arrived(folder, before + 10)), before + 10)

            self.assertTrue(way.deliver(message("ünal@example.org")).is_accepted)

            for address, password, words in (
                (f"smtp://ana@localhost:{port}{ca}", "tid", "answered 535"),
                (f"smtp://ana@localhost:{port}?plain=no&timeout=60", "tide", "not who it should be"),
                (f"smtps://ana@127.0.0.1:{at_once}{ca}", "tide", "mismatch"),
                (f"smtps://ana@localhost:{port}{ca}", "tide", "no secure connection"),
            ):
                with self.subTest(words), self.assertRaisesRegex(DeliveryError, words):
                    transport(address, password).deliver(message("ana@example.org"))
            for address in (f"smtp://localhost:{port}{ca}", f"smtp://localhost:{port}?timeout=60"):
                (outcome,) = transport(address).deliver(message("ana@example.org")).outcomes
                self.assertEqual(outcome.state, "refused", outcome)

    def test_signatures_that_a_server_carries(self) -> None:
        """What a batch has signed verifies behind Postfix, which adds its fields before it."""
        path = self.folder({"t.html": "{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}  æ</p>"}).path
        rows = [{"name": f"Zoë {n}", "mail": "ana@example.org", "berth": n} for n in range(20)]
        with postfix() as (client, mail):
            assert client.sock is not None
            way = transport(f"smtp://127.0.0.1:{client.sock.getpeername()[1]}?plain=yes")
            Batch(
                TemplateFolder(path)["t"],
                rows,
                sender="Berths <b@skerrow.example>",
                to="{{ name }} <{{ mail }}>",
                through=way,
                journal=Journal(path / "j"),
                key=["berth"],
                sign=signer(),
            ).send()
            kept = arrived(mail, len(rows), b"\nReceived: ")
        for raw in kept:
            self.assertEqual([f.rule for f in audit(raw, keys=records()) if f.rule.startswith("machines.dkim")], [])
            self.assertTrue(by_dkimpy(raw, 0) and by_dkimpy(raw, 1))

    def test_a_maildir_that_a_server_shows(self) -> None:
        with mailboxes() as (imap, folder):
            way = Maildir(folder)
            sent = message("ana@example.org", subject="Grüße", text="é\n.\n")
            way.deliver(sent)
            for path in [folder, *folder.rglob("*")]:  # as the user whose mailbox it is
                path.chmod(0o777)
            imap.select()
            found = imap.fetch("1", "(RFC822)")[1][0]
            assert isinstance(found, tuple)
            self.assertEqual(found[1], b"Return-Path: <office@skerrow.example>\r\n" + bytes(sent))
            # The server has moved it, and flagged it as seen; it is still known.
            imap.close()
            self.assertEqual([one.parent.name for one in folder.glob("*/*H*")], ["cur"])
            self.assertTrue(way.holds(sent))


if __name__ == "__main__":
    unittest.main()
