"""Names of elements, by what the standard says of them (WHATWG HTML 13.1.2, 13.2.4.2, 13.2.5)."""

from __future__ import annotations

# Elements that have no content, those whose content holds references but no tags, those whose content is only text.
VOID = frozenset(
    "area base basefont bgsound br col embed frame hr img input keygen link meta param source track wbr".split()
)
RCDATA = frozenset({"title", "textarea"})
RAW_TEXT = frozenset({"style", "script", "xmp", "iframe", "noembed", "noframes"})
# Elements whose end tag may be omitted, and which therefore end with what contains them.
OMITTABLE = frozenset("li p dt dd td th tr thead tbody tfoot colgroup caption option optgroup rb rp rt rtc".split())
# Elements that stand in the head; where one is met before any content, a head is implied.
HEAD = frozenset("base basefont bgsound link meta title noscript noframes style script template".split())

CLOSING_P = frozenset(
    "address article aside blockquote center details dialog dir div dl fieldset figcaption figure footer header hgroup "
    "main menu nav ol p search section summary ul h1 h2 h3 h4 h5 h6 pre listing form table hr xmp plaintext li dd "
    "dt".split()
)
HEADINGS = frozenset("h1 h2 h3 h4 h5 h6".split())
SCOPE = frozenset("applet caption html table td th marquee object template".split())
BUTTON_SCOPE = SCOPE | {"button"}
TABLE_SCOPE = frozenset({"html", "table", "template"})
FORMATTING = frozenset("a b big code em font i nobr s small strike strong tt u".split())
SPECIAL = (
    CLOSING_P
    | SCOPE
    | frozenset(
        "body button iframe input select textarea tr tbody thead tfoot col colgroup "
        "img br head style script title link meta".split()
    )
)
# Elements of which none stands in another of its name, and what another may stand in all the same.
NEVER_NESTED = frozenset({"a", "button", "form", "nobr"})
NESTING_ENDS = frozenset({"td", "th", "caption", "table", "object", "applet", "marquee", "template"})

# Within svg and math HTML's own rules hold again in these; and these start tags break out of both (13.2.6.5).
FOREIGN = frozenset({"svg", "math"})
INTEGRATION = frozenset(
    {
        ("svg", "foreignobject"),
        ("svg", "desc"),
        ("svg", "title"),
        *(("math", name) for name in ("mi", "mo", "mn", "ms", "mtext")),
    }
)
BREAKING_OUT = frozenset(
    "b big blockquote body br center code dd div dl dt em embed h1 h2 h3 h4 h5 h6 head hr i img li listing menu meta "
    "nobr ol p pre ruby s small span strong strike sub sup table tt u ul var".split()
)
BREAKING_FONT = frozenset({"color", "face", "size"})
