"""What Secure Boot makes of loaders: certificates, digests, revocations; as forecast, and under real firmware."""

from __future__ import annotations

import hashlib
import json
import struct
import subprocess
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.boot.records import crossing
from lucky_keystone.content.contents import Literal
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.planning.make import make_plan
from lucky_keystone.starting.authenticode import image_digest
from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.trust import Machine

from ..helpers.drives import Built
from ..helpers.judges import need
from ..helpers.signing import SHA256, X509, X509_SHA256, Shop, list_of
from .emulator import start
from .matrix import SECURE
from .secure import DATABASES, SHIM, A, B, certificate, shop, with_loader

__all__ = ["shop"]

pytestmark = pytest.mark.lab

ROW = "UEFI 64-bit, Secure Boot"


@dataclass(frozen=True)
class Case:
    """A loader, what a machine holds, and what becomes of it."""

    signers: tuple[str, ...]
    db: tuple[str, ...]
    dbx: tuple[str, ...]
    starts: bool
    file_system: str = "fat32"


CASES = {
    "by an authority that is trusted": Case((A,), (A,), (), True),
    "by another": Case((B,), (A,), (), False),
    "by both, the second one trusted": Case((A, B), (B,), (), True),
    "by both, one revoked": Case((A, B), (A, B), (A,), False),
    "trusted by the signer's own certificate": Case(("shop",), ("shop",), (), True),
    "its digest revoked": Case((A,), (A,), ("digest",), False),
    "its certificate's digest revoked": Case((A,), (A,), ("digest of " + A,), False),
    "unsigned, its digest allowed": Case((), (B, "digest"), (), True),
    "through the crossing, whose digest is allowed": Case((A,), (A, "crossing"), (), True, "ntfs"),
    "through the crossing, its loader of another authority": Case((B,), (A, "crossing"), (), False, "ntfs"),
}


def database(shop: Shop, names: tuple[str, ...], loader: bytes) -> bytes:
    """Return signature lists with what is named."""
    made = b""
    for name in names:
        if name == "digest":
            made += list_of(SHA256, image_digest(Literal(loader), "sha256"))
        elif name == "crossing":
            made += list_of(SHA256, image_digest(Literal(crossing("x64")), "sha256"))
        elif name.startswith("digest of "):
            (shop.folder / "db").write_bytes(list_of(X509, certificate(shop, name.removeprefix("digest of "))))
            (held,) = read_database(shop.folder / "db").certificates
            made += list_of(X509_SHA256, hashlib.sha256(held["tbs_certificate"].dump()).digest() + bytes(16))
        else:
            made += list_of(X509, certificate(shop, name))
    return made


def store(folder: Path, db: bytes, dbx: bytes) -> Path:
    """Return a variable store that enforces Secure Boot with these databases, made by another program."""
    time = struct.pack("<H5B9x", 2026, 11, 1, 0, 0, 0).hex()
    held = (("db", db), ("dbx", dbx or list_of(SHA256, bytes(32))))
    variables = [{"name": name, "guid": DATABASES, "attr": 39, "data": data.hex(), "time": time} for name, data in held]
    (folder / "variables.json").write_text(json.dumps({"version": 2, "variables": variables}))
    command = [need("virt-fw-vars"), "-i", SECURE["uefi-x64"][1], "-o", folder / "store.fd"]
    subprocess.run([*command, "--set-json", folder / "variables.json"], check=True, capture_output=True)
    return folder / "store.fd"


def forecast(built: Built, folder: Path, db: bytes, dbx: bytes) -> tuple[str, str]:
    """Return what is said where the databases are given as Linux shows a machine's."""
    for name, data in (("db", db), ("dbx", dbx)):
        (folder / name).write_bytes(b"\x27\0\0\0" + data)
    machine = Machine(read_database(folder / "db"), read_database(folder / "dbx"))
    plan = make_plan(built.source, built.plan.choices, built.plan.drive, machine=machine)
    return next((row.verdict, row.reason) for row in plan.forecast if row.firmware == ROW)


@pytest.mark.parametrize("name", CASES)
def test_loaders_start_as_the_databases_have_it(name: str, shop: Shop, tmp_path: Path) -> None:
    case, loader = CASES[name], uefi_loader("x64")
    for signer in case.signers:
        loader = shop.sign(loader, signer)
    built = with_loader(tmp_path, loader, case.file_system)
    db, dbx = (database(shop, names, loader) for names in (case.db, case.dbx))
    verdict, reason = forecast(built, tmp_path, db, dbx)
    assert (verdict == "starts") is case.starts, reason
    serial = start(built.path, "uefi-x64", image=SECURE["uefi-x64"][0], store=store(tmp_path, db, dbx)).serial
    assert ("TIDEWELL UEFI DONE" in serial) is case.starts, serial[-2000:]


@pytest.mark.parametrize(("generation", "starts"), [("uefi11", True), ("uefi23", True), ("win23", False)])
def test_a_published_loader_of_both_generations(generation: str, starts: bool, shop: Shop, tmp_path: Path) -> None:
    """A vendor's, with the vendors' own certificates: firmware starts it by either; the digest holds."""
    if not SHIM.exists():
        pytest.skip("the archive's loader could not be downloaded")
    made = tmp_path / "vars.fd"
    command = [need("virt-fw-vars"), "-i", SECURE["uefi-x64"][1], "-d", "db", "-d", "PK", "-d", "KEK", "-d", "dbx"]
    options = ["--enroll-cert", shop.folder / f"{B}.pem", "--microsoft-db", generation, "--secure-boot"]
    subprocess.run([*command, *options, "-o", made, "--output-json", tmp_path / "j"], check=True, capture_output=True)
    held = {each["name"]: bytes.fromhex(each["data"]) for each in json.loads((tmp_path / "j").read_text())["variables"]}
    built = with_loader(tmp_path, SHIM.read_bytes(), "fat32")
    verdict, reason = forecast(built, tmp_path, held["db"], held.get("dbx", b""))
    assert (verdict == "starts") is starts, reason
    told = start(built.path, "uefi-x64", image=SECURE["uefi-x64"][0], store=made)
    assert ("Access Denied" in told.serial) is not starts, told.serial[-2000:]
