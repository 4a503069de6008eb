"""Write the tables of the docs anew, each from the table in the package that it shows.

    python -m tools.tables

What stands in a page between ``<!-- fields -->``, or another name of `TABLES`, and ``<!-- end -->`` is replaced.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import groupby
from pathlib import Path

from tools.check_tables import check_rules, handed_on, viewer_rows
from tools.delivery_tables import answers, moves

from pribble.compiler.markup_formatters import MARKUP_FORMATTERS
from pribble.mime.audit.rules import RULES
from pribble.mime.fields import FIELDS, MESSAGE, OTHERS, KnownField
from pribble.mime.media_types import MEDIA_TYPES, MediaType
from pribble.serving.problems import PROBLEM_KINDS
from pribble.serving.routes import ROUTES
from pribble.settings_keys import KINDS, SETTINGS_KEYS, is_list
from pribble.values.formatters import FORMATTERS, Formatter

DOCS = Path(__file__).parent.parent / "docs"
_HEADINGS = {
    "lines": "Lines",
    "fields": "Fields",
    "mime": "MIME-Version and Content fields",
    "date": "Date",
    "ids": "Ids",
    "addresses": "Addresses",
    "words": "Encoded-words",
    "parameters": "Parameters",
    "multipart": "Multiparts",
    "encodings": "Transfer encodings",
    "types": "Charset and type",
    "related": "Related parts",
    "alternative": "Forms of a text",
    "flowed": "Flowed text",
    "calendar": "Calendars",
    "machines": "For machines",
    "trace": "On its way",
    "international": "International",
    "limits": "Bounds",
}
_SETTERS = {MESSAGE: "a message itself", OTHERS: "others, on its way"}


def rules() -> str:
    """The rules of the audit, a table for each group."""
    tables = []
    for group, names in groupby(RULES, key=lambda name: name.partition(".")[0]):
        rows = [
            f"| `{name}` | {RULES[name].severity} | {RULES[name].reference} | {_cell(RULES[name].message)} "
            f"| {_cell(RULES[name].fix)} |"
            for name in names
        ]
        head = f"**{_HEADINGS[group]}**\n\n| rule | | section | it says | what to do |\n|---|---|---|---|---|\n"
        tables.append(head + "\n".join(rows))
    return "\n\n".join(tables)


def fields() -> str:
    """The header fields."""
    rows = [
        f"| {one.name} | {one.syntax} | {_setter(one)} | {'once' if one.once else 'often'} | {one.reference} |"
        for one in FIELDS.values()
    ]
    return "| field | form | set by | in a header | section |\n|---|---|---|---|---|\n" + "\n".join(rows)


def formatters() -> str:
    """The formatters, with the kinds of values that they take and give."""
    rows = [_formatter(one) for one in sorted({**FORMATTERS, **MARKUP_FORMATTERS}.values(), key=_group)]
    return "| for | formatter | takes | gives | |\n|---|---|---|---|---|\n" + "\n".join(rows)


def media_types() -> str:
    """The kinds of pictures that are taken."""
    head = "| picture | media type | files | shown everywhere | becomes |\n|---|---|---|---|---|\n"
    return head + "\n".join(_media_type(one) for one in MEDIA_TYPES if one.is_picture)


# The page that each table stands in, and what writes it.
def settings_keys() -> str:
    """Every key of ``pribble.toml``, table by table."""
    tables = []
    for table, keys in groupby(SETTINGS_KEYS, key=lambda key: key.table):
        title = f"`[[{table}]]`" if is_list(table) else f"`[{table}]`" if table else "the file itself"
        rows = [f"| `{key.name}` | {KINDS[key.kind]} | {_cell(key.words)} | {key.default} |" for key in keys]
        tables.append(f"**{title}**\n\n| key | is | what it says | else |\n|---|---|---|---|\n" + "\n".join(rows))
    return "\n\n".join(tables)


def routes() -> str:
    """What can be asked of the server."""
    rows = [f"| `{one.method} {one.path}` | {_cell(one.words)} |" for one in ROUTES]
    return "| | |\n|---|---|\n" + "\n".join(rows)


def problem_kinds() -> str:
    """What a request can end with."""
    rows = [f"| {one.status} | `{name}` | {one.title} | {_cell(one.advice)} |" for name, one in PROBLEM_KINDS.items()]
    return "| status | kind | what it is | what to do |\n|---|---|---|---|\n" + "\n".join(rows)


TABLES: dict[str, tuple[str, Callable[[], str]]] = {
    "fields": ("mime.md", fields),
    "rules": ("mime.md", rules),
    "formatters": ("language.md", formatters),
    "media types": ("pictures-and-styles.md", media_types),
    "checks": ("checks.md", check_rules),
    "handed on": ("checks.md", handed_on),
    "viewers": ("checks.md", viewer_rows),
    "moves": ("delivery.md", moves),
    "answers": ("delivery.md", answers),
    "settings": ("settings.md", settings_keys),
    "routes": ("serving.md", routes),
    "problem kinds": ("serving.md", problem_kinds),
}


def written(page: str) -> str:
    """A page of the docs, by its name, with its tables as they are now."""
    text = (DOCS / page).read_text(encoding="utf-8")
    for name, (home, table) in TABLES.items():
        if home == page:
            before, begin, rest = text.partition(f"<!-- {name} -->\n")
            text = f"{before}{begin}{table()}\n<!-- end -->{rest.partition('<!-- end -->')[2]}"
    return text


def _group(one: Formatter) -> int:
    return list(dict.fromkeys(formatter.group for formatter in FORMATTERS.values())).index(one.group)


def _formatter(one: Formatter) -> str:
    return f"| {one.group} | `{one.call}` | {one.takes} | {one.gives} | {_cell(one.summary.replace('``', '`'))} |"


def _media_type(one: MediaType) -> str:
    becomes = "PNG or JPEG, by what it shows" if one.as_ == "either" else one.as_.upper()
    shown = "stays as it is" if one.shown or not one.decoders else becomes
    return f"| {one.title} | {one.name} | `{one.ending}` | {'yes' if one.shown else 'no'} | {shown} |"


def _setter(one: KnownField) -> str:
    return _SETTERS.get(one.setter) or f"`{one.setter}=`"


def _cell(text: str) -> str:
    return text.replace("{}", "…").replace("<", "&lt;").replace("|", "&#124;")


if __name__ == "__main__":
    for name in {page for page, _ in TABLES.values()}:
        (DOCS / name).write_text(written(name), encoding="utf-8")
