"""Signatures of loaders: made by another program, altered, chained, and bytes that may be anything."""

from __future__ import annotations

import random
import subprocess
from datetime import date
from pathlib import Path

import pytest

from lucky_keystone.common.errors import UsageError
from lucky_keystone.content.contents import Literal, SizedReadable
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.demo.signing import authority_certificate, signed
from lucky_keystone.starting.authenticode import Signature, read_signatures
from lucky_keystone.starting.bootable import PlannedBootVolume, PlannedDrive
from lucky_keystone.starting.generations import GENERATIONS
from lucky_keystone.starting.loaders import LoaderState
from lucky_keystone.starting.rules import outlooks
from lucky_keystone.starting.secure_boot import secure_verdict
from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.trust import Machine
from lucky_keystone.volumes.fat32.kind import FAT32

from ..helpers.judges import need
from ..helpers.signing import Shop, shop
from ..helpers.trees import file, folder

__all__ = ["shop"]


def read_signature(content: SizedReadable) -> Signature | None:
    """The only signature of a file that has one or none."""
    found = read_signatures(content)
    assert len(found) <= 1
    return found[0] if found else None


@pytest.mark.parametrize("architecture", ["x64", "x86", "arm64"])
def test_a_signature_fits_and_is_trusted_through_its_chain(architecture: str, shop: Shop) -> None:
    assert read_signature(Literal(uefi_loader(architecture))) is None
    signature = read_signature(Literal(shop.sign(uefi_loader(architecture))))
    assert signature is not None
    assert (signature.signer, signature.issuer, signature.fits, signature.why) == (
        "Tidewell Workshop",
        "Tidewell Authority",
        True,
        "",
    )
    assert signature.led_to(read_database(shop.authority).certificates)
    assert signature.led_to(read_database(shop.folder / "shop.pem").certificates)
    assert not signature.led_to(read_database(shop.other).certificates)
    assert not signature.led_to([])


def test_an_authority_of_the_same_name_is_not_trusted(shop: Shop, tmp_path: Path) -> None:
    """A name proves nothing: the certificate has to carry the key that signed."""
    signed = shop.sign(uefi_loader("x64"))
    signature = read_signature(Literal(signed))
    assert signature is not None
    assert not signature.led_to(read_database(Shop(tmp_path).authority).certificates)


def test_what_the_digest_covers_and_what_not(shop: Shop) -> None:
    """Each byte that the signature is about breaks it.

    The checksum (64 bytes into the optional header) is not among them.
    """
    signed = shop.sign(uefi_loader("x64"))
    header = int.from_bytes(signed[60:64], "little")
    table = int.from_bytes(signed[header + 24 + 112 + 32 : header + 24 + 112 + 36], "little")
    chance = random.Random(1)
    for at in [0x42, header + 8, *(chance.randrange(0x400, table) for _ in range(20))]:
        altered = bytearray(signed)
        altered[at] ^= 1
        signature = read_signature(Literal(bytes(altered)))
        assert signature is not None
        assert (signature.fits, signature.why) == (False, "it was changed after it was signed: its digest does not fit")
    altered = bytearray(signed)
    altered[header + 24 + 64] ^= 1
    signature = read_signature(Literal(bytes(altered)))
    assert signature is not None
    assert signature.fits


def test_mutated_signatures_never_fit_and_never_fail(shop: Shop) -> None:
    signed = shop.sign(uefi_loader("x64"))
    header = int.from_bytes(signed[60:64], "little")
    entry = header + 24 + 112 + 32
    table = int.from_bytes(signed[entry : entry + 4], "little")
    chance = random.Random(2)
    authority = read_database(shop.authority).certificates
    for case in range(1500):
        altered = bytearray(signed)
        for _ in range(chance.choice((1, 1, 2, 8))):
            at = chance.choice(
                (
                    chance.randrange(table, len(signed)),
                    chance.randrange(header, header + 300),
                    entry + chance.randrange(8),
                )
            )
            altered[at] = chance.randrange(256)
        if chance.random() < 0.1:
            del altered[chance.randrange(header + 200, len(altered)) :]
        if altered[: len(signed)] == signed:
            continue
        signature = read_signature(Literal(bytes(altered)))
        if signature is not None and signature.fits and signature.led_to(authority):
            # Only bytes that nothing depends on were met: the file's own bytes, but for checksum and directory, are
            # whole.
            assert altered[header + 24 + 68 : entry] == signed[header + 24 + 68 : entry], case


@pytest.mark.parametrize(
    "data", [b"", b"not a certificate", b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"]
)
def test_what_is_no_certificate_is_refused(data: bytes, tmp_path: Path) -> None:
    (tmp_path / "x.pem").write_bytes(data)
    with pytest.raises(UsageError, match="no certificate and no signature list can be read"):
        read_database(tmp_path / "x.pem")


A, B, C = "Tidewell Authority", "Another Authority", "A Third Authority"


@pytest.mark.parametrize("signers", [(), (A,), (B,), (A, B), (B, A)])
@pytest.mark.parametrize("trusted", [(A,), (B,), (A, B), (C,)])
@pytest.mark.parametrize("revoked", [(), (A,), (B,), (A, B)])
def test_one_signature_that_is_allowed_is_enough_and_one_that_is_revoked_too_much(
    signers: tuple[str, ...], trusted: tuple[str, ...], revoked: tuple[str, ...], shop: Shop
) -> None:
    """UEFI 2.10, 32.5.3.3. In whatever order: firmware looks at each signature."""
    loader = uefi_loader("x64")
    for signer in signers:
        loader = shop.sign(loader, signer)
    assert [one.signer for one in read_signatures(Literal(loader))] == list(signers)
    root = folder("", folder("efi", folder("boot", file("bootx64.efi", loader))))
    drive = PlannedDrive("mbr", 512, [PlannedBootVolume(FAT32, root, marked=True)])
    shop.third()
    machine = Machine(*(shop.database(*names) for names in (trusted, revoked)))
    row = next(row for row in outlooks(drive, machine) if row.firmware == "UEFI 64-bit, Secure Boot")
    starts = bool(set(signers) & set(trusted)) and not set(signers) & set(revoked)
    assert row.verdict == ("starts" if starts else "will not start"), row.reason


def test_a_loader_of_both_generations_is_forecast_without_a_warning() -> None:
    """Under the older and the newer authority: machines that trust one of them start it."""
    both = tuple(Signature("Boot Manager", each.issuers[0], True, "", ()) for each in GENERATIONS)
    for signatures, caveat in ((both, "either of them"), (both[:1], "2023 one only"), (both[1:], "never updated")):
        state = LoaderState("efi/boot/bootx64.efi", "x64", "", signatures)
        verdict, reason = secure_verdict([state], Machine())
        assert (verdict, caveat in reason, "--loader-signing" in reason) == ("starts", True, False)
    older = LoaderState("efi/boot/bootx64.efi", "x64", "", both[:1])
    for day, is_proposed in ((date(2026, 10, 18), False), (date(2026, 10, 19), True)):
        assert ("--loader-signing 2023 is" in secure_verdict([older], Machine(today=day))[1]) is is_proposed


def test_the_demos_own_signature_holds_for_another_program(tmp_path: Path) -> None:
    """Made by our own code; verified by another program, and by ours, against the authority that comes with it."""
    (tmp_path / "authority.pem").write_bytes(authority_certificate())
    for architecture in ("x64", "x86", "arm64"):
        loader = signed(uefi_loader(architecture))
        (tmp_path / "loader.efi").write_bytes(loader)
        command = [need("sbverify"), "--cert", tmp_path / "authority.pem", tmp_path / "loader.efi"]
        subprocess.run(command, check=True, capture_output=True)
        (signature,) = read_signatures(Literal(loader))
        assert signature.fits
        assert signature.led_to(read_database(tmp_path / "authority.pem").certificates)
