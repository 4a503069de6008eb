"""The page of the preview: one file that holds its script, its style sheet and all that it shows."""

from __future__ import annotations

import base64
import hashlib
import re
from functools import cache
from importlib.resources import files

from pribble.regexes import regex
from pribble.review.json_data import Json, json_for_pages

_ASSETS = files(__package__) / "assets"
_IMPORT = regex(r'^import \{[^}]*\} from "\./([a-z-]+)\.js";\n', re.MULTILINE)
_EXPORT = regex(r"^export (?=(?:async )?function|const|let|class)", re.MULTILINE)
# A policy in the page itself, for one that is opened from a disk (CSP 3, 3.3): nothing is loaded, and nothing runs but
# this script.
_POLICY = (
    "default-src 'none'; script-src '{hash}'; style-src 'unsafe-inline'; img-src data:; {connect}base-uri 'none'; "
    "form-action 'none'"
)


def page_file(shown: Json, *, title: str = "Preview", live: bool = False) -> str:
    """Returns the page; a `live` one asks its own server what has changed."""
    page = _asset("page.html")
    for place, content in {
        "POLICY": policy(live=live),
        "<!--title-->": title.replace("&", "&amp;").replace("<", "&lt;"),
        "<!--style-->": _asset("look.css"),
        "<!--live-->": "true" if live else "false",
        "<!--shown-->": json_for_pages(shown),
        "<!--script-->": _script(),
    }.items():
        page = page.replace(place, content, 1)
    return page


@cache
def policy(*, live: bool = False) -> str:
    """Returns the content security policy of the page."""
    digest = base64.b64encode(hashlib.sha256(_script().encode()).digest()).decode()
    return _POLICY.format(hash=f"sha256-{digest}", connect="connect-src 'self'; " if live else "")


@cache
def _script() -> str:
    """Returns all modules as one script: each after those that it imports."""
    texts: dict[str, str] = {}
    _take("main", texts, ())
    return "\n" + "\n".join(texts.values())


def _take(name: str, texts: dict[str, str], around: tuple[str, ...]) -> None:
    assert name not in around, f"{name}.js imports itself"
    if name in texts:
        return
    text = _asset(f"{name}.js")
    for found in _IMPORT.finditer(text):
        _take(found[1], texts, (*around, name))
    texts[name] = _EXPORT.sub("", _IMPORT.sub("", text))


@cache
def _asset(name: str) -> str:
    return (_ASSETS / name).read_text(encoding="utf-8")
