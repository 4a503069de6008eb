"""Python's syntax trees from texts, and code from trees: one thread at a time.

CPython 3.11 keeps the depth of the tree that is being made in one place for all threads, and fails with a `SystemError`
where two make one at once (https://github.com/python/cpython/issues/106905).
"""

from __future__ import annotations

import ast
import threading
from types import CodeType

_ONE_AT_A_TIME = threading.Lock()


def parsed(text: str) -> ast.Module:
    """Returns the tree of statements."""
    with _ONE_AT_A_TIME:
        return ast.parse(text)


def parsed_expression(text: str) -> ast.expr:
    """Returns the tree of an expression."""
    with _ONE_AT_A_TIME:
        return ast.parse(text, mode="eval").body


def compiled(tree: ast.Module, file: str) -> CodeType:
    """Returns the code of a tree, of which tracebacks say that it is in `file`."""
    with _ONE_AT_A_TIME:
        return compile(tree, file, "exec")
