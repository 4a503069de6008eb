"""Pribble: templates, data and pictures become e-mail messages that any receiver can read.

    from pribble import TemplateFolder

    templates = TemplateFolder("templates", locale="en_GB")
    rendering = templates["berth-confirmed"].render(booking)
    message = rendering.message(sender="Berth Office <berths@skerrow.example>", to="ana@example.org")
    bytes(message)
"""

from pribble.converting import compare, inline_styles, plain_text
from pribble.errors import (
    AddressError,
    DataError,
    DeliveryError,
    FieldError,
    HeaderError,
    LimitReached,
    MissingExtra,
    PictureError,
    Place,
    PribbleError,
    Source,
    TemplateError,
    UnsafeValue,
)
from pribble.findings import Finding
from pribble.language.fields import Field
from pribble.limits import Limits
from pribble.mime.address import Address, Group
from pribble.mime.audit import Audit, AuditedPart, audit
from pribble.mime.invitation import Invitation
from pribble.mime.message import Envelope, Message
from pribble.mime.part import Attachment
from pribble.pictures.picture import Picture
from pribble.plaintext.drift import Drift, Lack
from pribble.rendering import Rendering
from pribble.template import Template, TemplateFolder, UnknownTemplate

__version__ = "0.1.0"

__all__ = [
    "Address",
    "AddressError",
    "Attachment",
    "Audit",
    "AuditedPart",
    "DataError",
    "DeliveryError",
    "Drift",
    "Envelope",
    "Field",
    "FieldError",
    "Finding",
    "Group",
    "HeaderError",
    "Invitation",
    "Lack",
    "LimitReached",
    "Limits",
    "Message",
    "MissingExtra",
    "Picture",
    "PictureError",
    "Place",
    "PribbleError",
    "Rendering",
    "Source",
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
