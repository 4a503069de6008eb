"""Viewers: profiles of what kinds of mail programs do with a message, named by that.

Ours stand in ``viewers.toml``; a project adds its own in ``pribble.toml``: ``[viewers.NAME]``, with ``like`` to begin
from another.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import fields
from functools import cache
from pathlib import Path
from types import MappingProxyType
from typing import Any, Literal

from pribble.cascade.media_queries import Screen
from pribble.errors import did_you_mean
from pribble.records import record, replace
from pribble.toml_file import TomlFile

_LIKE = "like"


@record(frozen=True, slots=True)
class Viewer:
    """What one kind of mail program does.

    - `style_elements`: which ``style`` elements count: all ("keep"), those in the head ("head"), or none ("none").
    - `style_attributes`, `media`, `head`: whether ``style`` attributes, ``@media`` rules and the head count.
    - `elements`: elements that are taken out; `properties` and `displays`: declarations that are.
    - `engine`: what conditional comments call it, with its version ("mso 16"); "" where it reads none.
    - `cid`: where pictures in parts show: "img", "attributes" (``background``), "css".
    - `data`: whether pictures in the page itself show (RFC 2397), and up to how many characters: true for any.
    - `remote`: whether pictures from elsewhere are "shown", "asked" for, or "never" shown.
    - `cut`: after how many bytes of a page or text nothing shows; 0 for all.
    - `text_only`: whether the plain text shows, and no page.
    - `width`: of its window, in CSS pixels; `scheme`: "light", "dark", or "forced" where it turns pages dark itself.
    """

    name: str
    about: str = ""
    why: str = ""
    style_elements: Literal["keep", "head", "none"] = "keep"
    style_attributes: bool = True
    media: bool = True
    head: bool = True
    elements: tuple[str, ...] = ()
    properties: tuple[str, ...] = ()
    displays: tuple[str, ...] = ()
    engine: str = ""
    cid: tuple[str, ...] = ("img", "attributes", "css")
    data: bool | int = True
    remote: Literal["shown", "asked", "never"] = "shown"
    cut: int = 0
    text_only: bool = False
    width: int = 1000
    scheme: Literal["light", "dark", "forced"] = "light"

    @property
    def screen(self) -> Screen:
        """What it shows a page on."""
        return Screen(self.width, scheme="dark" if self.scheme == "dark" else "light")


# What each key may be: words, or a kind.
_WORDS: Mapping[str, tuple[str, ...]] = {
    "style_elements": ("keep", "head", "none"),
    "remote": ("shown", "asked", "never"),
    "scheme": ("light", "dark", "forced"),
    "cid": ("img", "attributes", "css"),
}
_KINDS: Mapping[str, tuple[type, ...]] = {
    **dict.fromkeys(("about", "why", "engine", "style_elements", "remote", "scheme"), (str,)),
    **dict.fromkeys(("style_attributes", "media", "head", "text_only"), (bool,)),
    **dict.fromkeys(("elements", "properties", "displays", "cid"), (list,)),
    **dict.fromkeys(("cut", "width"), (int,)),
    "data": (bool, int),
}
_CALLED = {str: "a text", bool: "true or false", list: "a list of texts", int: "a number"}
_LARGEST = 100_000_000


def known_viewers() -> Mapping[str, Viewer]:
    """Returns our own profiles, by name."""
    return _own()


@cache
def _own() -> Mapping[str, Viewer]:
    file = TomlFile.read(Path(__file__).with_name("viewers.toml"))
    return with_viewers(file.data, {}, file)


def with_viewers(
    tables: Mapping[str, Mapping[str, Any]], known: Mapping[str, Viewer], file: TomlFile
) -> Mapping[str, Viewer]:
    """Returns the profiles that are `known`, and those of tables beside them, which stand in a file.

    Raises `DataError` for a key or value that means nothing.
    """
    made = dict(known)
    for name, table in tables.items():
        like = table.get(_LIKE)
        if like is not None and like not in made:
            problem = f'"viewers.{name}" is like no viewer: "{like}"'
            raise file.wrong(problem, "viewers", name, _LIKE, at="value", hint=did_you_mean(str(like), made))
        base = made[like] if like is not None else Viewer(name)
        made[name] = replace(
            base, name=name, **{key: _value(file, name, key, table[key]) for key in table if key != _LIKE}
        )
    return MappingProxyType(made)


def _value(file: TomlFile, name: str, key: str, value: Any) -> Any:
    called, at = f'"viewers.{name}.{key}"', ("viewers", name, key)
    if key not in _KINDS:
        keys = [one.name for one in fields(Viewer) if one.name != "name"]
        raise file.wrong(f"{called} means nothing here", *at, hint=did_you_mean(key, keys))
    kinds = _KINDS[key]
    if not isinstance(value, kinds) or (isinstance(value, bool) and bool not in kinds):
        raise file.wrong(f"{called} is {_CALLED[kinds[-1]]}", *at, at="value")
    if isinstance(value, list) and not all(isinstance(one, str) for one in value):
        raise file.wrong(f"{called} is a list of texts", *at, at="value")
    if isinstance(value, int) and not 0 <= value <= _LARGEST:
        raise file.wrong(f"{called} is from 0 to {_LARGEST:,}", *at, at="value")
    for one in (value if isinstance(value, list) else [value]) if key in _WORDS else ():
        if one not in _WORDS[key]:
            raise file.wrong(f"{called} is one of {', '.join(_WORDS[key])}", *at, at="value")
    return tuple(value) if isinstance(value, list) else value


def chosen_viewers(names: Iterable[str | Viewer] | None, known: Mapping[str, Viewer] | None = None) -> list[Viewer]:
    """Returns the viewers of these names; all that are known by default.  Raises `ValueError` for an unknown one."""
    every = known_viewers() if known is None else known
    if names is None:
        return list(every.values())
    return [one if isinstance(one, Viewer) else named_viewer(one, every) for one in names]


def named_viewer(name: str, known: Mapping[str, Viewer] | None = None) -> Viewer:
    """Returns the viewer of a name.  Raises `ValueError` for an unknown one."""
    every = known_viewers() if known is None else known
    if name not in every:
        hint = did_you_mean(name, every)
        raise ValueError(f'there is no viewer "{name}"' + (f" ({hint})" if hint else ""))
    return every[name]
