"""What kind of value an argument is, for the words of a `TypeError` that names it."""

from __future__ import annotations

import os
from collections.abc import Callable

from pribble.regexes import regex

# Half a surrogate pair, but for those that stand for octets of a name that is no UTF-8 (PEP 383).
_SURROGATE = regex("[\ud800-\udc7f\udd00-\udfff]")


def texts(**given: object) -> None:
    """Raise `TypeError` for the first argument that is no text."""
    for name, value in given.items():
        if not isinstance(value, str):
            raise wrong(name, "a text", value)


def maybe_texts(**given: object) -> None:
    """Likewise, where None is taken too."""
    texts(**{name: value for name, value in given.items() if value is not None})


def octets(**given: object) -> None:
    """Raise `TypeError` for the first argument that is no bytes."""
    for name, value in given.items():
        if not isinstance(value, bytes):
            raise wrong(name, "bytes", value)


def paths(**given: object) -> None:
    """Raise `TypeError` for the first argument that is no path: a text or an object that stands for one."""
    for name, value in given.items():
        if not isinstance(value, str | os.PathLike) or not isinstance(os.fspath(value), str):
            raise wrong(name, "a path", value)


def possible_paths(**given: object) -> None:
    """Likewise, and raise `ValueError` for one that no file could have."""
    paths(**given)
    for name, value in given.items():
        assert isinstance(value, str | os.PathLike)
        if "\0" in os.fspath(value) or _SURROGATE.search(os.fspath(value)):
            raise ValueError(f"{name} holds a character that is in the name of no file")


def integers(**given: object) -> None:
    """Raise `TypeError` for the first argument that is no integer."""
    for name, value in given.items():
        if not isinstance(value, int) or isinstance(value, bool):
            raise wrong(name, "an integer", value)


def numbers(**given: object) -> None:
    """Raise `TypeError` for the first argument that is no number."""
    for name, value in given.items():
        if not isinstance(value, int | float) or isinstance(value, bool):
            raise wrong(name, "a number", value)


def flags(**given: object) -> None:
    """Raise `TypeError` for the first argument that is neither true nor false."""
    are_instances(bool, "true or false", **given)


def are_instances(kind: type | tuple[type, ...], words: str, **given: object) -> None:
    """Raise `TypeError` for the first argument that is none of a kind, which is called so."""
    for name, value in given.items():
        if not isinstance(value, kind):
            raise wrong(name, words, value)


def ensure(name: str, words: str, is_one: Callable[[object], bool], value: object) -> None:
    """Raise `TypeError` for a value that is not what `words` say, as a test finds."""
    if not is_one(value):
        raise wrong(name, words, value)


def wrong(name: str, words: str, value: object) -> TypeError:
    """Returns the error for an argument that is of another kind than it should be."""
    return TypeError(f"{name} is {words}, not {_type_name(value)}")


def _type_name(value: object) -> str:
    if isinstance(value, list | tuple) and value:
        return f"a {type(value).__name__} of {', '.join(sorted({type(item).__name__ for item in value}))}"
    return type(value).__name__
