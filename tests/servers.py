"""Real servers on loopback, each with a folder and a configuration of its own: Dovecot to look into messages, Postfix
to carry them.  Both need root, as they change to users of their own."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import smtplib
import socket
import subprocess
import tempfile
import time
import unittest
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from imaplib import IMAP4
from pathlib import Path
from typing import Any

from tests.support import NOTHING_SKIPPED

DOVECOT = """
base_dir = {folder}/run
log_path = {folder}/dovecot.log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
mail_location = maildir:{folder}/mail/%u
first_valid_uid = 1
passdb {{
  driver = static
  args = password=tide
}}
userdb {{
  driver = static
  args = uid={uid} gid={gid} home={folder}/mail
}}
service imap-login {{
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
"""
# Mailboxes over TLS: the one for drafts has a name outside ASCII, and there is a limit to what is put in.
IMAPS = """
ssl = yes
ssl_cert = <{certificate}
ssl_key = <{certificate}
mailbox_list_index = no
namespace inbox {{
  inbox = yes
  mailbox "Entwürfe & Notizen" {{
    auto = create
    special_use = \\Drafts
  }}
}}
service imap-login {{
  inet_listener imaps {{
    port = {port}
    ssl = yes
  }}
}}
imap_capability = +APPENDLIMIT=1000000
"""
POSTFIX = """
compatibility_level = 3.6
queue_directory = {folder}/queue
data_directory = {folder}/data
maillog_file = {folder}/postfix.log
maillog_file_prefixes = {folder}
mail_owner = postfix
setgid_group = postdrop
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = mail.skerrow.example
mydestination =
alias_maps =
local_recipient_maps =
virtual_mailbox_domains = example.org
virtual_mailbox_base = {folder}/mail
virtual_mailbox_maps = static:ana/
virtual_minimum_uid = 1
virtual_uid_maps = static:{uid}
virtual_gid_maps = static:{gid}
smtpd_recipient_restrictions = permit_mynetworks, reject
mynetworks = 127.0.0.0/8
smtputf8_enable = yes
# It is a server on the way, and not the first one: it leaves the addresses of a header as they are written.
local_header_rewrite_clients =
message_size_limit = 0
mailbox_size_limit = 0
virtual_mailbox_limit = 0
"""
# What a submission server has besides (RFC 6409): TLS first, then a login, which Dovecot judges.
SUBMISSION = """
smtpd_tls_security_level = encrypt
smtpd_tls_auth_only = yes
smtpd_tls_chain_files = {certificate}
smtpd_sasl_auth_enable = yes
smtpd_sasl_type = dovecot
smtpd_sasl_path = private/auth
smtpd_recipient_limit = 3
smtpd_recipient_restrictions =
  check_recipient_access inline:{{ {{ gone@example.org = 550 5.1.1 nobody of that name }}, {{ busy@example.org = 450 4.2.1 come again }} }},
  permit_sasl_authenticated, reject
"""
AUTH = """
auth_mechanisms = plain login
service auth {{
  unix_listener {folder}/queue/private/auth {{
    mode = 0660
    user = postfix
    group = postfix
  }}
}}
"""
MASTER = """
127.0.0.1:{port} inet n - n - - smtpd
pickup unix n - n 60 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
tlsmgr unix - - n 1000? 1 tlsmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
flush unix n - n 1000? 0 flush
proxymap unix - - n - - proxymap
smtp unix - - n - - smtp
relay unix - - n - - smtp
error unix - - n - - error
retry unix - - n - - error
discard unix - - n - - discard
virtual unix - n n - - virtual
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
postlog unix-dgram n - n - 1 postlogd
"""


def _program(name: str) -> str | None:
    """Returns the path of a server's program, also where Debian keeps it aside."""
    aside = sorted(map(str, Path("/usr/lib/postgresql").glob("*/bin")), reverse=True)
    return shutil.which(name, path=":".join((os.environ["PATH"], "/usr/sbin", *aside)))


def needs_server(program: str) -> Any:
    """Skip a test where a server is not installed or cannot be started, unless nothing may be skipped."""
    absent = _program(program) is None or os.getuid() != 0
    return unittest.skipIf(absent and not NOTHING_SKIPPED, f"{program} is not installed, or this is not root")


@contextmanager
def dovecot() -> Iterator[IMAP4]:
    """A connection to a Dovecot that has just been started."""
    with mailboxes() as (connection, _):
        yield connection


@contextmanager
def mailboxes() -> Iterator[tuple[IMAP4, Path]]:
    """The same, and the folder that holds what it shows."""
    with _folder() as folder, _dovecot(folder) as port:
        connection = IMAP4("127.0.0.1", port)
        connection.login("ana", "tide")
        yield connection, folder / "mail/ana"
        connection.logout()


@contextmanager
def imaps(certificate: Path) -> Iterator[tuple[int, int, Path]]:
    """A Dovecot with TLS from the first octet: that port, the one in the clear, and the folder that holds its mail."""
    port = free_port()
    with _folder() as folder, _dovecot(folder, IMAPS.format(certificate=certificate, port=port)) as clear:
        yield port, clear, folder / "mail/ana"


@contextmanager
def postfix(more: str = "") -> Iterator[tuple[smtplib.SMTP, Path]]:
    """A connection to a Postfix that has just been started, and the folder in which it delivers; `more` are lines of its
    configuration."""
    with _folder() as folder, _postfix(folder, more) as port, smtplib.SMTP("127.0.0.1", port, timeout=60) as connection:
        yield connection, folder / "mail/ana/new"


@contextmanager
def submission(certificate: Path) -> Iterator[tuple[int, int, Path]]:
    """A Postfix that wants TLS and a login (anybody's, with the password "tide"): its port with STARTTLS, the one with
    TLS from the first octet, and the folder in which it delivers."""
    at_once = free_port()
    more = SUBMISSION.format(certificate=certificate)
    with (
        _folder() as folder,
        _postfix(folder, more, f"127.0.0.1:{at_once} inet n - n - - smtpd -o smtpd_tls_wrappermode=yes\n") as port,
        _dovecot(folder, AUTH.format(folder=folder)),
    ):
        yield port, at_once, folder / "mail/ana/new"


class Restartable:
    """A server that a test may stop, kill and start again, on the same port."""

    def __init__(self, command: Sequence[str], log: Path, address: str, ready: bytes, **options: Any) -> None:
        self.address = address
        self._command, self._log, self._ready, self._options = command, log, ready, options
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Start it; returns when it is ready."""
        with open(self._log, "wb") as out:
            self._process = subprocess.Popen(self._command, stdout=out, stderr=out, **self._options)
        while self._ready not in self._log.read_bytes():
            if self._process.poll() is not None:
                raise AssertionError(self._log.read_text(errors="replace"))
            time.sleep(0.05)

    def stop(self, how: signal.Signals = signal.SIGINT) -> None:
        """Let it end now, and not when all have gone."""
        if self._process is not None:
            self._process.send_signal(how)
            self._process.wait()
            self._process = None


@contextmanager
def postgresql() -> Iterator[str]:
    """The address of a PostgreSQL database that has just been set up."""
    with postgresql_server() as server:
        yield server.address


@contextmanager
def postgresql_server() -> Iterator[Restartable]:
    """A PostgreSQL whose database has just been set up."""
    with _folder() as folder:
        port = free_port()
        data = folder / "mail/data"
        _nobody(folder)
        programs = Path(_program("initdb") or "").resolve().parent
        quiet = {"user": "nobody", "group": "nogroup", "extra_groups": [], "cwd": folder / "mail"}
        making = [str(programs / "initdb"), "-D", str(data), "-U", "pribble", "-A", "trust", "-E", "UTF8", "--locale=C"]
        subprocess.run(making, check=True, capture_output=True, timeout=120, **quiet)  # type: ignore[call-overload]
        command = [str(programs / "postgres"), "-D", str(data), "-k", "", "-h", "127.0.0.1", "-p", str(port)]
        address = f"postgresql://pribble@127.0.0.1:{port}/postgres"
        server = Restartable(command, folder / "mail/log", address, b"ready to accept connections", **quiet)
        server.start()
        try:
            yield server
        finally:
            server.stop()


@contextmanager
def redis() -> Iterator[Restartable]:
    """A Redis that keeps nothing on the disk: when it is started again, it has forgotten all."""
    with _folder() as folder:
        port = free_port()
        command = [_program("redis-server") or "", "--port", str(port), "--bind", "127.0.0.1", "--save", ""]
        server = Restartable(command, folder / "log", f"redis://127.0.0.1:{port}", b"eady to accept", cwd=folder)
        server.start()
        try:
            yield server
        finally:
            server.stop()


@contextmanager
def _dovecot(folder: Path, more: str = "") -> Iterator[int]:
    port = free_port()
    config = folder / "dovecot.conf"
    config.write_text(DOVECOT.format(folder=folder, port=port, **_nobody(folder)) + more)
    server = subprocess.Popen(["dovecot", "-F", "-c", str(config)])
    try:
        _wait(port, folder / "dovecot.log")
        yield port
    finally:
        server.terminate()
        server.wait()


@contextmanager
def _postfix(folder: Path, more: str = "", services: str = "") -> Iterator[int]:
    port = free_port()
    owner = _nobody(folder)
    config = folder / "config"
    config.mkdir()
    (folder / "queue").mkdir()
    (folder / "data").mkdir()
    os.chown(folder / "data", pwd.getpwnam("postfix").pw_uid, -1)
    (config / "main.cf").write_text(POSTFIX.format(folder=folder, **owner) + more)
    (config / "master.cf").write_text(MASTER.format(port=port) + services)
    command = ["postfix", "-c", str(config)]
    subprocess.run([*command, "start"], check=True, capture_output=True, timeout=60)
    try:
        _wait(port, folder / "postfix.log")
        yield port
    finally:
        subprocess.run([*command, "stop"], check=False, capture_output=True, timeout=60)


@contextmanager
def _folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="pribble-server-", ignore_cleanup_errors=True) as name:
        folder = Path(name)
        folder.chmod(0o755)
        (folder / "mail").mkdir()
        yield folder


def _nobody(folder: Path) -> dict[str, int]:
    """Who owns the mail."""
    user = pwd.getpwnam("nobody")
    os.chown(folder / "mail", user.pw_uid, user.pw_gid)
    return {"uid": user.pw_uid, "gid": user.pw_gid}


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _wait(port: int, log: Path) -> None:
    for _ in range(200):
        try:
            socket.create_connection(("127.0.0.1", port), timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)
    raise AssertionError(f"no answer: {log.read_text() if log.is_file() else 'no log'}")
