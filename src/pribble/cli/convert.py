"""``pribble convert``: any page made fit for a message, or for a host that takes one string of HTML."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from pribble.cli.common import Usage, add_embed, add_json, print_json, write
from pribble.converting import page_rendering
from pribble.errors import DataError
from pribble.rendering import checked_embed

FORMATS = ("html", "fragment")


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = commands.add_parser(
        "convert", help="styles and pictures of any page written into it",
        description="Write the style sheets of a page into its elements, and its pictures into the page.  What is put "
                    "right of its pictures is told on standard error.")
    parser.add_argument("page", metavar="PAGE", help="an HTML file; - for standard input")
    parser.add_argument("--format", choices=FORMATS, default="html",
                        help="the whole page (html, the default), or the inside of its body (fragment)")
    add_embed(parser)
    parser.add_argument("--old-attributes", action="store_true",
                        help="add bgcolor, width, align and valign beside the styles that say the same")
    parser.add_argument("--out", metavar="FILE", help="where to write it (default: standard output)")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    html, path = _read(options.page)
    embed = checked_embed(options.embed) or ("link" if options.picture_base else "data")
    if embed == "cid":
        raise Usage("pictures travel by cid: as parts of a message, and convert makes none (choose data, link or none)")
    made = page_rendering(html, path, embed=embed, picture_base=options.picture_base,
                          presentational=options.old_attributes)
    page = made.html if options.format == "html" else made.fragment()
    content = str(page).encode("utf-8")
    told = [str(finding) for finding in made.changes]
    if not options.json:
        for finding in told:
            print(finding, file=sys.stderr)
        write(content, options.out)
        return
    if options.out:
        write(content, options.out)
    print_json({"page": options.page, "format": options.format, "bytes": len(content), "told": told,
                **({"file": options.out} if options.out else {"content": content.decode("utf-8")})})


def _read(given: str) -> tuple[str, Path]:
    """The text of a page, and the file that its pictures lie beside."""
    if given == "-":
        raw, path = sys.stdin.buffer.read(), Path("page.html")
    elif Path(given).is_file():
        raw, path = Path(given).read_bytes(), Path(given)
    else:
        raise Usage(f"there is no file {given}")
    try:
        return raw.decode("utf-8-sig"), path
    except UnicodeDecodeError as error:
        raise DataError(f"{given} is no UTF-8 (at byte {error.start})", hint="save it as UTF-8") from None
