"""Messages that come back: reports of servers find their way to the recipient in the journal, who gets nothing more."""

from __future__ import annotations

import json
import sqlite3
import time
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any

from pribble import Template
from pribble.delivery import Batch, Journal, Mailroom, transport
from pribble.delivery.journal import Entry
from pribble.delivery.journal_records import forget
from pribble.delivery.journal_returns import returned_addresses, returned_among
from pribble.delivery.sending import Pace
from pribble.testing import Outbox
from tests.delivery.databases import OnPostgreSql, make_older
from tests.delivery.killing import receiving
from tests.servers import needs_server, postfix
from tests.support import Case, pribble, proof, slow

TEMPLATE = Template.from_text("{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}")
ROWS = [{"name": f"N{n}", "mail": f"p{n}@example.org", "berth": f"B{n}"} for n in range(4)]
# What is for this domain goes to another server, which refuses it.
ONWARD = "transport_maps = inline:{{ {{ gone.example = smtp:[127.0.0.1]:{far} }} }}\nrelay_domains = gone.example\n"
REPORT = """\
From: MAILER-DAEMON@example.org
To: {to}
Content-Type: multipart/report; report-type=delivery-status; boundary=x

--x
Content-Type: message/delivery-status

Reporting-MTA: dns; example.org
{about}

Final-Recipient: rfc822; {final}
Action: {action}
Status: {status}
Diagnostic-Code: smtp; 550 {status} gone

--x
Content-Type: text/rfc822-headers

From: o@skerrow.example
{header}

--x--
"""


def report(**given: str) -> str:
    usual = {"to": "o@skerrow.example", "about": "X-A: b", "header": "X-A: b", "action": "failed", "status": "5.1.1"}
    return REPORT.format(**{**usual, **given})


class OfReturns(Case):
    def setUp(self) -> None:
        self.outbox = Outbox()
        self.path = self.folder().path
        for name in ("new", "cur", "tmp"):
            (self.path / "box" / name).mkdir(parents=True)
        self.journal = self.enterContext(Journal(self.place()))

    def place(self) -> str:
        return str(self.path / "j")

    def send(self, job: str = "season", **options: Any) -> None:
        given: dict[str, Any] = {"through": self.outbox, "sender": "o@skerrow.example", "to": "{{ name }} <{{ mail }}>"}
        Batch(
            TEMPLATE, ROWS, job=job, key=["berth"], journal=self.journal, pace=Pace(wait=0), **{**given, **options}
        ).send()

    def entries(self) -> list[Entry]:
        return list(self.journal.entries())

    def read(self, *reports: str) -> Any:
        """What the command says, of reports that have arrived."""
        for number, one in enumerate(reports):
            (self.path / f"box/new/{number}.M1.host").write_text(one)
        done = pribble("journal", self.place(), "--read-bounces", "maildir:box", "--json", cwd=self.path)
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout)


class Read(OfReturns):
    def test_each_way_to_the_message(self) -> None:
        self.send(envelope_sender="bounces+{{ berth }}@skerrow.example")
        ids = [one.message_id or "" for one in self.entries()]
        said = self.read(
            report(about=f"Original-Envelope-Id: {ids[0][1:-1]}", final="P0@example.org"),
            report(header=f"Message-ID: {ids[1]}", final="p1@example.org"),
            report(to="bounces+B2@skerrow.example", final="box@inner.example", status="4.4.7"),  # it was forwarded
            report(header=f"Message-ID: {ids[3]}", final="p3@example.org", action="delayed"),
            report(header="Message-ID: <other@example.org>", final="p3@example.org"),
            "From: a@example.org\nSubject: holidays\n\nI am away.\n",
        )
        self.assertEqual(said["returned"], ["p0@example.org", "p1@example.org", "p2@example.org"])
        self.assertEqual((said["reports"], said["others"], len(said["unknown"])), (5, 1, 1))
        states = {one.address: (one.state, one.enhanced, one.words) for one in self.entries()}
        self.assertEqual(states["p0@example.org"], ("returned", "5.1.1", "5.1.1 gone"))
        self.assertEqual(states["p2@example.org"][:2], ("returned", "4.4.7"))
        self.assertEqual(states["p3@example.org"][0], "accepted")
        # What is known was moved, as a mail program does; the rest stays for whoever knows it.
        self.assertEqual(len(list((self.path / "box/cur").glob("*:2,S"))), 4)
        self.assertEqual(self.read()["reports"], 1)
        self.assertEqual(returned_addresses(self.journal), {"p0@example.org", "p1@example.org"})
        self.assertEqual(returned_among(self.journal, ["P0@Example.org", "x@example.org"]), {"p0@example.org"})

    def test_whom_it_came_back_from_gets_nothing_more(self) -> None:
        self.send()
        self.read(report(header=f"Message-ID: {self.entries()[0].message_id}", final="p0@example.org"))
        self.send("tides")
        self.assertEqual(self.journal.summary("tides"), Counter(suppressed=1, accepted=3))
        self.send()  # and it is not sent again
        self.assertEqual(len(self.outbox.messages), 7)
        forget(self.journal, 0)
        self.assertEqual(returned_addresses(self.journal), {"forgotten 1"})

    def test_events(self) -> None:
        project = self.folder(
            {
                "templates/t.txt": "{{ subject: }}x{{ :subject }}{{ ref }}",
                "pribble.toml": f'journal = "{self.place()}"\n'
                '[senders]\ndefault = "o@skerrow.example"\n[transports.default]\nurl = "folder:out"\n[events.e]\nkey = "{{ ref }}"\n'
                '[[events.e.messages]]\ntemplate = "t"\nto = "{{ mail }}"\nenvelope_sender = "back+{{ ref }}@skerrow.example"\n',
            }
        ).path
        with Mailroom.from_config(project / "pribble.toml", through={"default": self.outbox}) as mailroom:
            first = mailroom.post("e", {"ref": "1", "mail": "Zoe@example.org"})
            self.assertEqual(first.states, Counter(accepted=1))
            self.read(report(to="Back <back+1@skerrow.example>", final="zoe@example.org"))
            self.assertEqual(mailroom.posted("e", "1").states, Counter(returned=1))  # type: ignore[union-attr]
            self.assertEqual(mailroom.post("e", {"ref": "2", "mail": "zoe@example.org"}).states, Counter(suppressed=1))
            self.assertEqual(mailroom.post("e", {"ref": "3", "mail": "ana@example.org"}).states, Counter(accepted=1))
        self.assertEqual(self.outbox.messages[0].envelope.sender, "back+1@skerrow.example")

    def test_what_is_in_doubt_was_taken_if_it_comes_back(self) -> None:
        self.outbox.lose("p0@*")
        self.send()
        (doubtful,) = (one for one in self.entries() if one.state == "in_doubt")
        said = self.read(report(header=f"Message-ID: {doubtful.message_id}", final=doubtful.address))
        self.assertEqual(said["returned"], [doubtful.address])

    def test_a_sender_that_all_have_leads_nowhere(self) -> None:
        self.send()
        self.assertEqual(self.read(report(final="p0@example.org"))["returned"], [])

    def test_mistakes(self) -> None:
        self.send()
        for place, words in (
            ("box", "names no mailbox"),
            ("maildir:none", "there is no maildir"),
            ("smtp:x", "names no mailbox"),
        ):
            done = pribble("journal", self.place(), "--read-bounces", place, cwd=self.path)
            self.assertEqual((done.returncode, words in done.stderr), (1, True))


@slow
class ReadOnPostgreSql(OnPostgreSql, Read):
    def place(self) -> str:
        if not hasattr(self, "known"):
            self.known = super().place()
        return self.known


class Older(OfReturns):
    def test_a_journal_of_an_older_version(self) -> None:
        """It is opened, and has all that a new one has."""
        for count, version in enumerate((1, 2, 3), 1):
            with self.subTest(version):
                self.send(f"for the time {count}")
                made = self.schema()
                make_older(self.journal, version)
                self.assertNotEqual(self.schema(), made)
                self.assertEqual(self.journal.summary(), Counter(accepted=4 * count))
                self.assertEqual(self.schema(), made)
        self.send("again")
        self.assertEqual(self.journal.summary(), Counter(accepted=16))

    def schema(self) -> set[str]:
        """The names of what is in the file, which is not opened as a journal."""
        with closing(sqlite3.connect(self.place())) as connection:
            return {name for (name,) in connection.execute("SELECT name FROM sqlite_master")}


@proof
@needs_server("postfix")
class RealReports(OfReturns):
    def test_a_server_reports(self) -> None:
        """Postfix takes all, and sends back what it cannot deliver, with the envelope's id that it was given."""
        rows = [{**ROWS[0], "mail": "ana@example.org"}, {**ROWS[1], "mail": "who+x@gone.example"}]
        with (
            receiving(self.path / "far", "--refuse=*") as (far, _),
            postfix(ONWARD.format(far=far.rpartition(":")[2])) as (client, delivered),
        ):
            assert client.sock is not None
            way = transport(f"smtp://127.0.0.1:{client.sock.getpeername()[1]}?plain=yes")
            Batch(
                TEMPLATE, rows, key=["berth"], journal=self.journal, through=way, to="mail", sender="ana@example.org"
            ).send()
            self.assertEqual(self.journal.summary(), Counter(accepted=2))
            for _ in range(200):
                kept = [path.read_bytes() for path in delivered.glob("*")] if delivered.is_dir() else []
                found = [raw for raw in kept if b"multipart/report" in raw]
                if found:
                    break
                time.sleep(0.1)
            self.assertIn(b"Original-Envelope-Id: ", found[0])
            self.assertIn(b"Original-Recipient: rfc822;who+x@gone.example", found[0])
            box = Path(delivered).parent
            done = pribble("journal", self.place(), "--read-bounces", f"maildir:{box}", cwd=self.path)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("1 report; 1 recipient returned\n  who+x@gone.example\n1 other message left", done.stdout)
        (back,) = (one for one in self.entries() if one.state == "returned")
        self.assertEqual((back.enhanced, back.address), ("5.1.1", "who+x@gone.example"))
        self.assertEqual((back.code, back.words is not None), (550, True))
