"""What the commands that look before sending share: templates and data, viewers, recipients, rules that are off."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pribble.cli.common import count_of, counted, read_given_data, template_folder
from pribble.errors import DataError, did_you_mean
from pribble.settings import SETTINGS_FILE, ProjectSettings
from pribble.template import TemplateFolder, without_optimisations
from pribble.toml_file import TomlFile

if TYPE_CHECKING:
    from pribble.review import Check
    from pribble.review.viewers import Viewer


def add_recipients(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--recipients",
        metavar="N",
        type=count_of("number of messages"),
        default=1,
        help="how many messages there will be",
    )


def add_viewers(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--viewers", metavar="NAMES", help="what readers look with: names, with commas (default: all that are known)"
    )


def asked_viewers(options: argparse.Namespace, settings: ProjectSettings) -> list[Viewer]:
    """Returns what readers look with: our own viewers and the project's, or those of them that are named."""
    from pribble.review.viewers import chosen_viewers, known_viewers, with_viewers

    known = with_viewers(settings.viewers, known_viewers(), settings.file or TomlFile(SETTINGS_FILE, ""))
    names = None if options.viewers is None else [name.strip() for name in options.viewers.split(",")]
    return chosen_viewers(names, known)


def looked_at(
    path: Path, options: argparse.Namespace, settings: ProjectSettings, *, reload: bool = False
) -> TemplateFolder:
    """Returns the template folder at a path for rendering few messages of many templates."""
    return without_optimisations(template_folder(path, options, settings, reload=reload))


def data_instead(options: argparse.Namespace) -> Any:
    """Returns the data that are given instead of the samples; None for none."""
    return None if options.data is None else read_given_data(options.data)


def counted_findings(found: Check) -> str:
    """Returns how many places have a finding of each severity, in words."""
    counts = [(severity, found.count(severity)) for severity in ("error", "warning", "note")]
    return ", ".join(counted(count, severity) for severity, count in counts if count) or "nothing found"


def rules_off(settings: ProjectSettings) -> Mapping[str, str]:
    """Returns the rules that the settings switch off; raises `DataError` for one that there is not."""
    from pribble.review.rules import RULES

    for rule in settings.check.off:
        if "." not in rule or (rule not in RULES and rule.partition(".")[0] in _groups(RULES)):
            raise DataError(f'{SETTINGS_FILE}: "check.off" names no rule: "{rule}"', hint=did_you_mean(rule, RULES))
    return settings.check.off


def _groups(rules: Mapping[str, Any]) -> set[str]:
    return {rule.partition(".")[0] for rule in rules}
