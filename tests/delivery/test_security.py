"""TLS and secrets: whom a transport believes, what it never says in the clear, and that no password comes out again."""

from __future__ import annotations

import base64
import contextlib
import io
import itertools
import logging
import pickle
import unittest
import unittest.mock
from collections.abc import Callable
from datetime import timedelta

from pribble import DataError, DeliveryError, Message
from pribble.delivery import smtp, transport
from pribble.delivery.passwords import check_password_variables, password_of, password_variables
from pribble.delivery.receiver import Manner, Receiver
from pribble.delivery.submitting import Smtp
from pribble.hosts import is_loopback
from tests.delivery.certificates import Authority
from tests.delivery.scripted import CLOSE, ENDLESS, SILENCE, TLS, Asked, Reply, Scripted, at
from tests.support import Case, pribble

MESSAGE = Message(sender="a@x.example", to="b@x.example", text="x", seed=b"x")
SECRET = "tide-täble 7"


class Tls(Case):
    def setUp(self) -> None:
        self.authority = Authority(self.folder().path)
        self.ca = f"?ca={self.authority.file}&timeout=10"

    def failure(self, server: Scripted, address: str) -> DeliveryError:
        with self.assertRaises(DeliveryError) as caught:
            transport(address).deliver(MESSAGE)
        self.assertNotIn("mail", server.verbs())
        return caught.exception

    def test_a_server_that_is_believed(self) -> None:
        for at_once in (True, False):
            with self.subTest(at_once), Scripted(context=self.authority.context(), at_once=at_once) as server:
                scheme = "smtps" if at_once else "smtp"
                receipt = transport(f"{scheme}://localhost:{server.port}{self.ca}").deliver(MESSAGE)
                self.assertTrue(receipt.is_accepted)
                # After STARTTLS everything is said anew.
                self.assertEqual(server.verbs().count("ehlo"), 1 if at_once else 2)

    def test_one_that_is_not(self) -> None:
        other = Authority(self.folder().path)
        for what, context, words in (
            ("another authority", other.context(), "self-signed certificate|unable to get|not who it should be"),
            ("expired", self.authority.context(valid=timedelta(days=-1)), "expired"),
            ("another name", self.authority.context("mail.elsewhere.example"), "[Hh]ostname mismatch"),
        ):
            for at_once in (True, False):
                with self.subTest(what, at_once=at_once), Scripted(context=context, at_once=at_once) as server:
                    scheme = "smtps" if at_once else "smtp"
                    error = self.failure(server, f"{scheme}://localhost:{server.port}{self.ca}")
                    self.assertRegex(error.problem, words)
                    self.assertTrue(error.is_lasting)

    def test_the_name_is_checked_of_an_address_too(self) -> None:
        with Scripted(context=self.authority.context(), at_once=True) as server:
            self.assertIn("mismatch", self.failure(server, f"smtps://127.0.0.1:{server.port}{self.ca}").problem)

    def test_the_system_is_asked_where_no_authority_is_named(self) -> None:
        with Scripted(context=self.authority.context(), at_once=True) as server:
            self.assertIn("not who it should be", self.failure(server, f"smtps://localhost:{server.port}").problem)

    def test_starttls_that_is_stripped(self) -> None:
        """Somebody between leaves it out, or has it refused: nothing goes in the clear."""
        scripts = {
            "offers no STARTTLS": at("ehlo", b"250-x\r\n250 SIZE\r\n"),
            "answered 502": at("starttls", b"502 5.5.1 what\r\n"),
            "answered 454": at("starttls", b"454 4.7.0 not now\r\n"),
            "answered 250": at("starttls", b"250 fine\r\n"),
        }
        for words, script in scripts.items():
            with self.subTest(words), Scripted(script, self.authority.context()) as server:
                way = Smtp(
                    "localhost", server.port, user="me", password=SECRET, plain=False, authorities=self.authority.file
                )
                with self.assertRaises(DeliveryError) as caught:
                    way.deliver(MESSAGE)
                self.assertIn(words, str(caught.exception))
                self.assertNotIn("auth", server.verbs())
                self.assertNotIn("mail", server.verbs())

    def test_what_is_said_before_tls_counts_for_nothing(self) -> None:
        injected = at("starttls", (b"220 go on\r\n250-evil\r\n250 AUTH PLAIN\r\n", TLS))
        with Scripted(injected, self.authority.context()) as server:
            error = self.failure(server, f"smtp://localhost:{server.port}{self.ca}")
            self.assertIn("more before TLS", error.problem)

        hello = itertools.count()

        def offers(asked: Asked) -> Reply | None:
            """SMTPUTF8 and a login are offered in the clear only."""
            if asked.verb != "ehlo":
                return None
            return (
                b"250-x\r\n250-SMTPUTF8\r\n250-AUTH PLAIN\r\n250 STARTTLS\r\n" if next(hello) % 2 == 0 else b"250 x\r\n"
            )

        with Scripted(offers, self.authority.context()) as server:
            receipt = transport(f"smtp://localhost:{server.port}{self.ca}").deliver(
                Message(sender="a@x.example", to="ü@x.example", text="x")
            )
            self.assertIn("it offers no SMTPUTF8", receipt.outcomes[0].message)
            with self.assertRaisesRegex(DeliveryError, "offers no login"):
                transport(f"smtp://me@localhost:{server.port}{self.ca}", SECRET).deliver(MESSAGE)

    def test_a_beginning_that_is_no_tls(self) -> None:
        for act in (CLOSE, SILENCE, b"no TLS here\r\n" * 10):
            script = at("starttls", (b"220 go on\r\n", act))
            with self.subTest(act), Scripted(script, self.authority.context()) as server:
                error = self.failure(server, f"smtp://localhost:{server.port}?ca={self.authority.file}&timeout=0.4")
                self.assertFalse(error.is_lasting)
        with Scripted() as server:  # plain, where TLS is expected from the first octet
            error = self.failure(server, f"smtps://localhost:{server.port}{self.ca}")
            self.assertIn("no secure connection", error.problem)
            self.assertIn("smtp:// is STARTTLS", error.hint or "")

    def test_authorities_that_cannot_be_read(self) -> None:
        with Scripted(context=self.authority.context(), at_once=True) as server:
            for path in ("nowhere.pem", __file__, "."):
                with self.subTest(path):
                    error = self.failure(server, f"smtps://localhost:{server.port}?ca={path}")
                    self.assertIn("holds no certificates", error.problem)

    def test_elsewhere_nothing_goes_in_the_clear(self) -> None:
        """Who is at the other end decides, not what it is called."""
        self.assertTrue(all(map(is_loopback, ("127.0.0.1", "127.9.9.9", "::1", "::ffff:127.0.0.1"))))
        self.assertFalse(
            any(map(is_loopback, ("localhost", "10.0.0.1", "::", "::ffff:10.0.0.1", "", "127.1", "fe80::1%lo")))
        )
        elsewhere = unittest.mock.patch.object(smtp, "is_loopback", lambda address: False)
        with elsewhere, Scripted(at("ehlo", b"250-x\r\n250 AUTH PLAIN\r\n")) as server:
            for address in (f"smtp://localhost:{server.port}", f"smtp://me@localhost:{server.port}"):
                with self.assertRaisesRegex(DeliveryError, "offers no STARTTLS"):
                    transport(address, SECRET).deliver(MESSAGE)
            with self.assertRaisesRegex(DeliveryError, "no password is sent in the clear"):
                transport(f"smtp://me@localhost:{server.port}?plain=yes", SECRET).deliver(MESSAGE)
            self.assertNotIn("auth", server.verbs())
            self.assertTrue(transport(f"smtp://localhost:{server.port}?plain=yes").deliver(MESSAGE).is_accepted)


def offering(line: bytes, *answers: Reply) -> Callable[[Asked], Reply | None]:
    """A script that offers a login, and answers what comes of it."""
    left = iter(answers)

    def script(asked: Asked) -> Reply | None:
        if asked.verb == "ehlo":
            return b"250-x\r\n250 " + line + b"\r\n"
        if asked.verb in ("connect", "mail", "rcpt", "data", "dot", "quit"):
            return None
        return next(left)

    return script


class Logins(Case):
    def login(self, script: Callable[[Asked], Reply | None], user: str = "mé@x", password: str = SECRET) -> list[str]:
        """The lines of the login, which must be taken."""
        with Scripted(script) as server:
            self.assertTrue(Smtp("127.0.0.1", server.port, user=user, password=password).deliver(MESSAGE).is_accepted)
        verbs = ("connect", "ehlo", "mail", "rcpt", "data", "dot", "quit")
        return [one.line for one in server.asked if one.verb not in verbs]

    def test_plain(self) -> None:
        words = base64.b64encode(f"\0mé@x\0{SECRET}".encode()).decode()
        for offered in (b"AUTH LOGIN PLAIN", b"AUTH=plain", b"auth CRAM-MD5 plain XOAUTH2"):
            with self.subTest(offered):
                self.assertEqual(self.login(offering(offered, b"235 ok\r\n")), [f"AUTH PLAIN {words}"])

    def test_plain_that_makes_a_long_line(self) -> None:
        """It waits to be asked for (RFC 4954 4)."""
        lines = self.login(offering(b"AUTH PLAIN", b"334 \r\n", b"235 ok\r\n"), password="s" * 500)
        self.assertEqual(lines[0], "AUTH PLAIN")
        self.assertEqual(base64.b64decode(lines[1]), b"\0m\xc3\xa9@x\0" + b"s" * 500)

    def test_login(self) -> None:
        lines = self.login(offering(b"AUTH LOGIN", b"334 VXNlcm5hbWU6\r\n", b"334 UGFzc3dvcmQ6\r\n", b"235 ok\r\n"))
        self.assertEqual(lines[0], "AUTH LOGIN")
        self.assertEqual([base64.b64decode(one).decode() for one in lines[1:]], ["mé@x", SECRET])

    def test_what_is_asked_without_end(self) -> None:
        for answers in (
            [b"334 again\r\n"] * 50,
            [b"334 again\r\n", b"250 ok\r\n"],
            [b"334 \r\n", b"334 \r\n", b"334 \r\n"],
        ):
            for offered in (b"AUTH PLAIN", b"AUTH LOGIN"):
                with Scripted(offering(offered, *answers)) as server, self.assertRaises(DeliveryError):
                    Smtp("127.0.0.1", server.port, user="me", password=SECRET, longest=5).deliver(MESSAGE)
                self.assertLess(len(server.asked), 8)

    def test_logins_that_cannot_be(self) -> None:
        for offered, words in (
            (b"AUTH CRAM-MD5 GSSAPI", "only CRAM-MD5, GSSAPI"),
            (b"SIZE", "none"),
            (b"AUTH", "none"),
        ):
            with Scripted(offering(offered)) as server, self.assertRaisesRegex(DeliveryError, words):
                Smtp("127.0.0.1", server.port, user="me", password=SECRET).deliver(MESSAGE)
        with Scripted() as server:
            for user, password, words in (
                ("me", None, "wants a password for me"),
                ("me", "a\0tide", "the password of the login"),
                ("me", "tide\ud800", "the password of the login"),
                ("m\0", "tide", "the user of the login"),
                ("me", lambda: None, "wants a password"),
                ("me", lambda: 1 / 0, "could not be had"),
                ("me", lambda: 7, "is a text"),
            ):
                with self.subTest(words), self.assertRaisesRegex(DeliveryError, words):
                    Smtp("127.0.0.1", server.port, user=user, password=password).deliver(MESSAGE)  # type: ignore[arg-type]

    def test_a_password_is_asked_for_when_it_is_needed(self) -> None:
        asked: list[int] = []

        def password() -> str:
            asked.append(1)
            return SECRET

        with Scripted() as server:
            with transport(f"smtp://me@127.0.0.1:{server.port}", password) as way:
                self.assertEqual(asked, [])
                way.deliver(MESSAGE)
                way.deliver(MESSAGE)
                self.assertEqual(asked, [1])
            transport(f"smtp://127.0.0.1:{server.port}", password).deliver(MESSAGE)
            self.assertEqual(asked, [1])

    def test_where_passwords_come_from(self) -> None:
        environment = {"PRIBBLE_PASSWORD": "general", "PRIBBLE_PASSWORD_FOR_REVIEW": "own"}
        self.assertEqual(password_of(None, environment.get), "general")
        self.assertEqual(password_of("for-review", environment.get), "own")
        self.assertEqual(password_of("default", environment.get), "general")
        self.assertEqual(password_of("default", {"PRIBBLE_PASSWORD_DEFAULT": "d", **environment}.get), "d")
        self.assertIsNone(password_of("other", environment.get))
        self.assertEqual(password_variables("a-b"), password_variables("A_b"))
        check_password_variables(["a-b", "ab", "default"])
        with self.assertRaisesRegex(DataError, '"a-b" and "a_b" would both'):
            check_password_variables(["a-b", "x", "a_b"])


class Secrets(Case):
    """The password is in no error, no repr, no log, no outcome: also where a server says it back."""

    def test_it_is_nowhere(self) -> None:
        forms = [SECRET, base64.b64encode(SECRET.encode()).decode().rstrip("=")]
        forms.append(base64.b64encode(f"\0me\0{SECRET}".encode()).decode())
        handler = logging.StreamHandler(written := io.StringIO())
        logging.getLogger().addHandler(handler)
        self.addCleanup(logging.getLogger().removeHandler, handler)
        logging.getLogger().setLevel(logging.DEBUG)
        self.addCleanup(logging.getLogger().setLevel, logging.WARNING)
        for form, verb, code in itertools.product(forms, ("auth", "mail", "rcpt", "data", "dot"), (535, 454, 250, 421)):
            reply = f"{code} 5.7.8 you said {form}\r\n".encode()

            out = io.StringIO()
            with self.subTest(form=form, verb=verb, code=code), Scripted(at(verb, reply)) as server:
                way = Smtp("127.0.0.1", server.port, user="me", password=SECRET, longest=5)
                seen = [repr(way), str(way), repr(vars(way).get("_pool"))]
                with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
                    try:
                        receipt = way.deliver(MESSAGE)
                        seen += [repr(receipt), str(receipt), str(receipt.as_data())]
                    except DeliveryError as error:
                        chain: BaseException | None = error
                        while chain is not None:  # nor in what it came from
                            seen += [str(chain), repr(chain), str(vars(chain)), str(chain.args)]
                            chain = chain.__cause__ or (None if chain.__suppress_context__ else chain.__context__)
                        seen.append(str(pickle.loads(pickle.dumps(error))))
                whole = "\n".join([*seen, out.getvalue(), written.getvalue()])
                for one in forms:
                    self.assertNotIn(one, whole)

    def test_on_the_command_line(self) -> None:
        folder = self.folder()
        with Receiver(folder.path, manner=Manner(login=("me", SECRET))) as receiver:
            call = ("send", "gate-code", "--to", "ana@example.org", "--through", receiver.address)
            done = pribble(*call, environment={"PRIBBLE_PASSWORD": SECRET})
            self.assertEqual((done.returncode, done.stdout), (0, "ana@example.org: accepted (250 2.0.0 kept)\n"))
            done = pribble(*call, environment={"PRIBBLE_PASSWORD": f"{SECRET}!"})
            self.assertEqual(done.returncode, 3)
            self.assertIn("answered 535", done.stderr)
            self.assertNotIn(SECRET, done.stdout + done.stderr)
            done = pribble(*call)
            self.assertEqual(done.returncode, 3)
            self.assertIn("PRIBBLE_PASSWORD", done.stderr)
        self.assertEqual(len(receiver.received), 1)


class Hostile(Case):
    def test_replies_without_end(self) -> None:
        for verb in ("connect", "ehlo", "mail", "rcpt", "data", "dot"):
            for reply in (ENDLESS, b"250-x\r\n" * 300, b"2" * 10_000, b"250 " + b"x" * 10_000):
                with (
                    self.subTest(verb, reply=str(reply)[:20]),
                    Scripted(at(verb, reply)) as server,
                ):
                    try:
                        receipt = transport(f"smtp://127.0.0.1:{server.port}?timeout=5").deliver(MESSAGE)
                    except DeliveryError as error:
                        self.assertIn(verb, ("connect", "ehlo"))
                        self.assertLess(len(str(error)), 400)
                    else:
                        state = "in_doubt" if verb == "dot" else "deferred"
                        self.assertEqual(receipt.outcomes[0].state, state)

    def test_a_server_that_speaks_before_it_is_asked(self) -> None:
        """No reply is taken for that to another command."""
        for verb, count in (("connect", 0), ("ehlo", 0), ("rcpt", 1), ("data", 1)):
            more = {"connect": b"220 x\r\n250 a\r\n250 b\r\n", "data": b"354 x\r\n250 taken\r\n"}.get(
                verb, b"250 a\r\n250 b\r\n250 c\r\n"
            )
            with self.subTest(verb), Scripted(at(verb, more)) as server:
                try:
                    receipt = transport(f"smtp://127.0.0.1:{server.port}?timeout=5").deliver(MESSAGE)
                except DeliveryError:
                    self.assertEqual(count, 0)
                else:
                    self.assertEqual(receipt.outcomes[0].state, "deferred")
                self.assertEqual([one for one in server.asked if one.verb == "dot"], [])


if __name__ == "__main__":
    unittest.main()
