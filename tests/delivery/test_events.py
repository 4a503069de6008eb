"""Events: all messages of one are kept before the first is sent; whatever happens, each is sent once, or known to be in doubt."""

from __future__ import annotations

import json
import os
import re
import sys
import threading
import traceback
import unittest
import unittest.mock
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from email import message_from_bytes, policy
from functools import partial
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import func, select

from pribble.delivery import EventError, Journal, Mailroom
from pribble.delivery.journal_events import job_of
from pribble.delivery.journal_records import forget, verify
from pribble.delivery.journal_tables import CLOCKS, EVENTS, FACTS, STORED, JournalError
from pribble.delivery.transports import transport
from pribble.errors import DataError
from pribble.settings import read_settings
from pribble.settings_keys import ANY, SETTINGS_KEYS, is_list
from pribble.testing import Outbox
from tests.delivery.databases import OnPostgreSql, make_older
from tests.delivery.killing import receiving, run_killed
from tests.delivery.scripted import SILENCE, Scripted, at
from tests.servers import needs_server
from tests.support import EXPLORE, Case, generated, pribble, pribble_process, proof, slow

PROJECT = """\
journal = "post.journal"
[senders]
default = "Office <office@skerrow.example>"
[transports.default]
url = "folder:out"
[transports.review]
url = "drafts+folder:drafts"
[attachments]
folders = ["invoices"]
[events.booked]
key = "{{ ref }}"
sample = "booked.json"
[[events.booked.messages]]
template = "thanks"
to = "{{ name? }} <{{ mail }}>"
[[events.booked.messages]]
name = "desk"
template = "thanks"
to = "Desk <desk@skerrow.example>"
bcc = "book@skerrow.example"
reply_to = "{{ name }} <{{ mail }}>"
when = "pier != 'C'"
"""
DATA = {"ref": "B 14", "name": "Ana", "mail": "ana@example.org", "pier": "A"}
FILES = {
    "templates/thanks.html": "{{ subject: }}Thanks, {{ name? }}{{ :subject }}<p>For {{ ref }}</p>",
    "booked.json": json.dumps(DATA),
    "rules.txt": "Be quiet after ten.",
    "invoices/14.txt": "141.45",
}


class OfEvents(Case):
    def setUp(self) -> None:
        self.outbox = Outbox()
        self.path = self.folder({**FILES, "pribble.toml": PROJECT}).path

    def project(self, *more: tuple[str, str]) -> None:
        """The project with some of its lines replaced."""
        text = PROJECT
        for before, after in more:
            self.assertIn(before, text)
            text = text.replace(before, after, 1)
        (self.path / "pribble.toml").write_text(text, encoding="utf-8")

    def mailroom(self, **options: Any) -> Mailroom:
        journal = Journal(self.path / "post.journal")
        given: dict[str, Any] = {"through": {"default": self.outbox}, "journal": journal, **options}
        mailroom = Mailroom(read_settings(self.path / "pribble.toml"), **given)
        self.addCleanup(journal.close)
        self.addCleanup(mailroom.close)
        return mailroom


class Mailrooms(OfEvents):
    def test_an_event_is_posted_once(self) -> None:
        mailroom = self.mailroom()
        posted = mailroom.post("booked", DATA)
        self.assertTrue(posted.is_new and posted.is_accepted)
        self.assertEqual([one.name for one in posted.messages], ["thanks", "desk"])
        to = [[str(address) for address in message.to] for message in self.outbox.messages]
        self.assertEqual(to, [["Ana <ana@example.org>"], ["Desk <desk@skerrow.example>"]])
        self.assertEqual(self.outbox.messages[1].envelope.recipients, ("desk@skerrow.example", "book@skerrow.example"))
        self.assertNotIn(b"book@", bytes(self.outbox.messages[1]))
        self.assertIn(b"Auto-Submitted: auto-generated\r\n", bytes(self.outbox.messages[0]))
        for data in (DATA, {**DATA, "name": "Bo"}, {"ref": "B 14"}):
            again = mailroom.post("booked", data)
            self.assertEqual((again.is_new, again.states, len(self.outbox.messages)), (False, Counter(accepted=3), 2))
            self.assertEqual(again.messages, posted.messages)
        self.assertEqual(mailroom.posted("booked", "B 14"), again)
        self.assertIsNone(mailroom.posted("booked", "B 15"))
        self.assertEqual(verify(mailroom.journal), [])
        with mailroom.journal.transaction() as connection:  # what is settled is not kept
            self.assertEqual(connection.scalar(select(func.count()).select_from(STORED)), 0)

    def test_what_is_sent_is_what_was_stored(self) -> None:
        """Byte for byte, also when it goes later, and by another mailroom."""
        handed: list[tuple[str, str]] = []
        mailroom = self.mailroom(hand_over=lambda event, key: handed.append((event, key)))
        posted = mailroom.post("booked", DATA)
        self.assertEqual((handed, posted.states), ([("booked", "B 14")], Counter(planned=3)))
        with mailroom.journal.transaction() as connection:
            stored = list(connection.scalars(select(STORED.c.content).order_by(STORED.c.message)))
        left = self.mailroom().send_waiting()
        self.assertEqual((left.ended, left.stopped), (Counter(accepted=3), []))
        sent = [bytes(message) for message in self.outbox.messages]
        self.assertEqual(sent, [raw.replace(b"Bcc: book@skerrow.example\r\n", b"") for raw in stored])
        self.assertEqual([one.message_id for one in self.outbox.messages], [one.message_id for one in posted.messages])

    def test_a_condition(self) -> None:
        posted = self.mailroom().post("booked", {**DATA, "pier": "C"})
        self.assertEqual([one.name for one in posted.messages], ["thanks"])
        self.project(("when = \"pier != 'C'\"", 'when = "false"'), ('to = "{{ name?', 'when = "false"\nto = "{{ name?'))
        mailroom = self.mailroom()
        self.assertEqual([mailroom.post("booked", {**DATA, "ref": "x"}).is_new for _ in range(2)], [True, False])
        self.assertIsNotNone(mailroom.posted("booked", "x"))

    def test_asked_again_it_sends_what_is_left(self) -> None:
        self.outbox.be_down()
        mailroom = self.mailroom()
        self.assertEqual(mailroom.post("booked", DATA).states, Counter(planned=3))
        self.outbox.be_down(None)
        posted = mailroom.post("booked", DATA)
        self.assertEqual((posted.is_new, posted.states, len(self.outbox.messages)), (False, Counter(accepted=3), 2))

    def test_a_problem_stops_all(self) -> None:
        mailroom = self.mailroom()
        with self.assertRaises(EventError) as caught:
            mailroom.post("booked", {**DATA, "mail": "ana@@x"})
        self.assertEqual([name for name, _ in caught.exception.problems], ["thanks", "desk"])
        self.assertIn("thanks: ", str(caught.exception))
        self.assertEqual((self.outbox.messages, mailroom.journal.jobs()), ([], []))
        self.assertTrue(mailroom.post("booked", DATA).is_new)

    def test_an_optional_message(self) -> None:
        self.project(
            ('when = "pier', 'optional = true\nwhen = "pier'), ('{{ name }} <{{ mail }}>"\nopt', '{{ gone }}"\nopt')
        )
        posted = self.mailroom().post("booked", DATA)
        self.assertEqual((posted.states, [name for name, _ in posted.problems]), (Counter(accepted=1), ["desk"]))
        self.assertFalse(posted.is_accepted)

    def test_keys(self) -> None:
        mailroom = self.mailroom()
        for ref in ("", " ", "\0", "\ud800", "x" * 2_000):
            with self.subTest(ref[:9]), self.assertRaises(DataError):
                mailroom.post("booked", {**DATA, "ref": ref})
        for ref in ("é", "a\nb", "a/b", "%", "_", "' OR 1=1 --", "#0"):
            with self.subTest(ref):
                self.assertTrue(mailroom.post("booked", {**DATA, "ref": ref}).is_new)
                self.assertFalse(mailroom.post("booked", {**DATA, "ref": f" {ref}"}).is_new)
        self.project(('key = "{{ ref }}"\n', ""))
        mailroom = self.mailroom()
        self.assertEqual([mailroom.post("booked", DATA).is_new for _ in range(2)], [True, True])

    def test_who_gets_nothing(self) -> None:
        (self.path / "no.txt").write_text("ANA@example.org\n")
        self.project(("[attachments]", '[suppress]\nfile = "no.txt"\n[attachments]'))
        mailroom = self.mailroom()
        posted = mailroom.post("booked", DATA)
        self.assertEqual((posted.states, posted.is_accepted), (Counter(accepted=2, suppressed=1), True))
        (self.path / "no.txt").write_text("Desk@Skerrow.example\nbook@skerrow.example\n")  # it holds from now on
        states = mailroom.post("booked", {**DATA, "ref": "B 15"}).states
        self.assertEqual(states, Counter(accepted=1, suppressed=2))
        (self.path / "no.txt").unlink()
        with self.assertRaisesRegex(DataError, "no.txt: No such file"):
            mailroom.post("booked", {**DATA, "ref": "B 16"})
        self.project(
            ("[attachments]", '[suppress]\nfile = "no.txt"\n[attachments]'),
            ("sample", "even_if_suppressed = true\nsample"),
        )
        (self.path / "no.txt").write_text("ANA@example.org\n")
        self.assertEqual(self.mailroom().post("booked", {**DATA, "ref": "2"}).states, Counter(accepted=3))

    def test_what_nobody_wants_any_more(self) -> None:
        self.project(("sample", 'valid_for = "10 minutes"\nsample'))
        self.outbox.defer("*")
        mailroom = self.mailroom()
        self.assertEqual(mailroom.post("booked", DATA).states, Counter(deferred=3))
        self.assertEqual(mailroom.send_waiting().ended, Counter())
        later = {name: f"{query} + 1200" for name, query in CLOCKS.items()}
        with unittest.mock.patch.dict(CLOCKS, later):
            self.assertEqual(mailroom.send_waiting().ended, Counter())
        self.assertEqual(mailroom.post("booked", DATA).states, Counter(expired=3))

    def test_a_server_that_is_down(self) -> None:
        self.outbox.be_down()
        mailroom = self.mailroom()
        posted = mailroom.post("booked", DATA)
        self.assertEqual((posted.states, len(posted.stopped)), (Counter(planned=3), 1))
        self.outbox.be_down(None)
        self.assertEqual(mailroom.send_waiting().ended, Counter(accepted=3))

    def test_a_server_that_says_nothing(self) -> None:
        """The call comes back when its time is over; what had begun goes on."""
        with Scripted(at("mail", SILENCE)) as server:
            mailroom = self.mailroom(
                through={"default": transport(f"smtp://127.0.0.1:{server.port}?timeout=3")}, deadline=0.5
            )
            posted = mailroom.post("booked", DATA)
        self.assertEqual(posted.states, Counter(started=1, planned=2))
        self.assertIn("no answer within", posted.stopped[0])
        for thread in threading.enumerate():
            if thread.name.startswith("pribble: sending"):
                thread.join(20)
        self.assertEqual(mailroom.post("booked", DATA).states["deferred"], 1)  # what had begun has ended by itself

    def test_files(self) -> None:
        (self.path / "link.txt").symlink_to("/etc/passwd")
        (self.path / "invoices/out").symlink_to("/etc")
        self.project(('reply_to = "{{ name }} <{{ mail }}>"', 'attach = ["rules.txt", "invoices/{{ file }}"]'))
        mailroom = self.mailroom()
        self.assertTrue(mailroom.post("booked", {**DATA, "file": "14.txt"}).is_accepted)
        names = [one.name for one in self.outbox.messages[1].attachments]
        self.assertEqual(names, ["rules.txt", "14.txt"])
        for file in (
            "../rules.txt",
            "../../etc/passwd",
            "out/passwd",
            "nowhere.txt",
            "",
            ".",
            "/etc/passwd",
        ):
            with self.subTest(file):
                with self.assertRaises(EventError) as caught:
                    mailroom.post("booked", {**DATA, "ref": "x", "file": file})
                self.assertNotIn("root:", str(caught.exception))
        self.assertEqual(len(self.outbox.messages), 2)
        for written in ("../x", "/etc/passwd", "link.txt", "templates", "nothing.txt"):
            self.project(('reply_to = "{{ name }} <{{ mail }}>"', f'attach = ["{written}"]'))
            with self.subTest(written), self.assertRaisesRegex(DataError, r"pribble.toml:21:11: "):
                self.mailroom().post("booked", DATA)

    @given(name=st.text(max_size=40), local=st.from_regex(r"[a-z0-9.!#$%&'*+/=?^_`{|}~-]{1,20}", fullmatch=True))
    @generated(150)
    def test_no_value_moves_a_boundary(self, name: str, local: str) -> None:
        outbox = Outbox()
        data = {**DATA, "name": name, "mail": f"{local}@example.org", "ref": "x"}
        with Mailroom(self._settings(), through={"default": outbox}) as mailroom:
            try:
                mailroom.post("booked", data)
            except EventError:  # no mailbox, or a name that is none
                self.assertEqual(outbox.messages, [])
                return
        customer, desk = outbox.messages
        self.assertEqual(customer.envelope.recipients, (f"{local}@example.org",))
        read = message_from_bytes(bytes(desk), policy=policy.default)
        self.assertEqual([one.addr_spec for one in read["To"].addresses], ["desk@skerrow.example"])
        self.assertEqual(len(read["Reply-To"].addresses), 1)
        read = message_from_bytes(bytes(customer), policy=policy.default)
        self.assertEqual(len(read["To"].addresses), 1)

    def _settings(self) -> Any:
        settings = read_settings(self.path / "pribble.toml")
        return replace(settings, journal=None)

    def test_without_a_journal(self) -> None:
        """Once in this process, and forgotten with it."""
        with Mailroom(self._settings(), through={"default": self.outbox}) as mailroom:
            self.assertFalse(mailroom.is_idempotent)
            self.assertEqual([mailroom.post("booked", DATA).is_new for _ in range(2)], [True, False])
            where = Path(mailroom.journal.where)
            self.assertTrue(where.exists())
        self.assertFalse(where.exists())
        self.assertFalse((self.path / "post.journal").exists())

    def test_two_threads_at_once(self) -> None:
        mailroom = self.mailroom()
        results: list[bool] = []
        gate = threading.Barrier(8)

        def post() -> None:
            gate.wait()
            results.append(mailroom.post("booked", DATA).is_new)

        threads = [threading.Thread(target=post) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual((sorted(results), len(self.outbox.messages)), ([False] * 7 + [True], 2))

    def test_what_is_forgotten_is_not_posted_again(self) -> None:
        mailroom = self.mailroom()
        mailroom.post("booked", DATA)
        self.assertEqual(forget(mailroom.journal, 0), 2)
        self.assertNotIn(b"ana@example.org", b"".join(path.read_bytes() for path in self.path.glob("post.journal")))
        with mailroom.journal.transaction() as connection:
            self.assertNotIn("B 14", connection.scalars(select(EVENTS.c.key)).all())
        posted = mailroom.post("booked", DATA)
        self.assertEqual((posted.is_new, posted.states, len(self.outbox.messages)), (False, Counter(accepted=3), 2))

    def test_a_journal_of_another_version(self) -> None:
        mailroom = self.mailroom()
        mailroom.journal.jobs()
        make_older(mailroom.journal, 1)
        self.assertTrue(self.mailroom().post("booked", DATA).is_accepted)
        with mailroom.journal.transaction() as connection:
            connection.execute(FACTS.update().values(value="9"))
        mailroom.journal.close()
        with self.assertRaisesRegex(JournalError, "version 9"):
            mailroom.journal.jobs()


def post_event(path: Path, where: str | Path, address: str, data: Mapping[str, Any]) -> None:
    """What the command does, with a server."""
    with (
        Journal(where) as journal,
        Mailroom(
            read_settings(path / "pribble.toml"), journal=journal, through={"default": transport(address)}
        ) as mailroom,
    ):
        mailroom.post("booked", data)


@unittest.skipUnless(hasattr(os, "fork"), "this system copies no processes")
class Kills(OfEvents):
    """SIGKILL at a step: posted again, and gone on with, the event has each of its messages once."""

    def place(self) -> str | Path:
        """Where an empty journal is."""
        for path in self.path.glob("post.journal*"):
            path.unlink()
        return self.path / "post.journal"

    def check(self, step: int, address: str) -> tuple[bool, set[str]]:
        """Post with a kill at this step; returns whether it came to that, and the addresses."""
        journal = self.place()
        data = {**DATA, "mail": f"s{step}@example.org"}
        self.project(("desk@skerrow", f"desk{step}@skerrow"), ("book@skerrow", f"book{step}@skerrow"))
        came = run_killed(step, partial(post_event, self.path, journal, address, data))
        self.assertFalse(run_killed(None, partial(post_event, self.path, journal, address, data)))
        with (
            Journal(journal) as kept,
            Mailroom(
                read_settings(self.path / "pribble.toml"), journal=kept, through={"default": transport(address)}
            ) as mailroom,
        ):
            mailroom.send_waiting()
            posted = mailroom.posted("booked", "B 14")
            assert posted is not None
            self.assertEqual(verify(kept), [])
        self.entries = [one for message in posted.messages for one in message.entries]
        in_doubt = {one.message_id for one in self.entries if one.state == "in_doubt"}
        self.assertEqual({one.state for one in self.entries} - {"accepted", "in_doubt"}, set())
        self.assertLessEqual(len(in_doubt), came)
        return came, {one.address for one in self.entries}

    @slow
    def test_some_steps(self) -> None:
        self.check_steps(range(0, 60, 5))

    @proof
    def test_every_step(self) -> None:
        self.check_steps(range(1_000))

    def check_steps(self, steps: range) -> None:
        with receiving(self.folder().path / "in") as (address, received):
            for step in steps:
                with self.subTest(killed_at=step):
                    came, people = self.check(step, address)
                    self.assertEqual(
                        people, {f"s{step}@example.org", f"desk{step}@skerrow.example", f"book{step}@skerrow.example"}
                    )
                    got = received(sum(one.state == "accepted" for one in self.entries))
                    for one in self.entries:
                        self.assertIn(got[one.address], (0, 1) if one.state == "in_doubt" else (1,), one)
                if not came:
                    break
        if len(steps) > 100:
            self.assertLess(step, 900)

    @slow
    def test_two_processes_at_once(self) -> None:
        journal = self.place()
        with receiving(self.folder().path / "in") as (address, received):
            for number in range(20 if EXPLORE else 4):
                data = {**DATA, "ref": f"r{number}", "mail": f"two{number}@example.org"}
                children = []
                for _ in range(3):
                    child = os.fork()
                    if child == 0:
                        status = 1
                        try:
                            post_event(self.path, journal, address, data)
                            status = 0
                        except BaseException:
                            traceback.print_exc()  # nobody else would say it
                        finally:
                            sys.stderr.flush()
                            os._exit(status)
                    children.append(child)
                statuses = [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children]
                self.assertEqual(statuses, [0, 0, 0])
                got = received(number + 1)
                self.assertEqual((got[f"two{number}@example.org"], got["desk@skerrow.example"]), (1, number + 1))


@proof
@needs_server("postgres")
class PostgreSqlKills(OnPostgreSql, Kills):
    """The same with a journal in PostgreSQL."""

    def test_every_step(self) -> None:
        self.check_steps(range(0, 100, 3))


class Mistakes(OfEvents):
    """Each mistake in the settings is told with its line, and what stands there."""

    def test_each_key_misspelled(self) -> None:
        for key in SETTINGS_KEYS:
            if key.name == ANY:
                continue
            table = key.table.replace(ANY, "x")
            head = f"[[{table}]]" if is_list(key.table) else f"[{table}]" if table else ""
            wrong = f"{key.name}x"
            with self.subTest(f"{table}.{wrong}"):
                (self.path / "pribble.toml").write_text(f"# first\n{head}\n{wrong} = 1\n")
                with self.assertRaises(DataError) as caught:
                    read_settings(self.path / "pribble.toml")
                said = str(caught.exception)
                if table == "check.off":
                    continue
                self.assertRegex(said, rf"pribble.toml:3:1: .*{wrong}\" means nothing here")
                self.assertIn(f'did you mean "{key.name}"?', said)
                self.assertIn(f"    {wrong} = 1\n    {'^' * len(wrong)}", said)

    def test_each_kind(self) -> None:
        for key in SETTINGS_KEYS:
            table, name = key.table.replace(ANY, "x"), key.name.replace(ANY, "x")
            head = f"[[{table}]]" if is_list(key.table) else f"[{table}]" if table else ""
            with self.subTest(f"{table}.{name}"):
                (self.path / "pribble.toml").write_text(f"{head}\n{name} = 1.5\n")
                with self.assertRaisesRegex(DataError, rf"pribble.toml:2:{len(name) + 4}: "):
                    read_settings(self.path / "pribble.toml")

    def test_mistakes_in_events(self) -> None:
        for before, after, where, words in (
            ('template = "thanks"', 'template = "thnks"', "14:12", r'no template "thnks" \(did you mean "thanks"'),
            ('to = "{{ name? }} <{{ mail }}>"', 'to = "{{ name? }} <{{ mail }}"', "15:30", "has no >"),
            ('to = "{{ name? }} <{{ mail }}>"', 'to = "{{ name as }}"', "15:10", "formatter's name"),
            ('to = "{{ name? }} <{{ mail }}>"\n', "", "13:1", "a message needs to ="),
            ("pier != 'C'", "pier != ", "22:17", "it ends where a value should stand"),
            ("pier != 'C'", "pier }} {{ x", "22:9", "a condition has no marks"),
            ('key = "{{ ref }}"', 'key = "{{ ref"', "11:8", "is not closed"),
            ('name = "desk"\n', "", "17:12", 'two messages are called "thanks"'),
            ('name = "desk"', 'name = "thanks"', "17:8", 'two messages are called "thanks"'),
            ('name = "desk"', 'name = "desk"\nthrough = "reviw"', "18:11", 'did you mean "review"'),
            ('name = "desk"', 'name = "desk"\nsender = "ofice"', "18:10", r"no name in \[senders\]"),
            ('url = "folder:out"', 'url = "smtp//x"', "5:7", '"smtp//x" names no transport'),
            ('sample = "booked.json"', 'valid_for = "soon"', "12:13", "is no time"),
            ("[[events.booked.messages]]", "[[events.other.messages]]", "", "has no sample"),
        ):
            with self.subTest(after):
                self.project((before, after))
                problems = self.mailroom().problems()
                self.assertTrue(problems)
                if where:
                    self.assertRegex(str(problems[0]), rf"^{re.escape(str(self.path))}/pribble.toml:{where}")
                self.assertRegex(str(problems[0]), words)

    def test_all_at_once(self) -> None:
        """`post --check` tells each mistake, and exits 1; in JSON too."""
        self.project(
            ('template = "thanks"', 'template = "thnks"'),
            ("{{ ref }}", "{{ ref"),
            ("pier != 'C'", "pier !! 'C'"),
            ('to = "Desk <desk@skerrow.example>"', 'to = "Desk <desk@skerrow.example"'),
            ('bcc = "book@skerrow.example"', 'bcc = "book@@skerrow.example"\nthrough = "reviw"\nattach = ["none.pdf"]'),
        )
        done = pribble("post", "--check", cwd=self.path)
        self.assertEqual((done.returncode, done.stdout), (1, "1 event checked; 7 problems\n"))
        self.assertEqual(len(re.findall(r"^pribble.toml:\d+:\d+: ", done.stderr, re.MULTILINE)), 7, done.stderr)
        said = json.loads(pribble("post", "--check", "--json", cwd=self.path).stdout)
        self.assertEqual([one["where"]["line"] for one in said["problems"]], [11, 14, 19, 20, 21, 22, 24])

    def test_samples_are_tried(self) -> None:
        (self.path / "booked.json").write_text(json.dumps({**DATA, "mail": "ana@@x"}))
        done = pribble("post", "--check", cwd=self.path)
        self.assertEqual(done.returncode, 1)
        self.assertIn('the event "booked" was not posted: a message cannot be made\n  thanks: ', done.stderr)
        (self.path / "booked.json").unlink()
        self.assertIn("booked.json", pribble("post", "--check", cwd=self.path).stderr)


class OnTheCommandLine(OfEvents):
    def test_post_and_go_on(self) -> None:
        done = pribble("post", "booked", "--data", "booked.json", cwd=self.path)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertRegex(done.stdout, r"^thanks  ana@example.org: accepted \(written to out/[^ ]+\.eml\)\ndesk  desk@")
        again = json.loads(pribble("post", "booked", "--data", "booked.json", "--json", cwd=self.path).stdout)
        self.assertEqual((again["is_new"], again["key"], len(again["messages"])), (False, "B 14", 2))
        self.assertEqual(again["messages"][0]["outcomes"][0]["state"], "accepted")
        self.assertEqual(len(list((self.path / "out").glob("*.eml"))), 2)
        done = pribble("journal", "post.journal", "--go-on", cwd=self.path)
        self.assertEqual((done.returncode, done.stdout), (0, "nothing was left\n"))
        self.assertIn(job_of("booked", "thanks"), pribble("journal", "post.journal", cwd=self.path).stdout)

    def test_from_a_folder_within(self) -> None:
        """Paths are taken from the file's own folder."""
        (self.path / "sub").mkdir()
        done = pribble("post", "booked", "--data", "../booked.json", cwd=self.path / "sub")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(len(list((self.path / "out").glob("*.eml"))), 2)
        self.assertEqual([one.name for one in (self.path / "sub").iterdir()], [])

    def test_what_is_left(self) -> None:
        self.project(('url = "folder:out"', 'url = "smtp://127.0.0.1:1"'))
        done = pribble("post", "booked", "--data", "booked.json", cwd=self.path)
        self.assertEqual(done.returncode, 3)
        self.assertIn("thanks  ana@example.org: planned\n", done.stdout)
        self.assertIn("3 left: pribble journal post.journal --go-on\n", done.stdout)
        done = pribble("journal", "post.journal", "--go-on", cwd=self.path)
        self.assertEqual((done.returncode, done.stdout.count("cannot be reached")), (3, 2))
        self.project(('url = "folder:out"', 'url = "folder:late"'))
        done = pribble("journal", "post.journal", "--go-on", "--json", cwd=self.path)
        self.assertEqual(json.loads(done.stdout), {"ended": {"accepted": 3}, "stopped": []})
        self.assertEqual(len(list((self.path / "late").glob("*.eml"))), 2)
        self.project(("[transports.default]", "[transports.other]"))
        self.assertIn("no name in [transports] of pribble.toml", pribble("post", "--check", cwd=self.path).stderr)

    def test_usage(self) -> None:
        for arguments, words in (
            ((), "say which event: booked"),
            (("booked",), "say what happened: --data FILE"),
            (("bookd", "--data", "booked.json"), 'there is no event "bookd" (did you mean "booked"?)'),
            (("booked", "--data", "none.json"), "there is no file none.json"),
            (("booked", "--data", "rules.txt"), "this is no JSON"),
        ):
            with self.subTest(arguments):
                done = pribble("post", *arguments, cwd=self.path)
                self.assertNotEqual(done.returncode, 0)
                self.assertIn(words, done.stderr)
        self.project(('journal = "post.journal"\n', ""))
        done = pribble("post", "booked", "--data", "booked.json", cwd=self.path)
        self.assertEqual(done.returncode, 0)
        self.assertIn("nobody remembers this event", done.stderr)

    @slow
    def test_a_password_is_the_environment_s(self) -> None:
        self.project(('url = "folder:out"', 'url = "smtp://ana@127.0.0.1:1"'))
        with environment(PRIBBLE_PASSWORD_DEFAULT="tide-and-time"):
            done = pribble_process("post", "booked", "--data", "booked.json", cwd=self.path)
        self.assertNotIn("tide-and-time", done.stdout + done.stderr)
        for path in self.path.glob("post.journal*"):
            self.assertNotIn(b"tide-and-time", path.read_bytes())


@contextmanager
def environment(**variables: str) -> Iterator[None]:
    with unittest.mock.patch.dict(os.environ, variables):
        yield


if __name__ == "__main__":
    unittest.main()
