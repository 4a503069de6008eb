"""Events of ``pribble.toml``: one cause, several messages; each with a template and patterns that the data fill."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar

from pribble.delivery.composing import Composer
from pribble.delivery.passwords import DEFAULT
from pribble.delivery.patterns import AddressPattern, Condition, TextPattern
from pribble.delivery.transports import transport
from pribble.errors import DataError, FieldError, PribbleError, did_you_mean
from pribble.mime.message import Message
from pribble.mime.part import Attachment
from pribble.records import record
from pribble.regexes import regex
from pribble.settings import ProjectSettings
from pribble.template import Template
from pribble.template_files import read_data
from pribble.toml_file import At

_T = TypeVar("_T")
_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400}
_NAME = regex(r"[A-Za-z0-9][A-Za-z0-9._-]{0,99}")


@record(frozen=True)
class EventFile:
    """A file that a message has: `name` is a text with marks; where it has some, the file lies in one of `folders`."""

    name: TextPattern
    base: Path
    folders: Sequence[Path]

    def attachment(self, data: Any) -> Attachment | None:
        """Returns the file; None where its name comes to nothing.  Raises `DataError` for one that may not be sent."""
        named = self.name.text(data).strip()
        if not named:
            return None
        path = (self.base / named).resolve() if "\0" not in named else None
        allowed = self.folders if self.name.has_marks else [self.base]
        if path is None or not any(path.is_relative_to(folder.resolve()) for folder in allowed):
            where = "[attachments] folders" if self.name.has_marks else "the project's folder"
            raise DataError(f'"{named}" does not lie in {where}')
        try:
            return Attachment.from_path(path)
        except OSError as error:
            raise DataError(f'"{named}" cannot be read: {error.strerror or error}') from None


@record(frozen=True)
class EventMessage:
    """A message of an event: what makes it (`composer`), `when` there is one, the transport that it goes `through`; an
    `optional` one may have a problem without stopping the others."""

    name: str
    composer: Composer
    through: str
    when: Condition | None = None
    files: Sequence[EventFile] = ()
    optional: bool = False

    def message(self, data: Any) -> Message | None:
        """Returns the message for data; None where there is none.  Raises what rendering and `Message` raise."""
        if self.when is not None and not self.when.holds(data):
            return None
        files = [file for one in self.files if (file := one.attachment(data)) is not None]
        return self.composer.message(data, attachments=files)

    def problems(self, data: Any, error: Exception) -> Sequence[Exception]:
        """Returns all that is wrong with data of which no message can be made, as an `error` told."""
        return self.composer.problems(data) if isinstance(error, FieldError) else [error]


@record(frozen=True)
class Event:
    """An event: what tells it from others (`key`), its `messages`, how many seconds they are tried (`valid_for`)."""

    name: str
    messages: Sequence[EventMessage]
    key: TextPattern | None = None
    valid_for: float | None = None
    even_if_suppressed: bool = False
    sample: Path | None = None

    def sample_data(self) -> Any:
        """Returns the data that the event is tried with: its own sample, or the first template's."""
        if self.sample is not None:
            try:
                return read_data(self.sample)
            except OSError as error:
                raise DataError(f"{self.sample} cannot be read: {error.strerror or error}") from None
        samples = self.messages[0].composer.template.samples
        if not samples:
            raise DataError(f'the event "{self.name}" has no sample, and its first template neither')
        return next(iter(samples.values()))


def read_event(
    settings: ProjectSettings,
    templates: Mapping[str, Template],
    name: str,
    found: Callable[[PribbleError], None],
    sign: Callable[[bytes], bytes] | None = None,
) -> Event | None:
    """Returns an event of the settings, whose messages are signed by `sign`; None where something is wrong with it:
    each mistake is `found`."""
    if name not in settings.events:
        raise DataError(f'there is no event "{name}"', hint=did_you_mean(name, settings.events))
    return _EventReader(settings, templates, name, found, sign).event()


class _EventReader:
    def __init__(
        self,
        settings: ProjectSettings,
        templates: Mapping[str, Template],
        name: str,
        found: Callable[[PribbleError], None],
        sign: Callable[[bytes], bytes] | None,
    ) -> None:
        self._settings, self._templates, self._name, self._told = settings, templates, name, found
        self._sign = sign
        assert settings.file is not None
        self._file, self._base = settings.file, settings.file_folder
        self._wrong = 0

    def event(self) -> Event | None:
        table = self._settings.events[self._name]
        if not _NAME.fullmatch(self._name):
            self._find(f'"{self._name}" is no name of an event (letters, digits, - _ and .)')
        tables = table.get("messages", [])
        if not tables:
            hint = f"write [[events.{self._name}.messages]] and below it template = and to ="
            self._find(f'the event "{self._name}" has no messages', hint=hint)
        messages = [self._message(number, one) for number, one in enumerate(tables)]
        names: dict[str, int] = {}
        for number, one in enumerate(messages):
            if one is not None and names.setdefault(one.name, number) != number:
                way = ("messages", number, "name" if "name" in tables[number] else "template")
                self._find(f'two messages are called "{one.name}"', *way, at="value", hint="give one a name =")
        event = Event(
            self._name,
            [one for one in messages if one is not None],
            self._made(TextPattern, "key", table.get("key"), "key"),
            self._seconds(table),
            table.get("even_if_suppressed", False),
            self._base / table["sample"] if "sample" in table else None,
        )
        return None if self._wrong else event

    def _tell(self, error: PribbleError) -> None:
        self._wrong += 1
        self._told(error)

    def _find(self, problem: str, *way: str | int, at: At = "key", hint: str | None = None) -> None:
        """Tell of a mistake at the end of a way within the event's table."""
        self._tell(self._file.wrong(problem, "events", self._name, *way, at=at, hint=hint))

    def _made(self, make: Callable[[str, str], _T], name: str, written: str | None, *way: str | int) -> _T | None:
        """Returns what is made of the text at the end of a way, which errors call `name`; None where there is none, or
        it is wrong."""
        if written is None:
            return None
        try:
            return make(written, name)
        except PribbleError as error:
            self._tell(self._file.wrong_within(error, "events", self._name, *way))
            return None

    def _seconds(self, table: Mapping[str, Any]) -> float | None:
        written = table.get("valid_for")
        if written is None:
            return None
        found = re.fullmatch(r"([0-9]{1,5}) (second|minute|hour|day)s?", written)
        if found is None or not int(found[1]):
            self._find(f'"{written[:40]}" is no time: "10 minutes", "2 hours"', "valid_for", at="value")
            return None
        return float(int(found[1]) * _UNITS[found[2]])

    def _message(self, number: int, table: Mapping[str, Any]) -> EventMessage | None:
        way = ("messages", number)
        before = self._wrong
        for needed in ("template", "to"):
            if needed not in table:
                self._find(f"a message needs {needed} =", *way)
        template = self._template(table, *way) if "template" in table else None
        name = table.get("name", table.get("template", ""))
        if name and not _NAME.fullmatch(name.replace("/", "-")):
            self._find(f'"{name[:40]}" is no name of a message', *way, "name", at="value")
        sender = self._named(table, "sender", dict(self._settings.senders), *way)

        def made(make: Callable[[str, str], _T], key: str) -> _T | None:
            return self._made(make, key, table.get(key), *way, key)

        to, cc, bcc, reply_to, back = (
            made(AddressPattern, key) for key in ("to", "cc", "bcc", "reply_to", "envelope_sender")
        )
        locale, unsubscribe = made(TextPattern, "locale"), made(TextPattern, "unsubscribe")
        when = made(Condition, "when")
        files = self._files(table, *way)
        through = self._transport(table, *way)
        if template is None or to is None or self._wrong > before:
            return None
        mailbox = self._settings.sender(sender) or ""
        composer = Composer(
            template, mailbox, to, cc, bcc, reply_to, locale, unsubscribe, back, automatic=True, sign=self._sign
        )
        return EventMessage(name, composer, through, when, files, table.get("optional", False))

    def _template(self, table: Mapping[str, Any], *way: str | int) -> Template | None:
        name = table["template"]
        try:
            if name not in self._templates:
                self._find(
                    f'there is no template "{name}"',
                    *(*way, "template"),
                    at="value",
                    hint=did_you_mean(name, self._templates),
                )
                return None
            return self._templates[name]
        except PribbleError as error:  # the template is wrong, at a place of its own
            self._tell(error)
            return None

    def _named(self, table: Mapping[str, Any], key: str, known: Mapping[str, str], *way: str | int) -> str:
        """Returns the name of a sender or a transport that there is, or tells that there is none."""
        name = str(table.get(key, DEFAULT))
        if name not in known:
            what = f"[{'senders' if key == 'sender' else 'transports'}] of {self._file.source.name}"
            hint = did_you_mean(name, known) if known else None
            self._find(f'"{name}" is no name in {what}', *way, key, at="value", hint=hint)
        return name

    def _transport(self, table: Mapping[str, Any], *way: str | int) -> str:
        """Returns the name of the transport that a message goes through; tells where its address is none."""
        known = dict(self._settings.transports)
        name = self._named(table, "through", known, *way)
        try:
            if name in known:
                transport(known[name])
        except ValueError as error:
            self._tell(self._file.wrong(str(error), "transports", name, "url", at="value"))
        return name

    def _files(self, table: Mapping[str, Any], *way: str | int) -> list[EventFile]:
        files = []
        for number, written in enumerate(table.get("attach", ())):
            here = (*way, "attach", number)
            pattern = self._made(TextPattern, "attach", written, *here)
            if pattern is None:
                continue
            file = EventFile(pattern, self._base, self._settings.attachment_folders)
            if not pattern.has_marks:
                try:
                    file.attachment({})
                except DataError as error:
                    self._find(error.problem, *here, at="value")
            files.append(file)
        return files
