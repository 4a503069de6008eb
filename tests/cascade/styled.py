"""Pages and templates full of styles, generated: small pools of selectors and declarations that keep meeting."""

from __future__ import annotations

from random import Random
from typing import Any

SELECTORS = (
    "p|div|.a|.b|.c|#x|div p|.a .b|div > p|p + p|p ~ .b|p:first-child|p:not(.a)|:is(.a,#x)|:where(.b) p|:where(body) *|p:hover|"
    ".a:hover|p.a:focus|.b:active|p:nth-child(2n)|[class]|div:not(:hover)|a:link|a|a:hover|p.a.b|#x.c|.zzz|"
    ".a, .b:hover, #x|p::before"
).split("|")
DECLARATIONS = (
    "color:red|color:blue|color:green|color:var(--v)|color:var(--w, teal)|margin:1px|margin:2px 3px|margin-left:4px|"
    "margin-top:5px|margin-inline:6px|padding:7px|padding-left:8px|border:1px solid red|border-left:2px dotted blue|"
    "border-color:lime|border-top-width:6px|background:#eee|background-color:#ddd|font-size:14px|line-height:2|"
    "background:linear-gradient(red,blue)|font:italic 12px/1.5 serif|all:unset|text-decoration:underline|--v:purple|"
    "--v:olive|--w:var(--v)|display:block"
).split("|")
CONDITIONS = [
    *[""] * 6,
    "@media (max-width:620px)",
    "@media (prefers-color-scheme:dark)",
    "@media print",
    "@supports (display:grid)",
    "@layer one",
    "@layer two",
]


def rule(random: Random) -> str:
    """One style rule, perhaps under a condition."""
    declarations = [
        d + " !important" * (random.random() < 0.25) for d in random.sample(DECLARATIONS, random.randint(1, 3))
    ]
    text = f"{random.choice(SELECTORS)} {{ {'; '.join(declarations)} }}"
    condition = random.choice(CONDITIONS)
    return f"{condition} {{ {text} }}" if condition else text


def sheet(random: Random) -> str:
    """The text of a style sheet."""
    rules = [rule(random) for _ in range(random.randint(3, 14))]
    order = ["@layer two, one;"] if random.random() < 0.3 else []
    return "\n".join(order + rules)


def page(seed: int) -> str:
    """A whole page."""
    random = Random(seed)
    css = sheet(random)
    keep = ' data-rules="keep"' if random.random() < 0.15 and "@layer" not in css else ""

    def element(depth: int) -> str:
        tag = random.choice(["p", "div", "a", "p"])
        attributes = _classes(random) + (' href="#"' if tag == "a" else "")
        if random.random() < 0.2:
            own = [d + " !important" * (random.random() < 0.3) for d in random.sample(DECLARATIONS, 2)]
            attributes += f' style="{"; ".join(own)}"'
        if tag == "div" and depth < 3:
            inner = "".join(element(depth + 1) for _ in range(random.randint(1, 3)))
        else:
            inner = "t" if random.random() < 0.7 or tag == "a" else "<a href='#'>l</a>"
        return f"<{tag}{attributes}>{inner}</{tag}>"

    body = "".join(element(0) for _ in range(random.randint(2, 4)))
    return f"<!DOCTYPE html><html><head><style{keep}>\n{css}\n</style></head><body>{body}</body></html>"


def template(seed: int) -> tuple[str, str]:
    """A template, its style sheet apart."""
    random = Random(seed)
    css = sheet(random)

    def attributes() -> str:
        made = ' class="{{ kind }}"' if random.random() < 0.03 else _classes(random)
        chance = random.random()
        if chance < 0.15:
            made += f' style="{random.choice(DECLARATIONS)}"'
        elif chance < 0.3:
            made += f' style="color: {{{{ colour }}}}; {random.choice(DECLARATIONS)}"'
        elif chance < 0.34:
            made += ' style="{{ if test: }}color: red{{ :if }}"'
        elif chance < 0.38:
            made += ' style="color: {{ maybe? }}"'
        return made + (' title="{{ colour }}"' if random.random() < 0.1 else "")

    def element(depth: int) -> str:
        chance = random.random()
        if depth < 3 and chance < 0.2:
            return "{{ for i in items: }}" + element(depth + 1) + "{{ :for }}"
        if depth < 3 and chance < 0.35:
            return "{{ if test: }}" + element(depth + 1) + "{{ :else: }}" + element(depth + 1) + "{{ :if }}"
        tag = random.choice(["p", "div", "div", "a"])
        address = ' href="{{ address }}"' if tag == "a" else ""
        if tag == "div" and depth < 3:
            inner = "".join(element(depth + 1) for _ in range(random.randint(1, 3)))
        else:
            inner = random.choice(["t", "{{ colour }}", "", "{{ markup as html }}" if random.random() < 0.2 else "x"])
        return f"<{tag}{address}{attributes()}>{inner}</{tag}>"

    body = "".join(element(0) for _ in range(random.randint(2, 4)))
    return (f"<!DOCTYPE html><html><head><!--sheet--></head><body>{body}</body></html>", f"<style>\n{css}\n</style>")


def data() -> list[dict[str, Any]]:
    """Data that take different ways through such a template."""
    common = {"address": "https://skerrow.example/", "markup": '<i class="a">q</i>'}
    return [
        {**common, "kind": "a", "colour": "olive", "test": True, "items": [1, 2, 3]},
        {**common, "kind": "b c", "colour": "navy", "test": False, "items": [], "maybe": "red"},
        {**common, "kind": "zzz", "colour": "red", "test": True, "items": [1], "markup": "y"},
    ]


def _classes(random: Random) -> str:
    names = [name for name in "abc" if random.random() < 0.35]
    return (f' class="{" ".join(names)}"' if names else "") + (' id="x"' if random.random() < 0.1 else "")
