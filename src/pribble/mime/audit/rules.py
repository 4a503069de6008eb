"""The rules of the audit: how bad a departure is, the section it departs from, what it is, what to do.

An *error* departs from a MUST; a *warning* from a SHOULD, is obsolete syntax, or makes receivers stumble; a *note* is
worth knowing.  Where a rule says `{}`, the finding says what it found.
"""

from __future__ import annotations

from typing import NamedTuple

from pribble.findings import Severity


class Rule(NamedTuple):
    """One rule of the catalogue."""

    severity: Severity
    reference: str
    message: str
    fix: str


_E: Severity = "error"
_W: Severity = "warning"
_N: Severity = "note"
_CRLF = "end every line in CR LF"

RULES: dict[str, Rule] = {
    name: Rule(*rule)
    for name, rule in {
        # -- lines --
        "lines.bare-lf-header": (_E, "RFC 5322 2.3", "a line of the header ends in LF alone", _CRLF),
        "lines.bare-lf-body": (_E, "RFC 5321 2.3.8", "a line of a body ends in LF alone", _CRLF),
        "lines.bare-cr": (_E, "RFC 5322 2.3", "a CR without LF", "remove it, or make it a line end: CR LF"),
        "lines.nul-body": (
            _E,
            "RFC 2045 2.7",
            "a NUL octet in a body that is not encoded",
            "encode the body in base64",
        ),
        "lines.control-header": (
            _E,
            "RFC 5322 2.2",
            "a control character ({}) in a header field",
            "remove it; whatever brought it may bring line breaks as well",
        ),
        "lines.long-header": (
            _E,
            "RFC 5322 2.1.1",
            "a header line of {} octets, more than 998",
            "fold the field before white space",
        ),
        "lines.long-body": (
            _E,
            "RFC 2045 2.7",
            "a body line of {} octets, more than 998",
            "encode the body in quoted-printable or base64",
        ),
        "lines.wide-header": (
            _W,
            "RFC 5322 2.1.1",
            "a header line of {} characters, more than 78",
            "fold the field before white space",
        ),
        "lines.wide-token": (
            _N,
            "RFC 5322 2.1.1",
            "a header line of {} characters, with nowhere to fold it",
            "nothing, as long as it stays below 998",
        ),
        "lines.wide-encoded-word": (
            _E,
            "RFC 2047 2",
            "a line of {} characters with an encoded-word, more than 76",
            "fold between encoded-words",
        ),
        "lines.blank-continuation": (
            _E,
            "RFC 5322 3.2.2",
            "a folded line of nothing but white space",
            "remove it: some programs take it for the end of the header",
        ),
        "lines.starts-folded": (
            _E,
            "RFC 5322 2.2.3",
            "the header begins with a folded line",
            "begin with a field's name",
        ),
        "lines.no-empty-line": (
            _E,
            "RFC 5322 2.1",
            "the body begins without an empty line before it",
            "put an empty line between header and body",
        ),
        "lines.no-colon": (_E, "RFC 5322 2.2", "a header field without a colon", "write name, colon, value"),
        "lines.space-before-colon": (
            _W,
            "RFC 5322 4.5",
            "white space between a field's name and its colon",
            "remove it",
        ),
        "lines.field-name": (
            _E,
            "RFC 5322 3.6.8",
            "a field's name holds a character that none may hold",
            "use letters, digits and hyphens",
        ),
        "lines.bom-first": (
            _E,
            "RFC 5322 2.2",
            "a byte order mark stands before the header",
            "save the message without one",
        ),
        "lines.mbox-from": (
            _E,
            "RFC 5322 2.2",
            'a "From " line of a mailbox file stands before the header',
            "remove the line",
        ),
        # -- which fields, and how often --
        "fields.date-missing": (_E, "RFC 5322 3.6", "no Date", "write one"),
        "fields.from-missing": (_E, "RFC 5322 3.6", "no From", "write one"),
        "fields.repeated": (
            _E,
            "RFC 5322 3.6",
            "{} stands there again",
            "keep one: receivers disagree on which counts",
        ),
        "fields.message-id-missing": (
            _W,
            "RFC 5322 3.6.4",
            "no Message-ID",
            "write one of your own, before it is sent",
        ),
        "fields.sender-missing": (
            _E,
            "RFC 5322 3.6.2",
            "several mailboxes in From and no Sender",
            "name in Sender the one who sends it",
        ),
        "fields.sender-needless": (_W, "RFC 5322 3.6.2", "Sender says the same as From", "remove Sender"),
        "fields.empty": (_E, "RFC 5322 3.4", "{} names nobody", "remove the field, or write undisclosed-recipients:;"),
        "fields.no-destination": (_W, "RFC 5322 3.6.3", "no To, Cc or Bcc", "write To: undisclosed-recipients:;"),
        "fields.bcc-shown": (
            _W,
            "RFC 5322 3.6.3",
            "Bcc shows whom the copies were hidden for",
            "keep these addresses in the envelope alone",
        ),
        "fields.resent-incomplete": (
            _E,
            "RFC 5322 3.6.6",
            "it was sent again without {}",
            "Resent-Date and Resent-From go with every Resent- field",
        ),
        "fields.return-path-submitted": (
            _W,
            "RFC 5321 4.4",
            "Return-Path before it was delivered",
            "leave it to the last server, and name the sender in the envelope",
        ),
        "mime.version-missing": (_E, "RFC 2045 4", "Content- fields without MIME-Version", "write MIME-Version: 1.0"),
        "mime.version-repeated": (_E, "RFC 2045 4", "MIME-Version stands there again", "keep one"),
        "mime.version-unknown": (_E, "RFC 2045 4", "MIME-Version is not 1.0", "write MIME-Version: 1.0"),
        "mime.content-type-repeated": (_E, "RFC 2045 5", "{} stands there again", "keep one"),
        # -- Date --
        "date.weekday": (_E, "RFC 5322 3.3", "that day was a {}", "write the right day of the week, or none"),
        "date.month": (
            _E,
            "RFC 5322 3.3",
            "a day or a month that is not in English",
            "write Mon to Sun and Jan to Dec, whatever the locale",
        ),
        "date.no-zone": (_E, "RFC 5322 3.3", "a time without a zone", "write it as +0100"),
        "date.zone-range": (_E, "RFC 5322 3.3", "a zone that is none", "the last two digits are minutes, below 60"),
        "date.no-such-day": (_E, "RFC 5322 3.3", "a day that the month does not have", "check what made the date"),
        "date.no-such-time": (_E, "RFC 5322 3.3", "a time that no day has", "midnight is 00:00"),
        "date.iso": (
            _E,
            "RFC 5322 3.3",
            "a date in the form of ISO 8601",
            "write it as Fri, 03 Jul 2026 10:15:00 +0100",
        ),
        "date.syntax": (_E, "RFC 5322 3.3", "this is no date", "write it as Fri, 03 Jul 2026 10:15:00 +0100"),
        "date.short-year": (_W, "RFC 5322 4.3", "a year of {} digits", "write all four"),
        "date.zone-name": (_E, "RFC 5322 4.3", "a zone by a name that means nothing", "write it as +0100"),
        "date.old-zone": (_W, "RFC 5322 4.3", "a zone by its name", "write it as +0000"),
        # -- ids --
        "ids.no-brackets": (_E, "RFC 5322 3.6.4", "an id without angle brackets", "write <left@right>"),
        "ids.no-at": (_E, "RFC 5322 3.6.4", "an id without @", "write <left@right>"),
        "ids.space": (_E, "RFC 5322 3.6.4", "an id with white space in it", "remove it"),
        "ids.several": (_E, "RFC 5322 3.6.4", "more than one id", "keep one"),
        "ids.words": (_W, "RFC 5322 4.5.4", "words among the ids", "write ids alone"),
        "ids.folded": (_E, "RFC 5322 3.6.4", "an id is folded in its middle", "fold between ids"),
        "ids.syntax": (
            _E,
            "RFC 5322 3.6.4",
            "an id with a character that none may hold",
            "write <left@right>, of letters, digits and dots",
        ),
        "ids.content-id": (_E, "RFC 2045 7", "a Content-ID that is no id in angle brackets", "write <left@right>"),
        # -- addresses --
        "addresses.dot-in-name": (_W, "RFC 5322 4.1", "a name with a dot, and no quotes around it", 'write "A. Bell"'),
        "addresses.comma-in-name": (
            _E,
            "RFC 5322 3.4",
            "a name without an address: a comma ended it",
            'put the whole name in quotes: "Bell, Ana" <ana@example.org>',
        ),
        "addresses.at-in-name": (
            _E,
            "RFC 5322 3.4",
            "a name with @, and no quotes around it",
            "put the name in quotes: some programs take it for the address",
        ),
        "addresses.unclosed-quote": (_E, "RFC 5322 3.2.4", "a quoted string is not closed", 'write the second "'),
        "addresses.unclosed-comment": (_E, "RFC 5322 3.2.2", "a comment is not closed", "write the )"),
        "addresses.dots": (_E, "RFC 5322 3.4.1", "a dot too many in a local part", "put the local part in quotes"),
        "addresses.encoded-word": (_E, "RFC 2047 5", "an encoded-word in an address", "only names may have them"),
        "addresses.encoded-word-in-quotes": (
            _E,
            "RFC 2047 5",
            "an encoded-word in quotes is shown as it stands",
            "remove the quotes around it",
        ),
        "addresses.not-ascii": (
            _E,
            "RFC 6531 3.2",
            "an address beyond ASCII, which this way does not carry",
            "write the domain as its A-label (xn--…); a local part needs SMTPUTF8 all the way",
        ),
        "addresses.label": (
            _E,
            "RFC 5321 2.3.5",
            "a domain with a label that is empty, too long, or has a character that none may have",
            "labels are letters, digits and hyphens, 1 to 63 of them",
        ),
        "addresses.long-local": (
            _E,
            "RFC 5321 4.5.3.1",
            "a local part of {} octets, more than 64",
            "check the address",
        ),
        "addresses.long-domain": (_E, "RFC 5321 4.5.3.1", "a domain of {} octets, more than 255", "check the address"),
        "addresses.empty-member": (_W, "RFC 5322 4.4", "nothing between two commas", "remove one"),
        "addresses.route": (_W, "RFC 5322 4.4", "a route before an address", "remove it"),
        "addresses.nested-group": (_E, "RFC 5322 3.4", "a group in a group", "make one of them"),
        "addresses.group-in-from": (_W, "RFC 6854", "a group in {}", "many receivers refuse it: name a mailbox"),
        "addresses.unclosed-group": (_E, "RFC 5322 3.4", "a group is not closed", "write the ; behind its last member"),
        "addresses.syntax": (_E, "RFC 5322 3.4", "this is no address", "write Name <local@domain>"),
        # -- encoded-words --
        "words.long": (_E, "RFC 2047 2", "an encoded-word of {} characters, more than 75", "make two of it"),
        "words.split-character": (
            _E,
            "RFC 2047 5",
            "a character is split between two encoded-words",
            "split between characters",
        ),
        "words.space": (_E, "RFC 2047 2", "a space in an encoded-word", "write it as _ (Q), or encode it"),
        "words.question-mark": (
            _E,
            "RFC 2047 4.2",
            "a question mark in the text of an encoded-word",
            "write it as =3F",
        ),
        "words.charset": (_W, "RFC 2047 3", "an unknown charset: {}", "use utf-8"),
        "words.encoding": (_E, "RFC 2047 4", "an encoding that is neither B nor Q", "write B or Q"),
        "words.base64": (_E, "RFC 2047 4.1", "an encoded-word whose base64 is not whole", "pad it with = to fours"),
        "words.hex": (
            _E,
            "RFC 2047 4.2",
            "= without two hexadecimal digits in an encoded-word",
            "write a bare = as =3D",
        ),
        "words.beside": (
            _E,
            "RFC 2047 5(1)",
            "an encoded-word without white space beside it is shown as it stands",
            "put a space between it and its neighbour",
        ),
        "words.phrase": (
            _E,
            "RFC 2047 5(3)",
            "a character that no encoded name may have bare ({})",
            "leave bare only letters, digits and !*+-/_",
        ),
        "words.in-parameter": (
            _E,
            "RFC 2047 5(3)",
            "an encoded-word in a parameter",
            "write name*=utf-8''… (RFC 2231)",
        ),
        "words.line-break": (
            _E,
            "RFC 2047 5",
            "an encoded-word that decodes to a line break",
            "remove it: it may forge a field",
        ),
        "words.octets": (
            _E,
            "RFC 2047 3",
            "an encoded-word whose octets are not in its charset",
            "name the right charset",
        ),
        # -- parameters --
        "parameters.unquoted-tspecial": (_E, "RFC 2045 5.1", "a value that must be in quotes", 'write name="value"'),
        "parameters.repeated": (_E, "RFC 2045 5.1", "the parameter {} stands there again", "keep one"),
        "parameters.continuation": (
            _E,
            "RFC 2231 3",
            "a continued parameter whose pieces are not *0, *1, *2 …",
            "number them from 0, without gaps",
        ),
        "parameters.no-charset": (
            _E,
            "RFC 2231 4",
            "a percent-encoded parameter without its charset",
            "begin the value with utf-8''",
        ),
        "parameters.bad-percent": (
            _E,
            "RFC 2231 4",
            "a percent-encoded parameter that is not wholly encoded",
            "write % and two hexadecimal digits",
        ),
        "parameters.both-forms": (
            _W,
            "RFC 2231",
            "{} in two forms",
            "write the plain one where it is ASCII, else only the one with *",
        ),
        "parameters.raw-octets": (
            _E,
            "RFC 2183 2.3",
            "octets beyond ASCII in a parameter",
            "write filename*=utf-8''… (RFC 2231)",
        ),
        "parameters.unsafe-name": (
            _W,
            "RFC 2183 5",
            "a file name with {}",
            "name the file alone, in characters that show",
        ),
        "parameters.missing-semicolon": (_E, "RFC 2045 5.1", "a semicolon is missing", "write ; before each parameter"),
        "parameters.unclosed-quote": (_E, "RFC 2045 5.1", "a quoted string is not closed", 'write the second "'),
        "parameters.syntax": (_E, "RFC 2045 5.1", "this is no parameter", "write name=value"),
        "parameters.no-subtype": (_E, "RFC 2045 5.1", "a type without a subtype", "write it as text/plain"),
        "parameters.no-disposition": (
            _E,
            "RFC 2183 2",
            "a disposition that does not say which",
            "write inline or attachment first",
        ),
        # -- multipart --
        "multipart.no-boundary": (_E, "RFC 2046 5.1.1", "a multipart without a boundary", 'write boundary="…"'),
        "multipart.long-boundary": (
            _E,
            "RFC 2046 5.1.1",
            "a boundary of {} characters, more than 70",
            "make it shorter",
        ),
        "multipart.boundary-ends-in-space": (
            _E,
            "RFC 2046 5.1.1",
            "a boundary that ends in a space",
            "make it end in another character",
        ),
        "multipart.boundary-character": (
            _E,
            "RFC 2046 5.1.1",
            "a boundary with a character that none may have",
            "use letters, digits and '()+_,-./:=?",
        ),
        "multipart.no-delimiter": (_E, "RFC 2046 5.1.1", "the boundary occurs nowhere", "delimit the parts with it"),
        "multipart.unclosed": (
            _E,
            "RFC 2046 5.1.1",
            "the last delimiter is missing",
            "write --boundary-- at the end; was the message cut off?",
        ),
        "multipart.boundary-in-part": (
            _E,
            "RFC 2046 5.1.1",
            "a line within a part begins with the boundary",
            "choose a boundary that occurs in no part",
        ),
        "multipart.unquoted-equals": (
            _E,
            "RFC 2045 5.1",
            "a boundary with =, and no quotes around it",
            'write boundary="…"',
        ),
        "multipart.same-boundary": (
            _E,
            "RFC 2046 5.1.2",
            "a multipart has the boundary of the one around it",
            "give each its own",
        ),
        "multipart.extended-boundary": (
            _E,
            "RFC 2046 5.1.2",
            "a boundary begins with that of the multipart around it",
            "give each its own, of one length",
        ),
        "multipart.no-empty-line": (
            _E,
            "RFC 2046 5.1",
            "a part's body begins without an empty line before it",
            "put an empty line between header and body, even where there is no header",
        ),
        "multipart.other-field": (_N, "RFC 2046 5.1", "{} means nothing in the header of a part", "remove it"),
        "multipart.encoded": (_E, "RFC 2045 6.4", "a multipart with an encoding", "encode its parts, not the whole"),
        "multipart.message-encoded": (
            _E,
            "RFC 2046 5.2.1",
            "a nested message with an encoding",
            "leave it 7bit or 8bit, or send it as a plain file",
        ),
        "multipart.understated": (_E, "RFC 2045 6.4", "it says 7bit, and a part in it is {}", "say so too"),
        # -- transfer encodings --
        "encodings.unknown": (
            _E,
            "RFC 2045 6.1",
            "an unknown transfer encoding",
            "use 7bit, 8bit, quoted-printable or base64",
        ),
        "encodings.undeclared": (
            _E,
            "RFC 2045 2.7",
            "octets beyond ASCII in a body that says 7bit, or nothing",
            "encode it in quoted-printable or base64",
        ),
        "encodings.qp-long": (
            _E,
            "RFC 2045 6.7(5)",
            "a quoted-printable line of {} characters, more than 76",
            "break it with a = at its end",
        ),
        "encodings.qp-trailing-space": (
            _E,
            "RFC 2045 6.7(3)",
            "a blank at the end of a quoted-printable line",
            "write it as =20 or =09",
        ),
        "encodings.qp-not-hex": (_E, "RFC 2045 6.7(1)", "= without two hexadecimal digits", "write a bare = as =3D"),
        "encodings.qp-lower-case": (
            _W,
            "RFC 2045 6.7(1)",
            "hexadecimal digits in lower case",
            "write them in capitals",
        ),
        "encodings.qp-raw-octet": (
            _E,
            "RFC 2045 6.7(2)",
            "an octet in quoted-printable that must be encoded",
            "write it as = and two hexadecimal digits",
        ),
        "encodings.qp-line-ends": (_W, "RFC 2045 6.7(4)", "line ends of a text are encoded", "break the line instead"),
        "encodings.qp-ends-soft": (_W, "RFC 2045 6.7", "a quoted-printable body ends in a soft break", "remove the ="),
        "encodings.base64-long": (
            _E,
            "RFC 2045 6.8",
            "a base64 line of {} characters, more than 76",
            "break it after 76",
        ),
        "encodings.base64-foreign": (
            _W,
            "RFC 2045 6.8",
            "a character in base64 that does not belong there",
            "remove it: was the body cut or wrapped by hand?",
        ),
        "encodings.base64-padding": (
            _E,
            "RFC 2045 6.8",
            "base64 that is not whole, or goes on behind its end",
            "encode the body anew",
        ),
        "encodings.base64-bare-lf": (
            _W,
            "RFC 2045 6.8",
            "a text in base64 whose lines end in LF alone",
            "make them CR LF before they are encoded",
        ),
        # -- charset and type --
        "types.charset-name": (_W, "RFC 2046 4.1.2", "a charset by a name that is not registered: {}", "write utf-8"),
        "types.charset-unknown": (_W, "RFC 2046 4.1.2", "an unknown charset: {}", "use utf-8"),
        "types.octets": (_E, "RFC 2046 4.1.2", "octets that are not in the charset {}", "name the right charset"),
        "types.us-ascii": (
            _E,
            "RFC 2046 4.1.2",
            "octets beyond ASCII in a text that says us-ascii",
            "say charset=utf-8",
        ),
        "types.no-charset": (
            _E,
            "RFC 2046 4.1.2",
            "octets beyond ASCII in a text that names no charset",
            "say charset=utf-8",
        ),
        "types.meta": (_W, "RFC 2854 6", "the page names another charset than the part: {}", "let both say utf-8"),
        "types.content": (_W, "RFC 2046 4.2", "it says {}", "name the type that it is"),
        # -- related and alternative --
        "related.no-type": (_E, "RFC 2387 3.1", "multipart/related without type", 'write type="text/html"'),
        "related.type": (
            _E,
            "RFC 2387 3.1",
            "multipart/related says that its root is {}",
            "let type be that of the root",
        ),
        "related.start": (
            _E,
            "RFC 2387 3.2",
            "start names no part",
            "name the Content-ID of the root, or put the root first and leave start out",
        ),
        "related.no-part": (
            _E,
            "RFC 2392 2",
            "{} names no part: nothing is shown there",
            "add a part with this Content-ID",
        ),
        "related.unreferenced": (
            _W,
            "RFC 2387",
            "nothing refers to this part",
            "refer to it by its cid:, or attach it to the message: some receivers never show it",
        ),
        "related.id-repeated": (_E, "RFC 2045 7", "a Content-ID that another part has", "give each its own"),
        "related.cid-form": (
            _E,
            "RFC 2392 2",
            "a cid: address with angle brackets or characters that are not encoded",
            "write cid:, and the Content-ID without its brackets, percent-encoded",
        ),
        "related.outside": (
            _W,
            "RFC 2557",
            "{} names a part that is outside of the multipart/related",
            "put it beside the page: some receivers show it as an attachment",
        ),
        "related.root-attachment": (
            _W,
            "RFC 2387",
            "the root has the disposition attachment",
            "remove its disposition",
        ),
        "alternative.order": (
            _W,
            "RFC 2046 5.1.4",
            "the plainest form does not come first",
            "order them plain first, richest last: receivers show the last they know",
        ),
        "alternative.attachment": (
            _W,
            "RFC 2046 5.1.4",
            "an attachment among the forms of a text",
            "put it in a multipart/mixed around them",
        ),
        "alternative.no-text": (
            _W,
            "RFC 2046 5.1.4",
            "a page without a text beside it, or with an empty one",
            "add a text/plain that says the same, before the page",
        ),
        # -- format=flowed --
        "flowed.parameter": (
            _W,
            "RFC 3676 4",
            "an unknown format, or delsp without format=flowed",
            "write format=flowed",
        ),
        "flowed.depth": (
            _W,
            "RFC 3676 4.5",
            "a flowed paragraph changes how deep it is quoted",
            "end the line before without a space",
        ),
        "flowed.from": (_W, "RFC 3676 4.4", 'a line begins with "From "', "put a space before it"),
        "flowed.signature": (
            _W,
            "RFC 3676 4.3",
            "a flowed line before the mark of a signature",
            "end the line before without a space",
        ),
        # -- calendar --
        "calendar.method": (
            _E,
            "RFC 6047 2.4",
            "the part's method is not that of the calendar",
            "let both be the same",
        ),
        "calendar.people": (_E, "RFC 5546 3.2.2", "a REQUEST without ORGANIZER or ATTENDEE", "name who asks, and whom"),
        "calendar.long-line": (_W, "RFC 5545 3.1", "a line of {} octets, more than 75", "fold it"),
        "calendar.split-character": (_W, "RFC 5545 3.1", "a fold splits a character", "fold between characters"),
        "calendar.bare-lf": (_E, "RFC 5545 3.1", "a line that ends in LF alone", _CRLF),
        "calendar.incomplete": (_E, "RFC 5545 3.6.1", "an event without {}", "write UID and DTSTAMP"),
        # -- machines --
        "machines.auto-submitted": (
            _W,
            "RFC 3834 5",
            "an unknown value of Auto-Submitted",
            "write auto-generated, auto-replied or no",
        ),
        "machines.unsubscribe": (
            _E,
            "RFC 2369 2",
            "List-Unsubscribe without an address in angle brackets",
            "write <https://…>, <mailto:…>",
        ),
        "machines.post-value": (
            _E,
            "RFC 8058 3.1",
            "List-Unsubscribe-Post with another value",
            "write List-Unsubscribe=One-Click",
        ),
        "machines.post-https": (
            _E,
            "RFC 8058 3.1",
            "List-Unsubscribe-Post, and {} https: addresses in List-Unsubscribe",
            "write exactly one",
        ),
        "machines.post-unsigned": (
            _N,
            "RFC 8058 4",
            "no DKIM signature covers List-Unsubscribe-Post",
            "sign both fields, or receivers will not offer it",
        ),
        # -- international --
        "international.nested": (
            _E,
            "RFC 6532 3.7",
            "a message/rfc822 whose header is not ASCII",
            "say message/global",
        ),
        "international.utf8": (
            _E,
            "RFC 6532 3.1",
            "octets in a header field that are not UTF-8",
            "encode the field in UTF-8, or in encoded-words",
        ),
        "international.nfc": (
            _W,
            "RFC 6532 3.1",
            "characters in a header field that are not composed (NFC)",
            "normalise to NFC",
        ),
        "international.mixed": (_W, "RFC 6532 3.6", "an encoded-word beside raw UTF-8", "write both in UTF-8"),
        "international.raw": (
            _E,
            "RFC 5322 2.2",
            "octets beyond ASCII in a header field, which this way does not carry",
            "write them in encoded-words",
        ),
        "international.smtputf8": (
            _N,
            "RFC 6531 3.2",
            "characters beyond ASCII in a header field",
            "only servers with SMTPUTF8 take it, all the way",
        ),
        # -- bounds --
        "limits.too-deep": (_W, "RFC 2046 5.1", "parts within parts, too deep to be looked at", "nest less"),
        "limits.too-many-parts": (_W, "RFC 2046 5.1", "more parts than are looked at", "send fewer"),
        "limits.no-final-crlf": (_N, "RFC 5321 2.3.8", "the last line has no end", _CRLF),
    }.items()
}
