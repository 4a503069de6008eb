"""What a browser's own style sheet says, and what old attributes say that count as rules before all others.

(WHATWG HTML 15.3, rendering; 15.1, presentational hints.)  Of it only what `computed.py` reads.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pribble.cascade.colours import Colour, legacy_colour
from pribble.cascade.elements import Element

# The values of one element by property, as CSS writes them, or a colour.
Declared = Mapping[str, str | Colour]

_DISPLAY = {
    "none": "head link meta script style title base template area datalist param rp noembed noframes noscript",
    "block": "address article aside blockquote body center dd details dir div dl dt fieldset figcaption figure footer "
    "form frame frameset h1 h2 h3 h4 h5 h6 header hgroup hr html legend listing main menu nav ol optgroup option p "
    "plaintext pre search section summary ul xmp",
    "list-item": "li",
    "table": "table",
    "table-row": "tr",
    "table-cell": "td th",
    "table-row-group": "tbody",
    "table-header-group": "thead",
    "table-footer-group": "tfoot",
    "table-column": "col",
    "table-column-group": "colgroup",
    "table-caption": "caption",
    "inline-block": "button input select textarea marquee meter progress",
    "ruby": "ruby",
    "ruby-text": "rt",
}
_SIZES = {"h1": "2em", "h2": "1.5em", "h3": "1.17em", "h4": "1em", "h5": "0.83em", "h6": "0.67em", "rt": "50%"}
_CONTROL = {
    "font-size": "13.3333px",
    "font-weight": "400",
    "font-family": "Arial",
    "color": "fieldtext",
    "background-color": "field",
    "text-align": "start",
}
_PUSHED_CONTROL = {"color": "buttontext", "background-color": "buttonface", "text-align": "center"}
_OTHERS: tuple[tuple[str, dict[str, str]], ...] = (
    ("h1 h2 h3 h4 h5 h6", {"font-weight": "bold"}),
    ("th", {"font-weight": "bold", "text-align": "-pribble-th"}),
    ("b strong optgroup", {"font-weight": "bolder"}),
    ("big", {"font-size": "larger"}),
    ("small sub sup", {"font-size": "smaller"}),
    ("code kbd samp tt pre listing xmp plaintext", {"font-family": "monospace"}),
    ("mark", {"background-color": "mark", "color": "marktext"}),
    ("hr", {"color": "gray"}),
    ("center caption", {"text-align": "-webkit-center"}),
    ("input select button textarea", _CONTROL),
    ("textarea", {"font-family": "monospace"}),
    ("button", _PUSHED_CONTROL),
)


def _browser_sheet() -> dict[str, dict[str, str]]:
    sheet: dict[str, dict[str, str]] = {}
    rules = [(names, {"display": display}) for display, names in _DISPLAY.items()]
    rules += [(name, {"font-size": size}) for name, size in _SIZES.items()]
    for names, declared in (*rules, *_OTHERS):
        for name in names.split():
            sheet.setdefault(name, {}).update(declared)
    return sheet


_BROWSER = _browser_sheet()
# The attributes that are asked for here.
HINTING = tuple("align background bgcolor color face height hidden href open size text type width".split())
# In a page without a doctype a table takes on no font and no colour from around it (15.3.8, quirks mode).
_QUIRKS_TABLE = {"font-size": "medium", "font-weight": "400", "text-align": "start", "color": "-pribble-body-text"}
_NO_RULES: dict[str, str] = {}
_FONT_SIZES = ("x-small", "small", "medium", "large", "x-large", "xx-large", "xxx-large")
_GROUNDED = frozenset("body table thead tbody tfoot tr td th".split())
_ALIGNED = frozenset("td th tr tbody thead tfoot p div h1 h2 h3 h4 h5 h6 caption col colgroup".split())
_MEASURED = {
    "width": frozenset("table td th img col colgroup hr iframe object video input canvas embed".split()),
    "height": frozenset("table td th tr img iframe object video input canvas embed".split()),
}
_FLOATED = frozenset({"img", "table", "object", "iframe", "embed"})
_PUSHED = frozenset({"submit", "reset", "button"})


def browser_rules(element: Element, *, quirks: bool) -> Declared:
    """Returns what a browser's own sheet says of an element."""
    if element.foreign and element.local_name not in ("svg", "math"):
        return _NO_RULES
    name = element.local_name
    made = _BROWSER.get(name, _NO_RULES)
    values = element.values
    if name == "table" and quirks:
        made = {**made, **_QUIRKS_TABLE}
    elif name == "a" and "href" in values:
        made = {"color": "linktext"}
    elif name == "input" and (kind := values.get("type", "").lower()):
        if kind == "hidden":
            made = {**made, "display": "none"}
        elif kind in _PUSHED:
            made = {**made, **_PUSHED_CONTROL}
    elif name == "dialog":
        made = {"display": "block" if "open" in values else "none"}
    if "hidden" in values and values["hidden"].lower() != "until-found":
        made = {**made, "display": "none"}
    return made


def attribute_rules(element: Element, links: Colour | None) -> dict[str, str | Colour]:
    """Returns what the attributes of an element say; `links` is the colour that the body's attribute gives them."""
    made: dict[str, str | Colour] = {}
    for property_name, value in _hints(element):
        made[property_name] = value
    if links is not None and element.local_name == "a" and "href" in element.values:
        made["color"] = links
    return made


def _hints(element: Element) -> Iterator[tuple[str, str | Colour]]:
    name, values = element.local_name, element.values
    if not values or element.foreign:
        return
    if name in _GROUNDED:
        if (ground := _hinted_colour(values, "bgcolor")) is not None:
            yield "background-color", ground
        if values.get("background", "").strip():
            yield "background-image", "url()"
    if name == "body" and (text := _hinted_colour(values, "text")) is not None:
        yield "color", text
    if name in ("font", "hr") and (text := _hinted_colour(values, "color")) is not None:
        yield "color" if name == "font" else "background-color", text
    if name == "font":
        if (size := _hinted_font_size(values.get("size", ""))) is not None:
            yield "font-size", size
        if values.get("face", "").strip():
            yield "font-family", values["face"]
    align = values.get("align", "").strip().lower()
    if name in _ALIGNED and align in ("left", "right", "center", "middle", "justify"):
        yield "text-align", align if align == "justify" else f"-webkit-{'center' if align == 'middle' else align}"
    elif name in _FLOATED and align in ("left", "right"):
        yield "float", align
    for measure, names in _MEASURED.items():
        if name in names and (length := _dimension(values.get(measure, ""))) is not None:
            yield measure, length


def _hinted_colour(values: Mapping[str, str], name: str) -> Colour | None:
    return legacy_colour(values[name]) if name in values else None


def _hinted_font_size(written: str) -> str | None:
    """Returns the size that ``<font size>`` means (WHATWG HTML 15.3.4)."""
    written = written.strip(" \t\n\f\r")
    sign = written[:1] if written[:1] in ("+", "-") else ""
    digits = _leading_digits(written[len(sign) :])
    if not digits:
        return None
    number = int(digits[:3])
    number = 3 + number if sign == "+" else 3 - number if sign == "-" else number
    return _FONT_SIZES[min(max(number, 1), 7) - 1]


def _dimension(written: str) -> str | None:
    """Returns a dimension of an attribute as CSS writes it (WHATWG HTML 2.3.4.4)."""
    written = written.lstrip(" \t\n\f\r").removeprefix("+")
    digits = _leading_digits(written)
    rest = written[len(digits) :]
    if not digits or int(digits[:6]) == 0:
        return None
    fraction = _leading_digits(rest[1:]) if rest.startswith(".") else ""
    rest = rest[1 + len(fraction) :] if rest.startswith(".") else rest
    return f"{digits[:6]}{'.' + fraction[:6] if fraction else ''}{'%' if rest.startswith('%') else 'px'}"


def _leading_digits(written: str) -> str:
    end = 0
    while end < len(written) and written[end] in "0123456789":
        end += 1
    return written[:end]


def body_text(body: Element | None) -> Colour | None:
    """Returns the colour of text that the body's attribute gives, which tables without a doctype fall back on."""
    return None if body is None else _hinted_colour(body.values, "text")


def link_colour(body: Element | None) -> Colour | None:
    """Returns the colour of links that the body's attribute gives."""
    return None if body is None else _hinted_colour(body.values, "link")
