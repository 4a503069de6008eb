"""Where passwords come from: never from an address or a file, and they never come out again."""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable

from pribble.errors import DataError, DeliveryError

# A password, or what is asked for one when it is needed; None where there is none.
Password = str | Callable[[], str | None] | None

VARIABLE = "PRIBBLE_PASSWORD"
# What stands in the place of words that a password is among.
LEFT_OUT = b"(its words are left out, since the password is among them)"
# A text as short as this is in every reply, whatever the secret is.
_SHORTEST_SECRET = 4
DEFAULT = "default"


def password_variables(name: str | None = None) -> tuple[str, ...]:
    """Returns the environment variables that may hold the password of the transport with this `name`, or of one
    without; the first that is set counts."""
    if name is None:
        return (VARIABLE,)
    own = f"{VARIABLE}_{name.upper().replace('-', '_')}"
    return (own, VARIABLE) if name == DEFAULT else (own,)


def password_of(name: str | None, secret: Callable[[str], str | None]) -> str | None:
    """Returns the password of the transport with this `name`; `secret` returns what a variable holds."""
    return next((found for one in password_variables(name) if (found := secret(one)) is not None), None)


def check_password_variables(names: Iterable[str]) -> None:
    """Raise `DataError` where two transports would have one variable for their passwords."""
    known: dict[str, str] = {}
    for name in names:
        variable = password_variables(name)[0]
        if (other := known.setdefault(variable, name)) != name:
            raise DataError(
                f'the transports "{other}" and "{name}" would both have their password from {variable}',
                hint="give one of them another name",
            )


def login_octets(text: str, what: str) -> bytes:
    """Returns a part of a login as octets (RFC 4616 2).  Raises `DeliveryError`, without a word of it."""
    try:
        octets = text.encode("utf-8")
    except UnicodeEncodeError:
        octets = b"\0"
    if b"\0" in octets:
        words = f"the {what} of the login has a character that no login can carry"
        raise DeliveryError(words, is_lasting=True)
    return octets


def plain_login(user: bytes, password: bytes) -> bytes:
    """Returns the response of the PLAIN mechanism (RFC 4616)."""
    return b"\0" + user + b"\0" + password


def spoken_secrets(user: bytes, password: bytes) -> tuple[bytes, ...]:
    """Returns the forms in which a server was told a password, and must not say it back."""
    coded = base64.b64encode(password)
    forms = (password, coded.rstrip(b"="), base64.b64encode(plain_login(user, password)))
    return tuple(one for one in forms if len(one) >= _SHORTEST_SECRET)


def known_password(password: Password, user: str, where: object) -> str:
    """Returns the password of a user of a server.  Raises `DeliveryError` where it cannot be had."""
    try:
        found = password() if callable(password) else password
    except Exception as error:
        # Whoever keeps the secret may say it in an error.
        raise DeliveryError(f"the password of {where} could not be had ({type(error).__name__})") from None
    if found is None:
        hint = "set the environment variable PRIBBLE_PASSWORD"
        raise DeliveryError(f"{where} wants a password for {user}", hint=hint, is_lasting=True)
    if not isinstance(found, str):
        raise DeliveryError(f"the password of {where} is a text, and not of the kind {type(found).__name__}")
    return found
