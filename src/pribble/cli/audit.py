"""``pribble audit``: the parts of a message, and every departure from the standards."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import SEVERITY_STYLES, add_json, counted, existing_file, print_json
from pribble.findings import Finding
from pribble.mime.audit import Audit, AuditedPart, audit


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "audit",
        description="Look at messages, anyone's: the tree of their parts with sizes, and whatever departs from the "
        "standards, each with the section it departs from and what to do.  Exits 1 where one is an error.",
    )
    parser.add_argument("messages", metavar="MESSAGE.eml", nargs="+", help="files; - for standard input")
    parser.add_argument(
        "--submitted",
        action="store_true",
        help="it is on its way to its first server, where fields of delivery have no place yet",
    )
    parser.add_argument(
        "--no-smtputf8",
        action="store_false",
        dest="smtputf8",
        help="the servers on its way do not take addresses beyond ASCII",
    )
    parser.add_argument(
        "--keys",
        metavar="FILE",
        help="verify signatures by these published keys: a line each, SELECTOR._domainkey.DOMAIN and its record",
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    keys = _keys(options.keys)
    found = [
        (
            name,
            audit(
                _read(name),
                submitted=options.submitted,
                smtputf8=options.smtputf8,
                keys=keys,
                name="standard input" if name == "-" else name,
            ),
        )
        for name in options.messages
    ]
    if options.json:
        print_json(
            [
                {
                    "message": name,
                    "sound": one.is_sound,
                    "parts": _part(one.tree),
                    "findings": [_finding(finding, one) for finding in one],
                }
                for name, one in found
            ]
        )
    else:
        for number, (name, one) in enumerate(found):
            _show(name, one, first=number == 0)
    return 0 if all(one.is_sound for _, one in found) else 1


def _keys(named: str | None) -> Mapping[str, str] | None:
    """Returns the published keys of a file."""
    if named is None:
        return None
    from pribble.mime.dkim_keys import published_keys

    try:
        return published_keys(existing_file(named).read_text(encoding="utf-8-sig"))
    except UnicodeDecodeError:
        raise Usage(f"{named} is no UTF-8") from None


def _read(name: str) -> bytes:
    if name == "-":
        return sys.stdin.buffer.read()
    return existing_file(name).read_bytes()


# ---- for programs ---------------------------------------------------------------------------------------------


def _part(part: AuditedPart) -> dict[str, object]:
    said = {"charset": part.charset, "disposition": part.disposition, "name": part.name, "content_id": part.content_id}
    parts = {"parts": [_part(inner) for inner in part.parts]} if part.parts else {}
    return {
        "type": part.type,
        "encoding": part.encoding,
        **{name: value for name, value in said.items() if value},
        "bytes": part.size,
        "offset": part.offset,
        **parts,
    }


def _finding(finding: Finding, one: Audit) -> dict[str, object]:
    where = finding.where
    assert where is not None
    return {
        "rule": finding.rule,
        "severity": finding.severity,
        "reference": finding.reference,
        "message": finding.message,
        "fix": finding.fix,
        "offset": where.start,
        "line": where.line,
        "column": where.column,
        "excerpt": where.excerpt().strip("\n").splitlines()[0].strip(),
        "times": one.counts[finding.rule],
    }


# ---- for people -----------------------------------------------------------------------------------------------


def _show(name: str, one: Audit, *, first: bool) -> None:
    from rich.text import Text

    from pribble.cli.terminal import Terminal

    console = Terminal()
    if not first:
        console.print()
    console.print(Text(name, "bold"))
    lines = [("  " * depth + part.type, _about(part), f"{part.size:,}") for depth, part in one.tree.walk()]
    wide = max(len(line[0]) for line in lines)
    digits = max(len(line[2]) for line in lines)
    for kind, about, size in lines:
        console.print(Text.assemble(f"  {kind:{wide}}  {size:>{digits}} bytes  ", (about, "dim")), soft_wrap=True)
    told: set[str] = set()
    for finding in one:
        console.print()
        assert finding.where is not None
        console.print(
            Text.assemble(
                (finding.severity, SEVERITY_STYLES[finding.severity]),
                f" {finding.rule}  ",
                (f"line {finding.where.line}, {finding.reference}", "dim"),
            ),
            soft_wrap=True,
        )
        console.print(Text(f"  {finding.message}"), soft_wrap=True)
        console.print(Text("\n".join(line[2:] for line in finding.where.excerpt().split("\n"))), soft_wrap=True)
        if finding.rule not in told:
            console.print(Text.assemble("  ", ("fix: ", "bold"), finding.fix), soft_wrap=True)
        told.add(finding.rule)
    console.print()
    console.print(Text(f"  {_sum(one)}", "" if one.findings else "green"))


def _about(part: AuditedPart) -> str:
    said = [
        part.charset,
        part.encoding if not part.parts else "",
        part.disposition,
        part.name,
        f"<{part.content_id}>" if part.content_id else "",
    ]
    return ", ".join(word for word in said if word)


def _sum(one: Audit) -> str:
    """Returns how many of each severity there are, and of which rules only the first are shown."""
    shown: dict[str, int] = {}
    severities = dict.fromkeys(("error", "warning", "note"), 0)
    for finding in one:
        shown[finding.rule] = shown.get(finding.rule, 0) + 1
        severities[finding.severity] += one.counts[finding.rule] if shown[finding.rule] == 1 else 0
    if not shown:
        return "No departure from the standards."
    words = [counted(count, severity) for severity, count in severities.items() if count]
    more = [f"{one.counts[rule] - count:,} more of {rule}" for rule, count in shown.items() if one.counts[rule] > count]
    return "; ".join([", ".join(words), *more]) + "."
