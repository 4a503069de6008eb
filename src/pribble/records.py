"""Records: data classes that are made in a tenth of the time when a module is loaded.

`record` does what `dataclasses.dataclass` does with the same arguments, and to a type checker it is that.  The standard
library writes up to six functions as text for each class, and compiles them: half of the time that a short command took
went there.  Here classes share functions that ask for their fields, and the one function that has to be fast,
`__init__`, is written when the first of its objects is made.
"""

from __future__ import annotations

from collections.abc import Callable
from operator import attrgetter
from threading import get_ident
from typing import TYPE_CHECKING, Any

__all__ = ["field", "record", "replace"]

if TYPE_CHECKING:
    from dataclasses import dataclass as record
    from dataclasses import field, replace
else:

    def record(cls=None, /, *, frozen=False, slots=False, eq=True, init=True, kw_only=False):
        """Makes a record of a class: see `dataclasses.dataclass`."""
        assert not (kw_only and init), "there is no such __init__"
        if cls is None:
            return lambda given: _made(given, frozen, slots, eq, init)
        return _made(cls, frozen, slots, eq, init)

    def field(**given):
        """Says more of a field: see `dataclasses.field`."""
        return _Field(**given)

    def replace(one, /, **changes):
        """Returns a record like one, but for some fields: see `dataclasses.replace`."""
        kept = {name: getattr(one, name) for name, known in one.__record_fields__.items() if known.init}
        return one.__class__(**{**kept, **changes})


class _Missing:
    def __repr__(self) -> str:
        return "<factory>"  # as the standard library writes what a field without a value of its own has


_MISSING: Any = _Missing()


class _Field:
    """What is known of a field."""

    __slots__ = ("compare", "default", "default_factory", "init", "name", "repr", "written")

    def __init__(
        self,
        default: Any = _MISSING,
        default_factory: Any = _MISSING,
        init: bool = True,
        repr: bool = True,
        compare: bool = True,
    ) -> None:
        self.default, self.default_factory = default, default_factory
        self.init, self.repr, self.compare = init, repr, compare
        self.name = ""
        self.written: Any = None  # its annotation


def _made(cls: type, frozen: bool, slots: bool, eq: bool, init: bool) -> type:
    """Returns the class that a class becomes: with its fields, and the functions that it has not itself."""
    fields, defaults = _fields(cls)
    own = {name: value for name, value in cls.__dict__.items() if name not in fields}
    shared: dict[str, Any] = {
        "__record_fields__": fields,
        "__dataclass_fields__": _LazyFields(),
        "__dataclass_params__": _Parameters(frozen=frozen, eq=eq),
        "__match_args__": tuple(one.name for one in fields.values() if one.init),
        "__repr__": _repr,
    }
    if init:
        shared["__init__"] = _LazyInit(fields, frozen, slots)
    if eq:
        values = _values(tuple(one.name for one in fields.values() if one.compare))
        shared |= _compared(values, frozen)
    if frozen:
        shared |= {"__setattr__": _refuse_to_set, "__delattr__": _refuse_to_delete}
    if frozen and slots:
        shared |= {"__getstate__": _state, "__setstate__": _set_state}
    if not slots:
        for name in fields.keys() & cls.__dict__.keys() - defaults.keys():
            delattr(cls, name)  # what more was said of a field
        for name, value in (shared | defaults).items():
            if name not in own:
                setattr(cls, name, value)
        made = cls
    else:
        # Where the slots are, no value can be; so it has to be a new class.
        inherited = {name for base in cls.__mro__[1:] for name in getattr(base, "__slots__", ())}
        own = {name: value for name, value in own.items() if name not in ("__dict__", "__weakref__")}
        own["__slots__"] = tuple(name for name in fields if name not in inherited)
        made = type(cls)(cls.__name__, cls.__bases__, {**shared, **own})
        made.__qualname__ = cls.__qualname__
    if isinstance(function := made.__dict__.get("__init__"), _LazyInit):
        function.owner = made
    return made


def _fields(cls: type) -> tuple[dict[str, _Field], dict[str, Any]]:
    """Returns the fields of a class, those of the classes below it first, and the values of its own that have one."""
    fields: dict[str, _Field] = {}
    for base in reversed(cls.__mro__[1:]):
        fields |= getattr(base, "__record_fields__", {})
    defaults: dict[str, Any] = {}
    for name, written in cls.__annotations__.items():
        if not str(written).startswith(("ClassVar", "typing.ClassVar")):
            given = cls.__dict__.get(name, _MISSING)
            fields[name] = found = given if isinstance(given, _Field) else _Field(given)
            found.name, found.written = name, written
            if found.default is not _MISSING:
                defaults[name] = found.default
    return fields, defaults


def _values(names: tuple[str, ...]) -> Callable[[Any], tuple[Any, ...]]:
    """Returns what gives the values of these attributes of an object."""
    if len(names) < 2:
        return lambda one: tuple([getattr(one, name) for name in names])
    return attrgetter(*names)


def _compared(values: Callable[[Any], tuple[Any, ...]], frozen: bool) -> dict[str, Any]:
    """Returns the functions that compare two records by their values."""

    def __eq__(self: Any, other: object) -> Any:
        return values(self) == values(other) if other.__class__ is self.__class__ else NotImplemented

    def __hash__(self: Any) -> int:
        return hash(values(self))

    return {"__eq__": __eq__, "__hash__": __hash__ if frozen else None}


# ---- what all records share -------------------------------------------------------------------------------------


class _LazyInit:
    """Becomes the `__init__` of a class when it is first asked for."""

    owner: Any

    def __init__(self, fields: dict[str, _Field], frozen: bool, slots: bool) -> None:
        self.fields, self.frozen, self.slots = fields, frozen, slots

    def __get__(self, instance: object, owner: type | None = None) -> Any:
        function = self.owner.__dict__["__init__"]
        if function is self:
            function = self._written()
            self.owner.__init__ = function
        return function.__get__(instance, owner)

    def _written(self) -> Any:
        names: dict[str, Any] = {"MISSING": _MISSING, "set_value": object.__setattr__}
        parameters, lines = ["self"], []
        for name, one in self.fields.items():
            value = name
            if one.default is not _MISSING:
                names[f"default_{name}"] = one.default
                parameters += [f"{name}=default_{name}"] if one.init else []
                value = name if one.init else f"default_{name}"
            elif one.default_factory is not _MISSING:
                names[f"new_{name}"] = one.default_factory
                parameters += [f"{name}=MISSING"] if one.init else []
                value = f"new_{name}() if {name} is MISSING else {name}" if one.init else f"new_{name}()"
            elif one.init:
                parameters.append(name)
            else:
                continue
            if self.frozen and self.slots:
                names[f"set_{name}"] = getattr(self.owner, name).__set__
                lines.append(f" set_{name}(self, {value})")
            elif self.frozen:
                lines.append(f" set_value(self, {name!r}, {value})")
            else:
                lines.append(f" self.{name} = {value}")
        if hasattr(self.owner, "__post_init__"):
            lines.append(" self.__post_init__()")
        source = f"def __init__({', '.join(parameters)}):\n" + ("\n".join(lines) or " pass")
        exec(source, names)  # of names of fields alone, which are names to Python
        function = names["__init__"]
        function.__qualname__ = f"{self.owner.__qualname__}.__init__"
        function.__module__ = self.owner.__module__
        function.__annotations__ = {n: one.written for n, one in self.fields.items() if one.init} | {"return": None}
        return function


class _LazyFields:
    """Gives what `dataclasses.fields`, `replace` and `asdict` ask a class for."""

    def __get__(self, instance: object, owner: Any) -> Any:
        import dataclasses

        given: dict[str, Any] = {}
        for name, one in owner.__record_fields__.items():
            more: dict[str, Any] = {"init": one.init, "repr": one.repr, "compare": one.compare}
            if one.default is not _MISSING:
                more["default"] = one.default
            if one.default_factory is not _MISSING:
                more["default_factory"] = one.default_factory
            given[name] = dataclasses.field(**more)
        twin: Any = type(owner.__name__, (), {**given, "__annotations__": dict.fromkeys(given, object)})
        known = dataclasses.dataclass(init=False, repr=False, eq=False, match_args=False)(twin).__dataclass_fields__
        for name, one in owner.__record_fields__.items():
            known[name].type = one.written
        owner.__dataclass_fields__ = known
        return known


class _Parameters:
    """How a class was made: a data class derived from it asks if it is frozen, `pprint` if it has a `repr`."""

    init = repr = True
    order = unsafe_hash = False

    def __init__(self, *, frozen: bool, eq: bool) -> None:
        self.frozen, self.eq = frozen, eq


_shown: set[tuple[int, int]] = set()  # the records that are being written just now, by which thread


def _repr(self: Any) -> str:
    key = id(self), get_ident()
    if key in _shown:  # a record within itself
        return "..."
    _shown.add(key)
    try:
        said = [f"{one.name}={getattr(self, one.name)!r}" for one in self.__record_fields__.values() if one.repr]
    finally:
        _shown.discard(key)
    return f"{self.__class__.__qualname__}({', '.join(said)})"


def _refuse_to_set(self: Any, name: str, value: object) -> None:
    _check_free(self, name, "assign to")
    object.__setattr__(self, name, value)


def _refuse_to_delete(self: Any, name: str) -> None:
    _check_free(self, name, "delete")
    object.__delattr__(self, name)


def _check_free(self: Any, name: str, verb: str) -> None:
    """Raise `FrozenInstanceError` for what is no attribute that a subclass has added."""
    if name in self.__record_fields__ or "__record_fields__" in type(self).__dict__:
        from dataclasses import FrozenInstanceError

        raise FrozenInstanceError(f"cannot {verb} field {name!r}")


def _state(self: Any) -> list[Any]:
    return [getattr(self, name) for name in self.__record_fields__]


def _set_state(self: Any, state: list[Any]) -> None:
    for name, value in zip(self.__record_fields__, state, strict=True):
        object.__setattr__(self, name, value)
