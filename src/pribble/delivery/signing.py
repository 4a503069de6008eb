"""Who signs messages: the domain and the keys of ``[signing]`` in ``pribble.toml`` (DKIM, RFC 6376)."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence
from pathlib import Path

from pribble.errors import AddressError, DataError, HeaderError
from pribble.mime.address import Address, members, parse_list
from pribble.mime.dkim import ToSign
from pribble.mime.dkim_keys import SigningKey, signing_key
from pribble.mime.header import read_date_time
from pribble.records import record
from pribble.regexes import regex
from pribble.settings import ProjectSettings
from pribble.toml_file import TomlFile

_SELECTOR = regex(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?(?:\.[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*+")
_LARGEST_KEY = 100_000  # octets


@record(frozen=True)
class Signer:
    """Signs messages for a domain, with each of its keys: ``Message(…, sign=signer)``.

    `keys` are selectors and keys.  The same message gets the same signatures.
    """

    domain: str
    keys: Sequence[tuple[str, SigningKey]]

    def __call__(self, raw: bytes) -> bytes:
        """Returns the fields that sign a message, to stand before it.

        Raises `HeaderError` for a message that is from elsewhere: a signature of another domain speaks for nobody.
        """
        signed = ToSign.of(raw)
        values = {
            name.lower(): value.decode("utf-8", "replace").replace("\r\n", "").strip() for name, value in signed.fields
        }
        self._check_author(values.get(b"from", ""))
        moment = read_date_time(values.get(b"date", ""))
        if moment is None:
            raise HeaderError("a message without a date cannot be signed")
        time = int(moment.timestamp())
        made = (signed.field(self.domain, selector, key.algorithm, key.sign, time) for selector, key in self.keys)
        return b"".join(made)

    def _check_author(self, written: str) -> None:
        domains = {one.domain.lower() for one in members(parse_list(written))}
        for domain in sorted(domains):
            if domain != self.domain and not domain.endswith(f".{self.domain}"):
                raise HeaderError(
                    f"From: a message from {domain} cannot be signed by {self.domain}",
                    hint="[signing] domain is that of From, or one that it is in (RFC 7489 3.1.1)",
                )


def project_signer(settings: ProjectSettings) -> Signer | None:
    """Returns who signs the messages of a project; None where nobody does.

    Raises `DataError` with the place in ``pribble.toml`` for a domain, selector or key that is none, or a key that
    others may read; `MissingExtra` where the ``cryptography`` package is not installed.
    """
    file, said = settings.file, settings.signing
    if file is None or not said:
        return None
    for needed in ("domain", "keys"):
        if not said.get(needed):
            raise file.wrong(f"[signing] needs {needed} =", "signing")
    try:
        domain = Address("", f"x@{said['domain']}").domain.lower()
    except AddressError:
        domain = "["
    if domain.startswith("["):
        raise file.wrong(f'"{said["domain"][:60]}" is no domain', "signing", "domain", at="value")
    keys = [
        _key(file, settings.file_folder, table, "signing", "keys", number) for number, table in enumerate(said["keys"])
    ]
    selectors = [selector.lower() for selector, _ in keys]
    for number, selector in enumerate(selectors):
        if selector in selectors[:number]:
            raise file.wrong(
                f'two keys have the selector "{selector}"', "signing", "keys", number, "selector", at="value"
            )
    return Signer(domain, keys)


def _key(file: TomlFile, folder: Path, table: dict[str, str], *way: str | int) -> tuple[str, SigningKey]:
    for needed in ("selector", "file"):
        if needed not in table:
            raise file.wrong(f"a key needs {needed} =", *way)
    selector = table["selector"]
    if not _SELECTOR.fullmatch(selector):
        raise file.wrong(f'"{selector[:60]}" is no selector', *way, "selector", at="value")
    try:
        return selector, signing_key(_secret(folder / table["file"]))
    except DataError as error:
        problem, hint = error.problem, error.hint
    except (OSError, ValueError) as error:
        problem, hint = getattr(error, "strerror", None) or str(error), None
    raise file.wrong(f"{table['file']}: {problem}", *way, "file", at="value", hint=hint)


def _secret(path: Path) -> bytes:
    """Returns what a file holds that nobody else may read.  Raises `DataError` where somebody may."""
    with open(path, "rb") as opened:
        mode = os.fstat(opened.fileno()).st_mode
        if not stat.S_ISREG(mode):
            raise DataError("this is no file")
        if mode & (stat.S_IRWXO | stat.S_IWGRP):
            raise DataError("others may read or write this key", hint=f"chmod 600 {path.name}")
        return opened.read(_LARGEST_KEY)
