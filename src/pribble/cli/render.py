"""``pribble render``: one message, or one of its forms."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import (
    add_json,
    add_quiet,
    add_template,
    as_data,
    existing_file,
    print_json,
    rendering,
    tell,
    template,
    write,
)
from pribble.cli.common import sender as sender_of
from pribble.findings import Finding
from pribble.mime.message import Message
from pribble.mime.part import Attachment
from pribble.rendering.rendering import Rendering
from pribble.settings import ProjectSettings, project_settings
from pribble.template import Template

FORMATS = ("eml", "html", "fragment", "text", "subject")


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(commands, "render", description="Fill a template with data.")
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
    add_quiet(parser)
    parser.set_defaults(run=run)


def add_envelope(parser: argparse.ArgumentParser, *, to_required: bool = False) -> None:
    """The arguments that make a rendering a message."""
    parser.add_argument(
        "--from",
        metavar="A",
        dest="sender",
        help="the sender, or its name in [senders] of pribble.toml (else the default one)",
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


def message(
    options: argparse.Namespace,
    settings: ProjectSettings,
    made: Rendering,
    *,
    sign: Callable[[bytes], bytes] | None = None,
) -> Message:
    """Returns the message of a rendering, as the command line addresses it."""
    attachments = [Attachment.from_path(existing_file(path)) for path in options.attach]
    return made.message(
        sender=sender_of(options, settings),
        to=options.to,
        cc=options.cc,
        bcc=options.bcc,
        attachments=attachments,
        sign=sign,
    )


# What is said about a message without a subject.
NO_SUBJECT = Finding(
    "message.no-subject",
    "warning",
    None,
    "this message has no subject",
    "the template says one in a subject: block, or in <title>",
    "RFC 5322 3.6.5",
)


def findings(chosen: Template, made: Rendering, sent: Message | None) -> list[Finding]:
    """Returns what is found in a template, in its rendering, and of the message that was made of it."""
    return [*chosen.findings, *made.findings, *([NO_SUBJECT] if sent is not None and not sent.subject else [])]


def run(options: argparse.Namespace) -> None:
    settings = project_settings()
    chosen = template(options, settings)
    inside = options.format in ("html", "fragment") and settings.embed is None
    made = rendering(options, chosen, embed="data" if inside else None)
    content: bytes
    sent: Message | None = None
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
            sent = message(options, settings, made)
            content = bytes(sent)
    found = findings(chosen, made, sent)
    tell(options, found)
    if options.json:
        if options.out:
            write(content, options.out)
        print_json(
            {
                "template": chosen.name,
                "format": options.format,
                "bytes": len(content),
                "subject": made.subject,
                "findings": as_data(found),
                **({"file": options.out} if options.out else {"content": content.decode("utf-8")}),
            }
        )
        return
    write(content, options.out)
