"""The outbox of tests: it keeps what an application sends, and answers as it is told to."""

from __future__ import annotations

import gc
import unittest

from pribble import DeliveryError, Message
from pribble.delivery import transport
from pribble.testing import Outbox


def message(*to: str, subject: str = "x") -> Message:
    return Message(sender="a@x.example", to=list(to), bcc="blind@x.example", subject=subject, text="x")


class Outboxes(unittest.TestCase):
    def test_it_keeps_what_is_sent(self) -> None:
        outbox = Outbox()
        with transport(outbox.address) as way:
            receipts = [way.deliver(message("b@x.example", subject=str(number))) for number in range(3)]
        self.assertEqual([one.subject for one in outbox.messages], ["0", "1", "2"])
        self.assertEqual(outbox.receipts, receipts)
        self.assertEqual(str(receipts[0].outcomes[1]), "blind@x.example: accepted (250 2.0.0 kept)")
        outbox.clear()
        self.assertEqual((outbox.messages, outbox.receipts), ([], []))

    def test_an_address_is_of_one_outbox(self) -> None:
        first, second = Outbox(), Outbox()
        self.assertIs(transport(first.address), first)
        self.assertIsNot(transport("memory:"), transport("memory:"))
        self.assertNotEqual(first.address, second.address)
        address = second.address
        del second
        gc.collect()
        with self.assertRaisesRegex(ValueError, "no outbox of this process"):
            transport(address)

    def test_it_answers_as_it_is_told(self) -> None:
        outbox = Outbox()
        outbox.refuse("*@Closed.example")
        outbox.refuse("large@*", 552, "5.3.4 too large")
        outbox.defer("busy@*", times=1)
        outbox.lose("lost@*")
        sent = message("b@x.example", "c@closed.EXAMPLE", "large@x.example", "busy@x.example", "lost@x.example")
        states = ["accepted", "refused", "refused", "deferred", "in_doubt", "accepted"]
        first, second = outbox.deliver(sent), outbox.deliver(sent)
        self.assertEqual([one.state for one in first.outcomes], states)
        self.assertEqual((first.outcomes[2].code, first.outcomes[2].enhanced), (552, "5.3.4"))
        self.assertEqual(first.left, ("busy@x.example",))
        self.assertEqual([one.state for one in second.outcomes], [*states[:3], "accepted", *states[4:]])
        # Nobody got what was refused to all.
        outbox.clear()
        outbox.refuse("*")
        outbox.deliver(sent)
        self.assertEqual((len(outbox.messages), len(outbox.receipts)), (0, 1))

    def test_it_can_be_down(self) -> None:
        outbox = Outbox()
        outbox.be_down()
        with self.assertRaisesRegex(DeliveryError, "cannot be reached"):
            outbox.deliver(message("b@x.example"))
        outbox.be_down(None)
        outbox.deliver(message("b@x.example"))
        self.assertEqual(len(outbox.receipts), 1)

    def test_what_commits(self) -> None:
        outbox = Outbox()
        outbox.refuse("c@*")
        seen: list[object] = []

        def commit(people: object) -> None:
            seen.append((people, len(outbox.messages)))

        outbox.deliver(message("b@x.example", "c@x.example"), committing=commit)
        self.assertEqual(seen, [(["b@x.example", "blind@x.example"], 0)])

    def test_codes_that_are_none(self) -> None:
        for code in (250, 45, 4510):
            with self.assertRaises(ValueError):
                Outbox().defer("*", code=code)
            with self.assertRaises(ValueError):
                Outbox().refuse("*", code=code)


if __name__ == "__main__":
    unittest.main()
