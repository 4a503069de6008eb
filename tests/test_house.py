"""The house itself: imports run downwards, few names are public, importing is cheap, the locks hold what is asked for."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
import tomllib
import unittest
from collections.abc import Iterator
from functools import cache
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import pribble
from pribble.mime.audit.rules import RULES
from tests.support import ROOT

SOURCE = ROOT / "src/pribble"
MODULES = {
    ".".join(("pribble", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__"): path
    for path in sorted(SOURCE.rglob("*.py"))
}


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text(encoding="utf-8"))


def imported(path: Path) -> Iterator[str]:
    """The modules of Pribble that a module imports, now or when it needs them; not those for annotations alone."""
    nodes: list[ast.AST] = [parsed(path)]
    while nodes:
        node = nodes.pop()
        if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
            continue
        nodes += [inner for inner in ast.iter_child_nodes(node) if not isinstance(inner, ast.expr)]
        if isinstance(node, ast.ImportFrom) and node.module:
            for name in node.names:
                inner = f"{node.module}.{name.name}"
                yield inner if inner in MODULES else node.module
        elif isinstance(node, ast.Import):
            yield from (name.name for name in node.names)


def floors() -> dict[str, int]:
    """How high each room of docs/house.md stands, by the first part of its modules' names: its row in the table."""
    text = (ROOT / "docs/house.md").read_text(encoding="utf-8")
    rows = re.findall(r"^\| (`[^|]*) \|", text.partition("## Rooms")[2], re.MULTILINE)
    return {
        room.removesuffix(".py").removesuffix("/"): floor
        for floor, row in enumerate(rows)
        for room in re.findall(r"`([^`]*)`", row)
    }


def room(module: str) -> str:
    return module.split(".")[1]


class Imports(unittest.TestCase):
    def test_they_run_downwards(self) -> None:
        floor = floors()
        self.assertEqual(sorted({room(m) for m in MODULES if "." in m} - {"__main__"} - set(floor)), [])
        self.assertEqual(sorted(set(floor) - {room(m) for m in MODULES if "." in m}), [])
        for module, path in MODULES.items():
            for other in imported(path):
                if module.count(".") and room(module) != "__main__" and other.startswith("pribble."):
                    with self.subTest(module, imports=other):
                        self.assertLessEqual(floor[room(other)], floor[room(module)])
        # Nor do those within a room run in a circle; in the same test, since reading the modules takes longest.
        graph = {module: set(imported(path)) & set(MODULES) - {module} for module, path in MODULES.items()}
        try:
            tuple(TopologicalSorter(graph).static_order())
        except CycleError as error:
            self.fail(" → ".join(error.args[1]))

    def test_importing_pribble_is_cheap(self) -> None:
        """The module itself loads next to nothing, and all of its names together nothing that a use may not need."""
        heavy = "PIL babel rich aiosmtpd matplotlib pandas email.message smtplib asyncio".split()
        small = [*heavy, *"markupsafe cssselect2 inspect dataclasses typing".split()]
        loaded = "print([m for m in {!r} if m in sys.modules])"
        code = f"import sys, pribble; {loaded.format(small)}; from pribble import *; {loaded.format(heavy)}"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT / "src")
        self.assertEqual((done.stdout, done.stderr), ("[]\n[]\n", ""))


class Names(unittest.TestCase):
    def test_few_are_public_and_each_is_there(self) -> None:
        self.assertLessEqual(len(pribble.__all__), 30)
        self.assertEqual(sorted(pribble.__all__), list(pribble.__all__))
        for name in pribble.__all__:
            self.assertTrue(getattr(pribble, name).__doc__, name)
        (typed,) = (node for node in parsed(SOURCE / "__init__.py").body if isinstance(node, ast.If))
        names = {name.name for node in typed.body if isinstance(node, ast.ImportFrom) for name in node.names}
        self.assertEqual(names, set(pribble.__all__))

    def test_every_module_says_what_it_is(self) -> None:
        for module, path in MODULES.items():
            with self.subTest(module):
                self.assertTrue(ast.get_docstring(parsed(path)))

    def test_syntax_trees_are_made_in_one_place(self) -> None:
        """One thread at a time: two at once would fail now and then, and no test could make them."""
        for module, path in MODULES.items():
            made = [
                node.lineno
                for node in ast.walk(parsed(path))
                if isinstance(node, ast.Call) and ast.unparse(node.func) in ("ast.parse", "compile")
            ]
            self.assertEqual(bool(made), module == "pribble.compiler.syntax_trees", f"{module}: lines {made}")

    def test_every_rule_is_a_group_and_a_name(self) -> None:
        rules = set(RULES)
        for path in MODULES.values():
            for node in ast.walk(parsed(path)):
                if isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant | ast.JoinedStr):
                    called = ast.unparse(node.func).removeprefix("self.")
                    if called in (
                        "Finding",
                        "MarkupFinding",
                        "SheetFinding",
                        "rules.report",
                        "report.add",
                        "_report",
                        "tell",
                    ):
                        rules.add(ast.unparse(node.args[0]).strip("f'"))
        self.assertGreater(len(rules), 180)
        self.assertEqual([rule for rule in sorted(rules) if not re.fullmatch(r"[a-z]+\.[a-z0-9{}.-]+", rule)], [])


class Locks(unittest.TestCase):
    """What `make` installs is pinned: each version, with hashes."""

    def setUp(self) -> None:
        with (ROOT / "pyproject.toml").open("rb") as file:
            self.project = tomllib.load(file)
        self.extras = self.project["project"]["optional-dependencies"]

    @staticmethod
    def pinned(name: str) -> dict[str, list[str]]:
        """The versions in a lock, by the packages' names."""
        text = (ROOT / "requirements" / name).read_text(encoding="utf-8")
        found: dict[str, list[str]] = {}
        for entry in re.split(r"(?<!\\)\n", re.sub(r"^ *#.*\n", "", text, flags=re.MULTILINE)):
            if entry.strip():
                pin = re.match(r"([\w.-]+)==(\S+)", entry)
                assert pin and "--hash=sha256:" in entry, entry
                found.setdefault(pin[1].lower(), []).append(pin[2])
        return found

    def wanted(self) -> dict[str, str]:
        """The lower bounds of everything that pyproject.toml asks for, by the packages' names."""
        lines = [*self.project["project"]["dependencies"], *(line for extra in self.extras.values() for line in extra)]
        bounds = {}
        for line in lines:
            if not line.startswith("pribble["):
                name, bound = re.fullmatch(r"([\w-]+)(?:\[\w+\])?>=([\d.]+)", line).groups()  # type: ignore[union-attr]
                bounds[name.lower()] = bound
        return bounds

    def test_all_that_is_asked_for_is_pinned(self) -> None:
        self.assertLessEqual(set(self.wanted()), set(self.pinned("pinned.txt")))
        self.assertIn("uv", self.pinned("uv.txt"))

    def test_the_lowest_are_the_lower_bounds(self) -> None:
        lowest = self.pinned("lowest.txt")
        for name, bound in self.wanted().items():
            if name in lowest:  # ruff and mypy are not
                with self.subTest(name):
                    self.assertTrue(any(version.startswith(bound) for version in lowest[name]), (lowest[name], bound))

    def test_the_build_needs_what_the_extra_says(self) -> None:
        self.assertLessEqual(set(self.project["build-system"]["requires"]), set(self.extras["build"]))


if __name__ == "__main__":
    unittest.main()
