"""The preview: a page that shows messages as their readers will see them, before anybody gets one."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable
from pathlib import Path
from typing import Any

from pribble.arguments import ensure, integers, maybe_texts, possible_paths
from pribble.files import write_file
from pribble.mime.address import mailbox
from pribble.mime.message import Message
from pribble.records import record
from pribble.rendering.rendering import Rendering
from pribble.review.check import Check, check_cases
from pribble.review.preview.case_entries import Composing
from pribble.review.preview.entries import Entries, shown_json
from pribble.review.preview.page_file import page_file
from pribble.review.viewers import Viewer, chosen_viewers
from pribble.template import Template, TemplateFolder

# A page of more bytes than this opens slowly.
LARGE = 10_000_000


@record(frozen=True, slots=True)
class Preview:
    """A preview that was written: the `path` of its page, its `size` in bytes, and the `check` of what it shows.

    Of a page of more than 10 MB, `heaviest` are the templates without which it would have less, heaviest first.
    """

    path: Path
    size: int
    check: Check
    heaviest: tuple[str, ...] = ()


def preview(
    templates: TemplateFolder | Template | Iterable[Template],
    out: str | os.PathLike[str] = "preview.html",
    *,
    names: Collection[str] | None = None,
    samples: Collection[str] | None = None,
    data: Any = None,
    recipients: int = 1,
    viewers: Iterable[str | Viewer] | None = None,
    sender: str | None = None,
    compose: Callable[[str, Rendering, Any], Message] | None = None,
    snapshots: str | os.PathLike[str] | None = None,
    off: Collection[str] = (),
) -> Preview:
    """Writes one page that shows the messages of templates as their readers see them: ``preview(templates)``.

    - `templates`: a folder, one template or several.
    - `out`: the file that is written.  It opens from a disk, and loads nothing.
    - `names`: the templates of the folder that are shown; all by default.
    - `samples`, `data`, `recipients`, `viewers`, `off`: as `pribble.review.check` has them.
    - `sender`: the mailbox that messages are from.
    - `compose`: the application's own function that makes the message, with its attachments; it is called with the name
      of the template, the rendering and the data.
    - `snapshots`: the folder of the snapshots that messages are compared with (`pribble.testing`): of ``NAME.txt``,
      ``NAME-SAMPLE.txt`` or ``NAME.LOCALE.txt``.

    A template that cannot be compiled or rendered is shown with its error.  Raises `AddressError` for a sender that is
    no mailbox, `OSError` where the file cannot be written.
    """
    possible_paths(out=out)
    integers(recipients=recipients)
    maybe_texts(sender=sender)
    if sender is not None:
        mailbox(sender, "From")
    if compose is not None:
        ensure("compose", "a function of a name, a rendering and data", callable, compose)
    if snapshots is not None:
        possible_paths(snapshots=snapshots)
    seen_by = chosen_viewers(viewers)
    found = check_cases(
        templates, seen_by, names=names, samples=samples, data=data, recipients=recipients, off=off, words=True
    )
    entries = Entries(seen_by)
    entries.add(found, Composing(sender, compose, None if snapshots is None else Path(snapshots)))
    page = page_file(shown_json(seen_by, [entries.as_json()])).encode()
    write_file(Path(out), page)
    return Preview(Path(out), len(page), found.check, tuple(entries.heaviest(len(page) - LARGE)))
