"""Every shape starts under real firmware where the forecast says so, and nowhere else.

Also with Secure Boot enforced.
"""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.content.contents import seekable
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices
from lucky_keystone.rehearsal.emulator import start_drive
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.volumes.kinds import open_volume

from ..helpers.amount import sample_of
from ..helpers.drives import MemoryDrive, build_drive, check_file
from ..helpers.judges import need
from .emulator import FIRMWARES, LIMIT, files_told, find_image, start
from .matrix import KEY, ROWS, SECURE, build_shape, lab_source, sign, try_rows
from .programs import compile_program
from .starting import sums_of

pytestmark = pytest.mark.lab


def installed() -> bool:
    """Tell whether the test key, what signs with it, and all firmware are here."""
    return (
        KEY.exists()
        and shutil.which("sbsign") is not None
        and all(image.exists() for image, _ in SECURE.values())
        and all(find_image(kind.images) for kind in FIRMWARES.values() if kind.images)
    )


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    if not installed():
        pytest.skip("the firmware's test key, or sbsign, is not installed")
    return lab_source(tmp_path_factory.mktemp("lab"), signed=True)


SHAPES = ["mbr both fat32", "mbr both fat32+ntfs", "gpt uefi ntfs", "gpt uefi fat32+ntfs"]
"""Each table and file system; `python -m tests.lab.matrix` starts all combinations."""


@pytest.mark.parametrize("shape", sample_of(SHAPES, [SHAPES[0], SHAPES[2]]))
def test_a_drive_starts_where_the_forecast_says(shape: str, source: Source, tmp_path: Path) -> None:
    """BIOS and UEFI of three architectures, two of them with Secure Boot on as well.

    Docs/starts.md has all combinations.
    """
    table, firmware, file_system = shape.split()
    built = build_shape(source, tmp_path, table, firmware, file_system)
    assert not isinstance(built, KeystoneError)
    tried = list(try_rows(built))
    assert len(tried) == len(ROWS)
    assert [row for row in tried if row.started != (row.forecast.verdict == "starts")] == []


def test_every_file_is_read_through_the_crossing(source: Source, tmp_path: Path) -> None:
    """By block I/O on the loader's own device handle, with the stand-in's own NTFS code, on all three architectures."""
    built = build_shape(source, tmp_path, "gpt", "uefi", "ntfs")
    assert not isinstance(built, KeystoneError)
    for firmware in ("uefi-x64", "uefi-x86", "uefi-arm64"):
        told = start(built.path, firmware).serial
        assert "NTFS by block I/O" in told
        assert files_told(told) == sums_of(built.plan.tree)


def test_a_loader_altered_after_it_was_signed(source: Source, tmp_path: Path) -> None:
    """One byte that is never run: the loader still starts, but not with Secure Boot on, as forecast and as checked."""
    over = tmp_path / "over" / "efi" / "boot"
    over.mkdir(parents=True)
    file = source.root.find_file("efi/boot/bootx64.efi")
    assert file is not None
    altered = bytearray(seekable(file.content).read_at(0, file.size))
    altered[0x42] ^= 1
    (over / "bootx64.efi").write_bytes(altered)
    built = build_shape(open_source(source.path, [*source.added, tmp_path / "over"]), tmp_path, "mbr", "uefi", "fat32")
    assert not isinstance(built, KeystoneError)
    rows = {row.firmware: row for row in try_rows(built, ["UEFI 64-bit", "UEFI 64-bit, Secure Boot"])}
    assert {name: row.started for name, row in rows.items()} == {"UEFI 64-bit": True, "UEFI 64-bit, Secure Boot": False}
    assert "was changed after it was signed" in rows["UEFI 64-bit, Secure Boot"].forecast.reason
    assert {row.firmware: row.verdict for row in check_file(built.path).starts}[
        "UEFI 64-bit, Secure Boot"
    ] == "will not start"


def test_a_loader_signed_under_two_authorities(source: Source, tmp_path: Path) -> None:
    """Another authority's signature first, the trusted one second: firmware looks at both, and so does the forecast."""
    from ..helpers.signing import Shop

    over = tmp_path / "over" / "efi" / "boot"
    over.mkdir(parents=True)
    plain = uefi_loader("x64")
    (over / "bootx64.efi").write_bytes(sign(Shop(tmp_path).sign(plain), tmp_path))
    built = build_shape(open_source(source.path, [*source.added, tmp_path / "over"]), tmp_path, "mbr", "uefi", "fat32")
    assert not isinstance(built, KeystoneError)
    (row,) = try_rows(built, ["UEFI 64-bit, Secure Boot"])
    assert (row.started, row.forecast.verdict) == (True, "starts"), row.forecast.reason


def test_the_crossing_says_on_screen_why_it_goes_no_further(source: Source, tmp_path: Path) -> None:
    """The NTFS volume is damaged, or has no loader; the line also goes to the serial console."""
    built = build_shape(source, tmp_path, "mbr", "uefi", "ntfs")
    assert not isinstance(built, KeystoneError)
    whole = built.path.read_bytes()
    _, volume = open_volume(MemoryDrive.of(built.path), 1 << 20, built.plan.volumes[0].planned.size)
    loader = volume.find("efi/boot/bootx64.efi")
    boot = volume.find("efi/boot")
    assert loader is not None
    assert boot is not None
    name = "bootx64.efi".encode("utf-16-le")
    for change, told in (
        (whole.replace(name, "bootx65.efi".encode("utf-16-le")), "BOOTX64.EFI is not on the NTFS volume"),
        (whole.replace(b"NTFS    ", b"NOTHING ", 1), "no NTFS volume is on this drive"),
        (whole.replace(b"FILE0", b"FAIL0"), "the NTFS volume is damaged"),
    ):
        built.path.write_bytes(change)
        assert told in start(built.path, "uefi-x64").serial


@pytest.mark.parametrize("loader", ["gives up", "is refused"])
def test_the_crossing_takes_back_what_it_offered(loader: str, source: Source, tmp_path: Path) -> None:
    """Its memory is the firmware's again when it comes back, and is written over: no file system may point there."""
    program, over = compile_program("returning", tmp_path), tmp_path / "over" / "efi" / "boot"
    over.mkdir(parents=True)
    (over / "bootx64.efi").write_bytes(program.read_bytes() if loader == "gives up" else b"MZ" + bytes(4000))
    with_loader = open_source(source.path, [*source.added, tmp_path / "over"])
    built = build_drive(
        with_loader, tmp_path / "drive.img", Choices(table="gpt", firmware="uefi", file_system="ntfs", as_is=True)
    )
    (start_at,) = (each.planned.start for each in built.plan.volumes if each is not built.plan.main)
    volume = f"{built.path}@@{start_at}"
    subprocess.run([need("mren"), "-i", volume, "::EFI/BOOT/BOOTX64.EFI", "CROSSING.EFI"], check=True)
    subprocess.run([need("mcopy"), "-i", volume, program, "::EFI/BOOT/BOOTX64.EFI"], check=True)
    told = start_drive(built.path, "uefi-x64", seconds=LIMIT, until=lambda told: "menu: done" in told).serial
    assert re.findall(r"(?:opened|came back:|file systems left:) \d", told) == [
        *(["opened 1", "opened 1", "opened 0", "opened 1"] if loader == "gives up" else []),
        *("came back: 1", "file systems left: 0"),
    ]
