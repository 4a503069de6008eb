"""The inputs of `hostile.py`, each by its size: a new one is one line."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from functools import partial


def _repeated(text: str, size: int) -> str:
    return text * (size // len(text))


_FLAG = "\U0001f1e9\U0001f1ea"
# Each template by its size in characters, about.
TEMPLATES: dict[str, Callable[[int], str]] = {
    "<": lambda n: "<" * n,
    "</": lambda n: "</" * (n // 2),
    "<!": lambda n: "<!" * (n // 2),
    "<!--": lambda n: "<!--" * (n // 4),
    "<!--[if]>": lambda n: "<!--[if x]>{{ 1 }}" * min(n // 18, 9_000) + "-" * n,
    "conditional comments": lambda n: "<!--[if x]><img src='https://x.example/'><![endif]-->" * (n // 52),
    "{{": lambda n: "{{" * (n // 2),
    "}}": lambda n: "}}" * (n // 2),
    '"': lambda n: '"' * n,
    "spaces": lambda n: " " * n,
    "spaces in a tag": lambda n: "<a" + " " * n + ">",
    "an open tag": lambda n: "<a " + "b=c " * (n // 4),
    "an open quote": lambda n: '<a b="' + "c" * n,
    "&": lambda n: "&" * n,
    "&a": lambda n: "&" + "a" * n,
    "nested elements": lambda n: "<div>" * (n // 5),
    "nested and closed": lambda n: "<b>" * (n // 7) + "</b>" * (n // 7),
    "end tags of nothing": lambda n: "<i><p>" + "<b>" * (n // 7) + "</i>" * (n // 7),
    "paragraphs in a scope": lambda n: "<p><object>" + "<b>" * (n // 8) + "<div>" * (n // 8),
    "items in a scope": lambda n: "<ul><li><div>" + "<b>" * (n // 7) + "<li>" * (n // 7),
    "nested tables": lambda n: "<table><tr><td>" * (n // 15),
    "svg within svg": lambda n: "<svg><desc>" * (n // 18) + "</x></g>" * (n // 18),
    "foreign end tags": lambda n: "<svg>" + "<g>" * (n // 7) + "</b>" * (n // 7),
    "attributes": lambda n: "<a " + " ".join(f"x{i}=1" for i in range(n // 8)) + ">",
    "attributes in a block": lambda n: "<a {{ if 1: }} " + " ".join(f"x{i}=1" for i in range(n // 8)) + " {{ :if }}>",
    "marks in attributes": lambda n: "<a " + " ".join(f'x{i}="{{{{ 1 }}}}"' for i in range(min(n // 15, 9_000))) + ">",
    "blocks in attributes": lambda n: (
        "<a " + " ".join(f'x{i}="{{{{ if 1: }}}}a{{{{ :if }}}}"' for i in range(min(n // 28, 4_000))) + ">"
    ),
    "blocks in a style": lambda n: '<a style="' + "{{ if 1: }}top:0;{{ :if }}" * min(n // 26, 4_000) + '">',
    "blocks between attributes": lambda n: (
        "<a "
        + "{{ if 1: }} " * 30
        + " ".join(f"{{{{ if 1: }}}}x{i}{{{{ :if }}}}" for i in range(min(n // 25, 4_000)))
        + " {{ :if }}" * 30
        + ">"
    ),
    "a style sheet of names": lambda n: "<style>a{b:{{ 1 }}" + "c" * n + "</style>",
    "a style sheet of escapes": lambda n: "<style>a{b:{{ 1 }}" + "c\\" * (n // 2) + "}</style>",
    "a style sheet of brackets": lambda n: "<style>a{b:{{ 1 }}" + "c(" * min(n // 2, 20_000) + "}</style>",
    "a style sheet of strings": lambda n: "<style>a{b:{{ 1 }}" + '"\\"' * (n // 3) + "}</style>",
    "an address": lambda n: '<a href="https://x.example/' + "../" * (n // 3) + '{{ 1 }}">',
    "a srcset": lambda n: '<img src="https://x.example/" srcset="' + "https://x, " * (n // 11) + 'https://x/{{ 1 }}">',
    "JSON brackets": lambda n: '<script type="application/ld+json">' + "[" * min(n, 20_000) + "{{ 1 }}</script>",
    "quotes in JSON": lambda n: '<script type="application/ld+json">[{{ 1 }}, ' + '"\\"' * (n // 3) + "</script>",
    "marks": lambda n: "{{ 1 }}" * min(n // 7, 19_000),
    "blocks": lambda n: "{{ if 1: }}x{{ :if }}" * min(n // 21, 9_000),
}
# Each page by its size in characters, about, for its plain text.
PAGES: dict[str, Callable[[int], str]] = {
    "a word": lambda n: "x" * n,
    "words": lambda n: "word " * (n // 5),
    "Han": lambda n: "漢" * n,
    "Thai": lambda n: "กเ" * (n // 2),
    "joiners": lambda n: "a\u200d" * (n // 2),
    "places to break": lambda n: "a\u200b" * (n // 2),
    "nested elements": lambda n: "<div>" * (n // 5) + "x",
    "nested quotes": lambda n: "<blockquote>" * (n // 12) + "x",
    "nested lists": lambda n: "<ul><li>x" * (n // 9),
    "nested tables": lambda n: "<table><tr><td>x" * (n // 16),
    "nested links": lambda n: '<a href="https://x.example/">x<table><tr><td>' * (n // 45),
    "nested indices": lambda n: "<sup>x" * (n // 6),
    "paragraphs": lambda n: "<p>word" * (n // 7),
    "paragraphs in a link": lambda n: '<a href="https://x.example/">' + "<div>word" * (n // 9),
    "rows": lambda n: "<table><tr><th>A<th>B" + "<tr><td>word<td>2" * (n // 18),
    "rows of short texts": lambda n: "<table>" + "<tr><td>word<td>2" * (n // 18),
    "cells": lambda n: "<table><tr><th>A<th>B<tr>" + "<td>x" * (n // 5),
    "spans": lambda n: "<table><tr><th>A<th>B" + "<tr><td rowspan=9>x<td colspan=9>y" * (n // 34),
    "cells that reach down": lambda n: (
        "<table><tr><th>A<th>B<tr>" + "<td rowspan=65534>x" * (n // 40) + "<tr><td>y" * (n // 20)
    ),
    "items": lambda n: "<ol>" + "<li>x" * (n // 5),
    "lines": lambda n: "<pre>" + "x\n" * (n // 2),
    "empty lines": lambda n: "<pre>" + "\n" * n + "x",
    "breaks": lambda n: "<br>" * (n // 4) + "x",
    "pictures": lambda n: '<img alt="x">' * (n // 13),
    "abbreviations": lambda n: "".join(f'<abbr title="b">a{i}</abbr>' for i in range(n // 27)),
    "styles": lambda n: '<p style="margin:0;font:1px/1 a">x' * (n // 34),
    "an address": lambda n: '<a href="' + " <" * (n // 2) + '">x</a>',
}
# Each message by its size in octets, about, for its audit.
_HEAD = b"From: a@example.org\r\nTo: b@example.org\r\nMIME-Version: 1.0\r\n"
MESSAGES: dict[str, Callable[[int], bytes]] = {
    "bare line feeds": lambda n: _HEAD + b"\n" * n,
    "bare carriage returns": lambda n: _HEAD + b"\r\n" + b"\r" * n,
    "NUL octets": lambda n: _HEAD + b"\r\n" + b"\0" * n,
    "fields": lambda n: _HEAD + b"X: y\r\n" * (n // 6) + b"\r\n",
    "folds": lambda n: _HEAD + b"X: y" + b"\r\n z" * (n // 4) + b"\r\n\r\n",
    "lines that are no fields": lambda n: b"word\r\n" * (n // 6) + b"X: y\r\n\r\n",
    "addresses": lambda n: b"To: " + b"a@b," * (n // 4) + b"\r\n\r\n",
    "brackets": lambda n: b"To: " + b"<" * n + b"\r\n\r\n",
    "comments": lambda n: b"To: " + b"(" * n + b"\r\n\r\n",
    "quotes": lambda n: b"To: " + b'"' * n + b"\r\n\r\n",
    "groups": lambda n: b"To: " + b"a:" * (n // 2) + b"\r\n\r\n",
    "ids": lambda n: b"References: " + b"<a@" * (n // 3) + b"\r\n\r\n",
    "encoded-words": lambda n: b"Subject: " + b"=?utf-8?Q?a?= " * (n // 14) + b"\r\n\r\n",
    "beginnings of encoded-words": lambda n: b"Subject: " + b"=?a?b?" * (n // 6) + b"\r\n\r\n",
    "parameters": lambda n: b"Content-Type: text/plain" + b";a=b" * (n // 4) + b"\r\n\r\n",
    "parameters without semicolons": lambda n: b"Content-Type: text/plain; " + b"a=b " * (n // 4) + b"\r\n\r\n",
    "sections": lambda n: b"Content-Type: text/plain" + b";a*1=b" * (n // 6) + b"\r\n\r\n",
    "delimiters": lambda n: _HEAD + b"Content-Type: multipart/mixed; boundary=x\r\n\r\n" + b"--x\r\n" * (n // 5),
    "lines like delimiters": lambda n: (
        _HEAD + b"Content-Type: multipart/mixed; boundary=x\r\n\r\n" + b"--xy\r\n" * (n // 6)
    ),
    "multiparts": lambda n: (
        _HEAD
        + b"".join(b"Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n" % (i, i) for i in range(n // 60))
    ),
    "quoted-printable": lambda n: _HEAD + b"Content-Transfer-Encoding: quoted-printable\r\n\r\n" + b"=" * n,
    "base64": lambda n: _HEAD + b"Content-Transfer-Encoding: base64\r\n\r\n" + b"A" * n + b"*" * n,
    "pictures of a page": lambda n: _HEAD + b"Content-Type: text/html\r\n\r\n" + b"<img src=cid:a>" * (n // 15),
    "flowed quotes": lambda n: _HEAD + b"Content-Type: text/plain; format=flowed\r\n\r\n" + b"> \r\n>> \r\n" * (n // 9),
    "a calendar": lambda n: _HEAD + b"Content-Type: text/calendar\r\n\r\n" + b"BEGIN:VEVENT\r\n" * (n // 14),
    "events": lambda n: (
        _HEAD + b"Content-Type: text/calendar\r\n\r\n" + b"BEGIN:VEVENT\r\nUID:a\r\nEND:VEVENT\r\n" * (n // 34)
    ),
    "properties": lambda n: (
        _HEAD + b"Content-Type: text/calendar\r\n\r\nBEGIN:VEVENT\r\n" + b"DTSTART;TZID=a:b\r\n" * (n // 18)
    ),
    "properties' parameters": lambda n: (
        _HEAD + b"Content-Type: text/calendar\r\n\r\nBEGIN:VEVENT\r\nX" + b';A="b"' * (n // 6) + b"\r\n"
    ),
    "signatures": lambda n: (
        _HEAD
        + b"DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed; d=a; s=b; h=From; bh=YQ==; b=YQ==\r\n" * (n // 90)
        + b"\r\n"
        + b"x \r\n" * (n // 4)
    ),
    "names of a signature": lambda n: (
        _HEAD + b"DKIM-Signature: a=rsa-sha256; h=" + b"from:" * (n // 5) + b"; bh=YQ==; b=YQ==\r\n\r\nx\r\n"
    ),
    "empty b= of a signature": lambda n: _HEAD + b"DKIM-Signature: " + b"b=;\r\n " * (n // 6) + b"bh=YQ==\r\n\r\nx\r\n",
    "blanks of a signed body": lambda n: (
        _HEAD + b"DKIM-Signature: a=rsa-sha256; c=relaxed/relaxed; bh=YQ==\r\n\r\n" + b" \t" * (n // 2) + b"x"
    ),
    "empty lines of a signed body": lambda n: (
        _HEAD + b"DKIM-Signature: a=rsa-sha256; c=simple/simple; bh=YQ==\r\n\r\n" + b"\r\n" * (n // 2)
    ),
    "addresses of a list": lambda n: b"List-Help: " + b"<a:b>" * (n // 5) + b"\r\n\r\n",
    "brackets of a list": lambda n: b"List-Id: " + b"<" * n + b"\r\n\r\n",
    "an id of a list": lambda n: b"List-Id: <" + b"a." * (n // 2) + b"\r\n\r\n",
    "comments in a date": lambda n: b"Date: " + b"(a)" * (n // 3) + b"\r\n\r\n",
    "open comments in a date": lambda n: b"Date: " + b"(" * n + b"\r\n\r\n",
    "escapes in quotes": lambda n: b'Received: "' + b'\\"' * (n // 2) + b"\r\n\r\n",
    "encoded-words in comments": lambda n: b"User-Agent: " + b"(=?utf-8?Q?a?=)" * (n // 15) + b"\r\n\r\n",
    "encoded-words in ids": lambda n: b"References: " + b"<=?utf-8?Q?a?=>" * (n // 15) + b"\r\n\r\n",
    "obsolete ids": lambda n: b"Message-ID: <" + b'a."b".' * (n // 6) + b"\r\n\r\n",
    "tags of a signature": lambda n: b"DKIM-Signature: " + b"a=b;" * (n // 4) + b"\r\n\r\n",
    "the same field": lambda n: b"Importance: high\r\n" * (n // 18) + b"\r\n",
    "percent-encoded sections": lambda n: (
        b"Content-Type: a/b"
        + b"".join(b";\r\n a*%d*=%%e4" % i if i else b";\r\n a*0*=utf-8''b" for i in range(n // 14))
        + b"\r\n\r\n"
    ),
    "empty parameters": lambda n: b"Content-Type: a/b" + b";" * n + b"\r\n\r\n",
    "parts and fields": lambda n: (
        _HEAD
        + b"Content-Type: multipart/mixed; boundary=x\r\n"
        + b"X: y\r\n" * (n // 12)
        + b"\r\n"
        + b"--x\r\n\r\n" * (n // 14)
    ),
}
# Each style sheet by its size in characters, about, and the page that it is for by the same size.
STYLES: dict[str, Callable[[int], tuple[str, str]]] = {
    "descendants over deep elements": lambda n: (
        "i " + "div " * min(n // 40, 200) + "b{color:red}",
        "<div>" * (n // 5),
    ),
    "children over deep elements": lambda n: ("div>" * min(n // 40, 200) + "b{color:red}", "<div>" * (n // 5)),
    "brothers": lambda n: ("b" + "~p" * min(n // 40, 300) + "{color:red}", "<p>" * (n // 3)),
    "next brothers": lambda n: ("b" + "+p" * min(n // 40, 300) + "{color:red}", "<p>" * (n // 3)),
    ":has() over deep elements": lambda n: (
        "div:has(i " + "b " * min(n // 40, 200) + "){color:red}",
        "<div>" * (n // 10) + "<b>" * (n // 6),
    ),
    ":nth-of-type()": lambda n: ("p:nth-of-type(2n+1){color:red}", "<p>" * (n // 3)),
    ":nth-last-child(of)": lambda n: ("p:nth-last-child(2n+1 of p:nth-child(n of p)){color:red}", "<p>" * (n // 3)),
    ":not() of many": lambda n: ("p:not(.a,.b):not(b p){color:red}", "<p class=c>" * (n // 11)),
    ":is() within :is()": lambda n: (
        ":is(p,:is(b," * min(n // 50, 20) + "i" + "))" * min(n // 50, 20) + "{x:y}",
        "<p>" * (n // 3),
    ),
    "rules within rules": lambda n: (
        "a,b{" * min(n // 50, 28) + "color:red" + "}" * min(n // 50, 28),
        "<a><b>" * (n // 6),
    ),
    "rules within a rule": lambda n: ("a{" + "b{color:red}" * (n // 12) + "}", "<a><b>x"),
    "rules within a rule of many": lambda n: (
        ",".join(f".a{i}" for i in range(n // 12)) + "{" + "b{color:red}" * (n // 24) + "}",
        "<p class=a1><b>x",
    ),
    "one rule again and again": lambda n: ("p{color:red}" * (n // 24), "<p>" * (n // 6)),
    "rules of one selector": lambda n: ("".join(f"p{{a{i}:b}}" for i in range(n // 24)), "<p>" * (n // 6)),
    "rules that match nothing": lambda n: ("".join(f".a{i}{{a:b}}" for i in range(n // 20)), "<p class=b>" * (n // 20)),
    "rules that stay": lambda n: (
        "".join(f"p:hover{{a{i}:b}}" for i in range(n // 20)),
        "<p style='a1:c'>" * (n // 30),
    ),
    "logical properties": lambda n: (
        "p:hover{margin:1px}" * (n // 40) + "p{margin-inline:calc(1px)}" * (n // 40),
        "<p>x",
    ),
    "declarations": lambda n: ("p{" + "a:b;" * (n // 4) + "}", "<p>x"),
    "layers": lambda n: ("".join(f"@layer a{i}{{p{{a:b}}}}" for i in range(n // 20)), "<p>x"),
    "a layer's path": lambda n: ("@layer " + ".".join("a" * (n // 2)) + "{p{a:b}}", "<p>x"),
    "every so manieth": lambda n: ("".join(f"p:nth-child({i + 2}n){{a:b}}" for i in range(n // 60)), "<p>" * (n // 6)),
    "conditions": lambda n: ("@media print{p{a:b}}" * (n // 20), "<p>x"),
    "a chain of custom properties": lambda n: (
        ":root{" + "".join(f"--a{i}:var(--a{i + 1});" for i in range(n // 20)) + "}p{color:var(--a0)}",
        "<p>x",
    ),
    "a circle of custom properties": lambda n: (
        ":root{"
        + "".join(f"--a{i}:var(--a{(i + 1) % max(1, n // 20)});" for i in range(n // 20))
        + "}p{color:var(--a0)}",
        "<p>x",
    ),
    "custom properties of all": lambda n: (
        "*{" + "".join(f"--a{i}:b;" for i in range(n // 16)) + "}p{x:var(--a0)}",
        "<p>" * (n // 6),
    ),
    "custom properties within each other": lambda n: ("p{x:var(--a)}", "<div style='--a:b'>" * (n // 19) + "<p>x"),
    "fallbacks": lambda n: (
        "p{x:" + "var(--a," * min(n // 9, 90) + "b" + ")" * min(n // 9, 90) + "}",
        "<p>" * (n // 3),
    ),
    "spaces": lambda n: ("a{b:c}" + " " * n, "<p>x"),
    "comments": lambda n: ("/**/" * (n // 4) + "p{a:b}", "<p>x"),
    "digits": lambda n: ("p{margin:" + "9" * n + "px;font:" + "9" * n + "px a}", "<p>x"),
    "brackets": lambda n: ("p{margin:" + "(" * n, "<p>x"),
}
# Templates with data by their size: what they go through may share its parts.
COMPUTED: dict[str, tuple[str, Callable[[int], object]]] = {
    "lists in lists compared": ("{{ if v == w: }}x{{ :if }}", lambda n: _shared(n)),
    "lists in lists looked for": ("{{ if v in [w]: }}x{{ :if }}", lambda n: _shared(n)),
    "lists in lists as json": ("{{ v as json }}", lambda n: _shared(n)),
    "lists compared": ("{{ if v == w: }}x{{ :if }}", lambda n: (list(range(n)), list(range(n)))),
    "a list looked through": ("{{ if 1.5 in v: }}x{{ :if }}", lambda n: (list(range(n)), 0)),
    "lists as keys": ('{{ for k, g in v as by("k"): }}x{{ :for }}', lambda n: ([{"k": [i]} for i in range(n // 8)], 0)),
    "keys": ('{{ for k, g in v as by("k"): }}x{{ :for }}', lambda n: ([{"k": i} for i in range(n // 8)], 0)),
    "sorted": ("{{ for i in v as sort: }}x{{ :for }}", lambda n: ([i * 7919 % n for i in range(n // 4)], 0)),
    "rows": ("{{ for i in v as rows(3): }}x{{ :for }}", lambda n: (list(range(n)), 0)),
    "joined": ("{{ v as join }}", lambda n: (list(range(n)), 0)),
    "a table": ("{{ v as table }}", lambda n: ([{"a": i} for i in range(n // 16)], 0)),
    "records as json": ("{{ v as json }}", lambda n: ([{"a": i, "b": [i]} for i in range(n // 8)], 0)),
    "a text read as a number": ("{{ v as decimal }}", lambda n: ("9" * n, 0)),
    "a number of many digits": ("{{ if v == w: }}x{{ :if }}", lambda n: (Decimal("0." + "9" * n), 0)),
    "flags": ("{{ v as shorten(100000) }}", lambda n: ("\U0001f1e9\U0001f1ea" * n, 0)),
    "a title": ("{{ v as title }}", lambda n: ("a b" * n, 0)),
    "a table with formats": (
        "{{ v as table(formats = ['number(2)']) }}",
        lambda n: ([{"a": i} for i in range(n // 32)], 0),
    ),
    "a table of columns": ("{{ v as table }}", lambda n: ([{f"c{i}": i for i in range(n // 32)}], 0)),
    "the least": ("{{ v as least }}{{ v as greatest }}", lambda n: (list(range(n)), 0)),
    "a text changed": ("{{ v as change('ab', 'b') }}", lambda n: ("ab" * n, 0)),
    "characters counted": ("{{ v as count }}", lambda n: ("a\u0301" * n, 0)),
    "a range": ("{{ for i in v: }}x{{ :for }}", lambda n: (range(n), 0)),
    "a number in groups": ('{{ v as decimal("de") }}', lambda n: ("1.234" * n, 0)),
    "a telephone number": ('<a href="tel:{{ v }}">', lambda n: ("+49 (0)" + "(0) " * n, 0)),
}
# Templates by their size whose names are made of one another.
NAMED: dict[str, Callable[[int], str]] = {
    "let": lambda n: "{{ let a0 = 1 }}" + "".join(f"{{{{ let a{i + 1} = a{i} }}}}" for i in range(n // 20)),
    "let in a list": lambda n: (
        "{{ let a0 = 1 }}" + "".join(f"{{{{ let a{i + 1} = [a{i}, a{i}] }}}}" for i in range(min(n // 30, 900)))
    ),
    "let of a choice": lambda n: (
        (
            "{{ let a0 = 1 }}"
            + "".join(f"{{{{ let a{i + 1} = a{i} if c else a{i} }}}}" for i in range(min(n // 30, 900)))
        )
        + "<p>{{ a1 }}"
    ),
    "fields": lambda n: "".join(f"{{{{ a{i} }}}}" for i in range(n // 10)),
    "takes": lambda n: "{{ takes " + ", ".join(f"a{i}" for i in range(n // 6)) + " }}",
    "a record's fields": lambda n: "{{ a" + ".b" * min(n // 2, 90) + " }}" + "{{ a.b.c }}" * (n // 12),
    "tests around marks": lambda n: "{{ if a? and b? and c?: }}" * 9 + "{{ a }}" * (n // 7) + "{{ :if }}" * 9,
}
DATA: dict[str, Callable[[int], str]] = {
    "brackets": lambda n: "[" * n,
    "a name twice": lambda n: "{" + "".join(f'"a{i}":1,' for i in range(n // 8)) + '"z":1,"z":2}',
    "names": lambda n: "{" + ",".join(f'"a{i}":1' for i in range(n // 8)) + "}",
    "digits": lambda n: "[1" + "0" * n + "]",
    "a fraction": lambda n: "[0." + "1" * n + "]",
    "an exponent": lambda n: "[1e" + "9" * n + "]",
    "quotes": lambda n: '"\\"' * (n // 3),
    "escapes": lambda n: '"' + "\\u0041" * (n // 6) + '"',
}
PICTURES: dict[str, Callable[[int], bytes]] = {
    "comments before the root": lambda n: b"<!---->" * (n // 7),
    "comments that do not end": lambda n: b"<!--" * (n // 4),
    "roots that do not end": lambda n: b"<svg " * (n // 5),
    "an attribute": lambda n: b"<svg viewBox='" + b"1 " * (n // 2) + b"'>",
    "digits": lambda n: b"<svg width='" + b"1" * n + b"'>",
    "spaces": lambda n: b" " * n,
}
VALUES: dict[str, Callable[[int], str]] = {
    "quotes in a row": lambda n: '"a" ' * (n // 4),
    **{
        text: partial(_repeated, text)
        for text in (
            "a",
            " ",
            '"',
            "<",
            "-",
            "&",
            "%",
            "é",
            "(",
            "a(",
            ".",
            "a.",
            "a@",
            ",",
            "\\",
            "\n",
            "<!--",
            "1,",
            _FLAG,
        )
    },
}
PLACES = {
    "between tags": "<p>{{ v }}</p>",
    "attribute": '<p title="{{ v }}">',
    "address": '<a href="{{ v }}">',
    "base": '<a href="{{ v }}/x">',
    "host": '<a href="https://{{ v }}/">',
    "segment": '<a href="https://x/{{ v }}">',
    "query": '<a href="https://x/?{{ v }}">',
    "mailbox": '<a href="mailto:{{ v }}">',
    "tel": '<a href="tel:{{ v }}">',
    "picture": '<img alt="" src="{{ v }}">',
    "srcset": '<img alt="" srcset="{{ v }}">',
    "style": '<p style="color:{{ v }}">',
    "font": '<p style="font-family:{{ v }}">',
    "string": "<style>a{b:'{{ v }}'}</style>",
    "url()": '<p style="background:url({{ v }})">',
    "JSON": '<script type="application/ld+json">{{ v }}</script>',
    "comment": "<!--[if mso]>{{ v }}<![endif]-->",
    "html": "<div>{{ v as html }}</div>",
    "subject": "<title>{{ v }}</title>",
}


def _shared(n: int) -> tuple[object, object]:
    """Two lists of so many items, within lists of ten times the same, twelve levels of them: all is never seen."""
    one: list[object] = list(range(n))
    other: list[object] = list(range(n))
    for _ in range(12):
        one, other = [one] * 10, [other] * 10
    return one, other


_REPORT = b"Content-Type: multipart/report; boundary=x\r\n\r\n--x\r\nContent-Type: message/delivery-status\r\n\r\n"
REPORTS: dict[str, Callable[[int], bytes]] = {
    "recipients": lambda n: _REPORT + b"\r\nFinal-Recipient: a;b\r\nAction: failed\r\n" * (n // 42),
    "folds": lambda n: _REPORT + b"Status: 5" + b"\r\n x" * (n // 4),
    "empty lines": lambda n: _REPORT + b"\r\n" * (n // 2),
    "xtext": lambda n: _REPORT + b"a: b\r\n\r\nAction: failed\r\nOriginal-Recipient: rfc822;" + b"+4A" * (n // 3),
    "addresses it was sent to": lambda n: b"To: " + b"a@b.example," * (n // 12) + b"\r\n" + _REPORT + b"A: b\r\n",
    "delimiters": lambda n: _REPORT + b"--x\r\n" * (n // 5),
}
