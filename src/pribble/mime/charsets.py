"""Charsets by the names that messages give them.

Python knows codecs that are no charsets: some of them take time that grows with the square of a text, others read
something else than text.  No message gets to them.
"""

from __future__ import annotations

import codecs

# What Python decodes text with though it is no charset (none is registered with IANA, RFC 2978).
_NO_CHARSETS = frozenset({"idna", "mbcs", "oem", "punycode", "raw-unicode-escape", "undefined", "unicode-escape"})
# No name of a charset is longer (RFC 2978 2.3).
_LONGEST_NAME = 40


def codec_name(charset: str) -> str | None:
    """The name of the codec for a charset, the same for all its names; None where there is none."""
    if len(charset) > _LONGEST_NAME:
        return None
    try:
        found = codecs.lookup(charset)
    except (LookupError, ValueError):  # unknown, or no name at all
        return None
    # That a codec is one of text is known to Python's own readers, which refuse the others.
    name = found.name.replace("_", "-")
    return None if name in _NO_CHARSETS or not getattr(found, "_is_text_encoding", True) else found.name


def fits(octets: bytes, charset: str) -> bool:
    """Whether octets are a text in a charset."""
    return decoded(octets, charset) is not None


def decoded(octets: bytes, charset: str) -> str | None:
    """Octets as the text they are in a charset; None where they are none, or there is no such charset."""
    codec = codec_name(charset)
    if codec is None:
        return None
    try:
        return octets.decode(codec)
    except ValueError:
        return None
