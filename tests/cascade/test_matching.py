"""Selectors: a browser's ``querySelectorAll`` is the judge of which elements a rule is for."""

from __future__ import annotations

import json
import re
from random import Random

from pribble import LimitReached, inline_styles, plain_text
from tests.chromium import browser
from tests.support import Case, needs_chromium, proof, seeds, slow

TYPES = ("*", "p", "div", "b", "ul", "li", "a", "svg", "input", "fieldset")
SIMPLE = (
    ".a;.b;.c;#x;#y;[class];[title];[title=one];[title~=two];[title|=en];[title^=o];[title$='e'];[title*=wo];"
    "[title='ONE' i];[type=TEXT];[title=''];:first-child;:last-child;:only-child;:first-of-type;:last-of-type;"
    ":only-of-type;:nth-child(2n+1);:nth-child(-n+3);:nth-child(3);:nth-last-child(even);:nth-of-type(2);"
    ":nth-last-of-type(2n);:empty;:root;:lang(de);:lang(en);:link;:any-link;:enabled;:disabled"
).split(";")
COMBINATORS = (" ", " ", " ", ">", " > ", "+", "~", " ~ ")


def compound(random: Random, depth: int) -> str:
    """One compound selector."""
    parts = [random.choice(TYPES)] if random.random() < 0.5 else []
    for _ in range(random.randint(0 if parts else 1, 2)):
        kind = random.random()
        if depth and kind < 0.3:
            inside = ", ".join(chain(random, depth - 1) for _ in range(random.randint(1, 2)))
            parts.append(f":{random.choice(('is', 'where', 'not'))}({inside})")
        elif depth and kind < 0.4:
            inside = chain(random, 0)
            parts.append(f":has({random.choice(('', '> ', '+ ', '~ '))}{inside})")
        elif depth and kind < 0.5:
            parts.append(f":nth-{random.choice(('', 'last-'))}child(2n+1 of {chain(random, 0)})")
        else:
            parts.append(random.choice(SIMPLE))
    return "".join(parts)


def chain(random: Random, depth: int = 2) -> str:
    """One complex selector."""
    made = compound(random, depth)
    for _ in range(random.choice((0, 0, 1, 1, 2, 3))):
        made += random.choice(COMBINATORS) + compound(random, depth)
    # :has() stands in no other (Selectors 4, 4.5).
    return made if not re.search(r":has\(.*:has\(", made) else chain(random, depth)


def body(random: Random, depth: int = 0) -> str:
    """Elements within each other and beside each other."""
    made = ""
    for _ in range(random.randint(1, 4)):
        tag = random.choice(
            ("p", "div", "b", "a", "ul", "fieldset", "legend", "input", "svg", "option", "optgroup")
            if depth
            else ("div", "ul")
        )
        attributes = "".join(
            random.choice(choice)
            for choice in (
                ("", " class=a", " class='a b'", " class='c\u00a0d a'", " class='\tb\fc '"),
                ("", "", "", " id=x", " id=y"),
                ("", "", " title=one", " title='one two'", " title=en-GB", " title", " title=One"),
                ("", "", "", " lang=de", " lang=en-GB"),
                ("", "", " href=/x", " disabled", " type=text"),
            )
        )
        if tag == "input":
            made += f"<input{attributes}>"
        elif tag == "p":
            made += f"<p{attributes}>{random.choice(('', 'x', '<b>x</b>'))}</p>"
        else:
            inner = body(random, depth + 1) if depth < 4 and random.random() < 0.6 else random.choice(("", "x"))
            if tag == "a":  # none stands in another
                inner = re.sub(r"<a\b", "<b", inner).replace("</a>", "</b>")
            if tag == "svg":
                inner = "<rect></rect>"
            made += f"<{tag}{attributes}>{inner}</{tag}>"
    return made


PAGE = "<!DOCTYPE html><html n=0><head><title>t</title><!--sheet--></head><body n=1>%s</body></html>"


def numbered(inner: str) -> str:
    """A page of which each element has a number of its own, as attribute ``n``."""
    count = iter(range(2, 100_000))
    return PAGE % re.sub(r"<([a-z]+)", lambda found: f"<{found[1]} n={next(count)}", inner)


def matched(css: str, page: str) -> dict[int, set[int]]:
    """For each of the rules that declare ``x-1`` and so on, the numbers of the elements that they are written into."""
    made: dict[int, set[int]] = {}
    for tag in re.findall(r"<[a-z][^>]*>", inline_styles(page.replace("<!--sheet-->", f"<style>{css}</style>"))):
        number = re.search(r" n=([0-9]+)", tag)
        for rule in re.findall(r"x-([0-9]+):", tag):
            assert number
            made.setdefault(int(rule), set()).add(int(number[1]))
    return made


def judged(rules: list[str], page: str) -> dict[int, set[int]]:
    """The same, as Chromium has it."""
    chromium = browser()
    chromium.show(page)
    found = chromium.evaluate(
        f"return {json.dumps(rules)}.map(s => [...document.querySelectorAll(s)].filter(e => e.hasAttribute('n')).map(e => +e.getAttribute('n')))"
    )
    return {number: set(elements) for number, elements in enumerate(found) if elements}


@proof
@needs_chromium
class AgainstABrowser(Case):
    def test_generated_selectors(self) -> None:
        for seed in seeds(40):
            random = Random(seed)
            page, rules = numbered(body(random)), [chain(random) for _ in range(40)]
            css = "\n".join(f"{rule} {{ x-{number}: 1 }}" for number, rule in enumerate(rules))
            ours, theirs = matched(css, page), judged(rules, page)
            for number, rule in enumerate(rules):
                with self.subTest(rule, seed=seed):
                    self.assertEqual(ours.get(number), theirs.get(number))

    def test_lists_that_hold_what_is_no_selector(self) -> None:
        page = numbered("<div><p class=a>x</p><b>y</b></div>")
        for rule in (
            "div:has(p, ..a)",
            "div:has(..a)",
            "div:has(p::before)",
            "div:has(p, b)",
            "p:is(.a, ..b)",
            "p:where(:nope(, .a)",
            "div:is(:has(p), ..b)",
            "p:not(..a)",
            "p:not(.b, .c)",
            "div:has(> p + b)",
        ):
            found = browser()
            found.show(page)
            wanted = found.evaluate(
                f"try {{ return [...document.querySelectorAll({json.dumps(rule)})].map(e => +e.getAttribute('n')) }} "
                "catch { return [] }"
            )
            with self.subTest(rule):
                self.assertEqual(sorted(matched(f"{rule} {{ x-0: 1 }}", page).get(0, ())), wanted)

    def test_generated_nesting(self) -> None:
        """A rule within rules is for what ``:is()`` of those around it makes of its selector (CSS Nesting 1, 3)."""
        for seed in seeds(20):
            random = Random(seed)
            page = numbered(body(random))
            css = ""
            rules: list[str] = []
            for _ in range(12):
                levels = [
                    [random.choice(("", "& ", "> ", ".a", "&.b ", "+ ", "&", ":not(&) ", "& & ")) for _ in range(2)]
                    for _ in range(3)
                ]
                around, text, close = "", "", ""
                for level, starts in enumerate(levels):
                    lists = [
                        start + (compound(random, 0) if level == 0 or start[-1:] in ("", " ") else "")
                        for start in (starts if level else ["", ""])
                    ]
                    text += f"{', '.join(lists)} {{ x-{len(rules)}: 1; "
                    close += "}"
                    around = ", ".join(_written_out(one, around) for one in lists)
                    rules.append(around)
                css += text + close + "\n"
            ours, theirs = matched(css, page), judged(rules, page)
            for number, rule in enumerate(rules):
                with self.subTest(rule, seed=seed, css=css):
                    self.assertEqual(ours.get(number), theirs.get(number))


def _written_out(selector: str, around: str) -> str:
    if not around:
        return selector
    return selector.replace("&", f":is({around})") if "&" in selector else f":is({around}) {selector}"


class Products(Case):
    """What a few hundred characters of a style sheet come to."""

    @slow
    def test_chains_and_nesting_over_deep_pages(self) -> None:
        deep = "<i>" + "<div>" * 300 + "<b>x</b>"
        wide = "<b></b>" + "<p>x</p>" * 300
        for selector, page, count in (
            ("i " + "div " * 60 + "b", deep, 1),
            ("b" + "~p" * 60, wide, 241),
            ("b" + " + p" * 60, wide, 1),
            ("div:has(div " + "div " * 60 + "b)", deep, 239),
            ("div:has(> div:has(b))", deep, 0),  # not within itself
            (":is(" * 20 + "div" + " div)" * 20, deep, 280),
            ("p:nth-last-child(1 of p:nth-child(n of p))", wide, 1),
        ):
            with self.subTest(selector):
                made = inline_styles(f"<!DOCTYPE html><style>{selector}{{ color: red }}</style>{page}")
                self.assertEqual(made.count('style="color:red"'), count)
        nested = "a, b { " * 25 + "color: red" + " }" * 25
        made = inline_styles(f"<!DOCTYPE html><style>{nested}</style>" + "<b>" * 24 + "<b><i>y</i><b>x</b></b>")
        self.assertEqual(made.count('style="color:red"'), 2)
        self.assertLess(len(made), 5_000)

    def test_a_nested_rule_without_a_selector_is_none(self) -> None:
        for nested in ("{ color: red }", ", { color: red }", "b, { color: red }"):
            made = inline_styles(f"<!DOCTYPE html><style>p {{ margin: 0; {nested} }}</style><p>x<b>y")
            with self.subTest(nested):
                self.assertIn('<p style="margin:0">x<b>y', made)
                self.assertIn(f"p {{ {nested} }}", made)  # left as it is, within what it stood in

    def test_what_would_be_too_long_to_write_is_told_and_kept(self) -> None:
        nested = "a, b { " * 9 + "color: red; &:hover { top: 0 }" + " }" * 9
        made = inline_styles(f"<!DOCTYPE html><style>{nested}</style>" + "<b>" * 9 + "x")
        self.assertEqual(made.count('style="color:red"'), 1)
        self.assertIn("&:hover { top: 0 }", made)
        self.assertEqual(inline_styles(made).count("style="), 1)  # what stays is for the same elements
        left = made[made.index("<style>") : made.index("</style>")]
        self.assertNotRegex(left, r"^<style>\s*&")

    @slow
    def test_a_product_beyond_measure_is_refused(self) -> None:
        rules = "".join(f"p:nth-child(n + {n}) {{ x-{n}: 1 }}" for n in range(700))
        page = "<!DOCTYPE html><style>" + rules + "</style>" + "<p>x" * 900
        for call in (inline_styles, plain_text):
            with self.subTest(call), self.assertRaises(LimitReached) as caught:
                call(page)
            self.assertIn("the style sheets", str(caught.exception))

    @slow
    def test_custom_properties(self) -> None:
        n = 3_000
        chain = "".join(f"--a{i}: var(--a{i + 1});" for i in range(n)) + f"--a{n}: red"
        loop = "".join(f"--a{i}: var(--a{(i + 1) % n}, red);" for i in range(n)) + "--b: var(--a7, lime)"
        for declared, used, wanted in ((chain, "--a0", "red"), (loop, "--b", "lime"), (loop, "--a1", "unset")):
            with self.subTest(used):
                made = inline_styles(f"<!DOCTYPE html><style>*{{{declared}}}p{{color:var({used})}}</style><p>x")
                self.assertIn(f'<p style="color:{wanted}">', made)
