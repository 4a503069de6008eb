"""``pribble.toml``: what holds for all commands in a folder and below it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from pribble.errors import did_you_mean
from pribble.files import as_shown
from pribble.mime.address import mailbox
from pribble.mime.header_fields import DOMAIN, id_domain_of
from pribble.records import field, record
from pribble.rendering.rendering import checked_embed
from pribble.settings_keys import ANY, KINDS, SettingKind, keys_of, tables_in
from pribble.template import TemplateFolder
from pribble.toml_file import Keys, TomlFile

SETTINGS_FILE = "pribble.toml"
_NOTHING: Mapping[str, str] = MappingProxyType({})


@record(frozen=True, slots=True)
class CheckSettings:
    """``[check]``: whether warnings count as errors, and the rules that are `off`, each with a reason."""

    strict: bool = False
    off: Mapping[str, str] = field(default_factory=lambda: _NOTHING)


@record(frozen=True, slots=True)
class ProjectSettings:
    """What ``pribble.toml`` lays down; paths are taken from the file's own folder, which is at `path`.

    `viewers` are the tables of the project's own viewers, which `pribble.review` reads, and `events` those of events,
    which `pribble.delivery.events` reads, `signing` that of `pribble.delivery.signing`.  `file` is what all was read
    from.
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
    events: Mapping[str, Mapping[str, Any]] = field(default_factory=lambda: MappingProxyType({}))
    journal: str | None = None
    attachment_folders: tuple[Path, ...] = ()
    signing: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))
    path: Path | None = None
    file: TomlFile | None = None

    @property
    def file_folder(self) -> Path:
        """The folder that paths are taken from."""
        return self.path.parent if self.path is not None else Path()

    def sender(self, name: str = "default") -> str | None:
        """Returns the mailbox of a named sender."""
        return dict(self.senders).get(name)

    def suppressed(self) -> list[str]:
        """Returns the addresses that get nothing: one a line of the file that ``[suppress]`` names."""
        if self.suppress is None:
            return []
        try:
            lines = self.suppress.read_text(encoding="utf-8-sig").splitlines()
        except (OSError, UnicodeDecodeError) as error:
            assert self.file is not None
            words = getattr(error, "strerror", None) or "it is no UTF-8"
            raise self.file.wrong(f"{self.suppress}: {words}", "suppress", "file", at="value") from None
        return [line.strip() for line in lines if line.strip() and not line.startswith("#")]

    def transport(self, name: str = "default") -> str | None:
        """Returns the address of a named transport."""
        return dict(self.transports).get(name)


def project_settings() -> ProjectSettings:
    """Returns the settings of the ``pribble.toml`` in this folder or the nearest above it; the defaults where there is
    none."""
    folders = (Path.cwd(), *Path.cwd().parents)
    path = next((folder / SETTINGS_FILE for folder in folders if (folder / SETTINGS_FILE).is_file()), None)
    return ProjectSettings() if path is None else read_settings(path)


def read_settings(path: Path) -> ProjectSettings:
    """Returns the settings of a file; raises `DataError` for what is no TOML, or a key that means nothing."""
    file = TomlFile.read(as_shown(path))
    _check_table(file, file.data, "", ())
    said = file.data
    pictures, check, suppress = (said.get(name, {}) for name in ("pictures", "check", "suppress"))
    for name in said.get("transports", {}):
        if not re.fullmatch("[A-Za-z0-9_-]+", name):
            raise file.wrong(
                f'"transports.{name}" has a name of letters, digits, - and _, as it names a variable too',
                *("transports", name),
            )
        if "url" not in said["transports"][name]:
            raise file.wrong(f'"transports.{name}" has no url', "transports", name)
    templates, journal, here = said.get("templates"), said.get("journal"), path.parent
    return ProjectSettings(
        as_shown(here / templates) if templates else None,
        said.get("locale", "en"),
        said.get("timezone", "UTC"),
        pictures.get("embed"),
        pictures.get("base"),
        tuple(said.get("senders", {}).items()),
        tuple((name, table["url"]) for name, table in said.get("transports", {}).items()),
        CheckSettings(check.get("strict", False), MappingProxyType(check.get("off", {}))),
        here / suppress["file"] if "file" in suppress else None,
        MappingProxyType(said.get("viewers", {})),
        MappingProxyType(said.get("events", {})),
        journal if journal is None or "://" in journal else str(as_shown(here / journal)),
        tuple(here / folder for folder in said.get("attachments", {}).get("folders", ())),
        MappingProxyType(said.get("signing", {})),
        path,
        file,
    )


def _check_table(file: TomlFile, table: Mapping[str, Any], name: str, way: Keys) -> None:
    """Raise `DataError` for the first key of a table, or of one within it, that means nothing or is of another kind."""
    keys, within = keys_of(name), tables_in(name)
    for key, value in table.items():
        here: Keys = (*way, key)
        called = ".".join(str(part) for part in here)
        known = keys.get(key) or keys.get(ANY)
        is_table = known is None and (key in within or ANY in within)
        if known is None and not is_table:
            raise file.wrong(f'"{called}" means nothing here', *here, hint=did_you_mean(key, {*keys, *within} - {ANY}))
        kind: SettingKind = known.kind if known else "table"
        if not _fits(value, kind):
            words = known.words if known and known.name == ANY and kind == "text" else KINDS[kind]
            hint = f"write [{called}] and its keys below it" if is_table and name else None
            raise file.wrong(f'"{called}" is {words}', *here, at="value", hint=hint)
        inner = f"{name}.{key if key in within or known else ANY}".lstrip(".")
        if kind == "table" and (is_table or key in within):
            _check_table(file, value, inner, here)
        elif kind == "tables":
            for number, one in enumerate(value):
                _check_table(file, one, inner, (*here, number))


def _fits(value: Any, kind: SettingKind) -> bool:
    match kind:
        case "text":
            return isinstance(value, str) and bool(value.strip())
        case "texts":
            return isinstance(value, list) and all(isinstance(one, str) and one.strip() for one in value)
        case "flag":
            return isinstance(value, bool)
        case "table":
            return isinstance(value, dict)
        case "tables":
            return isinstance(value, list) and all(isinstance(one, dict) for one in value)


def project_templates(
    settings: ProjectSettings,
    path: Path,
    *,
    sender: str | None = None,
    picture_base: str | None = None,
    reload: bool = False,
) -> TemplateFolder:
    """Returns the folder of templates at a path, as the settings have it.

    The right side of Content-IDs is the domain of the `sender`, a mailbox, by default the default one.
    """
    known = sender or settings.sender()
    return TemplateFolder(
        path,
        locale=settings.locale,
        timezone=settings.timezone,
        embed=checked_embed(settings.embed),
        picture_base=picture_base or settings.picture_base,
        id_domain=id_domain_of(mailbox(known, "From")) if known and "@" in known else DOMAIN,
        reload=reload,
    )
