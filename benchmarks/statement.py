"""The mooring statement, compiled and by hand.

By hand is what a developer in a hurry for speed would write: one function with f-strings, `markupsafe.escape`
for what is text, and our own applied patterns for money and dates.  Its literals are those of the compiled
template, so that both yield the same characters; what is between them is written here.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from markupsafe import escape

from pribble import TemplateFolder
from pribble.compiled import read_page
from pribble.compiler.dressing import Corner, Cut
from pribble.compiler.html import html_steps
from pribble.compiler.steps import PREHEADER, ChosenSize, Embedded, LeftOut
from pribble.demo import TEMPLATES
from pribble.language.tape import TapeMark
from pribble.rendering import Rendering, with_preheader
from pribble.values.formatters import FORMATTERS, prepared
from pribble.values.settings import Settings

# What a hand would write for each value shown, in the order of the page; the loop's are the five of a row.
BEFORE = [
    'escape(statement["number"])',
    "money(due)",
    'day_month(statement["due"])',  # the title
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


def ways() -> tuple[Callable[[], str], Callable[[], str], Callable[[], str]]:
    """The compiled way and the one by hand to the HTML of the sample, and the way to its plain text."""
    template = TemplateFolder(TEMPLATES, locale="en_GB")["mooring-statement"]
    data = template.samples[""]
    bound, manner = template._for(None, None)

    def compiled() -> str:
        assert bound.html and bound.preheader
        preheader = bound.preheader(data)
        pieces, _, _ = bound.pieces(data)
        made = Rendering(None, preheader, manner, with_preheader(pieces, preheader), ())
        return str(made.html)

    given = bound.pieces(data)[2]

    def said() -> str:
        return Rendering(None, None, manner, None, bound.text(given)).text

    function = by_hand(template)
    return compiled, lambda: function(data), said


def by_hand(template: Any) -> Callable[[Any], str]:
    """The function by hand, with the literals of the compiled template between its values."""
    tape = template._variant("en_GB").tape
    around = template.folder.around(tape, TEMPLATES / "mooring-statement.html")
    page, dressing = read_page(tape, around, old_attributes=False)
    steps = html_steps(tape, page, around, dressing, preheader=True)
    values, parts = {"before": BEFORE, "row": ROW, "after": AFTER}, {"before": "", "row": "", "after": ""}
    where, used = "before", 0
    for step in steps:
        if isinstance(step, TapeMark):
            if step.loop is not None or step.role == "close":
                assert used == len(values[where]), (where, used)
                where, used = ("row" if step.loop else "after"), 0
        elif isinstance(step, Cut):
            parts[where] += str(step).replace("{", "{{").replace("}", "}}")
        elif isinstance(step, Corner | ChosenSize):
            continue  # the hand knows the picture, and wants no fragment
        elif isinstance(step, str) and step is not PREHEADER:
            parts[where] += step.replace("{", "{{").replace("}", "}}")
        else:
            assert not isinstance(step, LeftOut) or step.before.startswith(' href="')
            before, after = (step.before, step.after) if isinstance(step, LeftOut) else ("", "")
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
    settings = Settings("en_GB")
    (logo,) = [step.source for step in steps if isinstance(step, Embedded)]
    chart = around.picture("pictures/shore-power.png", 0, 1)

    def date(style: str) -> Callable[[Any], str]:
        return prepared(FORMATTERS["date"], settings, (style,), {})

    assert any(step is PREHEADER for step in steps)
    opening = (
        '<div style="display:none;max-height:0;max-width:0;overflow:hidden;opacity:0;font-size:1px;'
        'line-height:1px;mso-hide:all">'
    )
    namespace: dict[str, Any] = {
        "escape": escape,
        "money": prepared(FORMATTERS["money"], settings, ("GBP",), {}),
        "number": prepared(FORMATTERS["number"], settings, (), {}),
        "day_month": date("d MMMM"),
        "day_short": date("d MMM"),
        "day_year": date("d MMM y"),
        "long_date": date("long"),
        "PREHEADER_BEFORE": opening,
        "CHART": str(chart) + '" height="230',
        "LOGO": str(logo),
    }
    exec(source, namespace)
    function: Callable[[Any], str] = namespace["page"]
    return function
