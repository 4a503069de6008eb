"""The rules of RFC 5322, 6532, 2045, 2046, 2047, 2231, 2392 and 5321 that the rest is built on, each quoted beside its
pattern.

A message that is read is a text of octets, one character each (ISO 8859-1), so that the same patterns serve to write
and to read.  Every pattern is linear: no two of its parts can match the same character in two ways.
"""

from __future__ import annotations

from pribble.regexes import regex

# ---- RFC 5322, with what RFC 6532 3.1 and 3.2 add: any character beyond ASCII ---------------------------------

# RFC 5322 3.2.3:
#   atext = ALPHA / DIGIT / "!" / "#" / "$" / "%" / "&" / "'" / "*" / "+" / "-" / "/" / "=" / "?" / "^" / "_" /
#           "`" / "{" / "|" / "}" / "~"
ATEXT = r"A-Za-z0-9!#$%&'*+\-/=?^_`{|}~"
ASCII_ATOM = regex(rf"[{ATEXT}]+")
# With any character beyond ASCII: all but controls, space and the specials of RFC 5322 3.2.3 (a set that names what is
# not in it is compiled a hundred times as fast as one that reaches up to U+10FFFF).
_ATEXT = r'[^\x00-\x20"(),.:;<>@\[\\\]\x7f]'
ATOM = regex(rf"{_ATEXT}+")

# Most addresses are atoms with dots between and a domain in small letters: as it is kept, with nothing to look after.
USUAL_ADDRESS = r"(?![^@]{65})[A-Za-z0-9_+-]++(?:\.[A-Za-z0-9_+-]++)*+@(?![a-z0-9.-]{64})[a-z0-9]++(?:[.-][a-z0-9]++)*+"

# RFC 5322 3.2.1:  quoted-pair = ("\" (VCHAR / WSP))
# RFC 5322 3.2.4:  qtext = %d33 / %d35-91 / %d93-126   qcontent = qtext / quoted-pair
#                  quoted-string = [CFWS] DQUOTE *([FWS] qcontent) [FWS] DQUOTE [CFWS]
QUOTED = regex(r'"(?:[^\x00-\x08\x0a-\x1f"\\\x7f]|\\[^\x00-\x08\x0a-\x1f\x7f])*"')

# RFC 5322 2.2.2, 2.2.3:  WSP = SP / HTAB, and the line ends of folds; no other character is white space, whatever
# Unicode says of octets such as %d133 and %d160.
WHITE_SPACE = " \t\r\n"

# RFC 5322 3.2.2:  FWS = ([*WSP CRLF] 1*WSP)   with RFC 5322 4.2:  obs-FWS = 1*WSP *(CRLF 1*WSP)
FOLD = regex(r"\r?\n(?=[ \t])")

# RFC 5322 3.4.1:  domain-literal = [CFWS] "[" *([FWS] dtext) [FWS] "]" [CFWS]   dtext = %d33-90 / %d94-126
DOMAIN_LITERAL = regex(r"\[[\x21-\x5a\x5e-\x7e \t]*\]")

# RFC 5322 3.6.8:  field-name = 1*ftext   ftext = %d33-57 / %d59-126   (printable US-ASCII but ":")
FIELD_NAME = regex(r"[\x21-\x39\x3b-\x7e]+")

# RFC 5322 3.6.4:  msg-id = [CFWS] "<" id-left "@" id-right ">" [CFWS]
#                  id-left = dot-atom-text   id-right = dot-atom-text / no-fold-literal
MESSAGE_ID = regex(rf"<[{ATEXT}]+(?:\.[{ATEXT}]+)*@(?:[{ATEXT}]+(?:\.[{ATEXT}]+)*|\[[\x21-\x5a\x5e-\x7e]*\])>")

# RFC 5322 3.3:  date-time = [ day-of-week "," ] date time [CFWS]
#                date = day month year   day = ([FWS] 1*2DIGIT FWS)   year = (FWS 4*DIGIT FWS)
#                time = time-of-day zone   time-of-day = hour ":" minute [ ":" second ]
#                zone = (FWS ( "+" / "-" ) 4DIGIT)
# RFC 5322 4.3:  obs-year = [CFWS] 2*DIGIT [CFWS]   obs-zone = "UT" / "GMT" / "EST" / … / a letter but "J"
DATE_TIME = regex(
    r"(?:(?P<weekday>[A-Za-z]{3})[ \t]*,)?[ \t]*(?P<day>[0-9]{1,2})[ \t]+(?P<month>[A-Za-z]{3})[ \t]+"
    r"(?P<year>[0-9]{2,})[ \t]+(?P<hour>[0-9]{2}):(?P<minute>[0-9]{2})(?::(?P<second>[0-9]{2}))?"
    r"[ \t]+(?P<zone>[+-][0-9]{4}|[A-Za-z]{1,5})[ \t]*"
)
OBSOLETE_ZONES = frozenset("UT GMT EST EDT CST CDT MST MDT PST PDT".split())
WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")

# ---- RFC 2045, 2046, 2231 -------------------------------------------------------------------------------------

# RFC 2045 5.1:  token = 1*<any (US-ASCII) CHAR except SPACE, CTLs, or tspecials>
#                tspecials = "(" / ")" / "<" / ">" / "@" / "," / ";" / ":" / "\" / <"> / "/" / "[" / "]" / "?" / "="
TOKEN = regex(r"[!#$%&'*+\-.0-9A-Z^_`a-z{|}~]+")
# RFC 2045 5.1:  content = "Content-Type" ":" type "/" subtype *(";" parameter)
MEDIA_TYPE = regex(rf"({TOKEN.pattern})/({TOKEN.pattern})")

# RFC 2046 5.2.1, and RFC 6532 3.7 for headers that are not ASCII: types of a message within a message
MESSAGE_TYPES = ("message/rfc822", "message/global")

# RFC 2046 5.1.1:  boundary = 0*69<bchars> bcharsnospace   bchars = bcharsnospace / " "
#                  bcharsnospace = DIGIT / ALPHA / "'" / "(" / ")" / "+" / "_" / "," / "-" / "." / "/" / ":" / "=" / "?"
BOUNDARY = regex(r"[0-9A-Za-z'()+_,\-./:=? ]{0,69}[0-9A-Za-z'()+_,\-./:=?]")
LONGEST_BOUNDARY = 70

# RFC 2231 7:  attribute := 1*attribute-char   regular-parameter-name := attribute [section]
#              section := initial-section / other-sections   other-sections := "*" ("1" / "2" / …) *DIGIT
PARAMETER_NAME = regex(r"([!#$&+\-.0-9A-Z^_`a-z{|}~]+)(?:\*([0-9]+))?(\*)?")
# RFC 2231 7:  ext-octet := "%" 2(DIGIT / "A" / … / "F")   attribute-char := <any (US-ASCII) CHAR except SPACE, CTLs,
#              "*", "'", "%", or tspecials>
EXTENDED_VALUE = regex(r"(?:[!#$&+\-.0-9A-Z^_`a-z{|}~]|%[0-9A-Fa-f]{2})*")

# RFC 2045 6.7(1):  hex-octet := "=" 2(DIGIT / "A" / "B" / "C" / "D" / "E" / "F")
# RFC 2045 6.7(2), (3):  octets 33 to 60 and 62 to 126 may stand for themselves, TAB and SPACE but at the end of a line
QUOTED_PRINTABLE = regex(r"(?:[\x21-\x3c\x3e-\x7e\t ]++|=[0-9A-F]{2}|=?\r\n)*+=?")
# RFC 2045 6.8:  65 characters, lines of at most 76; "=" pads the last group
BASE64 = regex(r"[A-Za-z0-9+/]*={0,2}")
# RFC 2045 6.1
MECHANISMS = frozenset(("7bit", "8bit", "binary", "quoted-printable", "base64"))

# ---- RFC 2047 -------------------------------------------------------------------------------------------------

# RFC 2047 2:  encoded-word = "=?" charset "?" encoding "?" encoded-text "?="   (RFC 2231 5: charset ["*" language])
#              encoded-text = 1*<any printable ASCII character other than "?" or SPACE>
ENCODED_WORD_TEXT = regex(r"=\?([!#$%&'+\-0-9A-Z^_`a-z{|}~]+)(\*[A-Za-z0-9-]+)?\?([A-Za-z0-9])\?([!->@-~]*)\?=")
# What is read as one, perhaps wrongly.
ENCODED_WORD_START = "=?"

# ---- what no value from outside may bring ---------------------------------------------------------------------

# RFC 5322 2.2, 3.2.5, TAB in free text excepted: C0 controls, DEL, the line separators some software breaks lines at,
# and halves of surrogate pairs.
FORBIDDEN = regex("[\x00-\x1f\x7f\u2028\u2029\ud800-\udfff]")
FORBIDDEN_IN_TEXT = regex("[\x00-\x08\x0a-\x1f\x7f\u2028\u2029\ud800-\udfff]")

# Characters that turn the direction of what follows (UAX 9), and so may hide what a file is (RFC 2183 5).
TURNING = "\u200e\u200f\u202a-\u202e\u2066-\u2069"

# RFC 3986 2:  URI characters, reserved, unreserved and "%"; none of them needs folding or quoting
URI = regex(r"[A-Za-z][A-Za-z0-9+.\-]*:[!#$%&'()*+,\-./0-9:;=?@A-Z\[\]_a-z~]+")

# RFC 5646 2.1:  langtag = language ["-" script] ["-" region] … ; each subtag of one to eight letters or digits
LANGUAGE = regex(r"[A-Za-z]{1,8}(?:-[A-Za-z0-9]{1,8})*")

# ---- sizes ----------------------------------------------------------------------------------------------------

# RFC 5322 2.1.1: each line SHOULD be no more than 78 characters, and MUST be no more than 998; RFC 2047 2:
# a line with an encoded-word is limited to 76, an encoded-word to 75.
LINE = 78
LINE_WITH_ENCODED_WORD = 76
ENCODED_WORD = 75
LONGEST_LINE = 998
ENCODED_LINE = 76  # RFC 2045 6.7(5), 6.8

# RFC 1035 2.3.4, RFC 5321 4.5.3.1: a label has at most 63 octets, a domain 255, a local part 64, a path 256.
LONGEST_LABEL, LONGEST_DOMAIN, LONGEST_LOCAL, LONGEST_PATH = 63, 255, 64, 256
