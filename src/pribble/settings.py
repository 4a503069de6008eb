"""``pribble.toml``: what holds for all commands in a folder and below it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType
from typing import Any

from pribble.errors import DataError, did_you_mean

SETTINGS_FILE = "pribble.toml"
_NOTHING: Mapping[str, str] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class CheckSettings:
    """``[check]``: whether warnings count as errors, and the rules that are `off`, each with a reason."""

    strict: bool = False
    off: Mapping[str, str] = field(default_factory=lambda: _NOTHING)


@dataclass(frozen=True, slots=True)
class ProjectSettings:
    """What ``pribble.toml`` lays down; paths are taken from the file's own folder, which is at `path`.

    `viewers` are the tables of the project's own viewers, which `pribble.review` reads.
    """

    templates: Path | None = None
    locale: str = "en"
    timezone: str = "UTC"
    embed: str | None = None
    picture_base: str | None = None
    senders: tuple[tuple[str, str], ...] = ()
    transports: tuple[tuple[str, str], ...] = ()
    check: CheckSettings = field(default_factory=CheckSettings)
    suppress: Path | None = None
    viewers: Mapping[str, Mapping[str, Any]] = field(default_factory=lambda: MappingProxyType({}))
    path: Path | None = None

    def sender(self, name: str = "default") -> str | None:
        """Returns the mailbox of a named sender."""
        return dict(self.senders).get(name)

    def suppressed(self) -> list[str]:
        """Returns the addresses that get nothing: one a line of the file that ``[suppress]`` names."""
        if self.suppress is None:
            return []
        lines = self.suppress.read_text(encoding="utf-8").splitlines()
        return [line.strip() for line in lines if line.strip() and not line.startswith("#")]

    def transport(self, name: str = "default") -> str | None:
        """Returns the address of a named transport."""
        return dict(self.transports).get(name)


# The kinds of what is laid down, by table; of a table that is not here the names are the user's.
_KINDS: Mapping[str, Mapping[str, type]] = {
    "": {
        **dict.fromkeys(("templates", "locale", "timezone"), str),
        **dict.fromkeys(("senders", "transports", "suppress", "pictures", "check", "viewers"), dict),
    },
    "pictures": {"embed": str, "base": str},
    "check": {"strict": bool, "off": dict},
    "transports.…": {"url": str},
    "suppress": {"file": str},
}
_WORDS = {str: "a text", dict: "a table", bool: "true or false"}


def project_settings() -> ProjectSettings:
    """Returns the settings of the ``pribble.toml`` in this folder or the nearest above it; the defaults where there is
    none."""
    folders = (Path.cwd(), *Path.cwd().parents)
    path = next((folder / SETTINGS_FILE for folder in folders if (folder / SETTINGS_FILE).is_file()), None)
    return ProjectSettings() if path is None else read_settings(path)


def read_settings(path: Path) -> ProjectSettings:
    """Returns the settings of a file; raises `DataError` for what is no TOML, or a key that means nothing."""
    try:
        said = tomllib.loads(path.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise DataError(f"{path}: {error}") from None
    except RecursionError:
        raise DataError(f"{path}: tables and arrays are nested too deeply") from None
    _check_kinds(path, said, "")
    pictures, check = said.get("pictures", {}), said.get("check", {})
    _check_kinds(path, pictures, "pictures")
    _check_kinds(path, check, "check")
    suppress = said.get("suppress", {})
    _check_kinds(path, suppress, "suppress")
    senders, off = said.get("senders", {}), check.get("off", {})
    _check_texts(path, "senders", senders.items(), 'a mailbox: "Name <address>"')
    _check_texts(path, "check.off", off.items(), "the reason why nobody looks at it")
    viewers = said.get("viewers", {})
    if wrong := next((name for name, value in viewers.items() if not isinstance(value, dict)), None):
        raise DataError(f'{path}: "viewers.{wrong}" is a table')
    templates = said.get("templates")
    return ProjectSettings(
        _as_shown(path.parent / templates) if templates else None,
        said.get("locale", "en"),
        said.get("timezone", "UTC"),
        pictures.get("embed"),
        pictures.get("base"),
        tuple(senders.items()),
        tuple(_transports(path, said.get("transports", {}))),
        CheckSettings(check.get("strict", False), MappingProxyType(off)),
        path.parent / suppress["file"] if "file" in suppress else None,
        MappingProxyType(viewers),
        path,
    )


def _transports(path: Path, tables: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Returns the transports with their addresses."""
    for name, table in tables.items():
        called = f"transports.{name}"
        if not re.fullmatch("[A-Za-z0-9_-]+", name):
            raise DataError(f'{path}: "{called}" has a name of letters, digits, - and _, as it names a variable too')
        if not isinstance(table, dict):
            raise DataError(f'{path}: "{called}" is a table', hint=f'write [{called}] and below it url = "…"')
        _check_kinds(path, table, called, _KINDS["transports.…"])
        if "url" not in table:
            raise DataError(f'{path}: "{called}" has no url')
        yield name, table["url"]


def _check_kinds(path: Path, table: Mapping[str, Any], name: str, kinds: Mapping[str, type] | None = None) -> None:
    """Raise `DataError` for the first key of a table that means nothing there, or is of another kind."""
    kinds = _KINDS[name] if kinds is None else kinds
    for key, value in table.items():
        called = f"{name}.{key}" if name else key
        if key not in kinds:
            raise DataError(f'{path}: "{called}" means nothing here', hint=did_you_mean(key, kinds))
        if not isinstance(value, kinds[key]):
            raise DataError(f'{path}: "{called}" is {_WORDS[kinds[key]]}')


def _check_texts(path: Path, name: str, given: Iterable[tuple[str, Any]], what: str) -> None:
    for key, value in given:
        if not isinstance(value, str) or not value.strip():
            raise DataError(f'{path}: "{name}.{key}" is {what}')


def _as_shown(path: Path) -> Path:
    """Returns a path as errors should show it: from here, where it is below."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path
