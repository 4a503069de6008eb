"""What the commands that look before sending share: viewers, recipients, rules that are off."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from pribble.errors import DataError, did_you_mean
from pribble.settings import SETTINGS_FILE, ProjectSettings

if TYPE_CHECKING:
    from pribble.review.viewers import Viewer


def add_recipients(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--recipients", metavar="N", type=_count, default=1, help="how many messages there will be")


def _count(written: str) -> int:
    if not (written.isascii() and written.isdigit() and len(written) < 10 and int(written)):
        raise argparse.ArgumentTypeError(f'"{written[:20]}" is no number of messages')
    return int(written)


def add_viewers(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--viewers", metavar="NAMES", help="what readers look with: names, with commas (default: all that are known)"
    )


def asked_viewers(options: argparse.Namespace, settings: ProjectSettings) -> list[Viewer]:
    """Returns what readers look with: our own viewers and the project's, or those of them that are named."""
    from pribble.review.viewers import chosen_viewers, known_viewers, with_viewers

    known = with_viewers(settings.viewers, known_viewers(), str(settings.path or SETTINGS_FILE))
    names = None if options.viewers is None else [name.strip() for name in options.viewers.split(",")]
    return chosen_viewers(names, known)


def rules_off(settings: ProjectSettings) -> Mapping[str, str]:
    """Returns the rules that the settings switch off; raises `DataError` for one that there is not."""
    from pribble.review.rules import RULES

    for rule in settings.check.off:
        if "." not in rule or (rule not in RULES and rule.partition(".")[0] in _groups(RULES)):
            raise DataError(f'{SETTINGS_FILE}: "check.off" names no rule: "{rule}"', hint=did_you_mean(rule, RULES))
    return settings.check.off


def _groups(rules: Mapping[str, Any]) -> set[str]:
    return {rule.partition(".")[0] for rule in rules}
