"""Charsets by the names that messages give them.

Python knows codecs that are no charsets: some of them take time that grows with the square of a text, others read
something else than text.  No message gets to them.
"""

from __future__ import annotations

import codecs

# What Python decodes text with though it is no charset (none is registered with IANA, RFC 2978).
_NO_CHARSETS = frozenset({"idna", "mbcs", "oem", "punycode", "raw-unicode-escape", "undefined", "unicode-escape"})
# Charsets that are registered with IANA, and that Python knows under another name.
_OTHER_NAMES = {
    "windows-874": "cp874",
    "windows-31j": "cp932",
    "cswindows31j": "cp932",
    "windows-936": "gbk",
    "csgbk": "gbk",
    "csgb2312": "gb2312",
    "csgb18030": "gb18030",
    "gb_2312-80": "gb2312",
    "csbig5hkscs": "big5hkscs",
    "cseuckr": "euc_kr",
    "ks_c_5601-1989": "euc_kr",
    "iso-ir-149": "euc_kr",
    "cseucpkdfmtjapanese": "euc_jp",
    "extended_unix_code_packed_format_for_japanese": "euc_jp",
    "csiso2022jp2": "iso2022_jp_2",
    "cstis620": "tis_620",
    "cskoi8u": "koi8_u",
    "cskz1048": "kz1048",
    "csmacintosh": "mac_roman",
    "mac": "mac_roman",
    "cshproman8": "hp_roman8",
    "iso-8859-6-e": "iso8859_6",
    "csiso88596e": "iso8859_6",
    "iso-8859-6-i": "iso8859_6",
    "csiso88596i": "iso8859_6",
    "iso-8859-8-e": "iso8859_8",
    "csiso88598e": "iso8859_8",
    "iso-8859-8-i": "iso8859_8",
    "csiso88598i": "iso8859_8",
    "csiso885913": "iso8859_13",
    "csiso885914": "iso8859_14",
    "csiso885915": "iso8859_15",
    "csiso885916": "iso8859_16",
    "csisolatin9": "iso8859_15",
    "latin-9": "iso8859_15",
    **{f"cswindows{page}": f"cp{page}" for page in range(1250, 1259)},
    **{f"{begin}00858": "cp858" for begin in ("ibm", "ccsid", "cp")},
    **{f"{begin}01140": "cp1140" for begin in ("ibm", "ccsid", "cp")},
    "csutf7": "utf_7",
    "csutf8": "utf_8",
    "csutf16": "utf_16",
    "csutf16be": "utf_16_be",
    "csutf16le": "utf_16_le",
    "csutf32": "utf_32",
    "csutf32be": "utf_32_be",
    "csutf32le": "utf_32_le",
    "iso-10646-ucs-2": "utf_16_be",
    "csunicode": "utf_16_be",
    "iso-10646-ucs-4": "utf_32_be",
    "csucs4": "utf_32_be",
}
# No name of a charset is longer (RFC 2978 2.3).
_LONGEST_NAME = 40


def codec_name(charset: str) -> str | None:
    """Returns the name of the codec for a charset, the same for all its names; None where there is none."""
    if len(charset) > _LONGEST_NAME:
        return None
    try:
        found = codecs.lookup(_OTHER_NAMES.get(charset.lower(), charset))
    except (LookupError, ValueError):  # unknown, or no name at all
        return None
    # That a codec is one of text is known to Python's own readers, which refuse the others.
    name = found.name.replace("_", "-")
    return None if name in _NO_CHARSETS or not getattr(found, "_is_text_encoding", True) else found.name


def fits(octets: bytes, charset: str) -> bool:
    """Returns whether octets are a text in a charset."""
    return decode_charset(octets, charset) is not None


def decode_charset(octets: bytes, charset: str) -> str | None:
    """Returns octets as the text they are in a charset; None where they are none, or there is no such charset."""
    codec = codec_name(charset)
    if codec is None:
        return None
    try:
        return octets.decode(codec)
    except ValueError:
        return None
