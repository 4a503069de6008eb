"""A certificate that the stand-in receiver makes for itself, so that TLS can be tried without an authority."""

from __future__ import annotations

import ssl
import tempfile
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from pribble.delivery.files import OWNER_ONLY, write_durably
from pribble.errors import loaded
from pribble.files import write_file

NAMES, ADDRESSES = ("localhost",), ("127.0.0.1", "::1")
VALID = timedelta(days=30)


def own_context(certificate_file: Path) -> ssl.SSLContext:
    """Returns what makes a server speak TLS as ``localhost``, with a new certificate that is written to a file: whoever
    names that file as an authority believes it.  The key is written nowhere to stay.

    Raises `MissingExtra` where the cryptography package is not installed, and `OSError`.
    """
    certificate, key = _new_certificate(datetime.now(UTC))
    write_file(certificate_file, certificate)
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    with tempfile.TemporaryDirectory() as folder:  # the library takes a key from a file only
        path = Path(folder) / "key.pem"
        write_durably(path, certificate + key, OWNER_ONLY)
        context.load_cert_chain(path)
    return context


def _new_certificate(now: datetime) -> tuple[bytes, bytes]:
    """Returns a certificate that signs itself (RFC 5280 4.2), and its key, as PEM."""
    load = "the certificate of a receiver needs the cryptography package"
    x509 = loaded("cryptography.x509", extra="receive", message=load)
    ec = loaded("cryptography.hazmat.primitives.asymmetric.ec", extra="receive", message=load)
    serialization = loaded("cryptography.hazmat.primitives.serialization", extra="receive", message=load)
    hashes = loaded("cryptography.hazmat.primitives.hashes", extra="receive", message=load)
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    names = [*map(x509.DNSName, NAMES), *(x509.IPAddress(ip_address(one)) for one in ADDRESSES)]
    others = "content_commitment key_encipherment data_encipherment key_agreement crl_sign encipher_only decipher_only"
    usage = dict.fromkeys(others.split(), False)
    public = key.public_key()
    identifier = x509.SubjectKeyIdentifier.from_public_key(public)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(public)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + VALID)
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(x509.KeyUsage(digital_signature=True, key_cert_sign=True, **usage), critical=True)
        .add_extension(identifier, critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_subject_key_identifier(identifier),
            critical=False,
        )
        .sign(key, hashes.SHA256())
    )
    return certificate.public_bytes(serialization.Encoding.PEM), key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
