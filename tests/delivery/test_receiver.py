"""The stand-in receiver: what it keeps, its faults, TLS with a certificate of its own, logins; also on the command line."""

from __future__ import annotations

import json
import os
import smtplib
import ssl
import subprocess
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from email import message_from_bytes, policy
from pathlib import Path
from typing import Any

from pribble import DeliveryError, Message
from pribble.delivery import transport
from pribble.delivery.faults import DEFERRED, REFUSED, Faults, Refusal, is_like
from pribble.delivery.receiver import Manner, Receiver
from tests.support import ROOT, Case, pribble, slow


def message(*to: str, sender: str = "a@x.example") -> Message:
    return Message(sender=sender, to=list(to), text="x")


class Manners(Case):
    def receiver(self, manner: Manner) -> Receiver:
        receiver = Receiver(self.folder().path, manner=manner)
        receiver.start()
        self.addCleanup(receiver.stop)
        return receiver

    def test_patterns(self) -> None:
        for address, pattern, expected in (
            ("Ana@X.example", "ana@*", True),
            ("ana@x.example", "*@x.example", True),
            ("ana@x.example.org", "*@x.example", False),
            ("ana@x.example", "ana", False),
            ("[a]@x.example", "[[]a]@*", True),
            ("a" * 200 + "@x.example", "*a" * 30 + "*b", False),
        ):
            self.assertEqual(is_like(address, pattern), expected, pattern)

    def test_whom_it_refuses_and_defers(self) -> None:
        faults = Faults([Refusal("*@closed.example", *REFUSED), Refusal("busy@*", *DEFERRED, times=2)])
        receiver = self.receiver(Manner(faults))
        sent = message("b@x.example", "c@closed.example", "busy@x.example")
        with transport(receiver.address) as way:
            states = [[one.state for one in way.deliver(sent).outcomes] for _ in range(4)]
        self.assertEqual(states, [["accepted", "refused", "deferred"]] * 2 + [["accepted", "refused", "accepted"]] * 2)
        self.assertEqual(receiver.received[0].recipients, ("b@x.example",))
        self.assertEqual(receiver.received[3].recipients, ("b@x.example", "busy@x.example"))

    def test_what_it_drops(self) -> None:
        receiver = self.receiver(Manner(Faults(drops={1: "before-dot", 3: "after-dot"})))
        with transport(receiver.address) as way:
            states = [way.deliver(message(f"b{n}@x.example")).outcomes[0].state for n in range(5)]
        self.assertEqual(states, ["accepted", "deferred", "accepted", "in_doubt", "accepted"])
        # What is in doubt is there, what was cut off is not.
        self.assertEqual([one.recipients[0][:2] for one in receiver.received], ["b0", "b2", "b3", "b4"])

    def test_it_takes_its_time(self) -> None:
        receiver = self.receiver(Manner(delay=0.3))
        begun = time.monotonic()
        with ThreadPoolExecutor(4) as pool:
            list(pool.map(lambda n: transport(receiver.address).deliver(message(f"b{n}@x.example")), range(4)))
        self.assertGreaterEqual(time.monotonic() - begun, 0.3)
        outcome = transport(f"{receiver.address}?timeout=0.1").deliver(message("b@x.example")).outcomes[0]
        self.assertEqual(outcome.state, "in_doubt")

    def test_paths_in_the_settings_begin_at_their_folder(self) -> None:
        receiver = self.receiver(Manner(tls="starttls"))
        assert receiver.certificate is not None
        server = receiver.address.partition("?")[0]
        toml = f"""
            senders.default = "o@skerrow.example"
            [transports.server]
            url = "{server}?ca=keys/authority.pem"
            [transports.program]
            url = "command:./take {{recipients}}"
        """
        project = self.folder(
            {
                "pribble.toml": toml,
                "keys/authority.pem": Path(receiver.certificate).read_bytes(),
                "take": f"#!/bin/sh\nexec {sys.executable} -c 'import sys; sys.stdin.read()'\n",
                "templates/t.txt": "{{ subject: }}T{{ :subject }}x",
                "within/it/is.txt": "",
            }
        ).path
        (project / "take").chmod(0o700)
        for folder in (project, project / "within/it"):
            for name in ("server", "program"):
                with self.subTest(name, folder=folder.name):
                    template = str(project / "templates/t.txt")
                    done = pribble("send", template, "--to", "b@x.example", "--through", name, cwd=folder)
                    self.assertEqual((done.returncode, done.stderr), (0, ""), done.stdout)
                    self.assertIn("b@x.example: accepted", done.stdout)

    def test_tls_with_a_certificate_of_its_own(self) -> None:
        for kind in ("starttls", "smtps"):
            with self.subTest(kind):
                receiver = self.receiver(Manner(tls=kind, login=("me", "tide")))
                self.assertIn(f"?ca={receiver.certificate}", receiver.address)
                way = transport(receiver.address, "tide")
                self.assertTrue(way.deliver(message("b@x.example")).is_accepted)
                self.assertTrue(
                    transport(receiver.address.replace("127.0.0.1", "localhost"), "tide")
                    .deliver(message("c@x.example"))
                    .is_accepted
                )
                with self.assertRaisesRegex(DeliveryError, "answered 535"):
                    transport(receiver.address, "tid").deliver(message("b@x.example"))
                with self.assertRaisesRegex(DeliveryError, "not who it should be|must issue|answered"):
                    transport(receiver.address.partition("?")[0] + "?plain=no" * (kind == "starttls"), "tide").deliver(
                        message("b@x.example")
                    )
                # The standard library's client believes the same file.
                context = ssl.create_default_context(cafile=str(receiver.certificate))
                if kind == "smtps":
                    client: smtplib.SMTP = smtplib.SMTP_SSL("localhost", receiver.port, context=context, timeout=10)
                else:
                    client = smtplib.SMTP("localhost", receiver.port, timeout=10)
                    self.assertEqual(client.docmd("MAIL", "FROM:<a@x.example>")[0] // 100, 5)
                    client.starttls(context=context)
                with client:
                    client.login("me", "tide")
                    client.sendmail("a@x.example", ["b@x.example"], b"Subject: x\r\n\r\nx\r\n")
                self.assertEqual(len(receiver.received), 3)
                # Of the key nothing is left.
                self.assertFalse([one for one in receiver.folder.iterdir() if b"PRIVATE" in one.read_bytes()])

    def test_it_wants_a_login(self) -> None:
        receiver = self.receiver(Manner(login=("mé", "tïde")))
        self.assertTrue(transport(receiver.address, "tïde").deliver(message("b@x.example")).is_accepted)
        outcome = transport(receiver.address.replace("mé@", "")).deliver(message("b@x.example")).outcomes[0]
        self.assertEqual((outcome.state, outcome.code), ("refused", 530))
        self.assertNotIn("tïde", repr(receiver.manner))

    def test_it_is_on_this_machine_only(self) -> None:
        receiver = self.receiver(Manner())
        sockets = receiver._controller.server.sockets
        self.assertEqual({one.getsockname()[0] for one in sockets}, {"127.0.0.1"})


class OnTheCommandLine(Case):
    @contextmanager
    def receiving(self, *options: str, **environment: str) -> Iterator[tuple[dict[str, Any], Any]]:
        command = [
            sys.executable,
            "-m",
            "pribble",
            "receive",
            "--port",
            "0",
            "--json",
            "--folder",
            str(self.folder().path),
        ]
        server = subprocess.Popen(
            [*command, *options], stdout=subprocess.PIPE, text=True, cwd=ROOT, env={**os.environ, **environment}
        )
        assert server.stdout
        try:
            yield json.loads(server.stdout.readline()), server.stdout
        finally:
            server.kill()
            server.wait()
            server.stdout.close()

    def test_send_and_receive(self) -> None:
        with self.receiving("--count", "1") as (first, lines):
            people = ("--to", "Ana <ana@example.org>", "--bcc", "b@example.net")
            done = pribble("send", "berth-confirmed", *people, "--through", first["listening"])
            said = "ana@example.org: accepted (250 2.0.0 kept)\nb@example.net: accepted (250 2.0.0 kept)\n"
            self.assertEqual((done.returncode, done.stdout), (0, said))
            received = json.loads(lines.readline())
            self.assertEqual(lines.readline(), "")  # it has ended
        self.assertEqual(received["recipients"], ["ana@example.org", "b@example.net"])
        read = message_from_bytes(Path(received["file"]).read_bytes(), policy=policy.default)
        self.assertEqual((read["To"], read["Bcc"]), ("Ana <ana@example.org>", None))

    @slow
    def test_its_faults(self) -> None:
        faults = "--refuse *@closed.example --defer busy@*:1 --defer never@* --drop-after 1:before-dot --drop-after 2 --delay 0.01"
        with self.receiving(*faults.split()) as (first, lines):
            call = ("send", "gate-code", "--through", first["listening"], "--to", "b@x.example", "--to")
            done = pribble(*call, "c@closed.example")
            self.assertEqual(done.returncode, 3)
            self.assertEqual(
                done.stdout,
                "b@x.example: accepted (250 2.0.0 kept)\n"
                "c@closed.example: refused (550 5.1.1 no mailbox of that name here)\n",
            )
            answer = json.loads(pribble(*call, "busy@x.example", "--json").stdout)
            self.assertEqual([one["state"] for one in answer["outcomes"]], ["deferred", "deferred"])
            self.assertEqual((answer["outcomes"][1]["code"], answer["outcomes"][1]["enhanced"]), (451, "4.3.0"))
            answer = json.loads(pribble(*call, "busy@x.example", "--json").stdout)
            self.assertEqual([one["state"] for one in answer["outcomes"]], ["in_doubt", "in_doubt"])
            self.assertTrue(answer["message_id"].startswith("<"))
            done = pribble(*call, "never@x.example")
            self.assertIn("never@x.example: deferred (451 4.3.0 not now)", done.stdout)
            told = [json.loads(lines.readline()) for _ in range(8)]
            self.assertEqual(
                [(one["recipient"], one["fault"]) for one in told if "fault" in one],
                [
                    ("c@closed.example", "550 5.1.1 no mailbox of that name here"),
                    ("busy@x.example", "451 4.3.0 not now"),
                    (None, "dropped before the dot"),
                    (None, "dropped after the dot, without an answer"),
                    ("never@x.example", "451 4.3.0 not now"),
                ],
            )

    @slow
    def test_tls_and_a_login(self) -> None:
        for kind in ("starttls", "smtps"):
            with self.receiving("--tls", kind, "--auth", "me", PRIBBLE_PASSWORD="tide") as (first, _):
                done = pribble(
                    *("send", "gate-code", "--to", "b@x.example", "--through", first["listening"]),
                    environment={"PRIBBLE_PASSWORD": "tide"},
                )
                self.assertEqual((done.returncode, done.stderr), (0, ""), done.stdout)

    def test_options_that_cannot_be(self) -> None:
        for options, words in (
            (["--drop-after", "x"], '"x" is no number of messages'),
            (["--drop-after", "1:sometime"], "before-dot or after-dot"),
            (["--delay", "-1"], "no number of seconds"),
            (["--delay", "soon"], "no number of seconds"),
            (["--auth", "me"], "PRIBBLE_PASSWORD"),
            (["--tls", "ssl"], "invalid choice"),
        ):
            with self.subTest(options):
                done = pribble("receive", *options)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
