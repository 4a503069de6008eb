"""Bodies in JSON (RFC 8259): a long text in one, which a rendering is, is escaped as a whole and not by character."""

from __future__ import annotations

from collections.abc import Mapping
from json import JSONEncoder
from typing import Any

_ENCODER = JSONEncoder(ensure_ascii=False, default=str)
# Below it, the encoder is as fast.
_LONG = 500
# RFC 8259 7: what is escaped, in octets, of which each character beyond ASCII has none; the controls are rare.
_ESCAPES = ((b"\\", rb"\\"), (b'"', rb"\""), (b"\n", rb"\n"), (b"\r", rb"\r"), (b"\t", rb"\t"))
_CONTROLS = bytes(octet for octet in range(0x20) if octet not in b"\n\r\t")


def json_body(value: Mapping[str, Any]) -> bytes:
    """Returns an object as a body in UTF-8, with a line end; a lone surrogate in it becomes a question mark."""
    members = [b"%b: %b" % (_encoded(name), _encoded(member)) for name, member in value.items()]
    return b"{%b}\n" % b", ".join(members)


def _encoded(value: Any) -> bytes:
    if isinstance(value, str) and len(value) > _LONG:
        octets = value.encode("utf-8", "replace")
        if len(octets.translate(None, _CONTROLS)) == len(octets):
            for octet, escaped in _ESCAPES:
                octets = octets.replace(octet, escaped)
            return b'"%b"' % octets
    return _ENCODER.encode(value).encode("utf-8", "replace")
