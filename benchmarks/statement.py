"""The mooring statement, compiled and by hand, for many recipients.

The literals of the function by hand are those of the compiled template, so that both yield the same characters; what is
between them is written here, with the formatters of `benchmarks.by_hand`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from markupsafe import escape

from benchmarks.by_hand import FORMATTERS, statement_text
from pribble import TemplateFolder
from pribble.compiler.html_program import build_html_steps
from pribble.compiler.steps import DynamicPictureSize, OptionalAttribute, StaticPicture
from pribble.demo import TEMPLATES
from pribble.language.linked_source import Marker
from pribble.passes.pieces import PREHEADER, Boundary, FragmentSlice
from pribble.rendering.rendering import Rendering, with_preheader

# What a hand would write for each value shown, in the order of the page; the loop's are the five of a row.
BEFORE = [
    'escape(statement["number"])',  # the title
    "money(due)",
    'day_month(statement["due"])',
    "PREHEADER",
    'escape(statement["number"])',
    'escape(data["skipper"].get("name") or "skipper")',
    'escape(data["vessel"]["name"])',
    'escape(data["berth"]["pier"])',
    'data["berth"]["number"]',
    'long_date(statement["from"])',
    'long_date(statement["to"])',
    '"Thank you for the " + money(paid) + " you have paid already." if paid > 0 else ""',
    *['escape(statement["link"])', '"Pay " + money(due)'] * 2,
    "CHART",
]
ROW = [
    'day_short(entry["day"])',
    'escape(entry["what"])',
    'number(entry["quantity"])',
    'money(entry["price"])',
    'money(entry["quantity"] * entry["price"])',
]
AFTER = ["money(charged)", "money(paid)", 'long_date(statement["due"])', "money(due)", "LOGO"]
NAMES = "Ana Ferreira-Björk|Tōru Hoshino|Nkechi Ø.|Zoë O'Hara|Bo & Ida Lund|Łukasz Wróbel|Ines <Pilot> Rocha".split("|")
VESSELS = "Kittiwake|Sandpiper|Merganser|Shelduck|Goosander".split("|")


class Statement:
    """The ways to the statement's HTML and text, and who gets one."""

    def __init__(self) -> None:
        self.template = TemplateFolder(TEMPLATES, locale="en_GB")["mooring-statement"]
        self.recipients = [_recipient(self.template.samples[""], number) for number in range(60)]
        self._bound, self._options = self.template._for(None, None)
        self.html_by_hand = html_by_hand(self.template)
        self.text_by_hand = statement_text
        for data in self.recipients:
            rendering = self.template.render(data)
            assert str(rendering.html) == self.html_by_hand(data), "the two pages differ: there is nothing to compare"
            assert rendering.text == self.text_by_hand(data), "the two texts differ: there is nothing to compare"

    def html(self, data: Any) -> str:
        """The HTML, compiled, and nothing else."""
        assert self._bound.html and self._bound.preheader
        pieces, _, given = self._bound.pieces(data)
        preheader = self._bound.preheader(given)
        assert pieces is not None
        return str(Rendering(None, preheader, self._options, with_preheader(pieces, preheader), ()).html)

    def text(self, given: Any) -> str:
        """The text of what `given` has kept of an HTML."""
        return Rendering(None, None, self._options, None, self._bound.text(given)).text

    def kept(self, data: Any) -> Any:
        """What the HTML's program keeps for the text's."""
        return self._bound.pieces(data)[2]


def _recipient(sample: Any, number: int) -> Any:
    """The sample for somebody else: other names, another number, link and amounts."""
    statement = {**sample["statement"], "number": f"2026-06-B{number:02}"}
    statement["link"] = f"https://skerrow.example/statements/{statement['number']}"
    first, *rest = sample["entries"]
    return {
        **sample,
        "statement": statement,
        "skipper": {**sample["skipper"], "name": NAMES[number % len(NAMES)], "email": f"skipper{number}@example.org"},
        "vessel": {"name": VESSELS[number % len(VESSELS)]},
        "berth": {"pier": "ABC"[number % 3], "number": 10 + number},
        "paid": sample["paid"] + number % 30,
        "entries": [{**first, "price": first["price"] + number}, *rest],
    }


def html_by_hand(template: Any) -> Callable[[Any], str]:
    """The function by hand, with the literals of the compiled template between its values."""
    linked = template.variants.linked("en_GB")
    styled = template.variants.styled(linked)
    page, style_edits, resources = styled.page, styled.style_edits, styled.resources
    steps = build_html_steps(linked, page, resources, style_edits, preheader=True)
    values, parts = {"before": BEFORE, "row": ROW, "after": AFTER}, {"before": "", "row": "", "after": ""}
    where, used = "before", 0
    for step in steps:
        if isinstance(step, Marker):
            if step.loop is not None or step.role == "close":
                assert used == len(values[where]), (where, used)
                where, used = ("row" if step.loop else "after"), 0
        elif isinstance(step, FragmentSlice):
            parts[where] += step.text.replace("{", "{{").replace("}", "}}")
        elif isinstance(step, Boundary | DynamicPictureSize):
            continue  # the hand knows the picture, and wants no fragment
        elif isinstance(step, str):
            parts[where] += step.replace("{", "{{").replace("}", "}}")
        else:
            assert not isinstance(step, OptionalAttribute) or step.before.startswith(' href="')
            before, after = (step.before, step.after) if isinstance(step, OptionalAttribute) else ("", "")
            parts[where] += before + "{" + values[where][used] + "}" + after
            used += 1
    source = (
        "def page(data):\n"
        "    statement, currency, paid, entries = data['statement'], data['currency'], data['paid'], data['entries']\n"
        "    charged = sum(entry['quantity'] * entry['price'] for entry in entries)\n"
        "    due = charged - paid\n"
        '    PREHEADER = f\'{PREHEADER_BEFORE}{len(entries)} entries from {day_short(statement["from"])} to '
        '{day_year(statement["to"])}</div>\'\n'
        f"    rows = ''.join([f'''{parts['row']}''' for entry in entries])\n"
        f"    return f'''{parts['before']}''' + rows + f'''{parts['after']}'''\n"
    )
    (logo,) = [step.slot for step in steps if isinstance(step, StaticPicture)]
    chart = resources.picture("pictures/shore-power.png", 0, 1)
    assert chart is not None and any(step is PREHEADER for step in steps)
    opening = (
        '<div style="display:none;max-height:0;max-width:0;overflow:hidden;opacity:0;font-size:1px;'
        'line-height:1px;mso-hide:all">'
    )
    namespace: dict[str, Any] = {
        **FORMATTERS,
        "escape": escape,
        "PREHEADER_BEFORE": opening,
        "CHART": chart.address + '" height="230',
        "LOGO": logo.address,
    }
    exec(source, namespace)
    function: Callable[[Any], str] = namespace["page"]
    return function
