"""What the templates of a folder are built for and run in."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from pribble.compiler.dynamic_pictures import picture_functions
from pribble.compiler.markup_formatters import MARKUP_FORMATTERS
from pribble.compiler.program import ProgramWorld
from pribble.compiler.text_functions import TEXT_FUNCTIONS
from pribble.compiler.value_reuse import REUSE_FUNCTIONS
from pribble.limits import Limits
from pribble.pictures.picture_finder import PictureFinder
from pribble.values.formatters import FORMATTERS, Formatter
from pribble.values.kinds import Data


def template_world(
    own: Mapping[str, Formatter], common: Mapping[str, Data], limits: Limits, pictures: PictureFinder, id_domain: str
) -> ProgramWorld:
    """Returns the world of a folder's programs; `own` are the formatters of the application.  Raises `ValueError` for
    one that has the name of another."""
    known = {**FORMATTERS, **MARKUP_FORMATTERS}
    if taken := next((name for name in own if name in known), None):
        raise ValueError(f'there is a formatter "{taken}" already')
    functions = {**picture_functions(pictures, id_domain), **TEXT_FUNCTIONS, **REUSE_FUNCTIONS}
    return ProgramWorld(MappingProxyType({**known, **own}), dict(common), limits, functions)
