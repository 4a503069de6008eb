"""What data a template needs, as its marks show."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

from pribble.errors import Place
from pribble.language.data_paths import outer_paths, path_of, path_steps, write_path
from pribble.language.expressions import (
    All,
    Arithmetic,
    Binding,
    Both,
    Choice,
    Comparison,
    Constant,
    Either,
    Expression,
    Fallback,
    Formatted,
    Listing,
    Local,
    Maybe,
    Member,
    Name,
    Negative,
    Not,
    PerItem,
    Subscript,
    children,
    rebuilt,
)
from pribble.language.linked_source import LinkedSource
from pribble.records import field, record

# A use that says more about a field's kind counts before one that says less.
_KIND_BY_USE = ("list", "moment", "day", "time", "number", "picture", "text", "flag", "any")


@record(frozen=True, slots=True)
class Field:
    """A field that a template reads.

    `path` names it (``lines[].price``), `kind` is its kind as its uses show it, `optional` says that it, or what it is
    in, may be missing or none at every use, and `uses` are the places of all uses.  `needed` is the part of the path
    that must be there: all of it, what the field is in, or "".
    """

    path: str
    kind: str
    optional: bool
    uses: tuple[Place, ...] = field(repr=False)
    needed: str = field(default="", repr=False)


@record(slots=True)
class _FieldUses:
    kinds: set[str] = field(default_factory=set)
    required: bool = False
    uses: list[Place] = field(default_factory=list)


def fields(linked: LinkedSource, common: Collection[str] = (), pictures: Collection[int] = ()) -> list[Field]:
    """Returns the fields of a linked template, in the order of their first use; those that all templates see left out.

    `pictures` are the marks, by their places in the linked source, whose values are pictures.
    """
    seen: dict[str, _FieldUses] = {}
    _FieldCollector(seen).linked(linked, pictures)
    seen = {path: found for path, found in seen.items() if path_steps(path)[0] not in common}
    outer = {each for path in seen for each in outer_paths(path)}
    leaves = [path for path in seen if path not in outer]
    return [
        Field(
            path,
            next(k for k in _KIND_BY_USE if k in seen[path].kinds),
            (needed := _needed(path, seen)) != path,
            tuple(dict.fromkeys(seen[path].uses)),
            needed,
        )
        for path in leaves
    ]


def _needed(path: str, seen: Mapping[str, _FieldUses]) -> str:
    """Returns the part of a path that must be there."""
    needed = ""
    for known in (*outer_paths(path), path):
        if known in seen:
            if not seen[known].required:
                return needed
            needed = known
    return needed


@record(frozen=True, slots=True)
class _Guarded:
    """The paths that tests made sure of, those `around` among them."""

    paths: frozenset[str] = frozenset()
    around: _Guarded | None = None

    def __contains__(self, path: str) -> bool:
        return path in self.paths or (self.around is not None and path in self.around)

    def and_where(self, test: Expression | None) -> _Guarded:
        """Returns these, and what holds where `test` does."""
        paths = frozenset(_paths_guarded_by(test)) if test is not None else frozenset()
        return _Guarded(paths, self) if paths else self


_NONE_GUARDED = _Guarded()


class _FieldCollector:
    def __init__(self, seen: dict[str, _FieldUses]) -> None:
        self.seen = seen

    def linked(self, linked: LinkedSource, pictures: Collection[int] = ()) -> None:
        guards = [_NONE_GUARDED]  # for each open block: what its test and those around it made sure of
        for index, mark in enumerate(linked.marks):
            if mark.role == "close":
                guards.pop()
            if mark.role == "branch":
                guards.pop()
            if mark.role in ("open", "branch"):
                guards.append(guards[-1].and_where(mark.value))
            optional = guards[-1]
            if mark.loop is not None:
                self.use(mark.loop.items, "list", optional)
            elif mark.value is not None:
                shown = "picture" if index in pictures else "text"
                self.use(mark.value, shown if mark.role == "show" else "flag", optional)
            elif mark.binding is not None and mark.binding.value is not None:
                self.use(mark.binding.value, "any", optional)
            elif mark.extracted is not None:
                self.linked(mark.extracted.linked)

    def use(self, node: Expression, kind: str, guarded: _Guarded, optional: bool = False) -> None:
        """Take note of the fields that an expression reads, which is used as a value of this kind."""
        match node:
            case Name() | Member() | Subscript():
                self._path(node, kind, guarded, optional)
            case Local(binding=binding):
                if kind != "any" and binding.kind in ("item", "let"):
                    self._record(node, kind, guarded, optional)
            case Maybe(step=step):
                self.use(step, kind, guarded, optional=True)
            case Formatted():
                self._formatted(node, guarded)
            case Arithmetic(left=left, right=right):
                kinds = {_constant_kind(operand) for operand in (left, right)}
                self._all((left, right), "text" if "text" in kinds else "number", guarded)
            case Comparison(operator=operator, left=left, right=right):
                self.use(left, _constant_kind(right), guarded)
                self.use(right, "any" if operator in ("in", "not in") else _constant_kind(left), guarded)
            case Both(left=left, right=right):
                self.use(left, "flag", guarded)
                self.use(right, "flag", guarded.and_where(left))
            case Either() | Not():
                self._all(children(node), "flag", guarded)
            case Negative(operand=operand):
                self.use(operand, "number", guarded)
            case Choice(value=value, test=test, otherwise=otherwise):
                self.use(value, kind, guarded.and_where(test))
                self.use(test, "flag", guarded)
                self._all(() if otherwise is None else (otherwise,), kind, guarded)
            case Fallback(value=value, otherwise=otherwise):
                self._all((value, otherwise), kind, guarded)
            case Constant() | All() | Listing() | PerItem():
                self._all(children(node), "any", guarded)

    def _all(self, nodes: Iterable[Expression], kind: str, guarded: _Guarded) -> None:
        for node in nodes:
            self.use(node, kind, guarded)

    def _path(self, node: Name | Member | Subscript, kind: str, guarded: _Guarded, optional: bool) -> None:
        """A step of a path; what it goes out from is read too."""
        self._record(node, kind, guarded, optional)
        if isinstance(node, Subscript):
            self.use(node.key, "any", guarded)
        if not isinstance(node, Name):
            self.use(node.base, "any", guarded)

    def _formatted(self, node: Formatted, guarded: _Guarded) -> None:
        """A formatter says which kind of value it takes, and of which kind its arguments are."""
        assert node.formatter is not None  # a template that names another does not compile
        self.use(node.value, node.formatter.takes, guarded)
        for argument in (*node.arguments, *(argument for _, argument in node.named)):
            if isinstance(argument, PerItem):
                self._per_item(argument, node.value)
            else:
                self.use(argument, node.formatter.arguments, guarded)

    def _per_item(self, node: PerItem, items: Expression) -> None:
        """The fields that an expression over an item reads, as fields of the list it is applied to."""
        path = path_of(items)
        inner = _FieldCollector({})
        inner.use(rebound(node.body, node.item), "any", _NONE_GUARDED)
        for name, seen in inner.seen.items():
            if path is not None:
                own = write_path([*path_steps(path), None, *path_steps(name)])
                whole = self.seen.setdefault(own, _FieldUses())
                whole.kinds |= seen.kinds
                whole.required = whole.required or seen.required
                whole.uses += seen.uses

    def _record(self, node: Name | Member | Subscript | Local, kind: str, guarded: _Guarded, optional: bool) -> None:
        """A use of the field that an expression names, if it names one."""
        path = path_of(node)
        if path is None:
            return
        seen = self.seen.setdefault(path, _FieldUses())
        seen.kinds.add(kind)
        seen.required = seen.required or not (optional or path in guarded)
        seen.uses.append(node.place)


def rebound(node: Expression, item: Binding) -> Expression:
    """Returns `node` with the fields of `item` as first names."""
    if isinstance(node, Member) and isinstance(node.base, Local) and node.base.binding is item:
        return Name(node.place, node.name)
    return rebuilt(node, lambda inner: rebound(inner, item))


def _paths_guarded_by(test: Expression) -> Iterator[str]:
    """Yields the paths that are there wherever `test` holds: ``if a.b?:`` guards a.b in its branch."""
    match test:
        case Maybe(step=step):
            path = path_of(step)
            if path is not None:
                yield path
        case Both(left=left, right=right):
            yield from _paths_guarded_by(left)
            yield from _paths_guarded_by(right)


def _constant_kind(node: Expression) -> str:
    if not isinstance(node, Constant):
        return "any"
    if isinstance(node.value, bool):
        return "flag"
    if isinstance(node.value, str):
        return "text"
    return "any" if node.value is None else "number"
