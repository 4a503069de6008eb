"""Whom a client trusts: TLS 1.2 or newer, a certificate that an authority signed, for the host that was asked for."""

from __future__ import annotations

import ssl
from pathlib import Path

from pribble.errors import DeliveryError

UNTRUSTED_HINT = "?ca=FILE names the authority that signed its certificate"


def untrusted(where: object, error: ssl.SSLCertVerificationError) -> str:
    """Returns why a server is not believed."""
    return f"{where} is not who it should be: {error.verify_message.rstrip('.') or error.reason}"


def client_context(authorities: Path | None) -> ssl.SSLContext:
    """Returns what checks a server's certificate, by the system's authorities, or those of a file.

    Raises `DeliveryError` for a file that holds none.
    """
    try:
        context = ssl.create_default_context(cafile=str(authorities) if authorities else None)
    except (OSError, ValueError) as error:  # an SSLError is an OSError
        raise DeliveryError(
            f"{authorities} holds no certificates that can be read "
            f"({getattr(error, 'reason', None) or getattr(error, 'strerror', None) or error})",
            is_lasting=True,
        ) from None
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    return context
