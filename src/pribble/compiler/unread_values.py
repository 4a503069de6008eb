"""What a program computes and nobody reads is left out: of a text's program, since the page's has computed it already.

A page's ``let`` whose value stands in a paragraph is taken over as the page shows it; then neither it nor what it is
made of has to be computed again.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterable, Iterator

from pribble.compiler.expression_compiler import is_class_flag

_Definition = ast.Assign | ast.FunctionDef


def without_unread(body: list[ast.stmt], variables: set[str]) -> list[ast.stmt]:
    """Returns the statements of a program without those that set one of these variables, the flag of one, or define a
    function, where nothing reads it."""
    loads = Counter(_loaded(body))
    definitions: dict[str, list[_Definition]] = {}
    for statement in _statements(body):
        if (name := _defined(statement, variables)) is not None:
            definitions.setdefault(name, []).append(statement)  # type: ignore[arg-type]
    unread = [name for name in definitions if not loads[name]]
    dead: set[str] = set()
    while unread:
        name = unread.pop()
        dead.add(name)
        for definition in definitions[name]:
            for read in _loaded(definition.body if isinstance(definition, ast.FunctionDef) else [definition.value]):
                loads[read] -= 1
                if not loads[read] and read in definitions and read not in dead:
                    unread.append(read)
    return _without(body, dead, variables)


def _defined(statement: ast.stmt, variables: set[str]) -> str | None:
    """Returns the function that a statement defines, or the one of the variables, or the flag."""
    match statement:
        case ast.FunctionDef(name=name):
            return name
        case ast.Assign(targets=[ast.Name(id=name)]) if name in variables or is_class_flag(name):
            return name
    return None


def _loaded(nodes: Iterable[ast.AST]) -> Iterator[str]:
    """Yields the names that are read, each as often as it is."""
    for node in nodes:
        for inner in ast.walk(node):
            if isinstance(inner, ast.Name) and isinstance(inner.ctx, ast.Load):
                yield inner.id


def _statements(body: list[ast.stmt]) -> Iterator[ast.stmt]:
    """Yields statements and those within them."""
    waiting = [*body]
    while waiting:
        statement = waiting.pop()
        yield statement
        for block in _blocks(statement):
            waiting += block


def _blocks(statement: ast.stmt) -> list[list[ast.stmt]]:
    match statement:
        case ast.For() | ast.If():
            return [statement.body, statement.orelse]
        case ast.FunctionDef():
            return [statement.body]
    return []


def _without(body: list[ast.stmt], dead: set[str], variables: set[str]) -> list[ast.stmt]:
    for statement in _statements(body):
        for block in _blocks(statement):
            kept = [one for one in block if _defined(one, variables) not in dead]
            block[:] = kept or ([ast.Pass()] if block else [])
    return [one for one in body if _defined(one, variables) not in dead]
