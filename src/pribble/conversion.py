"""Pages from elsewhere: their style sheets written into their elements, their pictures brought along, their text."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

from pribble.arguments import ensure, flags, integers, possible_paths, texts
from pribble.findings import Finding
from pribble.markup.foreign_pages import read_foreign_page
from pribble.passes.pieces import texts_of
from pribble.passes.text_events import NoResources
from pribble.pictures.corrections import ALL
from pribble.pictures.picture_finder import PictureFinder
from pribble.pictures.picture_slots import Embed
from pribble.plaintext.layout import WIDTH
from pribble.plaintext.links import Links
from pribble.plaintext.text_comparison import TextDifferences, compare_texts
from pribble.records import replace
from pribble.rendering.late_styling import LateStyler, text_of_page
from pribble.rendering.rendering import Rendering, RenderOptions, checked_base, checked_embed

NARROWEST, _WIDEST = 20, 100_000
_OUTSIDE = "the folders of the page", "name its folder as well, and what lies in it is read"

Folders = str | os.PathLike[str] | Sequence[str | os.PathLike[str]]


def inline_styles(
    html: str,
    *,
    folder: Folders | None = None,
    presentational: bool = False,
    tell: Callable[[Finding], object] | None = None,
) -> str:
    """Returns a page with its style sheets written into the ``style`` attributes of its elements (CSS Cascade 4,
    Selectors 4).

    - `html`: the page.
    - `folder`: where the style sheets that the page names lie: the folder of the page, or several, of which the page
      lies in the first.  Without one these sheets stay as they are.
    - `presentational`: whether the old attributes (``bgcolor``, ``align``) are added beside the styles.
    - `tell`: a function that is called with each `Finding`.

    Rules that cannot be written into an attribute, for a narrow screen or a hovered link, stay in a ``<style>`` element
    and keep their place in the cascade.  Addresses in the sheets become addresses as the page would write them;
    pictures are not looked for.  A tag that is not closed at its end is dropped, as in a browser; what no template may
    have, as a ``javascript:`` link, is kept.

    Raises `TemplateError` for a sheet that is not in the folders, `LimitReached` for styles that are too large.
    """
    texts(html=html)
    flags(presentational=presentational)
    if tell is not None:
        ensure("tell", "a function of a Finding", callable, tell)
    folders = _folders(folder)
    near = (folders[0] if folders else Path()) / "page.html"
    finder = PictureFinder(folders, frozenset(), outside=_OUTSIDE)
    styler = LateStyler(finder, RenderOptions().id_domain, near, presentational, sheets=bool(folders), foreign=True)
    pieces, told = styler.style([html])
    if tell is not None:
        for finding in told:
            tell(finding)
    return "".join(texts_of(pieces))


def page_rendering(
    html: str,
    path: Path,
    *,
    folders: Sequence[Path] = (),
    embed: Embed | None = None,
    picture_base: str | None = None,
    presentational: bool = False,
) -> Rendering:
    """Returns a page that is no template, as a rendering: its pictures and sheets are found beside its file, `path`,
    and in further `folders`.  Of a picture that is not there the rendering tells, and leaves it as it is named.

    Raises as `inline_styles`.
    """
    options = RenderOptions(checked_embed(embed), checked_base(picture_base))
    styler = _dresser(path, folders, presentational)
    pieces, told = styler.style([html])
    options = replace(options, findings=tuple(told), text_from_page=styler.plain_text)
    return Rendering(None, None, options, pieces, [html])


def plain_text(html: str, *, width: int = WIDTH, links: Literal["inline", "notes"] = "inline") -> str:
    """Returns what a page says, as plain text: lines of at most `width` columns, without trailing spaces, ending in LF.

    Text that the page's own style sheets hide is left out (CSS Cascade 4).  With `links` "inline" a link is its label
    and its address in angle brackets (RFC 3986, appendix C); with "notes" it is a number, and the addresses are listed
    at the end.  As the text of a `Message` it flows: a reader may wrap its paragraphs anew (RFC 3676).

    Any page can be read.  Raises `ValueError` for a width below 20, `LimitReached` for styles that are too large.
    """
    texts(html=html, links=links)
    integers(width=width)
    if width < NARROWEST:
        raise ValueError(f"width: a text is at least {NARROWEST} columns wide")
    if links not in ("inline", "notes"):
        raise ValueError(f'links are "inline" or "notes", not "{links}"')
    return text_of_page(html, read_foreign_page(html), NoResources(), Links(links), width)


def page_text(
    html: str,
    path: Path,
    *,
    folders: Sequence[Path] = (),
    width: int = WIDTH,
    links: Literal["inline", "notes"] = "inline",
) -> str:
    """Returns the plain text of a page, by the style sheets that it names beside its file, `path`, and in further
    `folders`.

    Raises as `plain_text`, and `TemplateError` for a sheet that is not there.
    """
    return _dresser(path, folders).plain_text(html, Links(links), width)


def _dresser(path: Path, folders: Sequence[Path], presentational: bool = False) -> LateStyler:
    finder = PictureFinder([path.parent, *folders], ALL, outside=_OUTSIDE)
    return LateStyler(finder, RenderOptions().id_domain, path, presentational, named=True, foreign=True)


def _folders(given: Folders | None) -> list[Path]:
    if given is None:
        return []
    several = [given] if isinstance(given, str | os.PathLike) else given
    ensure("folder", "a path or a list of paths", _are_paths, several)
    for one in several:
        possible_paths(folder=one)
    return [Path(one) for one in several]


def _are_paths(value: object) -> bool:
    return isinstance(value, list | tuple) and all(isinstance(one, str | os.PathLike) for one in value)


def compare(html: str, text: str) -> TextDifferences:
    """Returns where a page and a text that should say the same differ: the words, numbers and addresses that one of
    them lacks.

    The words for pictures and the addresses of links count as said.  Case, the form of quotation marks, spaces between
    digits and the order do not matter.
    """
    texts(html=html, text=text)
    links = Links("bare")
    page = text_of_page(html, read_foreign_page(html), NoResources(), links, _WIDEST)
    return compare_texts(page, links.met, text)
