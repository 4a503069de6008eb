"""The rules of RFC 5322, 2045 and 2047 that the rest is built on, each quoted beside its pattern.

Every pattern is linear: no two of its parts can match the same character in two ways.
"""

from __future__ import annotations

import re

# RFC 5322 3.2.3; RFC 6532 3.2 adds UTF8-non-ascii:
#   atext = ALPHA / DIGIT / "!" / "#" / "$" / "%" / "&" / "'" / "*" / "+" / "-" / "/" / "=" / "?" / "^" / "_" /
#           "`" / "{" / "|" / "}" / "~"
ATEXT = r"A-Za-z0-9!#$%&'*+\-/=?^_`{|}~"
UTF8 = "\u0080-\U0010ffff"
ATOM = re.compile(rf"[{ATEXT}{UTF8}]+")
ASCII_ATOM = re.compile(rf"[{ATEXT}]+")

# RFC 5322 3.2.3:  dot-atom-text = 1*atext *("." 1*atext)
DOT_ATOM = re.compile(rf"[{ATEXT}{UTF8}]+(?:\.[{ATEXT}{UTF8}]+)*")

# RFC 5322 3.2.4:  qtext = %d33 / %d35-91 / %d93-126   qcontent = qtext / quoted-pair
#                  quoted-string = [CFWS] DQUOTE *([FWS] qcontent) [FWS] DQUOTE [CFWS]
QUOTED = re.compile(rf'"(?:[\x20\x21\x23-\x5b\x5d-\x7e\t{UTF8}]|\\[\x20-\x7e\t{UTF8}])*"')

# RFC 5322 3.4.1:  domain-literal = [CFWS] "[" *([FWS] dtext) [FWS] "]" [CFWS]   dtext = %d33-90 / %d94-126
DOMAIN_LITERAL = re.compile(r"\[[\x21-\x5a\x5e-\x7e \t]*\]")

# RFC 5322 3.6.8:  ftext = %d33-57 / %d59-126   (printable US-ASCII but ":")
FIELD_NAME = re.compile(r"[\x21-\x39\x3b-\x7e]+")

# RFC 5322 3.6.4:  msg-id = [CFWS] "<" id-left "@" id-right ">" [CFWS]   (id-right: dot-atom-text / no-fold-literal)
MESSAGE_ID = re.compile(rf"<[{ATEXT}]+(?:\.[{ATEXT}]+)*@(?:[{ATEXT}]+(?:\.[{ATEXT}]+)*|\[[\x21-\x5a\x5e-\x7e]*\])>")

# RFC 2045 5.1:  token = 1*<any (US-ASCII) CHAR except SPACE, CTLs, or tspecials>
TOKEN = re.compile(r"[!#$%&'*+\-.0-9A-Z^_`a-z{|}~]+")
# RFC 2045 5.1:  type "/" subtype
MEDIA_TYPE = re.compile(rf"({TOKEN.pattern})/({TOKEN.pattern})")

# RFC 2047 2:  encoded-word = "=?" charset "?" encoding "?" encoded-text "?="; what might be read as one
ENCODED_WORD_START = "=?"

# What no value from outside may bring into a header field (RFC 5322 2.2, 3.2.5), TAB in free text excepted:
# C0 controls, DEL, the line separators some software breaks lines at, and halves of surrogate pairs.
FORBIDDEN = re.compile("[\x00-\x1f\x7f\u2028\u2029\ud800-\udfff]")
FORBIDDEN_IN_TEXT = re.compile("[\x00-\x08\x0a-\x1f\x7f\u2028\u2029\ud800-\udfff]")

# RFC 5322 2.1.1: each line SHOULD be no more than 78 characters, and MUST be no more than 998; RFC 2047 2:
# a line with an encoded-word is limited to 76, an encoded-word to 75.
LINE = 78
LINE_WITH_ENCODED_WORD = 76
ENCODED_WORD = 75
LONGEST_LINE = 998

# RFC 1035 2.3.4, RFC 5321 4.5.3.1: a label has at most 63 octets, a domain 255, a local part 64, a path 256.
LONGEST_DOMAIN, LONGEST_LOCAL, LONGEST_PATH = 255, 64, 256
