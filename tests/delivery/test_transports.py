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
from pribble.delivery.receiver import Receiver
from pribble.delivery.transports import Folder, Smtp, transport
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
                (done.returncode, done.stdout), (0, f"ana@example.org, b@example.net: taken by {address[7:]}\n")
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
        done = pribble(*send, PRIBBLE_PASSWORD="s3cret", **trusted)
        self.assertEqual(
            (done.returncode, done.stdout), (0, f"ana@example.org: taken by localhost:{receiver.port}\n"), done.stderr
        )
        self.assertEqual(receiver.received[0].recipients, ("ana@example.org",))
        for environment, expected in [
            ({"PRIBBLE_PASSWORD": "wrong", **trusted}, "answered 535"),
            ({"PRIBBLE_PASSWORD": "s3cret"}, "no secure connection"),
        ]:
            done = pribble(*send, **environment)
            self.assertEqual(done.returncode, 3)
            self.assertIn(expected, done.stderr)
            self.assertNotIn("s3cret", done.stderr)
        self.assertEqual(len(receiver.received), 1)

    def test_a_secret_beyond_ascii_is_in_no_error(self) -> None:
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        with Receiver(self.folder().path) as receiver:
            for user, password in (("me", "pässwörd-tide"), ("mé-tide", "x"), ("me", "tide\ud800")):
                with self.assertRaises(DeliveryError) as caught:
                    Smtp("127.0.0.1", receiver.port, False, user, password).send(message)
                error: BaseException | None = caught.exception
                while error is not None:  # nor in what it came from
                    self.assertNotIn("tide", f"{error} {error!r} {vars(error)} {error.args}")
                    error = error.__cause__ or error.__context__

    def test_hosts_that_cannot_be(self) -> None:
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        for host in ("x" * 70, "a..b", "\ud800", "é" * 300):
            with self.subTest(host[:10]), self.assertRaises(DeliveryError):
                Smtp(host, 25, False).send(message)

    def test_what_is_sent_is_what_is_received(self) -> None:
        folder = self.folder().path
        message = Message(
            sender="a@x.example", to="ünal@x.example", subject="Grüße", text="\n.\n..\nFrom x\n" + "é" * 500
        )
        with Receiver(folder) as receiver:
            threads = [threading.Thread(target=transport(receiver.address).send, args=(message,)) for _ in range(4)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(len({r.path for r in receiver.received}), 4)
        self.assertEqual({r.path.read_bytes() for r in receiver.received}, {bytes(message)})

    def test_a_folder(self) -> None:
        folder = self.folder().path / "new/deep"
        message = Message(sender="a@x.example", to="b@x.example", text="x")
        Folder(folder).send(message)
        Folder(folder).send(message)
        self.assertEqual([path.read_bytes() for path in folder.iterdir()], [bytes(message)] * 2)
        with self.assertRaises(DeliveryError):
            Folder(SAMPLE).send(message)


if __name__ == "__main__":
    unittest.main()
