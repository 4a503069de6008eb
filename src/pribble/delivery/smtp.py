"""A connection to a submission server: commands go, replies come, each step has its time limit.

The standard library's client writes commands and reads what EHLO offers; replies, time limits, TLS and logins are ours:
a reply is bounded, a limit holds for a whole step however slowly octets come, and nothing is kept from before TLS.
"""

from __future__ import annotations

import base64
import select
import smtplib
import socket
import ssl
import time
from collections.abc import Callable, Iterable, Sequence

from pribble.delivery.passwords import LEFT_OUT, login_octets, plain_login, spoken_secrets
from pribble.delivery.replies import BrokenReply, Reply, ReplyReader, answer_of
from pribble.delivery.states import Age, Answer, Step, decide
from pribble.delivery.tls import UNTRUSTED_HINT, untrusted
from pribble.errors import DeliveryError
from pribble.hosts import is_loopback
from pribble.records import record
from pribble.regexes import regex

# Seconds for each step (RFC 5321 4.5.3.2); for those that it does not name, what the nearest has.
TIME_LIMITS: dict[Step, float] = {
    "connect": 60.0,
    "greeting": 300.0,
    "ehlo": 300.0,
    "starttls": 120.0,
    "tls": 120.0,
    "auth": 120.0,
    "rset": 60.0,
    "mail": 300.0,
    "rcpt": 300.0,
    "data": 120.0,
    "body": 180.0,  # for each block
    "dot": 600.0,
}
FAREWELL = 2.0  # seconds that QUIT may take: nothing depends on it
BLOCK = 64 * 1024  # octets of a body that are sent at once
# RFC 4954 4: an initial response that makes the line longer than this waits to be asked for.
_LONGEST_COMMAND = 512
_MOST_CHALLENGES = 3


class NoAnswer(Exception):
    """No reply came, or none that is one: `answer` says which, `words` in words."""

    def __init__(self, answer: Answer, words: str) -> None:
        super().__init__(words)
        self.answer = answer
        self.words = words


@record(frozen=True, slots=True)
class Security:
    """How a connection is kept private.

    `at_once`: TLS from the first octet (RFC 8314), else by STARTTLS (RFC 3207).  `plain`: whether it may go without;
    None: to this machine only.  `context` makes what checks the server.
    """

    at_once: bool
    plain: bool | None
    context: Callable[[], ssl.SSLContext]


class Connection(smtplib.SMTP):
    """A connection on which messages can be submitted.

    `longest` is an upper limit for each step, in seconds; `called` is the name that EHLO says, or None for the address
    of this end.
    """

    def __init__(self, host: str, port: int, longest: float | None = None, called: str | None = None) -> None:
        super().__init__(local_hostname=called or "[127.0.0.1]")
        self._host, self._port, self._longest, self._called = host, port, longest, called
        self._replies = ReplyReader()
        self._step: Step = "connect"
        self._secrets: tuple[bytes, ...] = ()
        self.age: Age = "fresh"
        self.needs_reset = False

    def __str__(self) -> str:
        return f"{self._host}:{self._port}"

    # ---- being taken on -----------------------------------------------------------------------------------------

    def open(self, security: Security, user: str | None, password: str | None) -> None:
        """Connect, make the connection private, and log in.

        Raises `DeliveryError`; nothing was said of a message yet.
        """
        try:
            self._open(security)
            if user is not None and password is not None:
                self._log_in(user, password)
        except NoAnswer as error:
            self.close()
            raise _failure(self._step, error.answer, f"{self}: {error.words}") from None
        except BaseException:
            self.close()
            raise

    def _open(self, security: Security) -> None:
        self._step = "connect"
        try:
            self.sock = socket.create_connection((self._host, self._port), timeout=self._limit())
            self._timeout = self._limit()
            self.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._peer, own = self.sock.getpeername()[0], self.sock.getsockname()[0]
        except (UnicodeError, ValueError):  # a host that no name service could be asked for
            raise _failure("connect", "no", f"{self} is no name of a host") from None
        except OSError as error:
            answer: Answer = "silent" if isinstance(error, TimeoutError) else "closed"
            raise _failure("connect", answer, f"{self} cannot be reached: {error.strerror or error}") from None
        self.local_hostname = self._called or _address_literal(own)
        if security.at_once:
            self._secure(security)
        self._expect("greeting", self._read("greeting"))
        self._say_hello()
        plain = self.is_local if security.plain is None else security.plain
        if not security.at_once and not plain:
            if not self.has_extn("starttls"):
                raise _failure(
                    "starttls",
                    "no",
                    f"{self} offers no STARTTLS, and nothing is sent there in the clear",
                    hint="smtps:// is TLS from the first octet (465); ?plain=yes sends in the clear",
                )
            self._expect("starttls", self._command("starttls", "STARTTLS"))
            if self._said_more():  # RFC 3207 6: somebody put it there who cannot speak TLS
                raise NoAnswer("broken", "it said more before TLS began, which may be somebody else's words")
            self._secure(security)
            self._say_hello()

    @property
    def is_local(self) -> bool:
        """Whether the other end is this machine, so that nothing said to it crosses a network."""
        return is_loopback(self._peer)

    def _secure(self, security: Security) -> None:
        """Begin TLS.  What was offered or said before is forgotten (RFC 3207 4.2)."""
        self._step = "tls"
        context = security.context()
        self._replies, self.esmtp_features = ReplyReader(), {}
        try:
            self._set_timeout(self._limit())
            self.sock = context.wrap_socket(self._connected, server_hostname=self._host)
        except ssl.SSLCertVerificationError as error:
            raise _failure("tls", "no", untrusted(self, error), hint=UNTRUSTED_HINT) from None
        except TimeoutError:
            raise NoAnswer("silent", "no answer to the beginning of TLS") from None
        except (ssl.SSLError, OSError, ValueError) as error:
            reason = getattr(error, "reason", None) or getattr(error, "strerror", None) or error
            raise _failure(
                "tls",
                "broken",
                f"{self}: no secure connection ({reason})",
                hint="smtps:// is TLS from the first octet (465), smtp:// is STARTTLS (587)",
            ) from None

    def _say_hello(self) -> None:
        self._step = "ehlo"
        code, _ = self.ehlo()  # reads what is offered
        self._expect("ehlo", Reply(code, tuple((self.ehlo_resp or b"").split(b"\n"))))

    def _expect(self, step: Step, reply: Reply) -> None:
        """Raise `DeliveryError` where a reply means that this connection serves no message."""
        answer = answer_of(step, reply)
        if decide(step, answer, "fresh").next != "continue":
            raise _failure(step, answer, f"{self} answered {reply.code}{_TO[step]}: {reply.text}", code=reply.code)

    def _log_in(self, user: str, password: str) -> None:
        """Log in (RFC 4954) by PLAIN (RFC 4616), or by LOGIN where only that is offered."""
        self._step = "auth"
        if not self.is_local and not isinstance(self.sock, ssl.SSLSocket):
            raise _failure("auth", "no", f"{self}: no password is sent in the clear", hint="leave out ?plain=yes")
        name, secret = login_octets(user, "user"), login_octets(password, "password")
        responses = {
            "PLAIN": (base64.b64encode(plain_login(name, secret)),),
            "LOGIN": (base64.b64encode(name), base64.b64encode(secret)),
        }
        self._secrets = spoken_secrets(name, secret)
        offered = self.esmtp_features.get("auth", "").upper().split()
        mechanism = next((one for one in responses if one in offered), None)
        if mechanism is None:
            said = f"only {', '.join(offered[:8])}" if offered else "none"
            raise _failure("auth", "no", f"{self} offers no login that can be used here (PLAIN or LOGIN), {said}")
        waiting = list(responses[mechanism])
        command = f"AUTH {mechanism}"
        if mechanism == "PLAIN" and len(command) + 1 + len(waiting[0]) + 2 <= _LONGEST_COMMAND:
            command += f" {waiting.pop(0).decode('ascii')}"
        reply = self._command("auth", command)
        for _ in range(_MOST_CHALLENGES):
            if reply.code != 334 or not waiting:
                break
            self._send([waiting.pop(0)])
            reply = self._read("auth")
        if reply.code != 235:
            if reply.code // 100 == 2:
                raise NoAnswer("broken", f"it answered {reply.code} to the login, which means nothing there")
            self._expect("auth", reply)

    # ---- one message --------------------------------------------------------------------------------------------

    @property
    def largest(self) -> int | None:
        """How many octets a message may have (RFC 1870); None where it does not say, or says 0."""
        said = self.esmtp_features.get("size", "").strip()
        return int(said) or None if said.isascii() and said.isdigit() and len(said) <= 20 else None

    def send_commands(self, commands: Sequence[str]) -> None:
        """Send commands at once (RFC 2920).  Raises `NoAnswer`."""
        if self._said_more():
            # A farewell, or an answer that belongs to nothing: no command can have its own answer here any more.
            reply = self._read(self._step)
            raise NoAnswer("closing", f"it said, without being asked: {reply.code} {reply.text}")
        self._send([_command_line(one) for one in commands])

    def read_answer(self, step: Step) -> tuple[Reply, Answer]:
        """Returns the reply to a step, and its class.  Raises `NoAnswer`."""
        reply = self._read(step)
        return reply, answer_of(step, reply)

    def send_body(self, raw: bytes) -> None:
        """Send the body, without the dot that ends it (RFC 5321 4.5.2).  Raises `NoAnswer`."""
        self._step = "body"
        stuffed = memoryview(dot_stuffed(raw))
        for start in range(0, len(stuffed), BLOCK):
            self._send([stuffed[start : start + BLOCK]], line_ends=False)

    def early_reply(self) -> Reply | None:
        """Returns what the server said before it had the dot; None where it said nothing.  Raises `NoAnswer`."""
        return self._read("body") if self._said_more() else None

    def last_words(self) -> Reply | None:
        """Returns what the server said before it closed the connection, if that is a reply."""
        try:
            return self.early_reply()
        except NoAnswer:  # then there is nothing more to be known than that it closed
            return None

    def send_dot(self) -> None:
        self._step = "dot"
        self._send([b"."])

    def reset(self) -> bool:
        """End a transaction that failed (RFC 5321 4.1.1.5); returns whether the connection can go on."""
        try:
            self.send_commands(["RSET"])
            _, answer = self.read_answer("rset")
        except NoAnswer as error:
            answer = error.answer
        self.needs_reset = False
        return decide("rset", answer, "reused").next == "continue"

    def end(self) -> None:
        """Take leave and close; what the server says to that, or that it says nothing, means nothing."""
        self._longest = FAREWELL
        try:
            self.send_commands(["QUIT"])
            self._read("rset")
        except NoAnswer:
            pass
        finally:
            self.close()

    # ---- octets -------------------------------------------------------------------------------------------------

    def send(self, s: object) -> None:
        """Send what the standard library's client has written."""
        self._send([s.encode("ascii") if isinstance(s, str) else bytes(s)], line_ends=False)  # type: ignore[call-overload]

    def getreply(self) -> tuple[int, bytes]:
        """Returns the reply to the present step, as the standard library's client reads it."""
        reply = self._read(self._step)
        return reply.code, b"\n".join(reply.lines)

    def _command(self, step: Step, line: str) -> Reply:
        self._step = step
        self._send([_command_line(line)])
        return self._read(step)

    @property
    def _connected(self) -> socket.socket:
        if self.sock is None:
            raise NoAnswer("closed", "the connection is closed")
        return self.sock

    def _limit(self) -> float:
        limit = TIME_LIMITS[self._step]
        return limit if self._longest is None else min(limit, self._longest)

    def _send(self, lines: Iterable[bytes | memoryview], *, line_ends: bool = True) -> None:
        octets = b"".join(part for line in lines for part in ((line, b"\r\n") if line_ends else (line,)))
        try:
            limit = TIME_LIMITS["body"] if self._longest is None else min(TIME_LIMITS["body"], self._longest)
            if not limit <= self._timeout <= 1.5 * limit:
                self._set_timeout(limit)
            self._connected.sendall(octets)
        except TimeoutError:
            raise NoAnswer("silent", f"it takes no more{_TO[self._step]}") from None
        except OSError as error:
            raise NoAnswer("closed", f"the connection was lost: {error.strerror or error}") from None

    def _read(self, step: Step) -> Reply:
        self._step = step
        deadline = time.monotonic() + self._limit()
        try:
            while (reply := self._replies.next_reply()) is None:
                self._replies.feed(self._received(deadline))
        except BrokenReply as error:
            raise NoAnswer("broken", str(error)) from None
        return self._without_secrets(reply) if self._secrets else reply

    def _set_timeout(self, seconds: float) -> None:
        """Limit each wait for the socket; not for each call anew, since threads then wait for one another."""
        self._connected.settimeout(seconds)
        self._timeout = seconds

    def _received(self, deadline: float) -> bytes:
        octets = None
        while octets is None:
            left = deadline - time.monotonic()
            if left <= 0:
                raise NoAnswer("silent", f"no answer{_TO[self._step]}")
            try:
                if not 0 < self._timeout <= 1.05 * left:
                    self._set_timeout(left)
                octets = self._connected.recv(16 * 1024)
            except TimeoutError:
                continue  # the socket's limit may be shorter than the step's
            except OSError as error:
                raise NoAnswer("closed", f"the connection was lost: {error.strerror or error}") from None
        if not octets:
            raise NoAnswer("closed", f"it closed the connection, without an answer{_TO[self._step]}")
        return octets

    def _said_more(self) -> bool:
        """Returns whether octets have come that nobody waits for; they are kept."""
        if not self._replies.is_empty:
            return True
        if not _is_readable(self._connected):
            return False
        try:
            self._set_timeout(0)  # what can be read may be TLS's own
            octets = self._connected.recv(16 * 1024)
        except (BlockingIOError, ssl.SSLWantReadError, ssl.SSLWantWriteError):
            return False
        except OSError as error:
            raise NoAnswer("closed", f"the connection was lost: {error.strerror or error}") from None
        if not octets:
            raise NoAnswer("closed", "it closed the connection")
        self._replies.feed(octets)
        return True

    def _without_secrets(self, reply: Reply) -> Reply:
        """Returns a reply in which the server does not say back what it must not."""
        whole = b"\n".join(reply.lines)
        if not any(secret in whole for secret in self._secrets):
            return reply
        return Reply(reply.code, (LEFT_OUT,))


_TO: dict[Step, str] = {
    "connect": "",
    "greeting": "",
    "ehlo": " to EHLO",
    "starttls": " to STARTTLS",
    "tls": " to the beginning of TLS",
    "auth": " to the login",
    "rset": " to RSET",
    "mail": " to MAIL",
    "rcpt": " to RCPT",
    "data": " to DATA",
    "body": " of the message",
    "dot": " to the message",
}


def dot_stuffed(raw: bytes) -> bytes:
    """Returns a message as it travels: a dot more before each line that begins with one (RFC 5321 4.5.2), and an end of
    its last line."""
    stuffed = raw.replace(b"\r\n.", b"\r\n..")
    if raw.startswith(b"."):
        stuffed = b"." + stuffed
    return stuffed if not raw or raw.endswith(b"\r\n") else stuffed + b"\r\n"


def _is_readable(connection: socket.socket) -> bool:
    """Returns whether something can be read at once."""
    if isinstance(connection, ssl.SSLSocket) and connection.pending():
        return True
    if not hasattr(select, "poll"):
        return bool(select.select([connection], [], [], 0)[0])
    waiting = select.poll()
    waiting.register(connection, select.POLLIN)
    return bool(waiting.poll(0))


def _address_literal(address: str) -> str:
    """Returns an address as EHLO says it (RFC 5321 4.1.3)."""
    plain = address.partition("%")[0]
    return f"[IPv6:{plain}]" if ":" in plain else f"[{plain}]"


_CONTROL = regex(r"[\x00-\x1f\x7f]")


def _command_line(command: str) -> bytes:
    """Returns a command as octets: the one door through which commands go, which no line break passes."""
    if _CONTROL.search(command):
        raise DeliveryError("a command would hold a control character")
    try:
        return command.encode("utf-8")
    except UnicodeEncodeError:
        raise DeliveryError("a command would hold a half of a surrogate pair") from None


def _failure(
    step: Step, answer: Answer, words: str, *, code: int | None = None, hint: str | None = None
) -> DeliveryError:
    """Returns the error that ends a connection before a message; it knows whether another one would help."""
    is_lasting = decide(step, answer, "fresh").next == "stop"
    return DeliveryError(words, code=code, hint=hint, is_lasting=is_lasting)
