"""Write the tables of docs/mime.md anew: the header fields, and the rules of the audit.

    python -m tools.mime_tables

What stands in the page between ``<!-- fields -->`` or ``<!-- rules -->`` and ``<!-- end -->`` is replaced.
"""

from __future__ import annotations

from itertools import groupby
from pathlib import Path

from pribble.mime.audit.rules import RULES
from pribble.mime.fields import FIELDS, MESSAGE, OTHERS, KnownField

PAGE = Path(__file__).parent.parent / "docs/mime.md"
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


def written(page: str) -> str:
    """The page with its tables as they are now."""
    for name, table in (("fields", fields()), ("rules", rules())):
        before, begin, rest = page.partition(f"<!-- {name} -->\n")
        page = f"{before}{begin}{table}\n<!-- end -->{rest.partition('<!-- end -->')[2]}"
    return page


def _setter(one: KnownField) -> str:
    return _SETTERS.get(one.setter) or f"`{one.setter}=`"


def _cell(text: str) -> str:
    return text.replace("{}", "…").replace("<", "&lt;").replace("|", "&#124;")


if __name__ == "__main__":
    PAGE.write_text(written(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
