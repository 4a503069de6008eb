"""Signatures: what others say of ours, and ours of others'."""

from __future__ import annotations

import base64
import os
import re
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import dkim
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
from dkim.canonicalization import Relaxed, Simple
from hypothesis import given
from hypothesis import strategies as st

from pribble import Attachment, Message, audit
from pribble.delivery.signing import Signer, project_signer
from pribble.errors import DataError, HeaderError
from pribble.mime.dkim import Form, canonical_body, canonical_field
from pribble.mime.dkim_keys import published_keys, signing_key
from pribble.settings import read_settings
from tests.mime import opendkim
from tests.support import NOTHING_SKIPPED, Case, generated, pribble, slow

DATE = datetime(2026, 7, 3, 10, 15, tzinfo=UTC)
FORMS: tuple[Form, ...] = ("simple", "relaxed")


@cache
def keys() -> tuple[bytes, bytes]:
    """Private keys in PEM: RSA, Ed25519."""
    made = (rsa.generate_private_key(65537, 2048), ed25519.Ed25519PrivateKey.generate())
    return tuple(  # type: ignore[return-value]
        one.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        for one in made
    )


def record(pem: bytes) -> str:
    """What is published of a private key."""
    public = serialization.load_pem_private_key(pem, None).public_key()
    if isinstance(public, ed25519.Ed25519PublicKey):
        octets = public.public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
        return f"v=DKIM1; k=ed25519; p={base64.b64encode(octets).decode()}"
    octets = public.public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    return f"v=DKIM1; k=rsa; p={base64.b64encode(octets).decode()}"


@cache
def signer() -> Signer:
    return Signer("skerrow.example", [(name, signing_key(pem)) for name, pem in zip(("r", "e"), keys(), strict=True)])


@cache
def records() -> Mapping[str, str]:
    return {f"{name}._domainkey.skerrow.example": record(pem) for name, pem in zip(("r", "e"), keys(), strict=True)}


def by_dkimpy(raw: bytes, index: int) -> bool:
    """What an independent implementation says of a message's nth signature."""
    published = {f"{name}.".encode(): one.encode() for name, one in records().items()}
    try:
        return bool(dkim.DKIM(raw).verify(index, dnsfunc=lambda name, timeout=5: published.get(name)))
    except dkim.ValidationError:
        return False


def rules(raw: bytes, **given: Any) -> list[str]:
    return [one.rule for one in audit(raw, **given) if one.rule.startswith("machines.dkim")]


def message(**given: Any) -> Message:
    usual: dict[str, Any] = {
        "sender": "Berths <b@skerrow.example>",
        "to": "ana@example.org",
        "date": DATE,
        "seed": b"1",
    }
    return Message(**{"subject": "Tides", "text": "High at 06:12.\n", **usual, **given}, sign=signer())


MESSAGES = (
    message(),
    message(text=""),
    message(text="two  blanks \t and a tab \n\n\n\n"),
    message(subject="Zoë " * 40, to=[f"p{n}@example.org" for n in range(50)], html="<p>Ünïcode " * 200),
    message(authors=["a@north.skerrow.example", "b@skerrow.example"], reply_to="c@example.org", cc="d@example.org"),
    message(bcc="secret@example.org", unsubscribe="https://skerrow.example/off", one_click=True),
    message(attachments=[Attachment("a.bin", bytes(range(256)) * 40)], in_reply_to="<1@skerrow.example>"),
    message(to="ünïcode@example.org", sender="büro@skerrow.example"),
)


class Written(unittest.TestCase):
    def test_others_verify_them(self) -> None:
        for number, one in enumerate(MESSAGES):
            with self.subTest(number):
                raw = bytes(one)
                self.assertTrue(by_dkimpy(raw, 0), "rsa")
                self.assertTrue(by_dkimpy(raw, 1), "ed25519")
                self.assertEqual(rules(raw, keys=records()), [])
                self.assertEqual([f for f in audit(raw, submitted=True) if f.severity == "error"], [])
                for line in raw.partition(b"From:")[0].split(b"\r\n"):
                    self.assertLessEqual(len(line), 78)

    def test_what_is_changed_does_not_verify(self) -> None:
        raw = bytes(MESSAGES[0])
        for before, after, rule in (
            (b"High at", b"Low at", "body"),
            (b"06:12.", b"06:12.\r\nBuy", "body"),
            (b"Subject: Tides", b"Subject: Tide", "broken"),
            (b"From: Berths", b"From: Eve <e@evil.example>\r\nFrom: Berths", "broken"),
            (b"To: ana", b"Reply-To: e@evil.example\r\nTo: ana", "broken"),
            (b"t=1783", b"t=1784", "broken"),
        ):
            with self.subTest(after):
                changed = raw.replace(before, after, 1)
                self.assertNotEqual(changed, raw)
                self.assertEqual(set(rules(changed, keys=records())), {f"machines.dkim-{rule}"})
                self.assertFalse(by_dkimpy(changed, 0))
        self.assertEqual(set(rules(raw, keys={})), {"machines.dkim-unknown"})
        self.assertEqual(rules(raw), [])
        # What is not covered, and what the canonical forms leave out, may change.
        for before, after in (
            (b"Subject: Tides", b"Subject:   Tides  "),
            (b"From: Berths", b"X-Seen: yes\r\nFrom: Berths"),
            (b"06:12.\r\n", b"06:12. \t\r\n\r\n\r\n"),
        ):
            self.assertEqual(rules(raw.replace(before, after, 1), keys=records()), [], after)

    def test_the_same_message_has_the_same_signatures(self) -> None:
        self.assertEqual(bytes(message()), bytes(message()))
        self.assertIn(b" t=1783073700;", bytes(message()))

    def test_a_draft_has_none(self) -> None:
        self.assertNotIn(b"DKIM-Signature", message().draft())

    def test_another_domain_is_not_spoken_for(self) -> None:
        for sender in ("a@example.org", "a@notskerrow.example", "a@skerrow.example.org"):
            with self.subTest(sender), self.assertRaisesRegex(HeaderError, "cannot be signed by skerrow.example"):
                bytes(message(sender=sender))

    @slow
    @unittest.skipIf(not NOTHING_SKIPPED and opendkim.absent(), "opendkim-testmsg cannot be asked")
    def test_opendkim_verifies_them(self) -> None:
        if (why := opendkim.absent()) and "namespaces" in why:
            self.skipTest(why)
        rsa_only = Signer("skerrow.example", signer().keys[:1])
        for number, one in enumerate(MESSAGES):
            with self.subTest(number):
                unsigned = bytes(one)[bytes(one).index(b"From: ") :]
                raw = rsa_only(unsigned) + unsigned
                self.assertEqual(opendkim.verified(raw, records()), "")
        broken = raw.replace(b"Subject: T", b"Subject: t")
        self.assertIn("bad signature", opendkim.verified(broken, records()).lower())


class Read(unittest.TestCase):
    """Signatures of others, which may use other forms."""

    def test_those_of_dkimpy(self) -> None:
        for number, one in enumerate(MESSAGES):
            raw = bytes(one)[bytes(one).index(b"From: ") :]
            for header in FORMS:
                for body in FORMS:
                    with self.subTest(number, header=header, body=body):
                        chosen = (header.encode(), body.encode())
                        made = dkim.sign(raw, b"r", b"skerrow.example", keys()[0], canonicalize=chosen)
                        self.assertEqual(rules(made + raw, keys=records()), [])
                        self.assertEqual(
                            rules(made + raw.replace(b"\r\n\r\n", b"\r\n\r\nx", 1), keys=records()),
                            ["machines.dkim-body"],
                        )
        short = dkim.sign(raw, b"r", b"skerrow.example", keys()[0], length=True)
        self.assertEqual(rules(short + raw + b"more\r\n", keys=records()), [])

    @given(st.lists(st.sampled_from((b" ", b"\t", b"\r\n", b"a", b"b  c")), max_size=12).map(b"".join))
    @generated(400)
    def test_canonical_forms(self, octets: bytes) -> None:
        octets += b"\r\n"
        for form, other in zip(FORMS, (Simple, Relaxed), strict=True):
            self.assertEqual(canonical_body(octets, form), other.canonicalize_body(octets), form)
            value = octets.replace(b"\r\n", b"\r\n ") + b"x\r\n"
            ((name, found),) = other.canonicalize_headers([(b"Subject", value)])
            self.assertEqual(canonical_field(b"Subject", value, form), name + b":" + found, form)

    def test_keys_that_do_not_fit(self) -> None:
        raw, (r, e) = bytes(MESSAGES[0]), records().values()
        for other, words in (
            (r.replace("p=", "p=A", 1), "its key is none"),
            (r.replace("k=rsa", "k=ed25519"), "another kind"),
            (e, "another kind"),
            ("v=DKIM1; p=", "revoked"),
            (r.replace("v=DKIM1", "v=DKIM2"), "another kind"),
            (f"{r}; h=sha1", "other digests"),
            ("", "another kind|revoked"),
            (record(signing(2048)), "another key made it"),
        ):
            with self.subTest(other[:40]):
                found = [
                    f for f in audit(raw, keys={**records(), "r._domainkey.skerrow.example": other}) if "dkim" in f.rule
                ]
                self.assertEqual([f.rule for f in found], ["machines.dkim-broken"])
                self.assertRegex(found[0].message, words)

    def test_files_of_published_keys(self) -> None:
        r, name = next(iter(records().values())), "r._domainkey.skerrow.example"
        cut = f'"{r[:100]}" "{r[100:]}"'
        for text in (f"{name} {r}", f"# ours\n\n{name}.\t3600 IN TXT {cut}\n", f"{name.upper()} TXT {cut}\n"):
            self.assertEqual(published_keys(text), {name: r})
        for text in ("skerrow.example v=DKIM1", "x", name):
            with self.subTest(text), self.assertRaisesRegex(DataError, "line 1 is no key"):
                published_keys(text)

    def test_many_signatures(self) -> None:
        """Of very many, only some are computed, and all are told of."""
        raw = bytes(MESSAGES[0])
        many = b"DKIM-Signature: v=1; a=rsa-sha256; d=x.example; s=x; h=From;\r\n bh=YQ==; b=YQ==\r\n" * 500 + raw
        self.assertEqual(rules(many).count("machines.dkim-body"), 10)


@cache
def signing(bits: int) -> bytes:
    """A private key of so many bits, which nobody signs with."""
    made = rsa.generate_private_key(65537, bits)
    return made.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


class Settings(Case):
    def project(self, signing: str, mode: int = 0o600, pem: bytes | None = None) -> Path:
        path = self.folder({"pribble.toml": f"[signing]\n{signing}\n"}).path
        (path / "key.pem").write_bytes(keys()[0] if pem is None else pem)
        os.chmod(path / "key.pem", mode)
        return path

    def test_a_signer(self) -> None:
        path = self.project('domain = "Skerrow.EXAMPLE"\nkeys = [{ selector = "r", file = "key.pem" }]')
        made = project_signer(read_settings(path / "pribble.toml"))
        assert made is not None
        self.assertEqual(made.domain, "skerrow.example")
        self.assertNotIn("PRIVATE", repr(made))
        self.assertIsNone(project_signer(read_settings(self.folder({"pribble.toml": ""}).path / "pribble.toml")))

    def test_mistakes(self) -> None:
        one = 'domain = "skerrow.example"\nkeys = [{ selector = "r", file = "key.pem" }]'
        for said, mode, pem, words in (
            ("", 0o600, None, ""),
            ('domain = "skerrow.example"', 0o600, None, "needs keys ="),
            ('keys = [{ selector = "r", file = "key.pem" }]', 0o600, None, "needs domain ="),
            (one.replace("skerrow.example", "no domain"), 0o600, None, '"no domain" is no domain'),
            (one.replace("skerrow.example", "[127.0.0.1]"), 0o600, None, "is no domain"),
            (one.replace('"r"', '"r; d=evil"'), 0o600, None, "is no selector"),
            (one.replace('selector = "r", ', ""), 0o600, None, "a key needs selector ="),
            (one.replace("key.pem", "none.pem"), 0o600, None, "No such file"),
            (one.replace("key.pem", "."), 0o600, None, "directory|no file"),
            (one, 0o604, None, "others may read or write this key"),
            (one, 0o620, None, "others may read or write this key"),
            (one, 0o600, b"not a key", "no private key"),
            (one, 0o600, signing(1024), "1024 bits, and 2048 at least"),
            (one.replace("]", ', { selector = "R", file = "key.pem" }]'), 0o600, None, "two keys have the selector"),
        ):
            with self.subTest(words, said=said):
                settings = read_settings(self.project(said, mode, pem) / "pribble.toml")
                if not words:
                    self.assertIsNone(project_signer(settings))
                    continue
                with self.assertRaisesRegex(DataError, words) as caught:
                    project_signer(settings)
                self.assertIn("pribble.toml:", str(caught.exception))
                self.assertNotIn("PRIVATE", str(caught.exception))

    def test_the_commands(self) -> None:
        path = self.project('domain = "skerrow.example"\nkeys = [{ selector = "r", file = "key.pem" }]')
        (path / "templates").mkdir()
        (path / "templates/t.html").write_text("{{ subject: }}Tides{{ :subject }}<p>{{ name }}</p>")
        (path / "rows.csv").write_text("name,mail\nAna,ana@example.org\nBo,bo@example.org\n")
        (path / "d.json").write_text('{"name": "Ana"}')
        (path / "keys.txt").write_text("".join(f"{name} {one}\n" for name, one in records().items()))
        sender = ("--from", "b@skerrow.example", "--through", "folder:out")
        sent = pribble("send", "t", "--data", "d.json", "--to", "ana@example.org", *sender, cwd=path)
        self.assertEqual(sent.returncode, 0, sent.stderr)
        batch = pribble("batch", "t", "--rows", "rows.csv", "--to", "mail", "--journal", "j", *sender, cwd=path)
        self.assertEqual(batch.returncode, 0, batch.stderr)
        files = sorted((path / "out").glob("*.eml"))
        self.assertEqual(len(files), 3)
        for file in files:
            self.assertTrue(by_dkimpy(file.read_bytes(), 0))
        said = pribble("audit", *map(str, files), "--keys", "keys.txt", cwd=path)
        self.assertEqual(said.returncode, 0, said.stdout)
        files[0].write_bytes(re.sub(b"Ana|Bo", b"Eve", files[0].read_bytes()))
        said = pribble("audit", str(files[0]), "--keys", "keys.txt", cwd=path)
        self.assertIn("machines.dkim-body", said.stdout)
        elsewhere = pribble(
            "send",
            "t",
            "--data",
            "d.json",
            "--to",
            "a@example.org",
            "--from",
            "x@example.org",
            "--through",
            "folder:out",
            cwd=path,
        )
        self.assertIn("cannot be signed by skerrow.example", elsewhere.stderr)
