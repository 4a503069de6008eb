"""The rules of `check`: how bad a finding is, what it rests on, what it says, what to do.

An *error* will fail readers: a picture that no receiver can load, a value that is not there.  A *warning* is what most
people would mend if they saw it.  A *note* is worth knowing.  Where a rule says `{}`, the finding says what it found.
"""

from __future__ import annotations

from typing import NamedTuple

from pribble.findings import Severity


class CheckRule(NamedTuple):
    """One rule of the catalogue; `about` says what it is for where its message is made for each finding."""

    severity: Severity
    reference: str
    message: str
    fix: str
    about: str = ""

    @property
    def meaning(self) -> str:
        """What the rule is for, in words."""
        if self.about:
            return self.about
        return self.message.format(*["…"] * self.message.count("{}"))


_E: Severity = "error"
_W: Severity = "warning"
_N: Severity = "note"
_HTML = "WHATWG HTML"

RULES: dict[str, CheckRule] = {
    # -- template --
    "template.broken": CheckRule(
        _E,
        "Pribble, docs/language.md",
        "{}",
        "mend it: nothing can be rendered until then",
        "a template that does not compile",
    ),
    "picture.missing": CheckRule(
        _E,
        "Pribble, docs/pictures-and-styles.md",
        "{}",
        "put it there, or name another",
        "a picture that is not there, or cannot be read",
    ),
    # -- data --
    "data.missing": CheckRule(
        _E,
        "Pribble, docs/language.md",
        "{}",
        "give it, or write a ? behind it where it may be missing",
        "fields that the data do not have, or have of another kind: all at once",
    ),
    "data.no-sample": CheckRule(
        _N,
        "Pribble, docs/language.md",
        "there is no sample beside it, so that only what the file says is checked",
        "write {} beside it; pribble fields lists what goes into it",
    ),
    "data.hollow": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} is shown, which says nothing to a reader",
        "mend the data, or say what stands there instead: {{{{ … else … }}}}",
    ),
    "data.twice-encoded": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} shows as it is written, references and tags included",
        "give the text itself; markup of your own goes through “as html”",
    ),
    "data.garbled": CheckRule(
        _W,
        "WHATWG Encoding 4",
        "{} was read in another charset than it was written in",
        "read the source of the data, or save the file, as UTF-8",
    ),
    "data.stranded": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "where a value is missing this is left alone: {}",
        "put the words around the mark into the same if, or say what stands there instead",
    ),
    "data.text-flag": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{}, and a text that is not empty holds",
        "give true or false in the data, or compare the text",
    ),
    "data.unused": CheckRule(
        _N,
        "Pribble, docs/language.md",
        "the data have what no template asks for: {}",
        "leave it out of the sample, or show it",
    ),
    "data.untried": CheckRule(
        _N,
        "Pribble, docs/checks.md",
        "no sample tries {}",
        "add a sample that does",
    ),
    # -- placeholder --
    "placeholder.left": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{} looks like a placeholder that nothing fills",
        "make it a mark, {{{{ … }}}}, or take it out",
    ),
    "placeholder.in-data": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "the data bring {}, which looks like a placeholder that nothing filled",
        "mend what makes the data",
    ),
    "placeholder.filler": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} is text that only fills space",
        "write what is meant",
    ),
    # -- subject --
    "subject.none": CheckRule(
        _W,
        "RFC 5322 3.6.5",
        "the message has no subject",
        "write {{{{ subject: }}}}…{{{{ :subject }}}}",
    ),
    "subject.lists-show": CheckRule(
        _N,
        "Pribble, docs/checks.md",
        "a list of messages shows {}",
        "put first what must be read",
    ),
    "subject.preheader-same": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "the preheader says what the subject says already",
        "let it go on from there",
    ),
    # -- page --
    "page.language": CheckRule(
        _W,
        "WCAG 2.2 3.1.1",
        "{}",
        'write <html lang="{}">: readers that speak choose their voice by it',
        "no language is said, or not that of the file",
    ),
    "page.quirks": CheckRule(
        _W,
        f"{_HTML} 13.2.6.4.1",
        "the page has no doctype, and is laid out as in old browsers",
        "begin it with <!DOCTYPE html>",
    ),
    "page.active": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} does nothing in a message: receivers take it out",
        "take it out, and link to a page that has it",
    ),
    "page.lost": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} is taken out by some viewers, and nothing else says the same ({})",
        "say it in the elements too, or in a way that all know: a table for columns, a picture for a drawing",
    ),
    "page.heavy": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "the page has {} bytes; some receivers cut it after 102,400, which is here",
        "shorten it: fewer rows, or a link to the rest",
    ),
    "page.layout-role": CheckRule(
        _N,
        "WAI-ARIA 1.2, presentation",
        "a table that only arranges is read aloud as one of data",
        'write role="presentation"',
    ),
    "page.table-heads": CheckRule(
        _N,
        "WCAG 2.2 1.3.1",
        "a table of data has no header cells",
        "write those of its first row as <th>",
    ),
    "page.headings": CheckRule(
        _N,
        "WCAG 2.2 1.3.1",
        "{}",
        "let headings go down by one level at a time",
        "headings that leave a level out",
    ),
    "page.quote": CheckRule(
        _N,
        f"{_HTML} 4.4.4",
        "a <blockquote> that holds {} is no quotation, and stands behind > in the plain text",
        "set it in with padding",
    ),
    # -- picture --
    "picture.no-alt": CheckRule(
        _E,
        "WCAG 2.2 1.1.1",
        "{} has no alt",
        'say what it shows, or alt="" where it only decorates',
    ),
    "picture.local": CheckRule(
        _E,
        "RFC 8089",
        "{} is on the disk of the sender",
        "put the file into the template folder, and name it by its path from there",
    ),
    "picture.link-alt": CheckRule(
        _W,
        "WCAG 2.2 2.4.4",
        "a link is a picture without words, so that it says nothing with pictures off",
        "let its alt say where it leads",
    ),
    "picture.heavy": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{}",
        "make it smaller, or save a photograph as JPEG",
        "a picture over 800,000 characters in an address, or over 1,000,000 bytes in a part",
    ),
    "picture.squashed": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{}",
        "leave one of the two sizes out, or give both in its proportions",
        "a picture that is shown out of its proportions, by over 2 % and 2 pixels",
    ),
    "picture.coarse": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{}",
        "save it twice as wide as it is shown",
        "a picture with fewer pixels than it is shown with",
    ),
    "picture.no-size": CheckRule(
        _N,
        f"{_HTML} 4.8.17",
        "{} has no width, and leaves no room before it is there",
        "write its width",
    ),
    "picture.format": CheckRule(
        _N,
        "Pribble, docs/pictures-and-styles.md",
        "{}",
        "save it as PNG or JPEG",
        "a picture of a kind that not every receiver shows",
    ),
    "picture.svg": CheckRule(
        _N,
        "Pribble, docs/pictures-and-styles.md",
        "{} is an SVG: few receivers show it",
        "save it as PNG, twice as large as it is shown",
    ),
    "picture.cid-elsewhere": CheckRule(
        _W,
        "RFC 2392",
        "{} names a part that the message does not have",
        "give the picture to the message, or take it out",
    ),
    "picture.alone": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "with pictures off {} are left to read",
        "say in text what the pictures say",
    ),
    # -- contrast --
    "contrast.text": CheckRule(
        _W,
        "WCAG 2.2 1.4.3",
        "{}",
        "make the one darker or the other lighter",
        "text with a contrast of less than 4.5, or 3 where it is large",
    ),
    "contrast.without-picture": CheckRule(
        _W,
        "WCAG 2.2 1.4.3",
        "{} where the picture behind it does not show",
        "give the element a ground colour beside its background picture",
    ),
    "contrast.unknown": CheckRule(
        _N,
        "WCAG 2.2 1.4.3",
        "text stands on a picture or gradient, which is not looked at",
        "see that each part of it stands apart from the text",
    ),
    "contrast.picture": CheckRule(
        _W,
        "WCAG 2.2 1.4.11",
        "{}",
        "give the picture a ground or an outline of its own, or one for each scheme",
        "a picture with transparency, over 60 % of which has less contrast than 3 (a note with an empty alt)",
    ),
    # -- link --
    "link.empty": CheckRule(_E, f"{_HTML} 4.6.1", "a link leads nowhere: {}", "give its address"),
    "link.relative": CheckRule(
        _E,
        "RFC 3986 4.2",
        "{} is relative, and a message lies nowhere that it could start from",
        "write the whole address",
    ),
    "link.unsafe": CheckRule(
        _E,
        "Pribble, docs/security.md",
        "{} is no address to follow",
        "link to https:, mailto: or tel:",
    ),
    "link.unreachable": CheckRule(
        _W,
        "RFC 6761",
        "{} is a host that readers cannot reach",
        "write the address that readers have",
    ),
    "link.plain-http": CheckRule(_W, "RFC 9110 4.2.1", "{} is not encrypted", "write https:"),
    "link.other-host": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{}",
        "let the label show the address it leads to, or words",
        "a label that shows an address of another host than the link leads to",
    ),
    "link.twin": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{}",
        "let both say the same",
        "a button for old engines that says or does something else than the link beside it",
    ),
    "link.no-target": CheckRule(
        _W, f"{_HTML} 7.4.6.4", "{} is not on the page", "give the element that is meant this id"
    ),
    "link.vague": CheckRule(_N, "WCAG 2.2 2.4.4", "{} says nothing of where it leads", "name what is there"),
    "link.same-label": CheckRule(_N, "WCAG 2.2 2.4.4", "{} leads to different addresses", "let each label say its own"),
    # -- text --
    "text.value": CheckRule(
        _E,
        "RFC 2046 5.1.4",
        "{}",
        "show the value in both forms",
        "a value that the page shows and the text does not",
    ),
    "text.address": CheckRule(
        _W,
        "RFC 2046 5.1.4",
        "the text lacks the address {}",
        "write it there, or leave the text to be derived",
    ),
    "text.words": CheckRule(
        _N, "RFC 2046 5.1.4", "{}", "say the same in both", "words that only one of the two forms has"
    ),
    # -- locale --
    "locale.fields": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{}",
        "let both files show the same data",
        "fields that only one of two languages shows",
    ),
    "locale.links": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{}",
        "let both files have the same links",
        "links that only one of two languages has",
    ),
    "locale.pictures": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{}",
        "let both files have the same pictures",
        "pictures that only one of two languages has",
    ),
    "locale.blocks": CheckRule(
        _W,
        "Pribble, docs/language.md",
        "{}",
        "let both files have the same message blocks",
        "a message block that only one of two languages has",
    ),
    # -- envelope --
    "envelope.doubled": CheckRule(_W, "RFC 5322 3.6.3", "{} gets the message twice", "name each recipient once"),
    "envelope.no-reply": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "answers go to {}",
        "give an address that somebody reads, in Reply-To at least",
    ),
    "envelope.unsubscribe": CheckRule(
        _W,
        "RFC 8058 3.1",
        "{}",
        "give an https: address, and sign the message",
        "one-click unsubscribing without an https: address, or in a message without a signature",
    ),
    # -- weight --
    "weight.message": CheckRule(
        _N,
        "Pribble, docs/checks.md",
        "{}",
        "nothing, unless it is more than you thought",
        "how many bytes a message has, by the way in which pictures travel",
    ),
    # -- strain --
    "strain.fails": CheckRule(
        _E,
        "Pribble, docs/checks.md",
        "with {}: {}",
        "write a ? where a field may be missing, and {{{{ … else … }}}} for what stands there instead",
    ),
    "strain.lone": CheckRule(
        _W, "Pribble, docs/checks.md", "{} stands alone with {}", "put it into an if, or into the else of the loop"
    ),
    "strain.negative": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "{} is what a reader gets with {}",
        "write another sentence for less than none",
    ),
    "strain.zero": CheckRule(
        _W, "Pribble, docs/checks.md", "{} is what a reader gets with {}", "write another sentence for none"
    ),
    "strain.one": CheckRule(
        _W, "Pribble, docs/checks.md", "{} is what a reader gets with {}", 'write as plural(one = "…", other = "…")'
    ),
    "strain.direction": CheckRule(
        _W,
        "HTML 4.5.24, UAX 9",
        "what follows a name from right to left goes to its other side: {} ({})",
        "put the value into <bdi>",
    ),
    "strain.subject": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "the subject reads {} with {}",
        "say what stands there instead: {{{{ … else … }}}}",
    ),
    "strain.wide": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "this is about {} pixels wide on a telephone of 390 with {}",
        "let long words break (overflow-wrap: anywhere), or give a table fewer columns",
    ),
    # -- allow --
    "allow.reason": CheckRule(
        _W,
        "Pribble, docs/checks.md",
        "an allow without a reason silences nothing",
        "write {{{{ # allow {}: why }}}}",
    ),
    "allow.unknown": CheckRule(
        _W, "Pribble, docs/checks.md", 'there is no rule "{}"', "pribble check --rules lists them"
    ),
    "allow.idle": CheckRule(_W, "Pribble, docs/checks.md", "nothing is found here that this allows: {}", "take it out"),
}

# What is told while a template is compiled or rendered, and which `check` hands on: how bad, what it rests on, what it
# means.  Messages and places come from whoever finds it.
HANDED_ON: dict[str, tuple[Severity, str, str]] = {
    "page.after-head": (_W, "WHATWG HTML 13.2.6.4.6", "an element of the head stands behind it"),
    "page.charset": (_W, "WHATWG HTML 4.2.5.4", "the page names another charset than UTF-8"),
    "page.nested": (_W, "WHATWG HTML 13.2.6.4.7", "an element stands in another of its kind, and ends that"),
    "page.outside-cells": (_W, "WHATWG HTML 13.2.6.4.9", "a text stands in a table and in no cell"),
    "page.outside-table": (_W, "WHATWG HTML 13.2.6.4.7", "a part of a table stands in no table"),
    "page.second-tag": (_W, "WHATWG HTML 13.2.6.4.7", "a second html, head or body"),
    "page.stray-end-tag": (_W, "WHATWG HTML 13.2.6.4.7", "an end tag that closes nothing"),
    "page.unclosed": (_W, "WHATWG HTML 13.1.2.4", "an element is not closed"),
    "css.broken": (_W, "CSS Syntax 3, 5.4", "a rule or declaration that no receiver reads"),
    "css.import": (_W, "CSS Cascade 5, 2", "an @import that no receiver reads"),
    "css.import-circle": (_W, "CSS Cascade 5, 2", "a sheet that imports itself"),
    "css.media": (_W, "CSS Cascade 4, 5", "a media attribute that keeps a whole sheet out of the elements"),
    "css.namespace": (_W, "CSS Namespaces 3, 2", "a namespace, which means nothing in a page"),
    "css.remote": (_W, "CSS Cascade 5, 2", "a style sheet that is elsewhere, which few receivers fetch"),
    "css.too-deep": (_W, "CSS Syntax 3, 9", "rules that nest too deep"),
    "css.unclosed": (_W, "CSS Syntax 3, 5.4", "a style sheet that ends before all is closed"),
    "css.unknown-rule": (_W, "CSS Syntax 3, 9.1", "an at-rule that few receivers read"),
    "css.unknown-selector": (_W, "Selectors 4, 3.9", "a selector that no receiver reads"),
    "locale.bare-number": (
        _W,
        "Pribble, docs/language.md",
        "a number shown with a point in a language that writes none",
    ),
    "locale.other-language": (
        _W,
        "Pribble, docs/language.md",
        "a template asked for in a language that it is not written in",
    ),
    "picture.size": (_N, "Pribble, docs/pictures-and-styles.md", "missing dimensions that were added"),
    "picture.resample": (
        _N,
        "Pribble, docs/pictures-and-styles.md",
        "more pixels than are shown, which were taken out",
    ),
    "picture.orientation": (_N, "Pribble, docs/pictures-and-styles.md", "a photograph that was turned upright"),
    "picture.colour": (_N, "Pribble, docs/pictures-and-styles.md", "colours that became sRGB"),
    "picture.metadata": (_N, "Pribble, docs/pictures-and-styles.md", "metadata that were left out"),
}
