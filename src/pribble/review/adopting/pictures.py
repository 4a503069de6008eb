"""The pictures and sheets of a page that is brought in: each content once, under a name that every system takes."""

from __future__ import annotations

import base64
import binascii
import hashlib
import posixpath
import re
from collections import Counter
from collections.abc import Callable
from urllib.parse import unquote, unquote_to_bytes

from pribble.errors import PictureError
from pribble.pictures.picture import Picture
from pribble.records import field, record
from pribble.regexes import regex

_UNSAFE = regex(r"[^a-z0-9]+")
_RESERVED = regex(r"con|prn|aux|nul|com[0-9]|lpt[0-9]")
_LONGEST = 40
_DATA = regex(r"data:([^,]*),", re.IGNORECASE)
_ENDINGS = {"image/jpeg": "jpg", "image/svg+xml": "svg", "image/png": "png", "image/gif": "gif", "image/webp": "webp"}


@record(slots=True)
class BroughtFiles:
    """The files that come with a template called `name`, by their paths beside it."""

    name: str
    files: dict[str, bytes] = field(default_factory=dict)
    _known: dict[str, str] = field(default_factory=dict)
    _numbers: Counter[str] = field(default_factory=Counter)  # how often each stem came again

    def picture(self, content: bytes, called: str) -> str:
        """Returns the path of a picture, which is kept once.  Raises `PictureError` for what is none."""
        picture = Picture.from_bytes(content, called)
        ending = _ENDINGS.get(picture.type) or picture.type.partition("/")[2].partition("+")[0]
        return self._kept(content, "pictures", called, ending)

    def sheet(self, css: str, called: str) -> str:
        """Returns the path of a style sheet, which is kept once."""
        return self._kept(css.encode(), "styles", called, "css")

    def _kept(self, content: bytes, folder: str, called: str, ending: str) -> str:
        key = f"{folder} {hashlib.sha256(content).hexdigest()}"
        if key not in self._known:
            stem = f"{folder}/{posixpath.basename(self.name)}-{safe_stem(called)}"
            path = f"{stem}.{ending}"
            while path in self.files:
                self._numbers[stem] += 1
                path = f"{stem}-{self._numbers[stem] + 1}.{ending}"
            self.files[path] = content
            self._known[key] = path
        return self._known[key]


def safe_stem(called: str) -> str:
    """Returns what a file may be called on every system: small letters, digits, hyphens; "picture" for nothing."""
    base = unquote(called).replace("\\", "/").rpartition("/")[2].partition("?")[0]
    stem = _UNSAFE.sub("-", base.rpartition(".")[0].lower() or base.lower()).strip("-")[:_LONGEST].strip("-")
    return f"file-{stem}" if _RESERVED.fullmatch(stem) else stem or "picture"


def data_content(address: str) -> bytes | None:
    """Returns what a ``data:`` address holds (RFC 2397); None for another address, or one that holds nothing sound."""
    found = _DATA.match(address.strip())
    if found is None:
        return None
    rest = unquote_to_bytes(address.strip()[found.end() :])
    if not found[1].lower().endswith(";base64"):
        return rest
    try:
        return base64.b64decode(b"".join(rest.split()) + b"==")
    except (binascii.Error, ValueError):
        return None


Find = Callable[[str, str], bytes | None]


def picture_at(address: str, named_in: str, find: Find, brought: BroughtFiles) -> str | None:
    """Returns the path of the picture that an address names, brought along; None where there is no picture there."""
    content = data_content(address) or find(address, named_in)
    if content is None:
        return None
    called = "inline" if address.strip().lower().startswith(("data:", "cid:")) else address
    try:
        return brought.picture(content, called)
    except PictureError:
        return None
