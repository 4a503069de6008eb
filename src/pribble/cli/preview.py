"""``pribble preview``: messages as their readers see them, in one page, or in a browser again at each save."""

from __future__ import annotations

import argparse
import gc
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import add_json, add_templates, folder_of, located, port, print_json, sender_if_any
from pribble.cli.review_options import (
    add_recipients,
    add_viewers,
    asked_viewers,
    counted_findings,
    data_instead,
    looked_at,
    rules_off,
)
from pribble.settings import ProjectSettings, project_settings
from pribble.template import TemplateFolder

if TYPE_CHECKING:
    from pribble.delivery.receipts import Receipt
    from pribble.mime.message import Message
    from pribble.review.preview import Preview


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "preview",
        description="Write one page that shows the messages of templates: as viewers show them, with their plain text "
        "and all that is found in them.  It opens from a disk and loads nothing.  With --serve a browser shows them, "
        "and again at each save.",
    )
    parser.add_argument(
        "named", metavar="TEMPLATE", nargs="*", help="names in the template folder, or paths to files (default: all)"
    )
    add_templates(parser)
    parser.add_argument("--out", metavar="PAGE", default="preview.html", help="the page that is written (preview.html)")
    parser.add_argument("--data", metavar="FILE", help="JSON instead of the samples; - for standard input")
    parser.add_argument("--from", metavar="A", dest="sender", help="who messages are from: a mailbox or a named sender")
    parser.add_argument(
        "--snapshots", metavar="DIR", type=Path, help="the folder of the snapshots that messages are compared with"
    )
    add_recipients(parser)
    add_viewers(parser)
    parser.add_argument("--serve", action="store_true", help="show them in a browser, again at each save; Ctrl-C stops")
    parser.add_argument("--port", metavar="N", type=port, default=0, help="with --serve: the port (0: a free one)")
    parser.add_argument(
        "--through", metavar="TRANSPORT", help="with --serve: how one message is sent from the page (else pribble.toml)"
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    settings = project_settings()
    path, names = _folder_and_names(options, settings)
    if options.serve:
        _serve(options, settings, path, names)
        return
    if options.port or options.through:
        raise Usage("--port and --through go with --serve")
    from pribble.review.preview import preview

    with _without_collector():
        made = preview(
            looked_at(path, options, settings),
            options.out,
            names=names,
            data=data_instead(options),
            recipients=options.recipients,
            viewers=asked_viewers(options, settings),
            sender=sender_if_any(options, settings),
            snapshots=_snapshots(options),
            off=rules_off(settings),
        )
    _show(made, as_json=options.json)


@contextmanager
def _without_collector() -> Iterator[None]:
    """What makes much and drops little is made without the collector of circles, which would look at all of it again
    and again; the process ends soon after."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def _folder_and_names(options: argparse.Namespace, settings: ProjectSettings) -> tuple[Path, list[str] | None]:
    """Returns the template folder, and the names in it that are asked for; None for all."""
    folder = folder_of(options.templates, settings)
    found = [located(named, folder) for named in options.named]
    folders = list(dict.fromkeys(around for around, _ in found))
    if len(folders) > 1:
        raise Usage(f"a preview shows templates of one folder, not of {folders[0]} and {folders[1]}")
    return (folders[0], [name for _, name in found]) if folders else (folder, None)


def _snapshots(options: argparse.Namespace) -> Path | None:
    if options.snapshots is not None and not options.snapshots.is_dir():
        raise Usage(f"there is no folder {options.snapshots}")
    return options.snapshots  # type: ignore[no-any-return]


def _show(made: Preview, *, as_json: bool) -> None:
    if as_json:
        counts = {severity: made.check.count(severity) for severity in ("error", "warning", "note")}
        print_json({"page": str(made.path), "bytes": made.size, "findings": counts, "leave_out": list(made.heaviest)})
        return
    print(f"{made.path}  {made.size / 1e6:.1f} MB, {counted_findings(made.check)}")
    if made.heaviest:
        print(f"it is large, and opens slowly; without {', '.join(made.heaviest)} it has less than 10 MB")


# ---- on a server -----------------------------------------------------------------------------------------------------


def _serve(options: argparse.Namespace, settings: ProjectSettings, path: Path, names: list[str] | None) -> None:
    from pribble.review.preview.case_entries import Composing
    from pribble.review.preview.live_templates import LiveTemplates
    from pribble.review.preview.serving import PreviewServer

    def opened() -> TemplateFolder:
        return looked_at(path, options, settings, reload=True)

    templates = LiveTemplates(
        opened,
        asked_viewers(options, settings),
        Composing(sender_if_any(options, settings), None, _snapshots(options)),
        names=names,
        data=data_instead(options),
        recipients=options.recipients,
        off=rules_off(settings),
    )
    gc.freeze()  # what is there now stays until the end
    with PreviewServer(templates, port=options.port, send=_send(options, settings)) as server:
        if options.json:
            print_json({"address": server.address})
        else:
            print(f"{server.address}\nopen this address in a browser; it works once.  Ctrl-C stops.")
        sys.stdout.flush()  # whoever waits for the address waits while this goes on
        threading.Event().wait()


def _send(options: argparse.Namespace, settings: ProjectSettings) -> Callable[[Message, str], Receipt] | None:
    """Returns what sends one message, by the transport that is set up; None where none is."""
    from pribble.cli.transports import transport_if_any

    way = transport_if_any(options.through, settings)
    if way is None:
        return None
    return lambda message, address: way.deliver(message)
