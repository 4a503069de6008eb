"""Every place that a mark may have: what it accepts, how it shows it, and that no value changes what is around it."""

from __future__ import annotations

import json
import re
import tomllib
import unittest
from html import escape
from typing import Any

from pribble import FieldError, PictureError, Template, UnsafeValue
from tests.chromium import browser
from tests.support import TEST_DATA, Case, needs_chromium, proof

PLACES = tomllib.loads((TEST_DATA / "places.toml").read_text(encoding="utf-8"))
BLOCKS = tomllib.loads((TEST_DATA / "blocks.toml").read_text(encoding="utf-8"))


class Places(Case):
    def test_each_place_shows_and_refuses(self) -> None:
        for row in PLACES["row"]:
            for value, expected in row["cases"]:
                with self.subTest(row["name"], value=value):
                    if expected.startswith("! "):
                        said = self.complaint(row["page"], {"v": value}).replace("\n  ", " (")
                        self.assertIn(expected[2:], said)
                    else:
                        self.assertEqual(self.html(row["page"], {"v": value}), expected)

    def test_where_no_mark_may_stand(self) -> None:
        for refused in PLACES["refused"]:
            for page, expected in refused["cases"]:
                with self.subTest(page):
                    lines = self.complaint(page, {"v": "x"}).split("\n")
                    hint = f" ({lines[3].strip()})" if len(lines) > 3 else ""
                    self.assertTrue((lines[0] + hint).startswith(f"t.html:{expected}"), (lines, expected))


class Blocks(Case):
    def test_blocks(self) -> None:
        for case in BLOCKS["case"]:
            for data, expected, *text in case["results"]:
                with self.subTest(case["page"], data=data):
                    if expected.startswith("! "):
                        said = self.complaint(case["page"], data)
                        self.assertTrue(said.startswith(f"t.html:{expected[2:]}"), said)
                        continue
                    rendering = Template.from_text(case["page"]).render(data)
                    self.assertEqual(rendering.html, expected)
                    self.assertEqual([rendering.text] if text else [], text)

    def test_what_is_wrong_shows_both_ends(self) -> None:
        said = self.complaint('<a href="#x">{{ if a: }}</a>{{ :if }}')
        self.assertIn("keep the <a>, and let its address be empty", said)
        self.assertIn("the block begins at t.html:1:14", said)
        self.assertIn("rows(2)", self.complaint("<table>{{ if a: }}<tr><table>{{ :if }}"))


class Sneaky(str):
    """A text that says it is markup."""

    def __html__(self) -> str:
        return "<script>parent.ran = 1</script>"


class Object:
    def __html__(self) -> str:
        return "<script>parent.ran = 1</script>"

    def __str__(self) -> str:
        return self.__html__()


RUNS = "<script>parent.ran = 1</script>"
HOSTILE: list[Any] = [
    f'">{RUNS}', f"'>{RUNS}", f"--><img src=x onerror=parent.ran=1>{RUNS}", f"</title>{RUNS}", f"</style>{RUNS}",
    f"</textarea>{RUNS}", f"</script>{RUNS}", f"]]>{RUNS}", f"<!--{RUNS}", "<![endif]-->" + RUNS, "--!>" + RUNS,
    "javascript:parent.ran=1", " java\tscript:parent.ran=1", "JAVASCRIPT&colon;parent.ran=1", "data:text/html,x",
    ".evil.example", "evil.example", "//evil.example", "https://evil.example", "@evil.example", "\\\\evil.example",
    "..", "../../evil", "%2e%2e/evil", "%0d%0a", "a\r\nBcc: b@evil.example", "?bcc=b@evil.example", "#", "&amp", "lt;",
    "\x00\x01\x1b", "\u202egnp.exe", "\u2028", "a" * 100_000, "a " * 50_000, "-", "--", "->", " onload=parent.ran=1 ",
    "red;background:url(https://evil.example/)", "red}*{color:red", "url(https://evil.example)", "expression(parent.ran=1)",
    "*/ x /*", "\\", '"', "'", "`", "{{ 1 }}", "}}", "\U000f0000", "\ufeff", "", "0",
    Sneaky("tame"), Object(), "😀", "é" * 30,
]  # fmt: skip

# What a browser makes of each page, and of the comments in it that other programs read as markup.
STRUCTURE = """
const made = html => {
  const page = new DOMParser().parseFromString(html, "text/html");
  const walker = page.createTreeWalker(page, NodeFilter.SHOW_ELEMENT | NodeFilter.SHOW_COMMENT);
  const found = {nodes: [], links: [], properties: [], broken: 0};
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    if (node.nodeType === 8) {
      const hidden = /^\\[if [^\\]]*\\]>([^]*)<!\\[endif\\]$/.exec(node.data);
      const inner = hidden && made(hidden[1]);
      found.nodes.push(inner ? inner.nodes : "comment");
      if (inner) found.properties.push(...inner.properties);
      continue;
    }
    found.nodes.push(node.localName + " " + node.getAttributeNames().filter(n => n !== "style").sort());
    if (node.style) found.properties.push(...node.style);
    for (const name of ["href", "src", "background", "action", "formaction", "cite", "data", "xlink:href", "poster"])
      if (node.hasAttribute(name)) found.links.push(new URL(node.getAttribute(name), "base://relative"));
    if (node.localName === "style") {
      const sheet = new CSSStyleSheet();
      sheet.replaceSync(node.textContent);
      const rules = list => [...list].map(r => r.cssRules && r.cssRules.length ? [rules(r.cssRules)] :
        [r.selectorText, ...(r.style || [])]);
      found.properties.push(...rules(sheet.cssRules).flat(9).map(String));
    }
    if (node.type === "application/ld+json") try { JSON.parse(node.textContent) } catch { found.broken++ }
  }
  found.links = found.links.map(l => l.protocol + "//" + l.host);
  return found;
};
return [window.ran || 0, PAGES.map(made)];
"""


@proof
@needs_chromium
class InABrowser(Case):
    """A browser as the judge: whatever a value is, the page around it is what it is with a tame one."""

    def rendered(self, template: Template, value: Any) -> str | None:
        """The page, or None where the value is refused, for the data and with a place."""
        try:
            return template.render({"v": value}).html
        except (UnsafeValue, FieldError, PictureError) as error:
            self.assertIsNotNone(error.place)
            return None

    def seen(self, pages: list[str]) -> tuple[int, list[dict[str, Any]]]:
        short = [page for page in pages if len(page) < 10_000]
        frames = "".join(
            f'<iframe srcdoc="{escape("".join(short[n : n + 40]))}"></iframe>' for n in range(0, len(short), 40)
        )
        script = STRUCTURE.replace("PAGES", json.dumps(pages).replace("<", "\\u003c"))
        browser().load(f"<script>var ran = 0</script>{frames}")
        ran, found = browser().evaluate(script)
        return ran, found

    def test_no_value_changes_what_is_around_it(self) -> None:
        rows, pages, tried = [], [], 0
        for row in PLACES["row"]:
            tame = next(value for value, expected in row["cases"] if not expected.startswith("! "))
            given = tame if isinstance(tame, dict) else {"": tame}
            template = Template.from_text(row["page"])
            for name in given:
                for value in [given[name], *HOSTILE]:
                    tried += 1
                    page = self.rendered(template, {**given, name: value} if name else value)
                    if page is not None:
                        rows.append((row["name"], value))
                        pages.append(page)
        self.assertGreater(tried, 2000)
        self.assertGreater(len(pages), 1000)
        ran, found = self.seen(pages)
        self.assertEqual(ran, 0)
        tame_structure: dict[str, dict[str, Any]] = {}
        for (name, value), structure in zip(rows, found, strict=True):
            expected = tame_structure.setdefault(name, structure)
            with self.subTest(name, value=str(value)[:60]):
                self.assertEqual(structure["nodes"], expected["nodes"])
                self.assertLessEqual(set(structure["properties"]), set(expected["properties"]))
                self.assertEqual("margin-top" in structure["properties"], "margin-top" in expected["properties"])
                self.assertEqual(structure["broken"], 0)
                if name in (
                    "whole address",
                    "a picture elsewhere",
                    "CSS url()",
                    "other addresses",
                    "pictures of other elements",
                ):
                    self.assertLessEqual(
                        {link.partition("//")[0] for link in structure["links"]},
                        {"http:", "https:", "mailto:", "tel:", "sms:", "base:", "cid:", "data:"},
                    )
                elif "beginning" not in name and name != "host":
                    self.assertEqual(
                        [re.sub(r"//.*(?=\.skerrow)", "//…", link) for link in structure["links"]],
                        [re.sub(r"//.*(?=\.skerrow)", "//…", link) for link in expected["links"]],
                    )

    def test_the_judge_can_tell(self) -> None:
        ran, found = self.seen([RUNS, "<p title=x>", '<p title="x" onload="">'])
        self.assertEqual(ran, 1)
        self.assertNotEqual(found[1]["nodes"], found[2]["nodes"])


if __name__ == "__main__":
    unittest.main()
