"""The tables of docs/checks.md: each rule of `check` with a mistake, and what is right, from the tests' mutations."""

from __future__ import annotations

import tomllib
from itertools import groupby
from pathlib import Path

from pribble.review import known_viewers
from pribble.review.rules import HANDED_ON, RULES

_MUTATIONS = Path(__file__).parent.parent / "tests/data/mutations.toml"
_HEADINGS = {
    "template": "Templates",
    "picture": "Pictures",
    "data": "Data",
    "placeholder": "Placeholders",
    "subject": "Subject and preheader",
    "page": "The page",
    "contrast": "Contrast",
    "link": "Links",
    "text": "A text written by hand",
    "locale": "Languages",
    "envelope": "Envelope (messages alone)",
    "weight": "Weight",
    "strain": "Data that hurt (`--strain`)",
    "allow": "Remarks",
}
_AROUND = 16


def check_rules() -> str:
    """The rules of `check`, a table for each group, each with a mistake and what is right."""
    shown = _examples()
    tables = []
    for group, names in groupby(
        sorted(RULES, key=lambda name: list(_HEADINGS).index(name.partition(".")[0])), key=_group
    ):
        rows = []
        for name in names:
            rule, (before, after) = RULES[name], shown[name]
            says = _cell(rule.meaning)
            fix = _cell(rule.fix.format(*["…"] * rule.fix.count("{}")))
            rows.append(f"| `{name}` | {rule.severity} | {rule.reference} | {says} | {fix} | {before} | {after} |")
        head = "| rule | | rests on | it says | what to do | before | after |\n|---|---|---|---|---|---|---|\n"
        head = f"**{_HEADINGS[group]}**\n\n{head}"
        tables.append(head + "\n".join(rows))
    return "\n\n".join(tables)


def viewer_rows() -> str:
    """Our own viewers."""
    rows = [f"| `{one.name}` | {_cell(one.about)} | {_cell(one.why)} |" for one in known_viewers().values()]
    return "| viewer | what it is | why we believe it |\n|---|---|---|\n" + "\n".join(rows)


def handed_on() -> str:
    """What is told while a template is compiled or rendered."""
    rows = [
        f"| `{name}` | {severity} | {section} | {_cell(means)} |"
        for name, (severity, section, means) in HANDED_ON.items()
    ]
    return "| rule | | rests on | it tells of |\n|---|---|---|---|\n" + "\n".join(rows)


def _group(name: str) -> str:
    return name.partition(".")[0]


def _examples() -> dict[str, tuple[str, str]]:
    """For each rule a mistake and what stood there before."""
    data = tomllib.loads(_MUTATIONS.read_text(encoding="utf-8"))
    made: dict[str, tuple[str, str]] = {}
    for one in (*data["mutation"], *data["message"], *data["strained"]):
        if "before" in one:
            made.setdefault(one["rule"], (_code(one["before"]), _code(one["after"])))
        elif "edits" in one:
            _, right, wrong = one["edits"][0]
            made.setdefault(one["rule"], _changed(wrong, right))
    return made


def _changed(wrong: str, right: str) -> tuple[str, str]:
    """The stretch in which two texts differ, with a little around it."""
    first = next((i for i, (a, b) in enumerate(zip(wrong, right, strict=False)) if a != b), min(len(wrong), len(right)))
    rest = zip(reversed(wrong[first:]), reversed(right[first:]), strict=False)
    last = next((i for i, (a, b) in enumerate(rest) if a != b), min(len(wrong), len(right)) - first)
    start = max(0, first - _AROUND)

    def cut(text: str) -> str:
        end = len(text) - last
        shown = text[start : end + _AROUND]
        return _code(f"{'…' if start else ''}{shown}{'…' if end + _AROUND < len(text) else ''}")

    return cut(wrong), cut(right)


def _code(text: str) -> str:
    text = " ".join(text.split())
    text = text if len(text) <= 110 else f"{text[:109]}…"
    return f"`{text.replace('|', '&#124;')}`" if text else "(nothing)"


def _cell(text: str) -> str:
    return text.replace("<", "&lt;").replace("|", "&#124;")
