"""Certificates for tests: an authority of ours, and what it signs, made in a moment by the cryptography package."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec


class Authority:
    """An authority whose certificate is in `file`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Skerrow test authority")])
        self._identifier = x509.SubjectKeyIdentifier.from_public_key(self._key.public_key())
        usage = x509.KeyUsage(True, False, False, False, False, True, True, False, False)
        made = self._builder(self._name, self._key.public_key(), timedelta(days=2))
        made = made.add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        made = made.add_extension(usage, critical=True).add_extension(self._identifier, critical=False)
        self.file = folder / "authority.pem"
        self.file.write_bytes(made.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))

    def _builder(self, name: x509.Name, key: ec.EllipticCurvePublicKey, valid: timedelta) -> x509.CertificateBuilder:
        now = datetime.now(UTC)
        return (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(self._name)
            .public_key(key)
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=30))
            .not_valid_after(now + valid)
        )

    def issue(self, host: str = "localhost", valid: timedelta = timedelta(days=2)) -> Path:
        """Returns a file with a certificate for a host, and its key."""
        key = ec.generate_private_key(ec.SECP256R1())
        made = self._builder(x509.Name([]), key.public_key(), valid)
        made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName(host)]), critical=True)
        made = made.add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_subject_key_identifier(self._identifier), False
        )
        path = self.folder / f"{host}-{valid.days}.pem"
        secret = serialization.NoEncryption()
        path.write_bytes(
            key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, secret)
            + made.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
        )
        return path

    def context(self, host: str = "localhost", valid: timedelta = timedelta(days=2)) -> ssl.SSLContext:
        """Returns what makes a server show such a certificate."""
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(self.issue(host, valid))
        return context
