"""``pribble serve`` as a process: what it refuses to start with, how it ends, and what is left when it is killed."""

from __future__ import annotations

import json
import random
import time
import unittest
from collections import Counter
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from http.client import HTTPException
from typing import Any

from pribble.delivery import Journal
from pribble.serving.waiting_sender import _without_addresses
from tests.delivery.killing import receiving
from tests.serving.served import DATA, FILES, PROJECT, TOKEN, Client, Process
from tests.support import EXPLORE, Case, pribble, proof, slow


class Started(Case):
    def test_what_it_does_not_start_with(self) -> None:
        path = self.folder(FILES).path
        without_journal = self.folder({**FILES, "pribble.toml": PROJECT.partition("\n")[2]}).path
        mistaken = self.folder({**FILES, "pribble.toml": PROJECT.replace('"thanks"', '"thank"', 1)}).path
        for folder, token, options, said in (
            (self.folder().path, TOKEN, (), "events stand in pribble.toml"),
            (without_journal, TOKEN, (), "has no journal ="),
            (mistaken, TOKEN, (), 'there is no template "thank" (did you mean "thanks"?)'),
            (path, "", (), "set the environment variable PRIBBLE_TOKEN"),
            (path, "short", (), "the token has 5 characters, and 20 at least"),
            (path, "twenty characters and é", (), "the token has a character that no token has"),
            (path, TOKEN, ("--host", "0.0.0.0"), "say by which names clients call it"),
            (path, TOKEN, ("--host", "0.0.0.0", "--no-token"), "--no-token goes with loopback alone"),
            (path, TOKEN, ("--port", "70000"), "is no port"),
            (path, TOKEN, ("--threads", "0"), "is no number of threads"),
        ):
            with self.subTest(said):
                done = pribble("serve", *options, cwd=folder, environment={"PRIBBLE_TOKEN": token})
                self.assertIn(said, done.stderr)
                self.assertEqual((done.returncode in (1, 2), done.stdout), (True, ""))
                self.assertNotIn("twenty characters", done.stderr)


class OfProcesses(Case):
    @contextmanager
    def receiving(self, *faults: str) -> Iterator[Any]:
        """A project whose messages go to a receiver, and a function that says what the receiver has."""
        self.path = self.folder(FILES).path
        with receiving(self.path / "received", *faults) as (address, received):
            project = (self.path / "pribble.toml").read_text(encoding="utf-8")
            project = project.replace("smtp://127.0.0.1:9", address)
            (self.path / "pribble.toml").write_text(project, encoding="utf-8")
            yield received


class Words(unittest.TestCase):
    def test_addresses_are_left_out_of_the_log(self) -> None:
        said = _without_addresses("550 <ana@example.org>: no (b@c.example) here, mail d@e.example, please")
        self.assertEqual(said, "550 <(address)>: no ((address)) here, mail (address) please")


@slow
class Ends(OfProcesses):
    def test_what_is_under_way_is_answered(self) -> None:
        with self.receiving("--delay", "0.4") as received, Process(self.path) as server, ThreadPoolExecutor() as pool:
            ask = Client(server.port)
            answers = [pool.submit(ask, "POST", "/events/booked", {**DATA, "ref": f"B {n}"}) for n in range(5)]
            time.sleep(0.2)
            server.terminate()
            self.assertEqual([one.result().status for one in answers], [200] * 5)
            self.assertEqual(server.wait(), 0)
            with self.assertRaises(OSError):
                ask("GET", "/health")
            self.assertEqual(sum(received(10).values()), 10)
        self.assertEqual(list(server.lines[-1]), ["at", "ended"])
        for line in server.lines:
            self.assertTrue({"at"} <= set(line))

    def test_what_waits_is_sent(self) -> None:
        """What came when the receiver was not there, and what is to be sent after the answer."""
        with self.receiving() as received, Process(self.path) as server:
            ask = Client(server.port)
            self.assertEqual(ask("POST", "/events/booked", DATA, headers={"Prefer": "respond-async"}).status, 202)
            for _ in range(200):
                messages = ask("GET", "/events/booked/B%2014").data["messages"]
                if {one["state"] for message in messages for one in message["outcomes"]} == {"accepted"}:
                    break
                time.sleep(0.05)
            server.terminate()
            self.assertEqual(server.wait(), 0)
            self.assertEqual(received(2), {"ana@example.org": 1, "desk@skerrow.example": 1})
        self.assertIn({"accepted": 2}, [line.get("sent") for line in server.lines])


@proof
class Kills(OfProcesses):
    """Killed in the middle of fifty requests, and started again."""

    def test_nothing_is_lost_and_nothing_sent_twice(self) -> None:
        for turn in range(2 * max(1, EXPLORE)):
            with self.subTest(turn):
                self.kill_and_go_on(random.Random(turn))

    def kill_and_go_on(self, chance: random.Random) -> None:
        count, threads, kills = 50, 8, 2
        events = [{**DATA, "ref": f"B {n}", "mail": f"p{n}@example.org"} for n in range(count)]
        with self.receiving() as received:
            for _ in range(kills):
                with Process(self.path, "--threads", str(threads)) as server, ThreadPoolExecutor(count) as pool:
                    asked = [pool.submit(self.post, server.port, one) for one in events]
                    time.sleep(chance.uniform(0.1, 1.5))
                    server.kill()
                    for one in asked:
                        one.result()
            with Process(self.path) as server:
                ask = Client(server.port)
                states = Counter[str]()
                for event in events:
                    answer = ask("POST", "/events/booked", event)
                    self.assertEqual(answer.status, 200)
                    states.update(out["state"] for message in answer.data["messages"] for out in message["outcomes"])
                server.terminate()
                self.assertEqual(server.wait(), 0)
            had = received(2 * count - states["in_doubt"])
        with Journal(self.path / "post.journal") as journal:
            entries = list(journal.entries())
        doubtful = [one.address for one in entries if one.state == "in_doubt"]
        self.assertEqual({one.state for one in entries} - {"accepted", "in_doubt"}, set())
        self.assertEqual(len(entries), 2 * count)
        self.assertLessEqual(len(doubtful), kills * threads)
        for n in range(count):
            self.assertLessEqual(had[f"p{n}@example.org"], 1)
            self.assertTrue(had[f"p{n}@example.org"] or f"p{n}@example.org" in doubtful)
        self.assertLessEqual(had["desk@skerrow.example"], count)
        self.assertGreaterEqual(had["desk@skerrow.example"], count - doubtful.count("desk@skerrow.example"))

    @staticmethod
    def post(port: int, event: Mapping[str, Any]) -> int | None:
        """Post an event; None where nobody answers any more."""
        try:
            return Client(port)("POST", "/events/booked", event).status
        except (OSError, HTTPException, json.JSONDecodeError):
            return None
