"""Attributes that are computed when they are first asked for, and kept.

That of the standard library takes a lock on Python 3.11, one for all objects of a class, which takes longer than most
of what is computed here.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

__all__ = ["cached_property"]

if TYPE_CHECKING:
    from functools import cached_property
else:

    class cached_property:
        """Makes an attribute of a method: see `functools.cached_property`.

        Two threads that ask at once may both compute it; the value that is kept first is what both get.
        """

        def __init__(self, function: Callable[[Any], Any]) -> None:
            self.function, self.name, self.__doc__ = function, function.__name__, function.__doc__

        def __get__(self, one: Any, owner: type | None = None) -> Any:
            if one is None:
                return self
            return one.__dict__.setdefault(self.name, self.function(one))
