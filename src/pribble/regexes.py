"""Regular expressions that are compiled when they are first used: a short command needs a few of our three hundred."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

__all__ = ["regex"]

_KEPT = ("match", "fullmatch", "search", "finditer", "findall", "split", "sub", "subn", "groups", "groupindex")


class Regex:
    """A regular expression.  It has what a compiled one has, from its first use on at the same cost."""

    def __init__(self, written: Any, flags: int) -> None:
        self.pattern, self.flags = written, flags

    def __getattr__(self, name: str) -> Any:
        if name not in _KEPT:
            raise AttributeError(name)
        compiled = self.compiled
        vars(self).update({kept: getattr(compiled, kept) for kept in _KEPT})
        return vars(self)[name]

    @property
    def compiled(self) -> re.Pattern[Any]:
        """The standard library's object."""
        return re.compile(self.pattern, self.flags)


if TYPE_CHECKING:
    from re import compile as regex
else:

    def regex(written, flags=0):
        """Returns a regular expression: see `re.compile`."""
        return Regex(written, flags)
