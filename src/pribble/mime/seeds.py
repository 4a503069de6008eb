"""What a message's seed gives: the left side of its Message-ID, and the boundaries of its multiparts."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from importlib import import_module
from typing import Any


def seeded(seed: bytes, what: str, size: int) -> str:
    """Returns so many hexadecimal digits, the same ones for the same seed and the same `what`."""
    return str(_sha256(seed + what.encode("ascii")).hexdigest()[:size])


def _own_sha256() -> Callable[[bytes], Any]:
    """Returns SHA-256 (FIPS 180-4) as the interpreter has it: for a few octets that of OpenSSL takes several times as
    long, most of it to begin.  Where there is none, it is OpenSSL's."""
    for module in ("_sha2", "_sha256"):
        try:
            return import_module(module).sha256  # type: ignore[no-any-return]
        except ImportError:
            pass
    return hashlib.sha256


_sha256 = _own_sha256()
