"""``pribble convert``: any page made fit for a message, or for a host that takes one string of HTML."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import add_embed, add_json, add_quiet, as_data, existing_file, print_json, tell, write
from pribble.conversion import NARROWEST, page_rendering, page_text
from pribble.findings import Finding
from pribble.markup.encoding import decoded_page
from pribble.plaintext.layout import WIDTH
from pribble.rendering.rendering import checked_embed

FORMATS = ("html", "fragment", "text")


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "convert",
        description="Write the style sheets of a page into its elements, and its pictures into the page; or give the "
        "plain text that says the same.  Corrections of its pictures are reported on standard error.",
    )
    parser.add_argument("page", metavar="PAGE", help="an HTML file; - for standard input")
    parser.add_argument(
        "--format",
        choices=FORMATS,
        default="html",
        help="the whole page (html, the default), the inside of its body (fragment), or what it says (text)",
    )
    add_embed(parser)
    parser.add_argument(
        "--old-attributes",
        action="store_true",
        help="add bgcolor, width, align and valign beside the styles that say the same",
    )
    parser.add_argument("--width", type=int, metavar="N", help=f"columns of the text (default: {WIDTH})")
    parser.add_argument(
        "--links",
        choices=("inline", "notes"),
        help="in the text, addresses behind their labels (inline, the default), or numbered and listed "
        "at its end (notes)",
    )
    parser.add_argument(
        "--folder",
        action="append",
        default=[],
        metavar="DIR",
        help="a further folder whose style sheets and pictures the page may name (may be given again)",
    )
    parser.add_argument("--out", metavar="FILE", help="where to write it (default: standard output)")
    add_json(parser)
    add_quiet(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    html, path, told = _read(options.page)
    _check(options)
    content, more = _text(options, html, path) if options.format == "text" else _page(options, html, path)
    told += more
    tell(options, told)
    if not options.json:
        write(content, options.out)
        return
    if options.out:
        write(content, options.out)
    print_json(
        {
            "page": options.page,
            "format": options.format,
            "bytes": len(content),
            "findings": as_data(told),
            **({"file": options.out} if options.out else {"content": content.decode("utf-8")}),
        }
    )


def _check(options: argparse.Namespace) -> None:
    """Refuse what has no meaning for the form that is asked for."""
    text = options.format == "text"
    given = [
        ("--width", options.width, text),
        ("--links", options.links, text),
        ("--embed", options.embed, not text),
        ("--picture-base", options.picture_base, not text),
        ("--old-attributes", options.old_attributes, not text),
    ]
    for name, value, fits in given:
        if value not in (None, False) and not fits:
            raise Usage(f"{name} has no meaning for {options.format}")
    if options.width is not None and options.width < NARROWEST:
        raise Usage(f"--width is at least {NARROWEST}")


def _text(options: argparse.Namespace, html: str, path: Path) -> tuple[bytes, Sequence[Finding]]:
    text = page_text(
        html, path, folders=_folders(options), width=options.width or WIDTH, links=options.links or "inline"
    )
    return text.encode("utf-8"), []


def _page(options: argparse.Namespace, html: str, path: Path) -> tuple[bytes, Sequence[Finding]]:
    """Returns the page, and what was corrected of it."""
    embed = checked_embed(options.embed) or ("link" if options.picture_base else "data")
    if embed == "cid":
        raise Usage("pictures travel by cid: as parts of a message, and convert makes none (choose data, link or none)")
    made = page_rendering(
        html,
        path,
        folders=_folders(options),
        embed=embed,
        picture_base=options.picture_base,
        presentational=options.old_attributes,
    )
    page = made.html if options.format == "html" else made.fragment()
    return str(page).encode("utf-8"), made.findings


def _folders(options: argparse.Namespace) -> list[Path]:
    folders = [Path(given) for given in options.folder]
    for folder in folders:
        if not folder.is_dir():
            raise Usage(f"there is no folder {folder}")
    return folders


def _read(given: str) -> tuple[str, Path, list[Finding]]:
    """Returns the text of a page, the file that its pictures lie beside, and the findings about its charset."""
    if given == "-":
        raw, path = sys.stdin.buffer.read(), Path("page.html")
    else:
        path = existing_file(given)
        raw = path.read_bytes()
    html, told = decoded_page(raw, given)
    return html, path, told
