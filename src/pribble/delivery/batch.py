"""Many messages of one template, a row each: checked before the first is sent, and resumable after the last.

The first pass renders every row and sends nothing.  The second one sends what the journal has planned, over as many
connections as there may be; whenever it ends, the journal knows what became of each recipient.
"""

from __future__ import annotations

import math
import threading
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Unpack

from pribble.delivery.claims import Claim
from pribble.delivery.composing import Composer, ComposerOptions, words_of
from pribble.delivery.journal import Journal, Wanted
from pribble.delivery.journal_planning import Planned, PlanResult
from pribble.delivery.journal_returns import returned_addresses, without_mail
from pribble.delivery.rows import RowProblem, Rows, read_rows, row_digest
from pribble.delivery.sending import Pace, Progress, Sending, Work, look
from pribble.delivery.states import State
from pribble.delivery.transports import Transport
from pribble.errors import PribbleError
from pribble.mime.message import Message
from pribble.records import record
from pribble.template import Template


class BatchError(PribbleError):
    """A batch is not sent, since rows of it are wrong: `problems` says which."""

    def __init__(self, problems: list[RowProblem]) -> None:
        shown = "\n".join(f"  {one}" for one in problems[:100])
        more = f"\n  and {len(problems) - 100:,} more" if len(problems) > 100 else ""
        super().__init__(f"{len(problems):,} {'row is' if len(problems) == 1 else 'rows are'} wrong; nothing was sent")
        self.problems = problems
        self.listing = shown + more

    def __str__(self) -> str:
        return f"{self.problem}\n{self.listing}"


@record(frozen=True, slots=True)
class Outlier:
    """A row that is unlike the others: `what` says in which way."""

    what: str
    number: int
    value: str


@record(frozen=True, slots=True)
class BatchResult:
    """What became of a batch: `states` are those of all its recipients, `plan` what planning came to, `problems` the
    rows that were left out, `stopped` why it ended early, if it did."""

    states: Counter[State]
    plan: PlanResult
    problems: tuple[RowProblem, ...]
    stopped: str | None

    @property
    def is_accepted(self) -> bool:
        """Whether everybody has it who was to get it."""
        return not self.problems and set(self.states) <= {"accepted", "suppressed"}


class Batch:
    """A message for each of `rows` (a `Rows`, or what `read_rows` takes), by a template.

    - `sender`: a mailbox.  `to`, `cc`, `bcc`, `reply_to`: a column's name, or mailboxes with marks, which are parsed
      before a row fills them.  `locale`, `unsubscribe`: texts with marks.  `attachments`: files for everybody.
    - `key`: the columns that tell rows apart; without, the table must stay the same.
    - `job`: what the `journal` calls it, by default the template's name.  `through`: a transport, over so many
      `connections`.
    - `suppressed`: addresses that get nothing.  With `skip_bad` rows that are wrong are left out; with `change_unsent`
      what nobody has yet gets the template and the data of today.
    - All is planned; what is `wanted` is sent, at the `pace` that is asked for.

    Raises `TemplateError` for a pattern that is none, `DataError` for what is no table, or a key that is no column.
    """

    def __init__(
        self,
        template: Template,
        rows: Rows | str | Path | Iterable[Any],
        *,
        through: Transport,
        journal: Journal,
        job: str | None = None,
        connections: int = 1,
        suppressed: Collection[str] = (),
        skip_bad: bool = False,
        change_unsent: bool = False,
        wanted: Wanted | None = None,
        pace: Pace | None = None,
        **options: Unpack[ComposerOptions],
    ) -> None:
        self.rows = rows if isinstance(rows, Rows) else read_rows(rows)
        self.composer = Composer.of(template, self.rows.columns, **options)
        self.job = job or template.name
        self.through, self.journal, self.connections = through, journal, connections
        self.suppressed, self.skip_bad, self.change_unsent = suppressed, skip_bad, change_unsent
        self.wanted, self.pace = wanted or Wanted(), pace or Pace()
        self.outliers: list[Outlier] = []
        self._reading = threading.Lock()
        self._bad: set[int] = set()
        self._checked = False
        self._problems: list[RowProblem] = []

    def problems(self) -> list[RowProblem]:
        """Returns what is wrong with which rows: each is rendered, its addresses are read, its message is made."""
        if self._checked:
            return self._problems
        self._problems = list(self.rows.problems)
        heaviest: tuple[int, int] = (0, 0)
        longest: tuple[int, int, str] = (0, 0, "")
        emptiest: tuple[int, int, str] = (0, 0, "")
        for index, row in enumerate(self.rows):
            number = self.rows.number(index)
            try:
                self.composer.key_of(row, number)
                message = self.composer.message(row)
                heaviest = max(heaviest, (len(bytes(message)), -number))
                name = max((one.name for one in message.to), key=len, default="")
                longest = max(longest, (len(name), -number, name))
                if (empty := _empty(row, self.rows.columns)) and (len(empty), -number) > emptiest[:2]:
                    emptiest = len(empty), -number, ", ".join(empty)
            except (PribbleError, KeyError, TypeError, ValueError) as error:
                self._bad.add(index)
                self._problems.append(self.rows.problem(index, words_of(error)))
        self._problems.sort(key=lambda one: one.number)
        self._checked = True
        if heaviest[0]:
            self.outliers = [Outlier("heaviest message", -heaviest[1], f"{heaviest[0]:,} bytes")]
            if longest[0]:
                self.outliers.append(Outlier("longest name", -longest[1], longest[2]))
            if emptiest[0]:
                self.outliers.append(Outlier("emptiest row", -emptiest[1], f"without {emptiest[2]}"))
        return self._problems

    def send(self, progress: Callable[[Progress], None] | None = None) -> BatchResult:
        """Send what is planned and due; returns what became of all.

        Raises `BatchError` where rows are wrong, unless they are left out; `JournalError` where the journal cannot be
        used.  An interruption (`KeyboardInterrupt`) lets what is under way end; a second one does not.
        """
        problems = self.problems()
        if problems and not self.skip_bad:
            raise BatchError(problems)
        keys = self.composer.key
        plan = self.journal.plan(
            self.job,
            self._planned(returned_addresses(self.journal)),
            template=self.composer.template.version,
            rows=None if keys else self.rows.digest,
            change_unsent=self.change_unsent,
        )
        self.journal.recover()
        with self.through as way:
            work = Work(self._message_of, self.job, way, self.journal, self.connections, self.wanted, self.pace)
            look(work)
            run = Sending(work, progress)
            run.go()
        return BatchResult(self.journal.summary(self.job), plan, tuple(problems), run.stopped)

    def _message_of(self, claim: Claim) -> Message:
        with self._reading:
            row = self.rows[claim.position]
        return self.composer.message(row, seed=claim.seed, date=claim.date)

    def _planned(self, returned: Collection[str]) -> Iterator[Planned]:
        suppressed = {address.strip().casefold() for address in self.suppressed}
        for index, row in enumerate(self.rows):
            if index not in self._bad:
                addresses = self.composer.recipients(row)
                yield Planned(
                    self.composer.key_of(row, self.rows.number(index)),
                    index,
                    row_digest([row, addresses]),  # of the data, and of whom the message is for
                    addresses,
                    without_mail(addresses, suppressed, returned),
                )


def _empty(row: Any, columns: Sequence[str]) -> list[str]:
    """Returns the columns of a table for which a row has no value."""
    if not isinstance(row, Mapping):
        return []
    return [str(name) for name in columns if _is_empty(row.get(name))]


def _is_empty(value: object) -> bool:
    if isinstance(value, float):
        return math.isnan(value)
    return value is None or (isinstance(value, str) and not value.strip())
