"""What is checked: each template with each sample in each of its languages, rendered and traced."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from pribble.cached_property import cached_property
from pribble.errors import Place, PribbleError, Source
from pribble.findings import Finding
from pribble.language.data_paths import member_path, path_steps
from pribble.mime.message import Message
from pribble.pictures.picture import Picture
from pribble.records import field, record
from pribble.rendering.rendering import Rendering
from pribble.rendering.traced import TracedRendering, TracedText
from pribble.rendering.traced_words import WordKey
from pribble.review.page_view import PageView
from pribble.template import Template
from pribble.values.kinds import Data
from pribble.values.lookup import MISSING, record_field

# Whoever sends what is only checked.
_SENDER, _RECIPIENT = "sender@pribble.invalid", "recipient@pribble.invalid"


@record(frozen=True, eq=False)
class Case:
    """A template with one sample, in one language: `sample` is its label, `locale` that of the file.

    `words` says where the words of the page stand in the derived plain text, where that is asked for.
    """

    template: Template
    locale: str
    sample: str
    data: Data
    traced: TracedRendering
    file: Source
    for_real_readers: bool = False
    words: Mapping[WordKey, tuple[int, int]] = field(default_factory=dict)

    @property
    def rendering(self) -> Rendering:
        """What it renders to."""
        return self.traced.rendering

    @property
    def html(self) -> TracedText | None:
        """The page, traced."""
        return self.traced.html

    @cached_property
    def view(self) -> PageView | None:
        """The page as its readers see it."""
        html = self.traced.html
        return None if html is None else PageView(html.text, html.place)

    @cached_property
    def pictures(self) -> Mapping[str, Picture]:
        """The pictures of the page by the addresses that it names them by."""
        domain = self.template.folder.options.id_domain
        return {f"cid:{picture.content_id(domain)}": picture for picture in self.rendering.pictures}

    @property
    def start(self) -> Place:
        """The head of the template's file, for what has no other place."""
        return self.file.place(0, 1)

    @property
    def language(self) -> str:
        """The language that the page should be in, "" where only one is there and nobody says which."""
        return self.locale if len(self.template.locales) > 1 else ""


def message_of(rendering: Rendering, sender: str | None = None, to: str | None = None) -> Message:
    """Returns the message as it would travel, between made-up people where none are given."""
    if rendering.subject is None:
        return rendering.message(sender=sender or _SENDER, to=to or _RECIPIENT, subject="(none)")
    return rendering.message(sender=sender or _SENDER, to=to or _RECIPIENT)


@record(frozen=True, slots=True)
class Failed:
    """What could not be made, and why: the first problem, and others that were found with it.

    `locale` and `sample` are "" where the file itself is at fault.
    """

    template: str
    locale: str
    sample: str
    errors: Sequence[PribbleError]


@record(slots=True)
class Checked:
    """All that is checked of one template: its cases, what is found in each, those that fail, and the sources of its
    files."""

    template: Template
    cases: list[Case] = field(default_factory=list)
    found: list[Sequence[Finding]] = field(default_factory=list)
    failed: list[Failed] = field(default_factory=list)
    sources: Sequence[Source] = ()


def value_at(data: Data, path: str) -> Data:
    """Returns the value of the data at a path; None where there is none."""
    for step in path_steps(path):
        if isinstance(step, str):
            data = record_field(data, step)
        elif isinstance(step, int):
            data = data[step] if isinstance(data, list | tuple) and step < len(data) else MISSING
        else:
            return None
        if data is MISSING:
            return None
    return data


def leaf_paths(data: Data, path: str = "", depth: int = 0) -> Iterator[str]:
    """Yields the paths of all values of the data, those of lists once (``lines[].price``)."""
    if isinstance(data, Mapping) and data and depth < 20:
        for name, value in data.items():
            if isinstance(name, str):
                yield from leaf_paths(value, member_path(path, name), depth + 1)
    elif isinstance(data, list | tuple) and data and depth < 20:
        seen: set[str] = set()
        for value in data[:1000]:
            for inner in leaf_paths(value, f"{path}[]", depth + 1):
                if inner not in seen:
                    seen.add(inner)
                    yield inner
    elif path:
        yield path
