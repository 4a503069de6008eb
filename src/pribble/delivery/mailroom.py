"""A mailroom posts events: the messages of each are rendered, kept in the journal, and then sent; asked for twice by a
retry, sent once."""

from __future__ import annotations

import tempfile
import threading
import uuid
from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any, Self

from pribble.cached_property import cached_property
from pribble.delivery.composing import checked_key, words_of
from pribble.delivery.event_sending import EventSender, Left
from pribble.delivery.events import Event, EventMessage, read_event
from pribble.delivery.journal import Entry, Journal
from pribble.delivery.journal_events import (
    ToStore,
    due_events,
    due_jobs,
    entries_of_event,
    expire,
    is_posted,
    is_under_way,
    store,
)
from pribble.delivery.journal_returns import returned_among, without_mail
from pribble.delivery.passwords import check_password_variables, password_of
from pribble.delivery.signing import Signer, project_signer
from pribble.delivery.states import State
from pribble.delivery.transports import Transport, transport
from pribble.delivery.workers import at_work
from pribble.errors import DataError, DeliveryError, PribbleError, did_you_mean
from pribble.files import FileStamp, as_shown
from pribble.mime.message import Message
from pribble.records import record
from pribble.settings import ProjectSettings, project_templates, read_settings
from pribble.template import Template, TemplateFolder

DEADLINE = 30.0  # seconds in which an event's messages are tried at once
CONNECTIONS = 4  # of each transport, from several threads


class UnderWay(PribbleError):
    """Somebody is posting an event now; what becomes of it is not known yet."""


class KeyDiffers(DataError):
    """Who posts an event names it by another key than its data do."""


class EventError(PribbleError):
    """An event is not posted, since messages of it cannot be made: `problems` says which, by name."""

    def __init__(self, event: str, problems: Sequence[tuple[str, Exception]]) -> None:
        names = {name for name, _ in problems}
        count = f"{len(names)} of its messages" if len(names) > 1 else "a message"
        super().__init__(f'the event "{event}" was not posted: {count} cannot be made')
        self.problems = tuple(problems)

    def __str__(self) -> str:
        lines = [self.problem]
        for name, error in self.problems:
            first, *more = str(error).splitlines() or [""]
            lines += [f"  {name}: {first}", *(f"  {line}" for line in more)]
        return "\n".join(lines)


@record(frozen=True, slots=True)
class PostedMessage:
    """A message of an event that was posted, and what is known of each recipient."""

    name: str
    message_id: str | None
    entries: tuple[Entry, ...]


@record(frozen=True, slots=True)
class Posted:
    """What became of an event: `is_new` says that it was not posted before; `problems` are those of its optional
    messages; `stopped` says why what is left was not tried."""

    event: str
    key: str
    is_new: bool
    messages: tuple[PostedMessage, ...]
    problems: tuple[tuple[str, str], ...] = ()
    stopped: tuple[str, ...] = ()

    @property
    def states(self) -> Counter[State]:
        """How many recipients are in each state."""
        return Counter(one.state for message in self.messages for one in message.entries)

    @property
    def is_accepted(self) -> bool:
        """Whether everybody has it who was to get it."""
        return not self.problems and set(self.states) <= {"accepted", "suppressed"}

    def as_data(self) -> Mapping[str, object]:
        """Returns what became of it, for programs."""
        return {
            "event": self.event,
            "key": self.key,
            "is_new": self.is_new,
            "messages": [
                {
                    "name": message.name,
                    "message_id": message.message_id,
                    "outcomes": [one.as_data() for one in message.entries],
                }
                for message in self.messages
            ],
            "problems": [{"name": name, "message": words} for name, words in self.problems],
            "stopped": list(self.stopped),
        }


class Mailroom:
    """Posts the events of a project's settings.

    - `secret` returns the password that a variable holds, as ``os.environ.get`` does.
    - `journal` is where events are kept; without, nobody remembers them when the mailroom is closed.
    - `through`: transports that are used for those of their names.
    - `deadline`: seconds in which messages are tried at once; what is left goes later.
    - `hand_over` is called with the event and its key when all is kept; then it is not sent from here.

    As a context manager it keeps its connections.  It may be used by several threads.
    """

    def __init__(
        self,
        settings: ProjectSettings,
        *,
        secret: Callable[[str], str | None] | None = None,
        journal: Journal | None = None,
        through: Mapping[str, Transport] | None = None,
        deadline: float = DEADLINE,
        hand_over: Callable[[str, str], object] | None = None,
    ) -> None:
        if settings.file is None or settings.path is None:
            raise DataError("there is no pribble.toml, in which events stand")
        self.settings = settings
        check_password_variables(name for name, _ in settings.transports)
        self._secret = secret or (lambda variable: None)
        self._hand_over = hand_over
        self._given = dict(through or {})
        self._transports: dict[str, Transport] = {}
        self._events: dict[str, Event] = {}
        self._known_list: tuple[FileStamp | None, frozenset[str]] | None = None
        self._lock = threading.Lock()
        self._open = ExitStack()
        self._is_kept = False
        self.is_idempotent = journal is not None or settings.journal is not None
        if journal is None:
            where = settings.journal
            if where is None:
                folder = self._open.enter_context(tempfile.TemporaryDirectory(prefix="pribble-"))
                where = str(Path(folder) / "events.journal")
            journal = self._open.enter_context(Journal(where))
        self.journal = journal
        self._sender = EventSender(journal, self._transport, deadline)
        self._templates: TemplateFolder | None = None

    @classmethod
    def from_config(cls, path: str | Path, **options: Any) -> Self:
        """Returns the mailroom of a ``pribble.toml``; `options` are those of a mailroom.

        Raises `DataError` for settings that mean nothing, `OSError` for a file that cannot be read.
        """
        return cls(read_settings(Path(path)), **options)

    def __enter__(self) -> Self:
        self._is_kept = True
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of connections, and of the journal, unless it was given."""
        self._open.close()
        self._transports.clear()
        self._is_kept = False

    @property
    def hands_over(self) -> bool:
        """Whether somebody else sends what is posted."""
        return self._hand_over is not None

    @cached_property
    def signer(self) -> Signer | None:
        """Who signs the messages.  Raises `DataError` for keys that are none."""
        return project_signer(self.settings)

    @property
    def templates(self) -> Mapping[str, Template]:
        """The project's templates."""
        with self._lock:
            if self._templates is None:
                settings = self.settings
                path = settings.templates or settings.file_folder / "templates"
                if not path.is_dir():
                    raise DataError(f"there is no template folder {path}")
                self._templates = project_templates(settings, path)
            return self._templates

    # ---- events -------------------------------------------------------------------------------------------------

    def event(self, name: str) -> Event:
        """Returns an event.  Raises `DataError` for one that there is not, and the first mistake in one that is."""
        event = self._events.get(name)
        if event is None:
            problems: list[PribbleError] = []
            event = read_event(self.settings, self.templates, name, problems.append, self.signer)
            if event is None:
                raise problems[0]
            self._events[name] = event
        return event

    def problems(self, names: Sequence[str] = ()) -> list[PribbleError]:
        """Returns what is wrong with these events, or with all: with what stands in the settings, with their templates,
        or with the messages that their samples make."""
        found: list[PribbleError] = []
        signer: Signer | None = None
        try:
            signer = self.signer
        except PribbleError as error:
            found.append(error)
        for name in names or self.settings.events:
            mistakes: list[PribbleError] = []
            event = read_event(self.settings, self.templates, name, mistakes.append, signer)
            found += sorted(mistakes, key=lambda error: error.place.start if error.place else 0)
            if event is None:
                continue
            try:
                data = event.sample_data()
                _key_of(event, data, None)
            except PribbleError as error:
                found.append(error)
                continue
            _, problems = self._messages(event, data)
            found += [EventError(name, [problem]) for problem in problems]
        return found

    def key_of(self, name: str, data: Any, key: str | None = None) -> str:
        """Returns what tells an event from others of its name: what its `key` in the settings says of `data`; where
        that says nothing, the `key` that is given, or a new one.

        Raises `DataError` for a key that is empty, or none; `KeyDiffers` where the given one is another than that of
        the data.
        """
        return _key_of(self.event(name), data, key)

    @staticmethod
    def _messages(event: Event, data: Any) -> tuple[list[tuple[EventMessage, Message]], list[tuple[str, Exception]]]:
        """Returns the messages of an event that can be made, and the problems of the others."""
        made: list[tuple[EventMessage, Message]] = []
        problems: list[tuple[str, Exception]] = []
        for one in event.messages:
            try:
                message = one.message(data)
                if message is not None:
                    bytes(message)
                    made.append((one, message))
            except (PribbleError, KeyError, TypeError, ValueError) as error:
                problems += [(one.name, told) for told in one.problems(data, error)]
        return made, problems

    def post(self, name: str, data: Any, *, key: str | None = None, later: bool = False, wait: bool = True) -> Posted:
        """Post an event: render its messages for `data`, keep them, send them; returns what became of each.

        An event that was posted before, by its key (see `key_of`), is not posted again: what is left of it is sent, and
        what became of it is returned; what somebody else has under way of it is waited for, within the deadline, or,
        without `wait`, raises `UnderWay`.  With `later` nothing is sent now: `send_waiting` does.  Raises `EventError`
        where a message cannot be made, and nothing is kept; `JournalError` where it cannot be kept; `DataError` for a
        key that is none.
        """
        event = self.event(name)
        key = _key_of(event, data, key)
        if is_posted(self.journal, name, key):
            return self._posted_before(name, key, later=later, wait=wait)
        made, problems = self._messages(event, data)
        optional = {one.name for one in event.messages if one.optional}
        if any(called not in optional for called, _ in problems):
            raise EventError(name, problems)
        people = {addr for _, message in made for addr in message.envelope.recipients}
        suppressed = frozenset() if event.even_if_suppressed else self._suppressed(people)
        stored = [
            ToStore(
                one.name,
                message,
                one.through,
                frozenset(addr for addr in message.envelope.recipients if addr in suppressed),
                event.valid_for,
            )
            for one, message in made
        ]
        left = Left()
        with at_work() as worker:
            claimed = store(self.journal, name, key, stored, None if later or self._hand_over else worker)
            if claimed is None:  # somebody else was faster
                return self._posted_before(name, key, later=later, wait=wait)
            if claimed:
                left = self._sender.send_new(name, key, claimed)
        if self._hand_over is not None:
            self._hand_over(name, key)
        told = tuple((called, words_of(error)) for called, error in problems)
        return self._posted(name, key, True, told, left)

    def _posted_before(self, name: str, key: str, *, later: bool, wait: bool) -> Posted:
        """Returns what became of an event, when what was left of it was sent."""
        if not wait and is_under_way(self.journal, name, key):
            raise UnderWay(f'the event "{name}" is being posted')
        left = Left()
        if self._hand_over is None and not later:
            self.journal.recover()
            left = self._sender.send_in_time(name, key)
        return self._posted(name, key, False, (), left)

    def posted(self, name: str, key: str) -> Posted | None:
        """Returns what became of an event that was posted; None where none was."""
        return self._posted(name, key, False) if is_posted(self.journal, name, key) else None

    def _posted(
        self, name: str, key: str, is_new: bool, problems: tuple[tuple[str, str], ...] = (), left: Left | None = None
    ) -> Posted:
        found = entries_of_event(self.journal, name, key)
        messages = (PostedMessage(called, entries[0].message_id, tuple(entries)) for called, entries in found.items())
        return Posted(name, key, is_new, tuple(messages), problems, tuple(left.stopped) if left else ())

    def _suppressed(self, addresses: Collection[str]) -> frozenset[str]:
        """Returns who of these gets nothing: whoever is on the list, or messages came back from."""
        return without_mail(addresses, self._listed(), returned_among(self.journal, addresses))

    def _listed(self) -> frozenset[str]:
        """Returns the addresses of the list, case folded, as the file is now: it is read where it has changed."""
        stamp = FileStamp.of(self.settings.suppress) if self.settings.suppress is not None else None
        known = self._known_list
        if known is None or known[0] != stamp:
            known = stamp, frozenset(one.casefold() for one in self.settings.suppressed())
            self._known_list = known
        return known[1]

    # ---- sending ------------------------------------------------------------------------------------------------

    def stop(self) -> None:
        """Let `send_waiting` and `send_left`, in other threads, end after the messages that are under way."""
        self._sender.stop()

    def send_waiting(self) -> Left:
        """Send what is left of all events and due; returns what became of it."""
        self.journal.recover()
        return self._sender.send_due()

    def due(self, *, age: float = 0.0, most: int = 1_000) -> list[tuple[str, str]]:
        """Returns the events, with their keys, of which messages are due that nobody has touched for `age` seconds; at
        most so many, those that wait longest first."""
        self.journal.recover()
        expire(self.journal)
        return due_events(self.journal, age, most)

    def due_jobs(self, *, age: float = 0.0) -> list[str]:
        """Returns the jobs of batches in the same journal of which messages are due that nobody has touched for `age`
        seconds."""
        return due_jobs(self.journal, age)

    def send_left(self, name: str, key: str) -> Left:
        """Send what is left of one event and due; returns what became of it."""
        self.journal.recover()
        return self._sender.send_due(name, key)

    def _transport(self, name: str) -> Transport:
        """Returns the transport with a name, and keeps it."""
        with self._lock:
            way = self._transports.get(name)
            if way is None:
                way = self._given.get(name)
                if way is None:
                    address = self.settings.transport(name)
                    if address is None:
                        known = dict(self.settings.transports)
                        raise DataError(f'there is no transport "{name}"', hint=did_you_mean(name, known))
                    try:
                        password, folder = password_of(name, self._secret), as_shown(self.settings.file_folder)
                        way = transport(address, password, connections=CONNECTIONS, folder=folder)
                    except ValueError as error:
                        raise DeliveryError(str(error), is_lasting=True) from None
                if self._is_kept:
                    self._open.enter_context(way)
                self._transports[name] = way
            return way


def _key_of(event: Event, data: Any, given: str | None) -> str:
    if event.key is None and given is None:
        return uuid.uuid4().hex
    key = (event.key.text(data) if event.key is not None else given or "").strip()
    if not key:
        raise DataError(f'the key of the event "{event.name}" is empty')
    if given is not None and given != key:
        raise KeyDiffers(f'its data give the event the key "{key[:100]}", and it is posted as "{given[:100]}"')
    return checked_key(key)
