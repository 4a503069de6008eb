"""``pribble render``: one message, or one of its forms."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from pribble.cli.common import Config, Usage, add_json, add_template, config, print_json, rendering, template, write
from pribble.cli.common import sender as sender_of
from pribble.files import is_file
from pribble.mime.message import Message
from pribble.mime.part import Attachment
from pribble.rendering import Rendering

FORMATS = ("eml", "html", "fragment", "text", "subject")


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = commands.add_parser(
        "render", help="one message, or one of its forms", description="Fill a template with data."
    )
    add_template(parser)
    parser.add_argument(
        "--format",
        choices=FORMATS,
        default="eml",
        help="the message (eml, the default), or its html, its fragment (the inside of the body), text "
        "or subject; html and fragment have their pictures inside unless --embed says otherwise",
    )
    add_envelope(parser)
    parser.add_argument("--out", metavar="FILE", help="where to write it (default: standard output)")
    add_json(parser)
    parser.set_defaults(run=run)


def add_envelope(parser: argparse.ArgumentParser, *, to_required: bool = False) -> None:
    """The arguments that make a rendering a message."""
    parser.add_argument(
        "--from", metavar="A", dest="sender", help="the sender (else [senders] default of pribble.toml)"
    )
    parser.add_argument(
        "--to",
        metavar="A",
        action="append",
        default=[],
        required=to_required,
        help="a recipient; give it again for more",
    )
    parser.add_argument("--cc", metavar="A", action="append", default=[], help="a recipient of a copy")
    parser.add_argument("--bcc", metavar="A", action="append", default=[], help="a recipient that nobody sees")
    parser.add_argument("--attach", metavar="FILE", action="append", default=[], help="a file to attach")


def message(options: argparse.Namespace, settings: Config, made: Rendering) -> Message:
    """The message of a rendering, as the command line addresses it."""
    attachments = []
    for path in options.attach:
        if not is_file(Path(path)):
            raise Usage(f"there is no file {path}")
        attachments.append(Attachment.from_path(path))
    message = made.message(
        sender=sender_of(options, settings), to=options.to, cc=options.cc, bcc=options.bcc, attachments=attachments
    )
    if not message.subject:
        print("this message has no subject: the template says one in a subject: block, or in <title>", file=sys.stderr)
    return message


def run(options: argparse.Namespace) -> None:
    settings = config()
    chosen = template(options, settings)
    inside = options.format in ("html", "fragment") and settings.embed is None
    made = rendering(options, chosen, embed="data" if inside else None)
    content: bytes
    match options.format:
        case "html" | "fragment":
            page = made.html if options.format == "html" else made.fragment()
            if page is None:
                raise Usage(f'"{chosen.name}" is text only')
            content = page.encode("utf-8")
        case "text":
            content = made.text.encode("utf-8")
        case "subject":
            content = f"{made.subject or ''}\n".encode()
        case _:
            content = bytes(message(options, settings, made))
    if options.json:
        if options.out:
            write(content, options.out)
        print_json(
            {
                "template": chosen.name,
                "format": options.format,
                "bytes": len(content),
                "subject": made.subject,
                **({"file": options.out} if options.out else {"content": content.decode("utf-8")}),
            }
        )
        return
    write(content, options.out)
