"""Knocks at the whole public interface: ``python -m tools.fuzz_interface SECONDS [SEED]``.

What there is to call, it finds by introspection: the functions, classes and methods that `pribble` names, with their
parameters.  What a call returned is kept, and its methods are called in turn.  Arguments are fit ones, hostile ones of
the right kind, and values of other kinds.  A call has to come to

* an answer,
* an error of Pribble's, which can be shown in one go and without control characters,
* or a `TypeError` or `ValueError` that names the argument;

and it may call no more functions than its arguments are long for, which is what bounds its time.  A finding is printed
as the call that led to it.
"""

from __future__ import annotations

import inspect
import sys
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import Any

import pribble
from pribble import PribbleError
from pribble.errors import visible

DEMO = Path(pribble.__file__).parent / "demo/templates"
# What only Pribble itself makes; their methods are called where a call returned one.
_MADE_HERE = frozenset({"Audit", "Field", "Finding", "Rendering"})
_NO_METHODS = frozenset({"Limits", "Field", "Finding", "Envelope"})
# What errors call an argument, beside its name: the field that it becomes.
_ALSO_SAID = {
    "sender": ("from:",),
    "organizer": ("organizer",),
    "attendees": ("attendee",),
    "members": ("a group",),
    "key": ("name",),
    "envelope": ("bcc:", "cc:", "reply-to:"),
}
# So many functions a call may call, and so many more for each character or octet of its arguments.
_STEPS, _STEPS_EACH = 400_000, 3_000
_MOST_KEPT = 40

TEXTS = (
    "",
    "a",
    "Ana Bell",
    "ana@example.org",
    "a@b@c",
    '"q" <a@example.org>',
    "\r\nBcc: x@example.org",
    "\0",
    "\ud800",
    "é",
    "\u202eabc",
    "\U0001f1e9\U0001f1ea" * 20,
    "x" * 2_000,
    "<p>x</p>",
    "<p>{{ x }}</p>",
    "{{ x.y as json }}",
    "{{",
    "<!--",
    "<style>a,b{a,b{a,b{color:red}}}</style><a><b>x",
    "<p style='color:var(--a)'>x",
    "--",
    "=?utf-8?q?x?=",
    "../../etc/passwd",
    "a/b",
    "logo.png",
    "en_GB",
    "de",
    "Europe/London",
    "xx_YY",
    "text/plain",
    "image/png",
    "cid",
    "inline",
    "link",
    "none",
    "1e300000",
    "-1",
    "mooring-statement",
    "#fff",
    "rgb(1,2,3)",
    "https://x.example/a?b#c",
    "javascript:x",
    "mailto:a@b.example",
    "{{ for i in l: }}<tr><td>{{ i }}{{ :for }}",
    "a\u200d" * 100,
    "&amp;&#x0;&notin;" * 20,
    "'",
    "\\",
    "%0d%0a",
    "\u3000",
)
OTHERS: tuple[Any, ...] = (
    None,
    True,
    False,
    0,
    1,
    -1,
    10**5000,
    1.5,
    float("nan"),
    float("inf"),
    Decimal("1e300000"),
    Decimal("sNaN"),
    b"",
    b"\xff\0",
    [],
    [None],
    ["a"],
    [["a", "b"]],
    (),
    ("a", "ana@example.org"),
    {},
    {"a": 1},
    {1: "a"},
    {"x": {"y": [1, "b", None]}},
    object(),
    set(),
    {"a"},
    datetime(2026, 7, 1, 12),
    datetime(2026, 7, 1, 12, tzinfo=UTC),
    date(2026, 7, 1),
    print,
    str,
    Path("x"),
    Path("/"),
    DEMO,
    DEMO / "pictures",
    range(3),
    iter(()),
    complex(1),
    10**9,
    -(10**9),
)
RAW = (
    b"",
    b"\x89PNG\r\n\x1a\n",
    b"GIF89a\x01\0\x01\0\0\0\0;",
    b"<svg xmlns='http://www.w3.org/2000/svg' width='9e9'/>",
    b"<svg>" + b"<!---->" * 99,
    b"From: a@example.org\r\nTo: b@example.org\r\nSubject: x\r\n\r\ny\r\n",
    b"From: a\r\n\r\n",
    b"\r\n" * 50,
    b"Content-Type: text/plain; charset=punycode\r\nFrom: a@b.example\r\n\r\n" + b"a-" * 500,
    b"From: a@example.org\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n--b\r\n--b--",
    bytes(range(256)),
    b"\xff" * 999,
)


@dataclass(frozen=True)
class Call:
    """Something that can be called: `path` says how to get there, from `pribble` or from an object of a type."""

    path: str
    function: Callable[..., Any]
    parameters: tuple[inspect.Parameter, ...]


@dataclass(frozen=True)
class Finding:
    """A call that came to nothing that a user could be told."""

    call: str
    what: str


@dataclass
class Knocking:
    """A series of calls, the same for the same seed."""

    random: Random
    kept: dict[str, list[Any]] = field(default_factory=dict)
    last: str = ""  # the call that was made

    def run(self) -> Finding | None:
        """Make one call, and look at what it comes to."""
        call = self.random.choice(self.calls())
        given = {p.name: self._argument(p) for p in call.parameters if self._is_given(p)}
        if call.parameters and call.parameters[0].kind is inspect.Parameter.VAR_KEYWORD:
            given = {}
        shown = f"{call.path}({', '.join(f'{name}={_shown(value)}' for name, value in given.items())})"
        positional = [given.pop(p.name) for p in call.parameters if p.kind is p.POSITIONAL_ONLY and p.name in given]
        self.last = shown
        try:
            with _Counter(_STEPS + _STEPS_EACH * sum(map(_length, given.values()))):
                made = call.function(*positional, **given)
                if inspect.isgenerator(made):
                    made = list(made)
        except PribbleError as error:
            return self._told(shown, str(error))
        except (TypeError, ValueError) as error:
            said = str(error).lower()
            if any(name in said for p in call.parameters for name in (p.name, *_ALSO_SAID.get(p.name, ()))):
                return None
            return Finding(shown, "".join(traceback.format_exception(error)[-3:]))
        except OSError:
            if "OSError" in (inspect.getdoc(call.function) or "") or "NotADirectory" in (
                inspect.getdoc(call.function) or ""
            ):
                return None
            return Finding(shown, "an OSError that no docstring tells of")
        except TooManySteps:
            return Finding(shown, "too many steps")
        except Exception as error:
            return Finding(shown, "".join(traceback.format_exception(error)[-3:]))
        self._keep(made)
        return None

    @staticmethod
    def _told(shown: str, message: str) -> Finding | None:
        if all(visible(line) == line for line in message.split("\n")):
            return None
        return Finding(shown, f"an error that is not fit for a terminal: {message!r:.200}")

    def _keep(self, made: Any) -> None:
        name = type(made).__name__
        if type(made).__module__.startswith("pribble"):
            held = self.kept.setdefault(name, [])
            held.append(made)
            if len(held) > _MOST_KEPT:
                del held[self.random.randrange(len(held))]

    def calls(self) -> list[Call]:
        """What can be called now: all that is public, and the methods of what was returned."""
        every = list(public())
        for held in self.kept.values():
            every += _methods(self.random.choice(held))
        return every

    def _is_given(self, parameter: inspect.Parameter) -> bool:
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            return False
        return parameter.default is parameter.empty or self.random.random() < 0.35

    def _argument(self, parameter: inspect.Parameter) -> Any:
        random, said = self.random, str(parameter.annotation)
        if random.random() < 0.12:
            return random.choice((*OTHERS, *TEXTS, *RAW))
        for name, held in self.kept.items():
            if name in said and random.random() < 0.8:
                one = random.choice(held)
                return [one] if "Sequence" in said else one
        if "bytes" in said and random.random() < 0.8:
            return random.choice(RAW)
        if "bool" in said:
            return random.random() < 0.5
        if parameter.name == "path" and random.random() < 0.7:
            return random.choice((DEMO, DEMO / "pictures/logo.png", str(DEMO), "nowhere"))
        if parameter.name == "data":
            return {"x": random.choice(OTHERS), "l": [random.choice(OTHERS)], "y": random.choice(TEXTS)}
        if "datetime" in said:
            return random.choice([one for one in OTHERS if isinstance(one, date)])
        if "Recipients" in said or "Mailbox" in said:
            one = random.choice(("ana@example.org", ("Ana", "ana@example.org"), random.choice(TEXTS)))
            return [one] * random.choice((0, 1, 1, 2)) if "Recipients" in said else one
        if "int" in said.split(" | ")[0] or "float" in said:
            return random.choice((0, 1, 2, 72, 600, -1, 10**9, 1.5))
        return random.choice(TEXTS)


def public() -> Iterator[Call]:
    """The functions and classes that `pribble` names, and what can be called on the classes."""
    for name in pribble.__all__:
        found = getattr(pribble, name)
        if not inspect.isclass(found):
            yield _call(name, found)
        elif not issubclass(found, BaseException) and name not in _MADE_HERE:
            if name != "Template":  # of a source; from_text is for all others
                yield _call(name, found)
            for inner, method in inspect.getmembers(found):
                raw = inspect.getattr_static(found, inner)
                if not inner.startswith("_") and isinstance(raw, classmethod | staticmethod):
                    yield _call(f"{name}.{inner}", method)


def _methods(made: Any) -> Iterator[Call]:
    """The methods and properties of an object of Pribble's, and what Python calls on any."""
    name = type(made).__name__
    if name in _NO_METHODS:
        return
    yield Call(f"<{name}>.__str__", made.__str__, ())
    yield Call(f"<{name}>.__repr__", made.__repr__, ())
    if hasattr(made, "__bytes__"):
        yield Call(f"<{name}>.__bytes__", made.__bytes__, ())
    for inner in dir(type(made)):
        raw = inspect.getattr_static(type(made), inner)
        if inner.startswith("_"):
            continue
        if inspect.isfunction(raw):
            yield _call(f"<{name}>.{inner}", getattr(made, inner))
        elif isinstance(raw, property):
            yield Call(f"<{name}>.{inner}", lambda inner=inner: getattr(made, inner), ())


def _call(path: str, function: Callable[..., Any]) -> Call:
    return Call(path, function, tuple(inspect.signature(function).parameters.values()))


def _shown(value: Any) -> str:
    if isinstance(value, int) and abs(value) > 10**30:
        return "a large number"
    try:
        text = repr(value)
    except ValueError:  # an integer of too many digits within
        text = f"a {type(value).__name__} with a large number"
    return text if len(text) < 120 else f"{text[:60]}…{text[-20:]} ({len(text)})"


def _length(value: Any) -> int:
    return len(value) if isinstance(value, str | bytes | list | tuple | dict) else 0


class TooManySteps(BaseException):
    """A call has called more functions than it may."""


class _Counter:
    """Counts the functions that are called, ours and Python's."""

    def __init__(self, most: int) -> None:
        self.left = most

    def __enter__(self) -> None:
        sys.setprofile(self._count)

    def __exit__(self, *_: object) -> None:
        sys.setprofile(None)

    def _count(self, frame: Any, event: str, argument: Any) -> None:
        self.left -= 1
        if self.left < 0:
            sys.setprofile(None)
            raise TooManySteps


def warm_up() -> None:
    """Load now what is loaded at first use, so that it is not counted."""
    with suppress(TypeError, PribbleError):
        pribble.Picture.from_figure(None)
    pribble.Template.from_text("<title>x</title><p>{{ 1 as number }}").render({}).message(sender="a@example.org")
    pribble.audit(b"From: a@example.org")


def main() -> int:
    """Knock for so many seconds; exits 1 where something was found."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else time.time_ns() % 1_000_000
    print(f"seed {seed}")
    warm_up()
    knocking, began, made = Knocking(Random(seed)), time.monotonic(), 0
    found: dict[str, Finding] = {}
    while time.monotonic() - began < seconds:
        at = time.monotonic()
        finding = knocking.run()
        taken = time.monotonic() - at
        made += 1
        if taken > 30:  # pictures of many pixels are the slowest
            finding = finding or Finding(knocking.last, f"took {taken:.1f} s")
        if finding is not None:
            key = finding.call.split("(")[0] + finding.what[-80:]
            if key not in found:
                found[key] = finding
                print(f"\n{finding.call}\n{finding.what}", flush=True)
    print(f"{made} calls, {len(found)} findings")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
