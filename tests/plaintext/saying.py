"""Generated templates full of text: each with the template of the page that its text is taken from."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st

# A page as its template and as that of its text page, which has what only the text has, and not what only the HTML has.
Pair = tuple[str, str]

SHEET = """<!DOCTYPE html><style>.none { display: none } .block { display: block } .line { display: inline } .unseen { visibility: hidden }
.seen { visibility: visible } .zero { font-size: 0 } .sized { font-size: 12px } .em { font-size: 2em } .clear { opacity: 0 }
.flat { max-height: 0; overflow: hidden } .pre { white-space: pre } .wrap { white-space: pre-wrap } .breaks { white-space:
pre-line } .keep { white-space: nowrap } .tight { margin: 0 } .roomy { margin: 20px 0 } .beside { display: inline-block }
.roman { list-style: upper-roman } .bare { list-style-type: none } .font { font: 0/0 a }
@media (max-width: 400px) { .none { display: block } p { display: none } }</style>"""
CLASSES = "none block line unseen seen zero sized em clear flat pre wrap breaks keep tight roomy beside roman bare font".split()
STYLES = (
    "display:none;display:inline;visibility:hidden;font-size:0;font-size:1em;white-space:pre;white-space:nowrap;"
    "margin:0;padding:8px;margin:0 0 10px;list-style-type:lower-alpha;display:block;color:red;mso-hide:all;"
    "overflow:hidden".split(";")
)
DATA: dict[str, Any] = {
    "v": [
        "word",
        "",
        " two  words ",
        "x" * 80,
        "1,250.00",
        "日本語の長い文章です。" * 8,
        "a\nb",
        "\u00a0",
        "é & <b>",
        "2",
    ],
    "link": ["https://x.example/a?b=1", "https://word.example", "mailto:a@x.example"],
    "c": [True, False],
    "n": [2, 0, 1234.5],
    "l": [[], ["1"], ["one", "two", "three"], ["12.50", "", "3"], ["long " * 20, "x"], [" ", "a  b"]],
}
DATUM = st.fixed_dictionaries({name: st.sampled_from(values) for name, values in DATA.items()})


def both(text: str) -> Pair:
    return text, text


def joined(pairs: list[Pair]) -> Pair:
    return "".join(p[0] for p in pairs), "".join(p[1] for p in pairs)


def wrapped(around: str, inner: Pair) -> Pair:
    before, after = around.split("%s")
    return before + inner[0] + after, before + inner[1] + after


_PLAIN = [
    "word ", "some more words ", " ", "\n  ", "{{ v }}", "{{ v }} ", "<br>", "&nbsp;", "a&shy;b", "<wbr>", "long " * 16, "{{ c and v }}" and "{{ v }}.",
    "漢字とかな、", "&#8203;", "<!-- c -->", '<img src="data:," alt="">', '<img src="data:," alt="Map">', '<img src="data:," alt="{{ v }}">',
    "\t", "40 €", "x<sup>2</sup>", "H<sub>2</sub>O", "m<sup>{{ v }}</sup>", '<a href="{{ link }}">{{ v }}</a> ', '<a href="https://x.example/{{ v }}">go</a>',
    '<a href="{{ link }}"><img src="data:," alt="{{ v }}"></a>', '<a href="https://x.example/">x.example</a>', "<q>{{ v }}</q>", '<a href="#">{{ v }}</a>',
    '<a href="https://p.example"><img src="data:," alt=""></a>', "{{ v as breaks }}", "{{ let q = v }}{{ q }}", '<abbr title="All of it">AOI</abbr>',
    '<img src="data:," alt="Big" style="display:block">',
    "{{ n as money('EUR') }}", "{{ missing? }}", "{{ missing? as money('EUR') }} ", "{{ v as upper }}", "{{ n as number(1) }}",
]  # fmt: skip
_ONLY: list[Pair] = [
    ("{{ only html: }}html {{ :only }}", ""),
    ("{{ only text: }}text {{ v }} {{ :only }}", "text {{ v }} "),
    (
        "\n{{ only text: }}\n  alone\n    {{ v }}\n{{ :only }}\n",
        '\n<span style="display:block;white-space:pre;margin:1em 0">alone\n  {{ v }}</span>',
    ),
]
_LINE = st.one_of(st.sampled_from(_PLAIN).map(both), st.sampled_from(_ONLY))
_AROUND_LINE = [
    "<b>%s</b>", "{{ if c: }}%s{{ :if }}", "{{ if c: }}%s{{ :else: }}other {{ :if }}", "{{ for x in l: }}%s{{ x }}, {{ :for }}",
    '<a href="https://y.example/{{ v }}">%s</a>', "<span>%s</span>", "<sup>%s</sup>",
]  # fmt: skip
_AROUND_BLOCK = [
    "<p>%s</p>", "<div>%s</div>", "<h1>%s</h1>", "<h2>%s</h2>", "<h3>%s</h3>", "<blockquote>%s</blockquote>", "<ul><li>%s</li></ul>",
    "<ul>{{ for x in l: }}<li>{{ x as lower }}%s</li>{{ :for }}</ul>", "<ol start=3><li>%s<li>{{ v }}</ol>", "<ol reversed type=a><li>%s</li><li>x</li></ol>",
    "<dl><dt>{{ v }}<dd>%s</dl>", "<pre>%s</pre>", "<div>word %s</div>", "<hr>%s", "<section>%s</section>", "{{ if c: }}<div>%s</div>{{ :if }}",
    "{{ if c: }}<p>%s</p>{{ :else: }}<p>none</p>{{ :if }}", "{{ for x in l: }}<p>{{ x }}</p>%s{{ :for }}", '<a href="{{ link }}"><div>%s</div></a>',
    "<table role=presentation><tr><td>%s</td></tr></table>", "<table><tr><td>%s</td><td>{{ v }}</td></tr><tr><td>Total</td><td>40 €</td></tr></table>",
    "<table><tr><th>A<th>B</tr>{{ for x in l: }}<tr><td>{{ x }}</td><td>%s</td></tr>{{ :for }}</table>",
    "<table><thead><tr><th>Day<th>Sum<th>Note</thead>{{ for x in l: }}<tr><td>{{ x }}<td>{{ v }}<td>12.50</tr>{{ :for }}<tfoot><tr><td colspan=2>All<td>%s</tfoot></table>",
    "<table><caption>Cap {{ v }}</caption><tr><th rowspan=2>%s<td>1<tr><td>{{ v }}</table>", "<center>%s</center>",
    "<table><tr>{{ if c: }}<td>{{ v }}</td>{{ :if }}<td>%s</td></tr></table>", "<table><tbody>{{ if c: }}<tr><td>%s</td><td>b</td></tr>{{ :if }}</tbody></table>",
]  # fmt: skip


@st.composite
def dressed(draw: st.DrawFn, around: str, content: st.SearchStrategy[Pair]) -> Pair:
    """An element around something, with a class or style in its first tag."""
    inner = draw(content)
    kind = draw(st.sampled_from(["", "", "class", "style"]))
    if kind and around.startswith("<"):
        value = draw(st.sampled_from(CLASSES if kind == "class" else STYLES))
        end = min(around.index(c) for c in " >" if c in around)
        around = f'{around[:end]} {kind}="{value}"{around[end:]}'
    return wrapped(around, inner)


def _lines(depth: int) -> st.SearchStrategy[Pair]:
    if not depth:
        return st.lists(_LINE, max_size=4).map(joined)
    inner = _lines(depth - 1)
    one = st.one_of(_LINE, _LINE, st.sampled_from(_AROUND_LINE).flatmap(lambda around: dressed(around, inner)))
    return st.lists(one, max_size=4).map(joined)


def _blocks(depth: int) -> st.SearchStrategy[Pair]:
    if not depth:
        return _lines(1)
    inner = _blocks(depth - 1)
    one = st.sampled_from(_AROUND_BLOCK).flatmap(lambda around: dressed(around, inner))
    return st.lists(st.one_of(one, one, _lines(2)), max_size=3).map(joined)


RULES = [
    "", "", "", "p:first-child { display: none }", "td:last-child { visibility: hidden }", "li:nth-child(2) { font-size: 0 }", "div + div { margin: 20px }",
    "sup { display: none }", "p { margin: 0 }", "ul { list-style: none }", "a { display: inline-block }",
]  # fmt: skip


@st.composite
def templates(draw: st.DrawFn) -> Pair:
    """A page."""
    made = draw(_blocks(3))
    rule = draw(st.sampled_from(RULES))
    return wrapped(f"{SHEET}{f'<style>{rule}</style>' if rule else ''}<body>%s", made)
