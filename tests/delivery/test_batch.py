"""Batches and their journals: checked before the first is sent, nobody twice, nobody left out, whatever happens between."""

from __future__ import annotations

import json
import os
import sqlite3
import threading
import time
import unittest
import unittest.mock
from collections import Counter
from collections.abc import Sequence
from typing import Any

from pribble import DeliveryError, Template
from pribble.delivery.batch import Batch, BatchError, BatchResult
from pribble.delivery.files import Folder
from pribble.delivery.journal import Journal, Wanted
from pribble.delivery.journal_records import verify
from pribble.delivery.journal_tables import JournalError
from pribble.delivery.rows import read_rows
from pribble.delivery.sending import Pace
from pribble.testing import Outbox
from tests.support import Case, pribble, slow

TEMPLATE = Template.from_text("{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}, {{ note? }}</p>")
OFFICE = "Office <office@skerrow.example>"


def table(count: int = 8) -> list[dict[str, str]]:
    return [{"name": f"Na, {n}", "mail": f"p{n}@d{n % 5}.example", "berth": f"B{n}"} for n in range(count)]


class Batches(Case):
    def setUp(self) -> None:
        self.outbox = Outbox()
        self.journal = Journal(self.folder().path / "a.journal")
        self.addCleanup(lambda: self.journal.close())

    def batch(self, rows: Sequence[Any], *, template: Template = TEMPLATE, **more: Any) -> Batch:
        read = read_rows(rows)
        self.addCleanup(read.__exit__)
        usual = {"key": ["berth"], "to": "{{ name }} <{{ mail }}>", "pace": Pace(wait=0), "through": self.outbox}
        given: dict[str, Any] = {"sender": OFFICE, "job": "season", "journal": self.journal, **usual, **more}
        return Batch(template, read, **given)

    def subjects(self) -> list[str]:
        return [message.subject or "" for message in self.outbox.messages]

    def test_each_row_is_sent_once(self) -> None:
        told: list[int] = []
        result = self.batch(table(), connections=3).send(lambda progress: told.append(sum(progress.ended.values())))
        self.assertEqual((result.states, result.is_accepted, result.stopped), (Counter(accepted=8), True, None))
        self.assertEqual(sorted(self.subjects()), [f"Berth B{n}" for n in range(8)])
        self.assertEqual(sorted(told), list(range(1, 9)))
        again = self.batch(table()).send()
        self.assertEqual((again.states, again.plan.known, len(self.outbox.messages)), (Counter(accepted=8), 8, 8))

    def test_nothing_is_sent_if_a_row_is_wrong(self) -> None:
        rows: list[Any] = table()
        rows[2] = {**rows[2], "mail": "nobody"}
        rows[4] = {"mail": "x@x.example", "berth": "B4"}
        rows[6] = {**rows[6], "berth": ""}
        batch = self.batch(rows)
        problems = [str(one) for one in batch.problems()]
        self.assertEqual([one.partition(":")[0] for one in problems], ["row 3", "row 5", "row 7"])
        self.assertIn('no field "name" in the data', problems[1])
        self.assertIn("its key (berth) is empty", problems[2])
        with self.assertRaises(BatchError) as caught:
            batch.send()
        self.assertIn("3 rows are wrong; nothing was sent\n  row 3: --to", str(caught.exception))
        self.assertEqual((self.outbox.messages, self.journal.jobs()), ([], []))
        result = self.batch(rows, skip_bad=True).send()
        self.assertEqual((result.states, result.is_accepted), (Counter(accepted=5), False))

    def test_what_is_unlike_the_others(self) -> None:
        rows = table()
        rows[3] = {**rows[3], "note": "x" * 5000}
        rows[5] = {**rows[5], "name": "A very long name indeed"}
        batch = self.batch(rows)
        batch.problems()
        self.assertEqual(
            [(one.what, one.number) for one in batch.outliers], [("heaviest message", 4), ("longest name", 6)]
        )

    def test_states_are_kept(self) -> None:
        self.outbox.refuse("p1@*")
        self.outbox.defer("p2@*", times=1)
        self.outbox.lose("p3@*")
        result = self.batch(table(), suppressed=["P4@D4.example"]).send()
        states = Counter(accepted=4, refused=1, deferred=1, in_doubt=1, suppressed=1)
        self.assertEqual((result.states, result.is_accepted), (states, False))
        self.assertEqual(self.batch(table()).send().states, states)  # nothing is due, nothing is sent twice
        self.assertEqual(self.journal.reasons("refused"), [(1, "550 5.1.1 no mailbox of that name here")])
        (entry,) = self.journal.entries(state="in_doubt")
        self.assertEqual((entry.key, entry.address, entry.tries), ("B3", "p3@d3.example", 1))
        self.assertEqual(entry.message_id, self.outbox.receipts[3].message_id)
        (deferred,) = self.journal.entries(state="deferred")
        self.assertAlmostEqual(deferred.not_before - time.time(), 900, delta=30)

    @slow
    def test_a_deferred_one_goes_again_and_at_last_not(self) -> None:
        self.outbox.defer("p2@*")
        for tries in range(1, 6):
            self.batch(table(4)).send()
            (entry,) = [one for one in self.journal.entries() if one.key == "B2"]
            self.assertEqual((entry.tries, entry.state), (tries, "deferred" if tries < 5 else "expired"))
            self.make_due()
        self.assertEqual(self.batch(table(4)).send().states, Counter(accepted=3, expired=1))

    def make_due(self) -> None:
        """Let the time pass that has to pass before the next try."""
        self.journal.close()
        with sqlite3.connect(self.journal.where) as connection:
            connection.execute("UPDATE recipients SET not_before = 0")
        connection.close()

    @slow
    def test_a_retry_is_for_those_who_are_left(self) -> None:
        """With the same bytes, though the data and the clock have gone on."""
        self.outbox.defer("copy@*", times=1)
        first = self.batch(table(1), cc="copy@x.example").send()
        self.assertEqual(first.states, Counter(accepted=1, deferred=1))
        self.make_due()
        time.sleep(1.1)
        second = self.batch(table(1), cc="copy@x.example").send()
        self.assertEqual(second.states, Counter(accepted=2))
        self.assertEqual([one.recipient for one in self.outbox.receipts[1].outcomes], ["copy@x.example"])
        self.assertEqual(bytes(self.outbox.messages[0]), bytes(self.outbox.messages[1]))

    def test_a_table_that_changes(self) -> None:
        self.outbox.be_down()
        self.batch(table(3)).send()
        self.assertEqual(self.journal.summary(), Counter(planned=3))
        self.outbox.be_down(None)
        self.batch(table(3), wanted=Wanted(before=1)).send()
        rows = [{**row, "name": f"{row['name']}!"} for row in table(3)] + table(5)[3:] + table(1)
        result = self.batch(rows[:2] + rows[3:]).send()  # B2 is gone, B3 and B4 are new, B0 stands there twice
        plan = result.plan
        self.assertEqual((plan.new, plan.known, plan.anew, plan.gone), (2, 1, 1, 1))
        self.assertEqual((plan.changed, plan.repeated), (("B0",), ("B0",)))
        self.assertEqual(result.states, Counter(accepted=4, planned=1))
        self.assertEqual([one.to[0].name for one in self.outbox.messages], ["Na, 0", "Na, 1!", "Na, 3", "Na, 4"])

    def test_without_a_key_the_table_must_be_the_same(self) -> None:
        self.batch(table(3), key=()).send()
        self.assertEqual(self.batch(table(3), key=()).send().plan.known, 3)
        for rows, key, words in ((table(4), (), "another table"), (table(3), ("berth",), "without a key")):
            with self.assertRaisesRegex(JournalError, words):
                self.batch(rows, key=key).send()
        self.assertEqual(len(self.outbox.messages), 3)

    @slow
    def test_another_template_is_told(self) -> None:
        self.outbox.defer("p1@*", times=1)
        self.batch(table(3)).send()
        other = Template.from_text("{{ subject: }}New {{ berth }}{{ :subject }}<p>{{ name }}</p>")
        with self.assertRaisesRegex(JournalError, "another template"):
            self.batch(table(3), template=other).send()
        self.make_due()
        self.batch(table(3), template=other, change_unsent=True).send()
        self.assertEqual(self.subjects(), ["Berth B0", "Berth B2", "New B1"])

    def test_a_message_that_is_not_what_it_was(self) -> None:
        """Tried once, in part: what is left gets the same bytes, or nothing."""
        self.outbox.defer("copy@*", times=1)
        self.batch(table(1), cc="copy@x.example").send()
        self.make_due()
        batch = self.batch(table(1), cc="copy@x.example", to="Another {{ name }} <{{ mail }}>")
        self.assertEqual(batch.send().states, Counter(accepted=1, refused=1))
        self.assertIn("not what it was", self.journal.reasons("refused")[0][1])

    def test_one_reason_for_many_is_the_accounts(self) -> None:
        self.outbox.refuse("*", 554, "5.7.1 account suspended")
        result = self.batch(table(20)).send()
        self.assertEqual(result.states, Counter(planned=20))
        self.assertIn("the account's trouble: 554 5.7.1 account suspended", result.stopped or "")
        self.assertEqual(len(self.outbox.receipts), 5)
        # Of one domain it is the domain's.
        rows = [{**row, "mail": f"p{n}@x.example"} for n, row in enumerate(table(20))]
        self.assertEqual(self.batch(rows).send().states, Counter(refused=20))

    def test_when_it_ends(self) -> None:
        self.outbox.refuse("p[13579]@*")
        result = self.batch(table(30), pace=Pace(wait=0, stop_after=3)).send()
        self.assertEqual((result.states["refused"], result.stopped), (3, "3 failures among the last 6"))
        result = self.batch(table(30), pace=Pace(wait=0, until=time.time() - 1)).send()
        self.assertEqual(result.stopped, "its time is over")
        begun = time.monotonic()
        self.batch(table(30), wanted=Wanted(before=10), pace=Pace(wait=0, rate=1200)).send()
        self.assertGreaterEqual(time.monotonic() - begun, 0.15)
        self.assertEqual(self.batch(table(30), wanted=Wanted(key="B20")).send().states["planned"], 19)

    def test_a_server_that_is_down(self) -> None:
        class Down(Outbox):
            left = 3

            def deliver(self, *given: Any, **more: Any) -> Any:
                self.left -= 1
                if self.left >= 0:
                    raise DeliveryError("cannot be reached", is_lasting=self.left > 5)
                return super().deliver(*given, **more)

        down = Down()
        with unittest.mock.patch("pribble.delivery.sending._LONGEST_PAUSE", 0.05):
            result = self.batch(table(3), through=down, pace=Pace(wait=30)).send()
        self.assertEqual((result.states, result.stopped), (Counter(accepted=3), None))
        down.left = 20
        rows = table(6)
        result = self.batch(rows, through=down).send()
        self.assertEqual((result.states, result.stopped), (Counter(accepted=3, planned=3), "cannot be reached"))
        self.assertEqual(down.left, 19)

    def test_an_interruption_lets_what_is_under_way_end(self) -> None:
        begun = threading.Event()

        class Slow(Outbox):
            def deliver(self, *given: Any, **more: Any) -> Any:
                begun.set()
                time.sleep(0.4)
                return super().deliver(*given, **more)

        def interrupt() -> None:
            begun.wait(10)
            os.kill(os.getpid(), 2)

        threading.Thread(target=interrupt).start()
        result = self.batch(table(20), through=Slow(), connections=2).send()
        self.assertEqual(result.stopped, "interrupted")
        self.assertEqual(sum(result.states.values()), 20)
        self.assertIn(result.states["accepted"], (1, 2))  # those that were under way
        self.assertEqual(set(result.states), {"accepted", "planned"})

    def test_a_disk_that_is_full_at_the_last_word(self) -> None:
        """Nobody knows at once whether the file has its name; the next run looks."""
        folder = Folder(self.folder().path)
        link = os.link

        def full(source: Any, target: Any) -> None:
            if str(target).endswith(".eml") and len(list(folder.path.glob("*.eml"))) == 2:
                raise OSError(28, "No space left on device")
            link(source, target)

        with unittest.mock.patch("os.link", full):
            result = self.batch(table(4), through=folder).send()
        self.assertEqual(result.states, Counter(accepted=2, in_doubt=1, planned=1))
        self.assertIn("No space left", result.stopped or "")
        self.assertEqual(verify(self.journal), [])
        self.assertEqual(self.batch(table(4), through=folder).send().states, Counter(accepted=4))
        self.assertEqual(len(list(folder.path.glob("*.eml"))), 4)

    def test_a_worker_that_stalls_past_its_lease(self) -> None:
        """Another one sends what it had claimed; when it wakes up, it does not."""
        stalled, over = threading.Event(), threading.Event()

        class Stalling(Outbox):
            def deliver(self, message: Any, *, recipients: Any = None, committing: Any = None) -> Any:
                def late(people: Any) -> None:
                    stalled.set()
                    over.wait(20)
                    committing(people)

                return super().deliver(message, recipients=recipients, committing=late)

        def send_meanwhile(way: Stalling) -> BatchResult:
            """What another one comes to while this one stalls, and then wakes up."""
            stalled.clear()
            over.clear()
            slow = self.batch(table(1), through=way, journal=Journal(self.journal.where, lease=-1))
            self.addCleanup(slow.journal.close)
            thread = threading.Thread(target=slow.send)
            thread.start()
            self.assertTrue(stalled.wait(20))
            result = self.batch(table(1)).send()
            over.set()
            thread.join()
            return result

        way = Stalling()
        self.assertEqual(send_meanwhile(way).states, Counter(accepted=1))
        self.assertEqual((len(self.outbox.messages), way.messages), (1, []))
        self.assertEqual(self.journal.summary(), Counter(accepted=1))
        with unittest.mock.patch(
            "pribble.delivery.journal_writing._are_ours", lambda *_: True
        ):  # without it there would be two
            self.journal.close()
            self.journal.where = self.folder().path / "b.journal"
            send_meanwhile(way)
            self.assertEqual(len(self.outbox.messages) + len(way.messages), 3)

    @slow
    def test_a_journal_that_cannot_be_written_sends_nothing(self) -> None:
        self.batch(table(1)).send()

        class Locking(Outbox):
            """Another process takes the journal before the last word."""

            def deliver(self, message: Any, *, recipients: Any = None, committing: Any = None) -> Any:
                def locked(people: Any) -> None:
                    other = sqlite3.connect(where, isolation_level=None)
                    other.execute("BEGIN IMMEDIATE")
                    try:
                        committing(people)
                    finally:
                        other.execute("ROLLBACK")
                        other.close()

                return super().deliver(message, recipients=recipients, committing=locked)

        where = self.journal.where
        self.journal.close()
        way = Locking()
        with (
            unittest.mock.patch("pribble.delivery.journal_tables.BUSY", 0.2),
            self.assertRaisesRegex(JournalError, "locked"),
        ):
            self.batch(table(3), through=way).send()
        self.assertEqual(way.messages, [])
        self.journal.close()
        self.assertEqual(self.journal.summary()["accepted"], 1)


class OnTheCommandLine(Case):
    def setUp(self) -> None:
        lines = "name;mail;berth\n" + "".join(f"Na{n};p{n}@d{n % 5}.example;B{n}\n" for n in range(8))
        toml = 'senders.default = "O <o@x.example>"\n[transports.default]\nurl = "folder:out"\n[suppress]\nfile = "no.txt"\n'
        self.path = self.folder(
            {
                "templates/notice.html": "{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}</p>",
                "skippers.csv": lines,
                "no.txt": "# those who want nothing\np7@d2.example\n",
                "pribble.toml": toml,
            }
        ).path

    def batch(self, *options: str, to: str = "{{ name }} <{{ mail }}>") -> Any:
        return pribble("batch", "notice", "--rows", "skippers.csv", "--to", to, *options, cwd=self.path)

    @slow
    def test_a_rehearsal(self) -> None:
        """All of it, over connections, with deferrals; and nothing of it anywhere."""
        rows = "name,mail,berth\n" + "".join(f"N{n},q{n}@d{n % 5}.example,B{n}\n" for n in range(50))
        (self.path / "skippers.csv").write_text(rows)
        before = sorted(self.path.rglob("*"))
        done = self.batch("--rehearse", "--connections", "3")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertRegex(done.stdout, r"\n  48 accepted, 2 deferred: [\d.]+ s, [\d,]+ a minute, 0\.0 MB\n")
        self.assertIn("once the deferred ones are due: 50 accepted\n", done.stdout)
        said = json.loads(self.batch("--rehearse", "--json", "--first", "20").stdout)
        self.assertEqual(said["first"], {"accepted": 19, "deferred": 1, "planned": 30})
        self.assertEqual((said["then"], said["stopped"]), ({"accepted": 20, "planned": 30}, None))
        self.assertGreater(said["bytes"], 19 * 500)
        began = time.monotonic()
        said = json.loads(self.batch("--rehearse", "--json", "--first", "10", "--rate", "1200/min").stdout)
        self.assertGreater(said["seconds"], 9 * 0.05)
        self.assertLess(said["seconds"], time.monotonic() - began)
        (self.path / "skippers.csv").write_text(rows + "Bo,bo@@x,B\n")
        done = self.batch("--rehearse")
        self.assertEqual(done.returncode, 1)
        self.assertIn("row 51 (line 52): --to:", done.stderr)
        self.assertEqual(sorted(self.path.rglob("*")), before)

    def test_a_batch(self) -> None:
        done = self.batch("--journal", "a.journal", "--key", "berth")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(done.stderr, "skippers.csv: its columns are divided by semicolons\n")
        self.assertIn("8 rows rendered; 0 problems\n  heaviest message: row", done.stdout)
        self.assertIn("notice: 7 accepted, 1 suppressed\n", done.stdout)
        self.assertEqual(len(list((self.path / "out").glob("*.eml"))), 7)
        said = json.loads(self.batch("--journal", "a.journal", "--key", "berth", "--json").stdout)
        self.assertEqual((said["states"], said["planned"]["known"]), ({"accepted": 7, "suppressed": 1}, 8))
        done = pribble("journal", "a.journal", cwd=self.path)
        self.assertEqual(done.stdout, "notice: 8 recipients\n        7 accepted\n        1 suppressed\n")

    def test_looking_first(self) -> None:
        self.assertEqual(self.batch("--show", "2").stdout, "Dear Na1\n")
        self.assertIn("To: Na1 <p1@d1.example>", self.batch("--show", "2", "--format", "eml").stdout)
        done = self.batch("--test-to", "me@example.org", "--show", "3")
        self.assertIn("me@example.org: accepted", done.stdout)
        (path,) = (self.path / "out").glob("*.eml")
        self.assertIn("Subject: [test] Berth B2", path.read_text())
        self.assertFalse((self.path / "a.journal").exists())

    def test_rows_that_are_wrong(self) -> None:
        with open(self.path / "skippers.csv", "a") as file:
            file.write("X;nobody;B8\nY;y@x.example\n")
        done = self.batch("--journal", "a.journal")
        self.assertEqual(done.returncode, 1)
        self.assertIn("2 rows are wrong; nothing was sent\n  row 9 (line 10): --to", done.stderr)
        self.assertIn("row 10 (line 11): 2 fields, where the head has 3", done.stderr)
        self.assertFalse((self.path / "out").exists())
        done = self.batch("--journal", "a.journal", "--skip-bad")
        self.assertEqual(done.returncode, 3)
        self.assertIn("7 accepted", done.stdout)

    def test_a_journal_is_asked_and_told(self) -> None:
        outbox = Outbox()
        outbox.refuse("=cmd@*")
        outbox.lose("p2@*")
        with open(self.path / "skippers.csv", "a") as file:
            file.write("X;=cmd@x.example;B8\n")
        address = outbox.address
        done = self.batch("--journal", "a.journal", "--key", "berth", "--through", address, "--connections", "2")
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertIn("in doubt: pribble journal a.journal --state in_doubt", done.stdout)
        listed = pribble("journal", "a.journal", "--state", "in_doubt", cwd=self.path)
        self.assertEqual(listed.stdout, "B2  p2@d2.example: in doubt (no answer to the message)\n")
        listed = pribble("journal", "a.journal", "--state", "refused", "--csv", cwd=self.path)
        self.assertIn("B8,'=cmd@x.example,refused,1,550,5.1.1,", listed.stdout)
        self.assertEqual(pribble("journal", "a.journal", "--resolve", "B2", "resend", cwd=self.path).returncode, 0)
        self.assertEqual(
            pribble("journal", "a.journal", "--again", "refused:cmd", cwd=self.path).stdout,
            "1 recipient planned again\n",
        )
        self.assertEqual(pribble("journal", "a.journal", "--verify", cwd=self.path).stdout, "it holds together\n")
        sent = self.path / "sent.eml"
        sent.write_bytes(bytes(outbox.messages[0]))
        record = json.loads(
            pribble("journal", "a.journal", "--proof", "B0", "--message", "sent.eml", cwd=self.path).stdout
        )
        self.assertEqual(record["message_id"], outbox.messages[0].message_id)
        self.assertEqual(record["outcomes"][0]["state"], "accepted")
        done = pribble("journal", "a.journal", "--proof", "B1", "--message", "sent.eml", cwd=self.path)
        self.assertIn("is not the message that was sent", done.stderr)
        states = json.loads(pribble("journal", "a.journal", "--json", cwd=self.path).stdout)
        self.assertEqual(states["jobs"][0]["states"], {"accepted": 6, "planned": 2, "suppressed": 1})

    def test_what_is_called_wrongly(self) -> None:
        for options, words in (
            ([], "--journal FILE"),
            (["--journal", "a", "--key", "nam"], "is no column of the table"),
            (["--show", "9"], "the table has 8 rows"),
            (["--show", "0"], "no number from 1"),
            (["--rate", "5/hour"], "is no rate"),
            (["--until", "soon"], "is no time"),
            (["--wait", "-1"], "is no number of minutes"),
            (["--journal", "a", "--through", "nowhere"], "no name in [transports]"),
        ):
            with self.subTest(options):
                done = self.batch(*options)
                self.assertEqual(done.returncode, 1 if "nam" in options else 2, done.stderr)
                self.assertIn(words, done.stderr)
        for options, words in (
            (["nowhere"], "there is no journal"),
            (["a.journal", "--job", "x"], 'no job "x" (notice)'),
            (["a.journal", "--resolve", "B1", "accepted"], "nothing is in doubt"),
            (["a.journal", "--resolve", "B1", "perhaps"], "accepted, or"),
            (["a.journal", "--again", "accepted"], "--again refused"),
            (["a.journal", "--proof", "B99"], 'no message with the key "B99"'),
            (["a.journal", "--forget", "-1"], "a number of days"),
            (["a.journal", "--forget", "nan"], "a number of days"),
        ):
            self.batch("--journal", "a.journal", "--key", "berth")
            with self.subTest(options):
                done = pribble("journal", *options, cwd=self.path)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
