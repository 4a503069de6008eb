"""Signatures of DKIM (RFC 6376; RFC 8463 for Ed25519): what is signed, as octets, and the field that says so.

    signed octets = the fields that h= names, the last of each name first, and the field of the signature without b=

How keys sign and verify, `pribble.mime.dkim_keys` says.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Literal, Self

from pribble.records import record
from pribble.regexes import regex

Form = Literal["simple", "relaxed"]
NAME = "DKIM-Signature"
# A field with its line ends: the name, and all to the end of its last line.
_FIELD = regex(rb"([^\s:]+)[ \t]*:((?:[^\r\n]|\r\n[ \t]|\r(?!\n)|\n)*+)\r\n")
_BLANKS = regex(rb"[ \t]+")
_B_VALUE = regex(rb"((?:\A|;)[ \t\r\n]*b[ \t\r\n]*=)[^;]*")
_SPACE = regex(r"[ \t\r\n]+")
_DIGITS = regex("[0-9]{1,76}")
_LONGEST_LINE = 76
# What is signed (RFC 6376 5.4.1), each as often as it is there…
SIGNED = (
    *("From", "Sender", "Reply-To", "Subject", "Date", "Message-ID", "To", "Cc", "In-Reply-To", "References"),
    *("List-Unsubscribe", "List-Unsubscribe-Post", "MIME-Version", "Content-Type", "Content-Transfer-Encoding"),
)
# …and once more, so that nobody adds another one.
OVERSIGNED = ("From", "Subject", "To", "Reply-To", "Date")


def fields_of(raw: bytes) -> tuple[list[tuple[bytes, bytes]], int]:
    """Returns the fields of a message's header, name and value with its line ends, and where its body begins."""
    found, position = [], 0
    while (field := _FIELD.match(raw, position)) is not None:
        found.append((field[1], field[2] + b"\r\n"))
        position = field.end()
    return found, position + 2 if raw.startswith(b"\r\n", position) else position


# ---- canonical forms (RFC 6376 3.4) ---------------------------------------------------------------------------


def canonical_field(name: bytes, value: bytes, form: Form) -> bytes:
    """Returns a field in a canonical form."""
    if form == "simple":
        return name + b":" + value
    return name.lower() + b":" + _BLANKS.sub(b" ", value.replace(b"\r\n", b"")).strip(b" ") + b"\r\n"


def canonical_body(body: bytes, form: Form) -> bytes:
    """Returns a body in a canonical form."""
    if form == "relaxed" and (b"\t" in body or b"  " in body or b" \r\n" in body or body.endswith(b" ")):
        body = _BLANKS.sub(b" ", body).replace(b" \r\n", b"\r\n").removesuffix(b" ")
    end = len(body)
    while body.endswith(b"\r\n", 0, end):
        end -= 2
    return body[:end] + b"\r\n" if end or form == "simple" else b""


def body_hash(body: bytes, form: Form, length: int | None = None, digest: str = "sha256") -> bytes:
    """Returns the digest of a body in a canonical form, or of its first octets."""
    canonical = canonical_body(body, form)
    return hashlib.new(digest, canonical if length is None else canonical[:length]).digest()


def signed_octets(
    fields: Sequence[tuple[bytes, bytes]], names: Iterable[str], signature: tuple[bytes, bytes], form: Form
) -> bytes:
    """Returns the octets that a signature is over: the fields of these names, from the last one up (RFC 6376 5.4.2),
    and the field of the signature itself, whose b= counts as empty."""
    waiting: dict[bytes, list[tuple[bytes, bytes]]] = {}
    for name, value in fields:
        waiting.setdefault(name.lower(), []).append((name, value))
    chosen = [found.pop() for one in names if (found := waiting.get(one.lower().encode("utf-8")))]
    name, value = signature
    own = canonical_field(name, _B_VALUE.sub(rb"\1", value), form).removesuffix(b"\r\n")
    return b"".join(canonical_field(*one, form) for one in chosen) + own


# ---- writing --------------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class ToSign:
    """A message that is to be signed, by one key or several: its `fields`, the `names` of those that are covered, and
    the `digest` of its body, relaxed."""

    fields: Sequence[tuple[bytes, bytes]]
    names: Sequence[str]
    digest: str

    @classmethod
    def of(cls, raw: bytes) -> Self:
        """Returns what of a message is signed."""
        fields, body = fields_of(raw)
        there = [name.lower() for name, _ in fields]
        names = [one for one in SIGNED for _ in range(there.count(one.lower().encode()) + (one in OVERSIGNED))]
        return cls(fields, names, base64.b64encode(body_hash(raw[body:], "relaxed")).decode("ascii"))

    def field(self, domain: str, selector: str, algorithm: str, sign: Callable[[bytes], bytes], time: int) -> bytes:
        """Returns the field that signs it for a domain, relaxed/relaxed: what `sign` makes of the octets is b=.

        `time` is when it was signed, in seconds since 1970; with the same one, the same field.
        """
        tags = f"v=1; a={algorithm}; c=relaxed/relaxed; d={domain}; s={selector}; t={time};"
        listed = _folded(":".join(self.names), ":")
        value = f" {_folded(tags, ' ')}\r\n h={listed};\r\n bh={self.digest};\r\n b="
        octets = signed_octets(self.fields, self.names, (NAME.encode(), value.encode("ascii") + b"\r\n"), "relaxed")
        made = base64.b64encode(sign(octets)).decode("ascii")
        lines = [made[start : start + _LONGEST_LINE - 4] for start in range(0, len(made), _LONGEST_LINE - 4)]
        folded = "\r\n  ".join(lines)
        return f"{NAME}:{value}{folded}\r\n".encode("ascii")


def _folded(text: str, joint: str) -> str:
    """Returns a text in lines, broken behind a joint."""
    lines, line = [], ""
    for word in re.split(f"(?<={joint})", text):
        if line and len(line) + len(word) > _LONGEST_LINE - 20:
            lines.append(line.rstrip())
            line = ""
        line += word
    return "\r\n  ".join([*lines, line])


# ---- reading --------------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class Signature:
    """A signature as its field says it: its tags (RFC 6376 3.5), blanks left out."""

    tags: Mapping[str, str]

    @classmethod
    def of(cls, raw: str) -> Self:
        """Returns what a field's value says; of a tag that stands twice, the first counts."""
        tags: dict[str, str] = {}
        for tag in _SPACE.sub("", raw).split(";"):
            name, equals, value = tag.partition("=")
            if equals:
                tags.setdefault(name, value)
        return cls(tags)

    @property
    def names(self) -> list[str]:
        """The names of the fields that it covers."""
        return self.tags.get("h", "").lower().split(":")

    @property
    def forms(self) -> tuple[Form, Form] | None:
        """The canonical forms of header and body; None where it names others."""
        header, _, body = self.tags.get("c", "simple/simple").partition("/")
        known: dict[str, Form] = {"simple": "simple", "relaxed": "relaxed", "": "simple"}
        forms = known.get(header), known.get(body)
        return forms if forms[0] and forms[1] else None  # type: ignore[return-value]

    @property
    def digest(self) -> str | None:
        """The digest of its algorithm; None where there is no such algorithm."""
        return {"rsa-sha256": "sha256", "ed25519-sha256": "sha256", "rsa-sha1": "sha1"}.get(self.tags.get("a", ""))

    @property
    def length(self) -> int | None:
        """Of how many octets of the body it speaks; None for all."""
        written = self.tags.get("l", "")
        return int(written) if _DIGITS.fullmatch(written) else None

    @property
    def key_name(self) -> str:
        """Where its key is published (RFC 6376 3.6.2.1)."""
        return f"{self.tags.get('s', '')}._domainkey.{self.tags.get('d', '')}".lower()

    def octets(self, name: str) -> bytes:
        """Returns what a tag holds in base64; nothing where that is none."""
        try:
            return base64.b64decode(self.tags.get(name, ""), validate=True)
        except (binascii.Error, ValueError):
            return b""

    def fits_body(self, body: bytes) -> bool | None:
        """Returns whether a body is the one that was signed; None where that cannot be said."""
        forms, digest = self.forms, self.digest
        if forms is None or digest is None:
            return None
        return body_hash(body, forms[1], self.length, digest) == self.octets("bh")
