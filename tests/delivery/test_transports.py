"""Addresses of transports; what a submission says and when; receipts; connections shared by threads."""

from __future__ import annotations

import os
import socket
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from email import message_from_bytes, policy

from pribble import Attachment, DeliveryError, Message
from pribble.delivery import transport
from pribble.delivery.files import DraftFolder, Folder, Maildir
from pribble.delivery.memory import Outbox
from pribble.delivery.pool import Pool
from pribble.delivery.receiver import Receiver
from pribble.delivery.submitting import Smtp
from tests.delivery.scripted import CLOSE, Asked, Reply, Scripted, at
from tests.support import Case, large


def message(*to: str, sender: str = "a@x.example", text: str = "x", **more: object) -> Message:
    people = [one if "@" in one else f"{one}@x.example" for one in to]
    return Message(sender=sender, to=people, text=text, **more)  # type: ignore[arg-type]


class Addresses(Case):
    def test_what_an_address_names(self) -> None:
        for address, expected in (
            ("smtp://mail.example.org", ("mail.example.org", 587, False, None, None)),
            ("smtp://me@mail.example.org:25", ("mail.example.org", 25, False, "me", None)),
            ("smtps://mail.example.org", ("mail.example.org", 465, True, None, None)),
            ("smtps://me%40x@[::1]:1465/", ("::1", 1465, True, "me@x", None)),
            ("smtp://h?plain=yes&name=app.x.example&timeout=2.5", ("h", 587, False, None, True)),
            ("smtp://h?plain=no", ("h", 587, False, None, False)),
            ("smtp://h?ca=a.pem", ("h", 587, False, None, False)),
        ):
            with self.subTest(address):
                way = transport(address)
                assert isinstance(way, Smtp)
                self.assertEqual((way.host, way.port, way.at_once, way.user, way.plain), expected)
        way = transport("smtp://h?name=[192.0.2.1]&timeout=2.5", connections=3)
        assert isinstance(way, Smtp)
        self.assertEqual((way.called, way.longest, way.connections), ("[192.0.2.1]", 2.5, 3))
        for address, kind in (
            ("folder:a b/c", Folder),
            ("maildir:/m", Maildir),
            ("drafts+folder:d", DraftFolder),
            ("memory:", Outbox),
        ):
            self.assertIsInstance(transport(address), kind)

    def test_what_names_none(self) -> None:
        for address, words in (
            ("carrier:pigeon", "names no transport"),
            ("", "names no transport"),
            ("smtp", "names no transport"),
            ("smtp:h", "no // before its host"),
            ("smtp://", "names no host"),
            ("smtp://:25", "names no host"),
            ("smtp://h:x", "is no port"),
            ("smtp://h:99999", "is no port"),
            ("smtp://[::1", "no address"),
            ("smtp://h/path", "goes on"),
            ("smtp://h#x", "goes on"),
            ("smtp://h?nam=x", 'did you mean "name"'),
            ("smtp://h?name", "name=value"),
            ("smtp://h?name=", "has no value"),
            ("smtp://h?name=a b", "?name= is the name"),
            ("smtp://h?name=a%0d%0aMAIL", "?name= is the name"),
            ("smtp://h?name=a&name=b", "twice"),
            ("smtp://h?plain=maybe", "yes or no"),
            ("smtps://h?plain=yes", "TLS and for none"),
            ("smtp://h?plain=yes&ca=x", "TLS and for none"),
            ("smtp://h?timeout=0", "number of seconds"),
            ("smtp://h?timeout=soon", "number of seconds"),
            ("smtp://h\r\nx", "cannot be seen"),
            ("folder:", "names no folder"),
            ("drafts+folder:", "names no folder"),
            ("memory:nowhere", "no outbox of this process"),
            ("command:", "followed by a program"),
            ("command:'x", "followed by a program"),
            ("command:{sender} {recipients}", "followed by a program"),
            ("command:sendmail", "{recipients}"),
            ("command:sendmail {recipients} -t", "{recipients}"),
            ("command:sendmail {to} {recipients}", '"{to}" stands for nothing'),
        ):
            with (
                self.subTest(address),
                self.assertRaisesRegex(ValueError, words.replace("?", r"\?").replace("{", r"\{")),
            ):
                transport(address)
        with self.assertRaisesRegex(ValueError, "one connection or more"):
            transport("smtp://h", connections=0)

    def test_no_password_of_an_address_is_shown(self) -> None:
        for address in (
            "smtp://me:tide-table@h",
            "smtp://me:tide-table@h:x",
            "smtp://me:tide-table",
            "smtp:me:tide-table@h",
            "carrier://me:tide-table@h",
            "smtps://me:tide-table@[h",
            "smtp://me:p@ss/tide-table@h",
            "smtp://:tide-table@h?x=y@z",
            "smtp://me:tide-table@h\n",
        ):
            with self.subTest(address), self.assertRaises(ValueError) as caught:
                transport(address)
            self.assertNotIn("tide-table", str(caught.exception))


class Conversation(Case):
    """What is said to a server, and when."""

    def test_the_words(self) -> None:
        with Scripted() as server:
            way = transport(f"smtp://127.0.0.1:{server.port}?name=app.x.example")
            sent = message("b", "c", sender="s@x.example", text="\n.\n..\n. x\nFrom y")
            way.deliver(sent)
        raw = bytes(sent)
        self.assertEqual(
            [one.line for one in server.asked if one.line],
            [
                "ehlo app.x.example",
                f"MAIL FROM:<s@x.example> SIZE={len(raw)}",
                "RCPT TO:<b@x.example>",
                "RCPT TO:<c@x.example>",
                "DATA",
                "QUIT",
            ],
        )
        self.assertEqual(server.bodies[0] + b"\r\n", raw.replace(b"\r\n.", b"\r\n.."))

    def test_a_name_is_the_address_of_this_end(self) -> None:
        with Scripted() as server:
            transport(f"smtp://127.0.0.1:{server.port}").deliver(message("b"))
            transport(f"smtp://localhost:{server.port}").deliver(message("b", envelope_sender=""))
        said = [one.line.partition(" SIZE")[0] for one in server.asked if one.verb in ("ehlo", "mail")]
        hello = "ehlo [127.0.0.1]"
        self.assertEqual(said, [hello, "MAIL FROM:<a@x.example>", hello, "MAIL FROM:<>"])

    def test_what_a_server_must_offer(self) -> None:
        nested = Attachment("m.eml", b"Subject: \xc3\xbc\n\n\xc3\xbc", "message/rfc822")
        plain = b"250-small\r\n250 SIZE %d\r\n"
        for offered, sent, expected in (
            (plain % 0, message("b"), None),
            (plain % 10_000, message("b"), None),
            (plain % 100, message("b"), "takes 100 octets at most, and the message has"),
            (plain % len(bytes(message("b", seed=b"x"))), message("b", seed=b"x", text="\n."), "octets at most"),
            (b"250-x\r\n250 SIZE 12monkeys\r\n", message("b"), None),
            (b"250-x\r\n250 SIZE " + b"9" * 400 + b"\r\n", message("b"), None),
            (b"250 small\r\n", message("ünal"), "it offers no SMTPUTF8"),
            (b"250 small\r\n", message("b", attachments=[nested]), "it offers no 8BITMIME"),
            (b"250-x\r\n250-8bitmime\r\n250 smtputf8\r\n", message("ünal", attachments=[nested]), None),
        ):
            with (
                self.subTest(offered=offered[:40]),
                Scripted(at("ehlo", offered)) as server,
                transport(f"smtp://127.0.0.1:{server.port}") as way,
            ):
                outcome = way.deliver(sent).outcomes[0]
                if expected is None:
                    self.assertEqual(outcome.state, "accepted")
                    continue
                self.assertEqual((outcome.state, outcome.code), ("refused", None))
                self.assertIn(expected, outcome.message)
                self.assertNotIn("mail", server.verbs())
                # It was this message's trouble: the next one goes over the same connection.
                way.deliver(message("b"))
                self.assertEqual(server.connections, 1)
        asked = [one.line for one in server.asked if one.verb == "mail"]
        self.assertTrue(asked[0].endswith("SMTPUTF8 BODY=8BITMIME"), asked)

    def test_commands_go_at_once_where_a_server_can(self) -> None:
        """A server that answers only when it has all of a group, as it may (RFC 2920 3.2)."""
        for offers, waits in ((b"250-x\r\n250 PIPELINING\r\n", True), (b"250 x\r\n", False)):
            held: list[bytes] = []

            def script(
                asked: Asked, offers: bytes = offers, waits: bool = waits, held: list[bytes] = held
            ) -> Reply | None:
                if asked.verb == "ehlo":
                    return offers
                if asked.verb not in ("mail", "rcpt") or not waits:
                    return None
                held.append(b"250 ok\r\n")
                return b"".join(held) if len(held) == 4 else b""

            with Scripted(script) as server:
                way = transport(f"smtp://127.0.0.1:{server.port}?timeout=5")
                self.assertTrue(way.deliver(message("b", "c", "d")).is_accepted)

    def test_many_recipients(self) -> None:
        """Their replies fit nowhere at once; a server that takes few at a time gets them in turns."""
        many = [f"r{n}" for n in range(large(20_000))]
        with Scripted(at("rcpt", b"250 " + b"x" * 400 + b"\r\n")) as server:
            self.assertTrue(transport(f"smtp://127.0.0.1:{server.port}").deliver(message(*many)).is_accepted)
        self.assertEqual(len(server.bodies), 1)
        for most, refusal in ((100, b"452 4.5.3 too many\r\n"), (7, b"552 too many\r\n"), (1, b"452\r\n")):
            taken = [0]

            def script(
                asked: Asked, most: int = most, refusal: bytes = refusal, taken: list[int] = taken
            ) -> Reply | None:
                if asked.verb == "mail":
                    taken[0] = 0
                if asked.verb != "rcpt":
                    return None
                taken[0] += 1
                return None if taken[0] <= most else refusal

            count = large(2_000)
            with self.subTest(most), Scripted(script) as server:
                receipt = transport(f"smtp://127.0.0.1:{server.port}").deliver(message(*many[:count]))
                self.assertTrue(receipt.is_accepted)
                self.assertEqual(len(server.bodies), -(-count // most))
                asked = [one.line for one in server.asked if one.verb == "rcpt"]
                self.assertLessEqual(len(asked), 2 * count)
                self.assertEqual(len(set(asked)), count)

    def test_a_full_mailbox_is_no_limit_on_recipients(self) -> None:
        for code, reply, state in (
            (552, b"552 5.2.2 mailbox full\r\n", "refused"),
            (552, b"552 5.3.4 too large for it\r\n", "refused"),
            (552, b"552 4.2.2 over quota\r\n", "refused"),
            (452, b"452 4.5.3 too many\r\n", "deferred"),  # also of the first one, so that it is no number
        ):
            script = lambda asked, reply=reply: reply if "b@" in asked.line else None  # noqa: E731
            with self.subTest(reply), Scripted(script) as server:
                outcomes = transport(f"smtp://127.0.0.1:{server.port}").deliver(message("a", "b", "c")).outcomes
                self.assertEqual([one.state for one in outcomes], ["accepted", state, "accepted"])
                self.assertEqual(outcomes[1].code, code)

    def test_a_command_holds_no_line_break(self) -> None:
        """No address with one can be made; were there one, it would not go out."""
        with Scripted() as server:
            sent = message("b")
            vars(sent)["envelope_sender"] = "a@x.example>\r\nRCPT TO:<evil@x.example"
            with self.assertRaisesRegex(DeliveryError, "control character"):
                transport(f"smtp://127.0.0.1:{server.port}").deliver(sent)
        self.assertNotIn("mail", server.verbs())

    def test_what_commits_comes_before_the_dot(self) -> None:
        def script(asked: Asked) -> Reply | None:
            if asked.verb == "dot":
                events.append("dot")
            return b"550 no\r\n" if "c@" in asked.line else None

        class Full(Exception):
            pass

        def fails(people: object) -> None:
            raise Full

        events: list[object] = []
        with Scripted(script) as server, transport(f"smtp://127.0.0.1:{server.port}") as way:
            way.deliver(message("b", "c", "d"), committing=events.append)
            self.assertEqual(events, [("b@x.example", "d@x.example"), "dot"])
            way.deliver(message("c"), committing=events.append)
            self.assertEqual(len(events), 2)
            with self.assertRaises(Full):
                way.deliver(message("b"), committing=fails)
            self.assertEqual(server.bodies[1:], [])
            self.assertTrue(way.deliver(message("b")).is_accepted)
            self.assertEqual((server.connections, len(server.bodies)), (2, 2))

    def test_words_of_a_server_are_one_line(self) -> None:
        reply = b"550-5.1.1 \x1b[2Jno\x07\r\n550-5.1.1 \xe2\x80\xae such\xff\r\n550 5.1.1 " + b"y" * 3000 + b"\r\n"
        with Scripted(at("rcpt", reply)) as server:
            outcome = transport(f"smtp://127.0.0.1:{server.port}").deliver(message("b")).outcomes[0]
        self.assertTrue(outcome.message.isprintable())
        self.assertEqual((outcome.code, outcome.enhanced), (550, "5.1.1"))
        self.assertLessEqual(len(outcome.message), 500)

    def test_a_reply_whose_other_half_is_late(self) -> None:
        """Also where nobody had asked yet: a server says in the middle of the body, slowly, that it is enough."""

        large_one = message("b", attachments=[Attachment("large.bin", bytes(6_000_000))])

        def script(asked: Asked) -> Reply | None:
            if asked.verb == "data":
                threading.Timer(0.7, server._open[0].sendall, [b"52 5.3.4 too much\r\n"]).start()
                return [b"354 go on\r\n", b"5"]
            return None

        with Scripted(script) as server:
            (outcome,) = transport(f"smtp://127.0.0.1:{server.port}?timeout=10").deliver(large_one).outcomes
        self.assertEqual((outcome.state, outcome.code, outcome.enhanced), ("refused", 552, "5.3.4"))

    def test_octets_that_come_one_by_one(self) -> None:
        """A limit is for a whole step: a server that says something all the time does not keep it open."""

        def drip(asked: Asked) -> Reply | None:
            if asked.verb == "mail":
                for _ in range(40):
                    time.sleep(0.05)
                    server._open[0].sendall(b"2")
            return None

        with Scripted(at("mail", [b"2", b"50", b"-a\r", b"\n25", b"0 b\r\n"])) as server:
            self.assertTrue(transport(f"smtp://127.0.0.1:{server.port}").deliver(message("b")).is_accepted)
        with Scripted(drip) as server:
            begun = time.monotonic()
            outcome = transport(f"smtp://127.0.0.1:{server.port}?timeout=0.3").deliver(message("b")).outcomes[0]
            self.assertEqual(outcome.state, "deferred")
            self.assertLess(time.monotonic() - begun, 1.5)  # no measure of speed: it would take 2 s to the end


class Receipts(Case):
    def test_it_says_what_became_of_each(self) -> None:
        replies = {"550": b"550 5.1.1 no\r\n", "451": b"451 4.3.0 later\r\n", "251": b"251 2.1.5 forwarded\r\n"}

        def script(asked: Asked) -> Reply | None:
            return replies.get(asked.line.removeprefix("RCPT TO:<")[:3]) if asked.verb == "rcpt" else None

        sent = message("b", "550", "451", "251")
        with Scripted(script) as server:
            receipt = transport(f"smtp://127.0.0.1:{server.port}").deliver(sent)
        self.assertEqual([one.state for one in receipt.outcomes], ["accepted", "refused", "deferred", "accepted"])
        self.assertEqual([one.recipient for one in receipt.outcomes], list(sent.envelope.recipients))
        self.assertEqual(
            (receipt.message_id, receipt.is_accepted, receipt.left), (sent.message_id, False, ("451@x.example",))
        )
        self.assertEqual([(one.code, one.enhanced) for one in receipt.outcomes[1:3]], [(550, "5.1.1"), (451, "4.3.0")])
        self.assertTrue(all(one.at.tzinfo for one in receipt.outcomes))
        self.assertEqual(str(receipt.outcomes[1]), "550@x.example: refused (550 5.1.1 no)")

    def test_for_nobody(self) -> None:
        for way in (
            transport("smtp://127.0.0.1:1"),
            Folder(self.folder().path),
            Outbox(),
            transport("command:true {recipients}"),
        ):
            with self.subTest(way), self.assertRaisesRegex(DeliveryError, "no recipients"):
                way.deliver(Message(sender="a@x.example", text="x"))

    def test_a_try_for_some(self) -> None:
        """Who was deferred is tried again, and nobody else."""
        folder = self.folder().path
        sent = message("b", "c", "d")
        ways = (
            Outbox(),
            Folder(folder / "f"),
            Maildir(folder / "m"),
            DraftFolder(folder / "d"),
            transport("command:sh -c 'cat > /dev/null' {recipients}"),
        )
        with Scripted() as server:
            for way in (*ways, transport(f"smtp://127.0.0.1:{server.port}")):
                with self.subTest(way):
                    committed: list[object] = []
                    receipt = way.deliver(sent, recipients=["c@x.example", "d@x.example"], committing=committed.append)
                    self.assertEqual([one.recipient for one in receipt.outcomes], ["c@x.example", "d@x.example"])
                    self.assertEqual([list(people) for people in committed], [["c@x.example", "d@x.example"]])  # type: ignore[call-overload]
                    for wrong in ([], ["e@x.example"]):
                        with self.assertRaises(ValueError):
                            way.deliver(sent, recipients=wrong)
            self.assertEqual(
                [one.line for one in server.asked if one.verb == "rcpt"],
                ["RCPT TO:<c@x.example>", "RCPT TO:<d@x.example>"],
            )
        self.assertTrue(Folder(folder / "f").holds(sent, recipients=["c@x.example", "d@x.example"]))
        self.assertFalse(Folder(folder / "f").holds(sent))

    def test_what_is_sent_is_what_is_received(self) -> None:
        sent = message("ünal@x.example", subject="Grüße", text="\n.\n..\nFrom x\n" + "é" * 500)
        with Receiver(self.folder().path) as receiver, ThreadPoolExecutor(4) as pool:
            ways = [transport(receiver.address) for _ in range(4)]
            list(pool.map(lambda way: way.deliver(sent), ways))
        self.assertEqual(len({r.path for r in receiver.received}), 4)
        self.assertEqual({r.path.read_bytes() for r in receiver.received}, {bytes(sent)})
        read = message_from_bytes(bytes(sent), policy=policy.default)
        self.assertEqual(read["Subject"], "Grüße")


class Connections(Case):
    def test_one_for_many(self) -> None:
        with Scripted(lambda asked: b"550 no\r\n" if "550" in asked.line else None) as server:
            with transport(f"smtp://127.0.0.1:{server.port}") as way:
                for number in range(50):
                    self.assertTrue(way.deliver(message(f"b{number}")).is_accepted)
                way.deliver(message("550"))
                self.assertTrue(way.deliver(message("c")).is_accepted)
                with way:  # held twice
                    pass
                self.assertTrue(way.deliver(message("d")).is_accepted)
                self.assertEqual(server.connections, 1)
            self.assertEqual(server.verbs().count("quit"), 1)
            way.deliver(message("e"))
            self.assertEqual((server.connections, server.verbs().count("quit")), (2, 2))

    def test_threads_share_some(self) -> None:
        most = threading.Semaphore(3)
        begun = threading.Barrier(3)

        def script(asked: Asked) -> Reply | None:
            if asked.verb == "mail":
                self.assertTrue(most.acquire(blocking=False), "more connections than there may be")
                if asked.message == 0:
                    begun.wait(10)  # as many as may be are in use at once
            if asked.verb == "dot":
                most.release()
            return None

        with Scripted(script) as server, transport(f"smtp://127.0.0.1:{server.port}", connections=3) as way:
            with ThreadPoolExecutor(12) as pool:
                receipts = list(pool.map(lambda n: way.deliver(message(f"b{n}")), range(60)))
            self.assertTrue(all(receipt.is_accepted for receipt in receipts))
            self.assertEqual((server.connections, len(server.bodies)), (3, 60))
        self.assertEqual(server.verbs().count("quit"), 3)

    def test_an_idle_one_takes_leave(self) -> None:
        left = threading.Event()

        def script(asked: Asked) -> Reply | None:
            if asked.verb == "quit":
                left.set()
            return None

        with Scripted(script) as server:
            way = Smtp("127.0.0.1", server.port)
            way._pool = Pool(1, way._connected, idle=0.1)
            with way:
                way.deliver(message("b"))
                self.assertTrue(left.wait(10))
                self.assertTrue(way.deliver(message("c")).is_accepted)
            self.assertEqual(server.connections, 2)

    def test_one_that_was_closed_in_the_meantime(self) -> None:
        """Once and again: each time nothing of the message was said."""

        def script(asked: Asked) -> Reply | None:
            return (b"250 ok\r\n", CLOSE) if asked.verb == "dot" else None

        with Scripted(script) as server, transport(f"smtp://127.0.0.1:{server.port}") as way:
            for number in range(5):
                self.assertTrue(way.deliver(message(f"b{number}")).is_accepted)
            self.assertEqual((server.connections, len(server.bodies)), (5, 5))

    def test_one_that_says_more_than_it_is_asked(self) -> None:
        """Two answers to one message: the second one is not taken for that to the next."""

        def script(asked: Asked) -> Reply | None:
            return b"250 taken\r\n550 and what else\r\n" if asked.verb == "dot" else None

        with Scripted(script) as server, transport(f"smtp://127.0.0.1:{server.port}") as way:
            for number in range(3):
                self.assertTrue(way.deliver(message(f"b{number}")).is_accepted)
            self.assertEqual((server.connections, len(server.bodies)), (3, 3))

    def test_a_server_that_is_gone_between_two_transactions(self) -> None:
        """Whoever was taken has it; for the rest there is another time, and no error that would hide it."""

        def script(asked: Asked) -> Reply | None:
            if asked.verb == "dot":
                server._listener.shutdown(socket.SHUT_RDWR)
                return (b"250 ok\r\n", CLOSE)
            return b"452 4.5.3 too many\r\n" if "c@" in asked.line else None

        with Scripted(script) as server:
            receipt = transport(f"smtp://127.0.0.1:{server.port}").deliver(message("b", "c"))
        self.assertEqual([one.state for one in receipt.outcomes], ["accepted", "deferred"])
        self.assertIn("cannot be reached", receipt.outcomes[1].message)

    @unittest.skipUnless(hasattr(os, "fork"), "this system copies no processes")
    def test_a_copied_process_has_its_own(self) -> None:
        with Scripted() as server, transport(f"smtp://127.0.0.1:{server.port}") as way:
            way.deliver(message("b"))
            child = os.fork()
            if child == 0:
                os._exit(0 if way.deliver(message("child")).is_accepted else 1)
            self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 0)
            self.assertTrue(way.deliver(message("parent")).is_accepted)
            self.assertEqual(server.connections, 2)


if __name__ == "__main__":
    unittest.main()
