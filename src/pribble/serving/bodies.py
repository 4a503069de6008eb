"""What a request brings: an object of JSON, an idempotency key, preferences; each read strictly."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from typing import TYPE_CHECKING, Any

from pribble.errors import DataError, Source, did_you_mean
from pribble.regexes import regex
from pribble.serving.problems import Problem, with_hint
from pribble.serving.routes import JSON
from pribble.values.kinds import Data
from pribble.values.reading import read_json

if TYPE_CHECKING:
    from flask import Request

LARGEST = 10_000_000  # octets of a body
DEEPEST = 100  # lists and objects in each other
# A string of RFC 9651 3.3.3.
_STRING = regex(r'"((?:[\x20-\x21\x23-\x5b\x5d-\x7e]|\\["\\])*+)"')


def too_large() -> Problem:
    """Returns the problem of a body that is too large."""
    return Problem("too-large", f"the body has more than {LARGEST:,} octets")


def posted_object(request: Request) -> Mapping[str, Data]:
    """Returns the object that a request brings.  Raises `Problem` for anything else."""
    if request.mimetype != JSON or request.mimetype_params.get("charset", "utf-8").lower() != "utf-8":
        raise Problem("not-json", f'the body is "{request.content_type or "of no type"}"', {"Accept": JSON})
    if request.headers.get("Content-Encoding", "identity").lower() != "identity":
        raise Problem("not-json", "the body is compressed", {"Accept-Encoding": "identity"})
    try:
        body = request.get_data(cache=False).decode("utf-8")
        given = read_json(Source("the request", body))
    except UnicodeDecodeError as error:
        raise Problem("unreadable", f"the body is no UTF-8 (at octet {error.start})") from None
    except DataError as error:
        raise Problem("unreadable", str(error).partition("\n")[0], problems=[error.as_data()]) from None
    if not isinstance(given, Mapping):
        raise Problem("unreadable", "the body is JSON, but no object")
    if body.count("[") + body.count("{") > DEEPEST and not _is_shallow(given):
        raise Problem("unreadable", f"the body has more than {DEEPEST} lists and objects in each other")
    return given


def _is_shallow(whole: Data) -> bool:
    level: list[Data] = [whole]
    for _ in range(DEEPEST):
        level = [inner for outer in level for inner in _within(outer)]
        if not level:
            return True
    return False


def _within(outer: Data) -> Iterator[Data]:
    found = outer.values() if isinstance(outer, dict) else outer
    return (inner for inner in found if isinstance(inner, (dict, list)))  # as JSON is read


def checked_members(given: Mapping[str, Data], known: Collection[str]) -> None:
    """Raise `Problem` for a member that means nothing."""
    for name in given:
        if name not in known:
            raise Problem("unreadable", with_hint(f'"{name[:100]}" means nothing here', did_you_mean(name, known)))


def member_text(given: Mapping[str, Data], name: str) -> str | None:
    """Returns the text of a member; None where it is not there, or null.  Raises `Problem` for another kind."""
    value = given.get(name)
    if value is not None and not isinstance(value, str):
        raise Problem("unreadable", f'"{name}" is a text')
    return value


def member_texts(given: Mapping[str, Data], name: str) -> list[str]:
    """Returns the texts of a member, which is a text or a list of texts.  Raises `Problem` for another kind."""
    value = given.get(name)
    several = [] if value is None else value if isinstance(value, list) else [value]
    if not all(isinstance(one, str) for one in several):
        raise Problem("unreadable", f'"{name}" is a text, or a list of texts')
    return list(several)


def idempotency_key(request: Request) -> str | None:
    """Returns the key in Idempotency-Key: a string of RFC 9651, in quotes, or the field as it is; None where there is
    none.  Raises `Problem` for what is no key."""
    written = request.headers.get("Idempotency-Key")
    if written is None:
        return None
    written = written.strip()
    quoted = _STRING.fullmatch(written)
    if quoted is not None:
        return re.sub(r"\\(.)", r"\1", quoted[1])
    try:
        key = written.encode("latin-1").decode("utf-8")  # as octets, which WSGI hands on as Latin-1
    except UnicodeError:
        key = ""
    if not key or key.startswith('"') or not key.isprintable():
        raise Problem("unreadable", "Idempotency-Key is no key")
    return key


def prefers(request: Request, preference: str) -> bool:
    """Returns whether a request has a preference (RFC 7240)."""
    asked: Any = request.headers.get("Prefer", "")
    return preference in (one.strip().lower() for one in re.split("[,;]", asked))
