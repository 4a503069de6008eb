"""docs/interface.md, from the docstrings: every public name, what it takes, gives and raises, and where its source is.

``python -m tools.interface_page`` writes it; tests/test_docs.py says where it is behind.
"""

from __future__ import annotations

import inspect
import re
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FunctionType
from typing import Any

import pribble
from pribble import delivery, review
from pribble.mime.message_series import MessageSeries
from pribble.series import TemplateSeries
from pribble.testing import MessageTestCase, Outbox

ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs/interface.md"
WIDTH = 110

# What belongs together; each public name stands in one of these, and the last four are imported from their modules.
CHAPTERS: dict[str, tuple[str, tuple[Any, ...]]] = {
    "Templates": (
        "A folder of templates, a template, what it makes of data.",
        (
            pribble.TemplateFolder,
            pribble.Template,
            pribble.Rendering,
            TemplateSeries,
            pribble.Field,
            pribble.Limits,
            pribble.Picture,
            pribble.Finding,
        ),
    ),
    "Messages": (
        "A message and what goes into it; with or without a template.",
        (
            pribble.Message,
            MessageSeries,
            pribble.Address,
            pribble.Group,
            pribble.Attachment,
            pribble.Invitation,
            pribble.Envelope,
        ),
    ),
    "Pages and messages from elsewhere": (
        "What others wrote, made fit, said or judged.",
        (pribble.inline_styles, pribble.plain_text, pribble.compare, pribble.audit, pribble.Audit),
    ),
    "Looking before sending": (
        "From `pribble.review`; [checks.md](checks.md) has the rules.",
        (
            review.check,
            review.check_message,
            review.Check,
            review.Weight,
            review.Coverage,
            review.Way,
            review.Strained,
            review.Strain,
            review.simulate,
            review.preview,
            review.Preview,
            review.adopt,
            review.Adopted,
            review.AdoptedField,
            review.differences,
            review.Difference,
            review.View,
            review.known_viewers,
            review.Viewer,
        ),
    ),
    "Errors": (
        "One family; `str(error)` has the place, the line with a caret, and the hint.",
        (
            pribble.PribbleError,
            pribble.TemplateError,
            pribble.UnknownTemplate,
            pribble.DataError,
            pribble.FieldError,
            pribble.UnsafeValue,
            pribble.PictureError,
            pribble.HeaderError,
            pribble.AddressError,
            pribble.DeliveryError,
            pribble.LimitReached,
            pribble.MissingExtra,
        ),
    ),
    "Delivery": (
        "From `pribble.delivery`; [delivery.md](delivery.md) and [batch.md](batch.md) have the whole.",
        (
            delivery.transport,
            delivery.Transport,
            delivery.Receipt,
            delivery.Outcome,
            delivery.Batch,
            delivery.Journal,
        ),
    ),
    "Tests": ("From `pribble.testing`.", (MessageTestCase, Outbox)),
}
# What an application does not make itself, or makes of what every exception takes.
_BARE = (Exception, MessageTestCase, pribble.Template, pribble.Rendering)
_OPENING = """# The Python interface

Every public name: what goes in and in which unit, what comes out, what is raised, and where its source is. The page is
made of the docstrings (`python -m tools.interface_page`), so that `help()` says the same. An argument of another kind
than its annotation says is a `TypeError` that names it. [data.md](data.md) has what a template's data may be.

**Threads.** A `TemplateFolder`, its `Template`s, a `Message`, a `Picture` and all other finished values may be used by
many threads at once: what is compiled is compiled once, and a rendering shares nothing that changes. With `reload=True`
a folder looks at its files at each use, which is for development. A transport may be used by
many threads, which share its connections. Your own formatters and `fetch` are called in the thread that renders.
"""


def written() -> str:
    """The page."""
    parts = [_OPENING]
    for title, (says, things) in CHAPTERS.items():
        parts.append(f"## {title}\n\n{says}\n")
        parts += [_entry(thing) for thing in things]
    return "\n".join(parts)


def _entry(thing: Any) -> str:
    source = Path(inspect.getfile(thing)).resolve().relative_to(ROOT / "src")
    blocks = [f"### {thing.__name__}\n", f"```python\n{_signature(thing.__name__, thing)}\n```\n", _text(thing)]
    if inspect.isclass(thing):
        members = [*_members(thing)]
        if members:
            blocks.append("\n".join(members) + "\n")
    blocks.append(f"Source: [`{source}`](../src/{source})\n")
    return "\n".join(blocks)


def _signature(name: str, thing: Any) -> str:
    try:
        found = inspect.signature(thing)
    except (TypeError, ValueError):
        return name
    given = [p for p in found.parameters.values() if p.name != "self"]
    is_bare = inspect.isclass(thing) and issubclass(thing, _BARE)
    if is_bare or getattr(thing, "_is_protocol", False):
        return name
    shown = [_parameter(p, given, number) for number, p in enumerate(given)]
    after = (
        "" if found.return_annotation in (inspect.Signature.empty, "None", None) else f" -> {found.return_annotation}"
    )
    line = f"{name}({', '.join(shown)}){after}"
    if len(line) <= WIDTH:
        return line
    return "\n".join([f"{name}(", *(f"    {one}," for one in shown), f"){after}"])


def _parameter(parameter: inspect.Parameter, given: list[inspect.Parameter], number: int) -> str:
    default = parameter.default
    if isinstance(default, frozenset):  # in an order that is the same each time
        shown = "{" + ", ".join(map(repr, sorted(default))) + "}"
        written = f"{parameter.name}: {parameter.annotation} = {shown}"
    else:
        written = re.sub(r": '(.*?)'(?= =|$)", r": \1", str(parameter))
    is_first = parameter.kind is parameter.KEYWORD_ONLY and (
        number == 0 or given[number - 1].kind is not parameter.KEYWORD_ONLY
    )
    return f"*, {written}" if is_first else written


def _text(thing: Any) -> str:
    """A docstring as Markdown."""
    return re.sub(r"``(.+?)``", r"`\1`", inspect.cleandoc(thing.__doc__ or "")) + "\n"


def _members(kind: type) -> Iterator[str]:
    """A line for each method and property that has something to say, of the class and what it is made from."""
    seen: set[str] = set()
    for owner in kind.__mro__:
        if not owner.__module__.startswith("pribble"):
            continue
        for name, value in vars(owner).items():
            if name.startswith("_") or name in seen:
                continue
            function = value.__func__ if isinstance(value, classmethod | staticmethod) else value
            says = getattr(function, "__doc__", None)
            is_value = isinstance(value, property) or type(value).__name__ == "cached_property"
            if not says or not (is_value or isinstance(function, FunctionType)):
                continue
            seen.add(name)
            text = " ".join(_text(function).split())
            yield f"- **`{name if is_value else _call(name, function)}`** {text}"


def _call(name: str, function: Callable[..., object]) -> str:
    given = [p for p in inspect.signature(function).parameters.values() if p.name not in ("self", "cls")]
    return f"{name}({', '.join(_parameter(p, given, number) for number, p in enumerate(given))})"


if __name__ == "__main__":
    PAGE.write_text(written(), encoding="utf-8")
    sys.stdout.write(f"{PAGE.relative_to(ROOT)}\n")
