"""What a machine trusts and refuses, from files: lists made by another program, in every wrapping, and hostile ones."""

from __future__ import annotations

import hashlib
import random
import struct
import subprocess
import uuid
from datetime import UTC, datetime
from pathlib import Path

import pytest
from asn1crypto import pem

from lucky_keystone.common.errors import UsageError
from lucky_keystone.content.contents import Literal
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.demo.signing import authority_certificate, signed
from lucky_keystone.starting.authenticode import image_digest, read_signatures
from lucky_keystone.starting.loaders import LoaderState
from lucky_keystone.starting.secure_boot import crossing_state, secure_verdict
from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.trust import Machine, RevokedCertificate, SignatureDatabase

from ..helpers.judges import need
from ..helpers.signing import OWNER, RSA2048, SHA256, X509, X509_SHA256, list_of

CERTIFICATE = pem.unarmor(authority_certificate())[2]
LOADER = uefi_loader("x64")
DIGEST = image_digest(Literal(LOADER), "sha256")
UPDATE = struct.pack("<H5BB8x", 2026, 11, 2, 3, 4, 5, 0) + struct.pack("<IHH", 24 + 77, 0x200, 0x0EF1)
UPDATE += uuid.UUID("4aafd29d-68df-49ee-8aa9-347d375665a7").bytes_le + bytes(77)


def made_elsewhere(folder: Path) -> bytes:
    """A certificate's list and a digest's, by another program."""
    made = b""
    for kind, data in (("x509", CERTIFICATE), ("sha256", DIGEST)):
        (folder / "data").write_bytes(data)
        command = [need("sbsiglist"), "--owner", str(OWNER), "--type", kind, "--output", "list", "data"]
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
        made += (folder / "list").read_bytes()
    return made


@pytest.mark.parametrize("before", [b"", b"\x27\0\0\0", UPDATE], ids=["plain", "variable", "update"])
def test_lists_in_every_wrapping(before: bytes, tmp_path: Path) -> None:
    file = tmp_path / "db"
    others = list_of(RSA2048, bytes(256))  # a type that firmware here passes over
    lists = others + made_elsewhere(tmp_path) + list_of(SHA256, bytes(32), b"\1" * 32)
    moment = struct.pack("<H5B9x", 2026, 6, 30, 12, 0, 1)
    lists += list_of(X509_SHA256, b"\2" * 32 + moment, b"\3" * 32 + bytes(16))
    file.write_bytes(before + lists)
    found = read_database(file)
    assert [each.dump() for each in found.certificates] == [CERTIFICATE]
    assert found.digests == {("sha256", digest) for digest in (DIGEST, bytes(32), b"\1" * 32)}
    assert found.certificate_digests == (
        RevokedCertificate(("sha256", b"\2" * 32), datetime(2026, 6, 30, 12, 0, 1, tzinfo=UTC)),
        RevokedCertificate(("sha256", b"\3" * 32), None),
    )


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (list_of(X509, CERTIFICATE)[:-1], "does not fit"),
        (list_of(X509, CERTIFICATE) + b"\0" * 5, "within the head of a list"),
        (list_of(X509, CERTIFICATE[:-9] + bytes(8)), "certificate cannot be read"),
        (list_of(SHA256, bytes(31)), "digest of 31 bytes"),
        (list_of(X509_SHA256, bytes(32) + struct.pack("<H5B9x", 2026, 13, 1, 0, 0, 0)), "time in it is invalid"),
        (list_of(SHA256, bytes(32))[:24] + bytes(4) + bytes(48), "do not fill their list"),
        (list_of(SHA256, bytes(32))[:20] + b"\xff" * 8 + bytes(48), "does not fit"),
    ],
)
def test_damaged_lists(data: bytes, why: str, tmp_path: Path) -> None:
    (tmp_path / "db").write_bytes(data)
    with pytest.raises(UsageError, match=why):
        read_database(tmp_path / "db")


def test_mutated_lists(tmp_path: Path) -> None:
    chance, whole = random.Random(3), list_of(X509, CERTIFICATE) + list_of(SHA256, DIGEST, bytes(32))
    file, failed = tmp_path / "db", 0
    for _ in range(1500):
        altered = bytearray(whole)
        for _ in range(chance.randint(1, 6)):
            altered[chance.randrange(40) if chance.random() < 0.5 else chance.randrange(len(altered))] ^= (
                1 << chance.randrange(8)
            )
        del altered[len(altered) - chance.choice([0, 0, 0, chance.randrange(len(altered))]) :]
        file.write_bytes(altered)
        try:
            read_database(file)
        except UsageError as error:
            failed += 1
            assert str(file) in error.message
    assert failed > 100


AUTHORITY = hashlib.sha256(read_signatures(Literal(signed(LOADER)))[0].chain[-1]["tbs_certificate"].dump()).digest()


@pytest.mark.parametrize("is_signed", [True, False])
@pytest.mark.parametrize("db", ["", "certificate", "digest"])
@pytest.mark.parametrize("dbx", ["", "certificate", "digest", "certificate digest", "certificate digest since"])
def test_certificates_and_digests_as_firmware_takes_them(is_signed: bool, db: str, dbx: str, tmp_path: Path) -> None:
    """UEFI 2.10, 32.5.3.3: allowed by either, refused by any; a time spares only what somebody attested to be older."""
    loader = signed(LOADER) if is_signed else LOADER
    digest = image_digest(Literal(loader), "sha256")
    known = {
        "": list_of(SHA256, bytes(32)),
        "certificate": list_of(X509, CERTIFICATE),
        "digest": list_of(SHA256, digest),
        "certificate digest": list_of(X509_SHA256, AUTHORITY + bytes(16)),
        "certificate digest since": list_of(X509_SHA256, AUTHORITY + struct.pack("<H5B9x", 2026, 6, 30, 0, 0, 0)),
    }
    for name, held in (("db", db), ("dbx", dbx)):
        (tmp_path / name).write_bytes(known[held])
    machine = Machine(read_database(tmp_path / "db"), read_database(tmp_path / "dbx"))
    signatures = read_signatures(Literal(loader))
    state = LoaderState("x.efi", "x64", "", signatures, digest=None if signatures else ("sha256", digest))
    allowed = db == "digest" or (db == "certificate" and is_signed)
    refused = dbx == "digest" or (dbx.startswith("certificate") and is_signed)
    verdict, reason = secure_verdict([state], machine)
    assert verdict == ("starts" if allowed and not refused else "will not start"), reason


def test_the_crossing_starts_where_its_digest_is_allowed() -> None:
    crossing = crossing_state("x64")
    assert crossing.digest is not None
    loader = LoaderState("x.efi", "x64", "", read_signatures(Literal(signed(LOADER))))
    certificates = (loader.signatures[0].chain[-1],)
    for digests, certified, starts in (
        ({crossing.digest}, certificates, True),
        ({crossing.digest}, (), False),
        (set(), certificates, False),
    ):
        machine = Machine(SignatureDatabase(certified, frozenset(digests)))
        assert (secure_verdict([crossing, loader], machine)[0] == "starts") is starts
    refusing = Machine(
        SignatureDatabase(certificates, frozenset({crossing.digest})),
        SignatureDatabase(digests=frozenset({crossing.digest})),
    )
    assert "dbx given refuses the crossing" in secure_verdict([crossing, loader], refusing)[1]
