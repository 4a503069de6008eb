"""Pribble: templates, data and pictures become e-mail messages that any receiver can read.

from pribble import TemplateFolder

templates = TemplateFolder("templates", locale="en_GB")
rendering = templates["berth-confirmed"].render(booking)
message = rendering.message(sender="Berth Office <berths@skerrow.example>", to="ana@example.org")
bytes(message)
"""

from __future__ import annotations

from importlib import import_module

TYPE_CHECKING = False  # as in typing, which takes longer to load than all of this
if TYPE_CHECKING:
    from pribble.conversion import compare, inline_styles, plain_text
    from pribble.errors import (
        AddressError,
        DataError,
        DeliveryError,
        FieldError,
        HeaderError,
        LimitReached,
        MissingExtra,
        PictureError,
        PribbleError,
        TemplateError,
        UnsafeValue,
    )
    from pribble.findings import Finding
    from pribble.language.fields import Field
    from pribble.limits import Limits
    from pribble.mime.address import Address, Group
    from pribble.mime.audit import Audit, audit
    from pribble.mime.base import Envelope
    from pribble.mime.invitation import Invitation
    from pribble.mime.message import Message
    from pribble.mime.part import Attachment
    from pribble.pictures.picture import Picture
    from pribble.rendering.rendering import Rendering
    from pribble.template import Template, TemplateFolder, UnknownTemplate

__version__ = "0.1.0"

__all__ = [
    "Address",
    "AddressError",
    "Attachment",
    "Audit",
    "DataError",
    "DeliveryError",
    "Envelope",
    "Field",
    "FieldError",
    "Finding",
    "Group",
    "HeaderError",
    "Invitation",
    "LimitReached",
    "Limits",
    "Message",
    "MissingExtra",
    "Picture",
    "PictureError",
    "PribbleError",
    "Rendering",
    "Template",
    "TemplateError",
    "TemplateFolder",
    "UnknownTemplate",
    "UnsafeValue",
    "audit",
    "compare",
    "inline_styles",
    "plain_text",
]

# Where each of these names is at home.  A home is loaded when its name is first asked for (PEP 562), so that a program
# which imports Pribble and does not use it starts as soon as without.
_HOMES = {
    "conversion": "compare inline_styles plain_text",
    "errors": "AddressError DataError DeliveryError FieldError HeaderError LimitReached MissingExtra PictureError "
    "PribbleError TemplateError UnsafeValue",
    "findings": "Finding",
    "language.fields": "Field",
    "limits": "Limits",
    "mime.address": "Address Group",
    "mime.audit": "Audit audit",
    "mime.invitation": "Invitation",
    "mime.base": "Envelope",
    "mime.message": "Message",
    "mime.part": "Attachment",
    "pictures.picture": "Picture",
    "rendering.rendering": "Rendering",
    "template": "Template TemplateFolder UnknownTemplate",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}


def __getattr__(name: str) -> object:
    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found: object = getattr(import_module(f"{__name__}.{_HOME_OF[name]}"), name)
    globals()[name] = found  # asked for once
    return found


def __dir__() -> list[str]:
    return sorted(__all__)
