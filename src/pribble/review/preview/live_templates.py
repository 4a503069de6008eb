"""Templates that are looked at while they are written: what the preview shows of each, anew when a file changes."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path

from pribble.errors import DataError, PribbleError, did_you_mean
from pribble.files import FileStamp, is_within, write_file, write_new_file
from pribble.mime.message import Message
from pribble.regexes import regex
from pribble.review.check import CheckedCases, check_cases
from pribble.review.json_data import Json, plain_data, written_json
from pribble.review.preview.case_entries import Composing, error_entry, rendered_entry
from pribble.review.preview.entries import Entries, shown_json
from pribble.review.preview.page_file import page_file
from pribble.review.preview.store import Store
from pribble.review.viewers import Viewer
from pribble.template import Template, TemplateFolder, UnknownTemplate, read_files
from pribble.values.kinds import Data

# A file that is half written is read again after so many seconds.
_AGAIN_AFTER = 0.06
_LABEL = regex(r"[a-z0-9]+(?:-[a-z0-9]+)*")
_LONGEST_LABEL, _DEEPEST = 40, 40

# What tells whether the files of a template have changed.
_Stamps = tuple[FileStamp, ...]


class LiveTemplates:
    """The templates of a folder, or those with some `names`; `open_folder` opens it anew where files come and go.

    All of it may be called from several threads: templates may be shared, and only what changes is locked.
    """

    def __init__(
        self,
        open_folder: Callable[[], TemplateFolder],
        viewers: Sequence[Viewer],
        composing: Composing,
        *,
        names: Collection[str] | None = None,
        data: Data = None,
        recipients: int = 1,
        off: Collection[str] = (),
    ) -> None:
        self._open_folder, self._viewers, self._composing = open_folder, viewers, composing
        self._names = names
        self._data, self._recipients, self._off = data, recipients, off
        self._lock = threading.RLock()
        self._making: dict[str, threading.Lock] = {}
        self._made: dict[str, tuple[_Stamps, dict[str, Json]]] = {}
        self._folder = open_folder()
        self._stamps: dict[str, _Stamps | None] = {}
        self._stamps = {name: self._stamp(name) for name in self.names}

    @property
    def path(self) -> Path:
        """The folder."""
        return self._folder.path

    @property
    def names(self) -> list[str]:
        """The names of the templates that are there now."""
        return [name for name in self._folder if self._names is None or name in self._names]

    # -- what is shown --

    def page(self) -> str:
        """Returns the page, with all templates."""
        return page_file(shown_json(self._viewers, [self.shown(name) for name in self.names]), live=True)

    def shown(self, name: str) -> dict[str, Json]:
        """Returns all that the page shows of a template, which is made once until one of its files changes."""
        with self._lock:
            making = self._making.setdefault(name, threading.Lock())
        with making:
            before = self._stamp(name)
            known = self._made.get(name)
            if before is not None and known is not None and known[0] == before:
                return known[1]
            made = Entries(self._viewers)
            made.add(self._checked(name, self._data), self._composing)
            shown = made.as_json()
            after = self._stamp(name)  # with the files for its languages, which are known now
            if before is not None and after is not None and set(before) <= set(after):
                self._made[name] = after, shown
                told = self._stamps.get(name)
                if told is not None and set(told) <= set(after):  # else it has changed, which nobody was told yet
                    self._stamps[name] = after
            return shown

    def _checked(self, name: str, data: Data) -> CheckedCases:
        return check_cases(
            self._folder,
            self._viewers,
            names=[name],
            data=data,
            recipients=self._recipients,
            off=self._off,
            words=True,
        )

    def first_sight(self, name: str, sample: str, locale: str, viewers: Collection[str]) -> dict[str, Json]:
        """Returns one message alone in some viewers, without what is found in it: what is shown at once after a
        save."""
        store = Store()
        case: dict[str, Json] = {"sample": sample, "locale": locale}
        try:
            template = self._template(name)
            data = self._sample(template, sample)
            rendering = template.render(data, locale=_own_locale(template, locale))
        except PribbleError as error:
            case["errors"] = [error_entry(error, store)]
        else:
            seen_by = [one for one in self._viewers if one.name in viewers]
            case |= rendered_entry(rendering, data, seen_by, store, self._composing)
        return {"template": name, "case": case, **store.as_json()}

    def edited(self, name: str, locale: str, data: Data) -> dict[str, Json]:
        """Returns one message with other data, and what is found in it.  Raises `PribbleError`."""
        _own_locale(self._template(name), locale)
        made = Entries(self._viewers)
        made.add(self._checked(name, data), self._composing, strained=False)
        entry = made.templates[name]
        assert isinstance(entry, dict)
        case = next((one for one in entry["cases"] if one["locale"] == locale), entry["cases"][0])
        return {"case": case, **made.store.as_json()}

    def message(self, name: str, locale: str, data: Data, to: str) -> Message:
        """Returns the message of a template, to an address.  Raises `PribbleError`."""
        template = self._template(name)
        rendering = template.render(data, locale=_own_locale(template, locale))
        return self._composing.message_to(rendering, to)

    # -- what changes --

    def changed(self, *, files_came_or_went: bool) -> list[str]:
        """Returns the templates that are not what they were, after files of the folder have changed."""
        with self._lock:
            if files_came_or_went:
                self._folder = self._open_folder()
                self._made.clear()
            before, self._stamps = self._stamps, {name: self._stamp(name) for name in self.names}
            return [name for name, stamp in self._stamps.items() if stamp is None or before.get(name) != stamp]

    def _stamp(self, name: str) -> _Stamps | None:
        """Returns what tells of a change; None for a template that cannot be read now, which may be due to any file.

        What cannot be read, or is empty, is perhaps half written, and is read again once.
        """
        stamps = self._stamp_once(name)
        if stamps is None or any(not stamp.size for stamp in stamps):
            time.sleep(_AGAIN_AFTER)
            stamps = self._stamp_once(name)
        return stamps

    def _stamp_once(self, name: str) -> _Stamps | None:
        try:
            template = self._folder[name]
            if self._data is None:
                template.samples  # noqa: B018 - they are read
        except (PribbleError, UnknownTemplate):  # or it is gone
            return None
        # Files for languages are known from when they were last asked for.
        known = {stamp.path for stamp in self._stamps.get(name) or ()}
        return tuple(map(FileStamp.of, sorted({*read_files(template), *known})))

    # -- samples --

    def keep(self, name: str, label: str, data: Data, *, over: bool) -> Path:
        """Keeps data as a sample beside a template, and returns its file.  Raises `DataError` for a label that is none,
        and for one that is taken, unless it is written `over`."""
        if not _LABEL.fullmatch(label[: _LONGEST_LABEL + 1]) or len(label) > _LONGEST_LABEL:
            raise DataError(
                "a label is made of small letters, digits and single hyphens", hint=f"at most {_LONGEST_LABEL} of them"
            )
        if not isinstance(data, Mapping) or _depth(data) > _DEEPEST:
            raise DataError(f"a sample is an object, nested at most {_DEEPEST} deep")
        template = self._template(name)
        file = Path(template.variants.linked(None).sources[0].name)
        path = file.with_name(f"{file.stem}.sample-{label}.json")
        if not is_within(path, self._folder.path):
            raise DataError(f"{path.name} would lie outside the template folder")
        content = f"{written_json(plain_data(data), indent=2)}\n".encode()
        try:
            (write_file if over else write_new_file)(path, content)
        except FileExistsError:
            problem = f"there is a sample {path.name} already"
            raise DataError(problem, hint="choose another label, or write over it") from None
        return path

    def _template(self, name: str) -> Template:
        if name not in self.names:
            raise DataError(f'there is no template "{name[:100]}"', hint=did_you_mean(name, self.names))
        return self._folder[name]

    def _sample(self, template: Template, label: str) -> Data:
        if self._data is not None:
            return self._data
        samples = template.samples
        if label not in samples and samples:
            raise DataError(f'there is no sample "{label[:100]}" of {template.name} any more')
        return samples.get(label, {})


def _own_locale(template: Template, locale: str) -> str:
    """Returns a locale that a template has a file for.  Raises `DataError` for another one."""
    if locale not in template.locales:
        raise DataError(f'{template.name} has no file for "{locale[:40]}"', hint=did_you_mean(locale, template.locales))
    return locale


def _depth(data: Data) -> int:
    deepest, left = 0, [(data, 1)]
    while left:
        one, depth = left.pop()
        deepest = max(deepest, depth)
        if depth > _DEEPEST:
            break
        inner = one.values() if isinstance(one, Mapping) else one if isinstance(one, list | tuple) else ()
        left += [(each, depth + 1) for each in inner]
    return deepest
