"""Transports and the stand-in receiver: what is sent is what is received; TLS, passwords, folders."""

from __future__ import annotations

import json
import logging
import shutil
import ssl
import subprocess
import sys
import threading
import unittest
import warnings
from email import message_from_bytes, policy
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult

from pribble import DeliveryError, Message
from pribble.delivery.files import Folder
from pribble.delivery.receiver import Receiver
from pribble.delivery.submitting import Smtp
from pribble.delivery.transports import transport
from tests.support import DEMO, NOTHING_SKIPPED, ROOT, Case, pribble, slow

SAMPLE = DEMO / "berth-confirmed.sample.json"


class Delivery(Case):
    def test_send_and_receive(self) -> None:
        folder = self.folder().path
        server = subprocess.Popen(
            [sys.executable, *"-m pribble receive --port 0 --count 1 --json --folder".split(), str(folder)],
            stdout=subprocess.PIPE,
            text=True,
            cwd=ROOT,
        )
        self.addCleanup(server.kill)
        assert server.stdout
        with server.stdout:
            address = json.loads(server.stdout.readline())["listening"]
            done = pribble(
                "send",
                "berth-confirmed",
                "--to",
                "Ana <ana@example.org>",
                "--bcc",
                "b@example.net",
                "--through",
                address,
            )
            self.assertEqual(
                (done.returncode, done.stdout),
                (0, "ana@example.org: accepted (250 2.0.0 kept)\nb@example.net: accepted (250 2.0.0 kept)\n"),
            )
            received = json.loads(server.stdout.readline())
            self.assertEqual(server.wait(timeout=20), 0)
        self.assertEqual(received["recipients"], ["ana@example.org", "b@example.net"])
        message = message_from_bytes(Path(received["file"]).read_bytes(), policy=policy.default)
        self.assertEqual((message["To"], message["Bcc"]), ("Ana <ana@example.org>", None))

    @slow
    @unittest.skipIf(shutil.which("openssl") is None and not NOTHING_SKIPPED, "openssl is not installed")
    def test_a_server_with_tls_and_a_password(self) -> None:
        folder = self.folder().path
        subprocess.run(
            [
                "openssl",
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-days",
                "2",
                "-subj",
                "/CN=localhost",
                "-addext",
                "subjectAltName=DNS:localhost",
                "-keyout",
                "key.pem",
                "-out",
                "cert.pem",
            ],
            cwd=folder,
            check=True,
            capture_output=True,
        )
        # The server warns of what the test is about: a login without STARTTLS.
        logging.getLogger("mail.log").setLevel(logging.ERROR)
        warnings.filterwarnings("ignore", "Requiring AUTH", UserWarning)
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(folder / "cert.pem", folder / "key.pem")
        receiver = Receiver(folder / "in")

        def login(server: Any, session: Any, envelope: Any, mechanism: Any, given: Any) -> AuthResult:
            return AuthResult(success=(given.login, given.password) == (b"berths", b"s3cret"), handled=False)

        class WithTls(Controller):
            def factory(self) -> SMTP:  # what is TLS from the first byte needs no STARTTLS before a login
                return SMTP(receiver, authenticator=login, auth_require_tls=False, auth_required=True)

        server = WithTls(
            receiver, hostname="127.0.0.1", port=receiver.port, ssl_context=context, server_hostname="localhost"
        )
        server.start()
        self.addCleanup(server.stop)
        send = [
            "send",
            "gate-code",
            "--to",
            "ana@example.org",
            "--through",
            f"smtps://berths@localhost:{receiver.port}",
        ]
        trusted = {"SSL_CERT_FILE": str(folder / "cert.pem")}
        done = pribble(*send, environment={"PRIBBLE_PASSWORD": "s3cret", **trusted})
        self.assertEqual(
            (done.returncode, done.stdout), (0, "ana@example.org: accepted (250 2.0.0 kept)\n"), done.stderr
        )
        self.assertEqual(receiver.received[0].recipients, ("ana@example.org",))
        for environment, expected in [
            ({"PRIBBLE_PASSWORD": "wrong", **trusted}, "answered 535"),
            ({"PRIBBLE_PASSWORD": "s3cret"}, "no secure connection"),
        ]:
            done = pribble(*send, environment=environment)
            self.assertEqual(done.returncode, 3)
            self.assertIn(expected, done.stderr)
            self.assertNotIn("s3cret", done.stderr)
        self.assertEqual(len(receiver.received), 1)

    def test_a_secret_beyond_ascii_is_in_no_error(self) -> None:
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        with Receiver(self.folder().path) as receiver:
            for user, password in (("me", "pässwörd-tide"), ("mé-tide", "x"), ("me", "tide\ud800")):
                with self.assertRaises(DeliveryError) as caught:
                    Smtp("127.0.0.1", receiver.port, False, user, password).deliver(message)
                error: BaseException | None = caught.exception
                while error is not None:  # nor in what it came from
                    self.assertNotIn("tide", f"{error} {error!r} {vars(error)} {error.args}")
                    error = error.__cause__ or error.__context__

    def test_hosts_that_cannot_be(self) -> None:
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        for host in ("x" * 70, "a..b", "\ud800", "é" * 300):
            with self.subTest(host[:10]), self.assertRaises(DeliveryError):
                Smtp(host, 25, False).deliver(message)

    def test_what_is_sent_is_what_is_received(self) -> None:
        folder = self.folder().path
        message = Message(
            sender="a@x.example", to="ünal@x.example", subject="Grüße", text="\n.\n..\nFrom x\n" + "é" * 500
        )
        with Receiver(folder) as receiver:
            threads = [threading.Thread(target=transport(receiver.address).deliver, args=(message,)) for _ in range(4)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(len({r.path for r in receiver.received}), 4)
        self.assertEqual({r.path.read_bytes() for r in receiver.received}, {bytes(message)})

    def test_a_folder(self) -> None:
        folder = self.folder().path / "new/deep"
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        receipt = Folder(folder).deliver(message)
        Folder(folder).deliver(message)
        self.assertEqual((receipt.message_id, receipt.is_accepted), (message.message_id, True))
        self.assertIn(f"written to {folder}", receipt.outcomes[0].message)
        self.assertEqual([path.read_bytes() for path in folder.iterdir()], [bytes(message)] * 2)
        with self.assertRaises(DeliveryError):
            Folder(SAMPLE).deliver(message)


class Particular(Receiver):
    """A receiver that refuses and defers some, and the message of others, and counts its connections."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.connections, self.closes = 0, False

    async def handle_EHLO(
        self, server: Any, session: Any, envelope: Any, hostname: str, responses: list[str]
    ) -> list[str]:
        self.connections += 1
        session.host_name = hostname
        return responses

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        local = address.partition("@")[0]
        if local == "gone":
            return "421 4.3.2 shutting\x1b[2J down"
        if local.isdigit():
            return f"{local} {local[0]}.1.1 not {address} here"
        envelope.rcpt_tos.append(address)
        return "251 2.1.5 will be forwarded" if local == "moved" else "250 2.1.5 ok"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if envelope.mail_from.startswith("late"):
            return "452 4.3.1 no room"
        if envelope.mail_from.startswith("lost"):
            server.transport.close()
        return await super().handle_DATA(server, session, envelope)


class Receipts(Case):
    def message(self, *to: str, sender: str = "a") -> Message:
        return Message(sender=f"{sender}@x.example", to=[f"{one}@x.example" for one in to], text="x", seed=b"1")

    def test_each_recipient_has_an_outcome(self) -> None:
        with Particular(self.folder().path) as receiver:
            way = transport(receiver.address)
            for sender, to, states in (
                ("a", ["b", "c"], ["accepted", "accepted"]),
                ("a", ["b", "550", "451", "moved", "553"], ["accepted", "refused", "deferred", "accepted", "refused"]),
                ("a", ["550", "450"], ["refused", "deferred"]),
                ("late", ["b", "550"], ["deferred", "refused"]),
                ("lost", ["b", "450"], ["in_doubt", "deferred"]),
                ("a", ["550", "gone", "b"], ["refused", "deferred", "deferred"]),
            ):
                with self.subTest(sender=sender, to=to):
                    message = self.message(*to, sender=sender)
                    receipt = way.deliver(message)
                    self.assertEqual([one.state for one in receipt.outcomes], states)
                    self.assertEqual([one.recipient for one in receipt.outcomes], list(message.envelope.recipients))
                    self.assertEqual(receipt.message_id, message.message_id)
                    self.assertEqual(receipt.is_accepted, set(states) == {"accepted"})
                    left = [one.recipient for one in receipt.outcomes if one.state == "deferred"]
                    self.assertEqual(list(receipt.left), left)
                    self.assertTrue(all(one.message.isprintable() and one.at.tzinfo for one in receipt.outcomes))
            refused = way.deliver(self.message("550")).outcomes[0]
            self.assertEqual((refused.code, refused.enhanced), (550, "5.1.1"))
            self.assertEqual(refused.message, "5.1.1 not 550@x.example here")
            with self.assertRaises(DeliveryError):
                way.deliver(self.message("gone"))
        # Who was taken got it, once each time.
        self.assertEqual(receiver.received[1].recipients, ("b@x.example", "moved@x.example"))

    def test_a_retry_goes_to_those_who_are_left(self) -> None:
        with Particular(self.folder().path) as receiver:
            message = self.message("b", "451", "550")
            self.assertEqual(transport(receiver.address).deliver(message).left, ("451@x.example",))

    def test_one_connection_for_many(self) -> None:
        with Particular(self.folder().path) as receiver:
            with transport(receiver.address) as way:
                for number in range(50):
                    self.assertTrue(way.deliver(self.message(f"b{number}")).is_accepted)
                self.assertEqual(receiver.connections, 1)
                way.deliver(self.message("550"))
                with self.assertRaises(DeliveryError):
                    way.deliver(Message(sender="a@x.example", text="x"))
                self.assertTrue(way.deliver(self.message("c")).is_accepted)
                self.assertEqual(receiver.connections, 1)
                way._server.sock.close()  # type: ignore[attr-defined]  # as a server does that has waited long enough
                way._server.close()  # type: ignore[attr-defined]
                self.assertTrue(way.deliver(self.message("d")).is_accepted)
                self.assertEqual(receiver.connections, 2)
            way.deliver(self.message("e"))
            self.assertEqual((receiver.connections, way._server), (3, None))  # type: ignore[attr-defined]

    def test_threads_take_turns(self) -> None:
        with Particular(self.folder().path) as receiver, transport(receiver.address) as way:
            threads = [threading.Thread(target=way.deliver, args=(self.message(f"b{n}"),)) for n in range(8)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            self.assertEqual((len(receiver.received), receiver.connections), (8, 1))

    def test_the_command_says_a_line_a_recipient(self) -> None:
        with Particular(self.folder().path) as receiver:
            call = ("send", "gate-code", "--to", "b@x.example", "--to", "550@x.example", "--through", receiver.address)
            done = pribble(*call)
            self.assertEqual(done.returncode, 3)
            self.assertEqual(
                done.stdout,
                "b@x.example: accepted (250 2.0.0 kept)\n550@x.example: refused (550 5.1.1 not 550@x.example here)\n",
            )
            answer = json.loads(pribble(*call, "--json").stdout)
            self.assertEqual([one["state"] for one in answer["outcomes"]], ["accepted", "refused"])
            self.assertEqual(answer["outcomes"][1]["enhanced"], "5.1.1")
            self.assertTrue(answer["message_id"].startswith("<"))


if __name__ == "__main__":
    unittest.main()
