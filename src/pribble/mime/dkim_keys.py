"""Keys of DKIM: RSA (RFC 6376, RFC 8301) and Ed25519 (RFC 8463), private ones that sign and published ones that verify.

They need the ``cryptography`` package, which the extra ``sign`` brings.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Callable, Mapping
from typing import Any

from pribble.errors import DataError, loaded
from pribble.mime.dkim import Signature, fields_of, signed_octets
from pribble.records import record
from pribble.regexes import regex

NEEDS = "signatures need the cryptography package"
SHORTEST_RSA = 2048  # bits that a key of ours has (RFC 8301 3.2)
_LEAST_RSA = 1024  # and one that is believed
# A line of a file of published keys: the name, and the record, as it is or as a zone file has it.
_RECORD = regex(r"(\S+?)\.?[ \t]+(?:[0-9]+[ \t]+)?(?:IN[ \t]+)?(?:TXT[ \t]+)?(.*)", re.IGNORECASE)
_QUOTED = regex(r'"((?:[^"\\]|\\.)*+)"')


@record(frozen=True)
class SigningKey:
    """A private key: the `algorithm` that a= names, and what signs octets."""

    algorithm: str
    sign: Callable[[bytes], bytes]

    def __repr__(self) -> str:
        return f"<SigningKey {self.algorithm}>"


def signing_key(pem: bytes) -> SigningKey:
    """Returns the private key of a PEM text, without a password.

    Raises `DataError` for what is none, or too short, and says nothing of it; `MissingExtra` without the package.
    """
    serialization = loaded("cryptography.hazmat.primitives.serialization", extra="sign", message=NEEDS)
    hashes, padding, rsa, ed25519 = _algorithms()
    try:
        key = serialization.load_pem_private_key(pem, password=None)
    except Exception as error:  # it knows many kinds of wrong, and may quote the key
        raise DataError(f"no private key in PEM that can be read without a password ({type(error).__name__})") from None
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return SigningKey("ed25519-sha256", lambda octets: bytes(key.sign(hashlib.sha256(octets).digest())))
    if not isinstance(key, rsa.RSAPrivateKey):
        raise DataError("a key of another kind than RSA or Ed25519")
    if key.key_size < SHORTEST_RSA:
        raise DataError(f"a key of {key.key_size} bits, and {SHORTEST_RSA} at least (RFC 8301 3.2)")
    return SigningKey("rsa-sha256", lambda octets: bytes(key.sign(octets, padding.PKCS1v15(), hashes.SHA256())))


def _algorithms() -> tuple[Any, Any, Any, Any]:
    names = ("hashes", "asymmetric.padding", "asymmetric.rsa", "asymmetric.ed25519")
    hashes, padding, rsa, ed25519 = (
        loaded(f"cryptography.hazmat.primitives.{name}", extra="sign", message=NEEDS) for name in names
    )
    return hashes, padding, rsa, ed25519


# ---- published keys -------------------------------------------------------------------------------------------


def published_keys(text: str) -> dict[str, str]:
    """Returns the records of a file of published keys by name, in lower case.

    A line has a name, ``selector._domainkey.domain``, and its record, as it is or in quotes, as in a zone file.  Raises
    `DataError` for a line that is none.
    """
    found: dict[str, str] = {}
    for number, line in enumerate(text.splitlines(), 1):
        line = line.strip()
        if not line or line[0] in "#;":
            continue
        record = _RECORD.fullmatch(line)
        if record is None or "._domainkey." not in f".{record[1]}.".lower():
            raise DataError(f"line {number} is no key: selector._domainkey.domain, and its record")
        quoted = _QUOTED.findall(record[2])
        found[record[1].lower()] = re.sub(r"\\(.)", r"\1", "".join(quoted)) if quoted else record[2]
    return found


def verifies(raw: bytes, field: tuple[bytes, bytes], keys: Mapping[str, str]) -> str | None:
    """Returns why a signature of a message does not verify; "" where it does, None where nobody has its key.

    `field` is its name and value, as they stand in the message.
    """
    signature = Signature.of(field[1].decode("latin-1"))
    record = keys.get(signature.key_name)
    if record is None:
        return None
    forms, digest = signature.forms, signature.digest
    if forms is None or digest is None:
        return "an algorithm or a canonical form that nobody knows"
    if digest == "sha1":
        return "rsa-sha1 is believed by nobody any more (RFC 8301 3.1)"
    fields, _ = fields_of(raw)
    octets = signed_octets(fields, signature.names, field, forms[0])
    tags = Signature.of(record).tags
    if tags.get("v", "DKIM1") != "DKIM1" or tags.get("k", "rsa") != signature.tags.get("a", "").partition("-")[0]:
        return "its key is of another kind"
    if not tags.get("p"):
        return "its key was revoked"
    if digest not in tags.get("h", digest).split(":"):
        return "its key is for other digests"
    try:
        _verify(base64.b64decode(tags["p"], validate=True), signature, octets)
    except _Unfit as error:
        return str(error)
    except (binascii.Error, ValueError, TypeError):
        return "its key is none"
    return ""


class _Unfit(Exception):
    """A key does not fit a signature."""


def _verify(key: bytes, signature: Signature, octets: bytes) -> None:
    """Raise `_Unfit` where a key did not make a signature, and others for a key that is none."""
    invalid = loaded("cryptography.exceptions", extra="sign", message=NEEDS).InvalidSignature
    serialization = loaded("cryptography.hazmat.primitives.serialization", extra="sign", message=NEEDS)
    hashes, padding, rsa, ed25519 = _algorithms()
    try:
        if signature.tags.get("a") == "ed25519-sha256":
            made = ed25519.Ed25519PublicKey.from_public_bytes(key)
            made.verify(signature.octets("b"), hashlib.sha256(octets).digest())
            return
        public = serialization.load_der_public_key(key)  # also as PKCS#1, which RFC 6376 3.6.1 speaks of
        if not isinstance(public, rsa.RSAPublicKey):
            raise ValueError("no RSA")
        if public.key_size < _LEAST_RSA:
            raise _Unfit(f"its key has {public.key_size} bits, and {_LEAST_RSA} at least (RFC 8301 3.2)")
        public.verify(signature.octets("b"), octets, padding.PKCS1v15(), hashes.SHA256())
    except invalid:
        raise _Unfit("what it covers was changed, or another key made it") from None
