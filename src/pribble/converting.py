"""Pages from elsewhere: their style sheets written into their elements, their pictures brought along."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from pribble.compiler.text import events_of
from pribble.pictures.embedding import PictureFinder
from pribble.pictures.righting import ALL
from pribble.pictures.slots import Embed
from pribble.rendered import Dresser
from pribble.rendering import Manner, Rendering, checked_base, checked_embed


def inline_styles(html: str, *, folder: str | os.PathLike[str] | None = None, presentational: bool = False) -> str:
    """A page with its style sheets written into its elements' ``style`` attributes (CSS Cascade 4, Selectors 4).

    What cannot be written there, for a narrow screen or a hovered link, stays in a ``<style>`` element, and beats what
    it used to beat.  Sheets that the page names are read from `folder`; without one they stay as they are.
    `presentational` adds the old attributes (``bgcolor``, ``align``) beside the styles.

    Raises `TemplateError` for a page that no browser reads to its end, or a sheet that is not in the folder.
    """
    near = Path(folder or ".") / "page.html"
    finder = PictureFinder([Path(folder)] if folder is not None else [], frozenset())
    dresser = Dresser(finder, Manner().id_domain, near, presentational, sheets=folder is not None)
    return "".join(dresser.dressed([html])[0])


def page_rendering(html: str, path: Path, *, embed: Embed | None = None, picture_base: str | None = None,
                   presentational: bool = False) -> Rendering:
    """A page that is no template, as a rendering: its pictures and sheets are found beside its file, `path`.

    Raises as `inline_styles`, and `PictureError` for a picture that is not there.
    """
    manner = Manner(checked_embed(embed), checked_base(picture_base))
    finder = PictureFinder([path.parent], ALL)
    dresser = Dresser(finder, manner.id_domain, path, presentational, named=True)
    pieces, told = dresser.dressed([html])
    text = list(events_of(html))
    return Rendering(None, None, replace(manner, changes=tuple(told)), pieces, text)
