"""Drives with several setup environments are started: a stand-in boot manager reads the list, and every entry's files.

It takes the store apart by itself, as `test_systems.py` has it.
"""

from __future__ import annotations

import re
import shutil
import zlib
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

import pytest

from lucky_keystone.starting.pe import REMOVABLE_LOADERS

from ..helpers.install_images import Item, install_image
from ..helpers.program import run
from ..helpers.releases import PROCESSORS, put, release, some, tree
from .emulator import start
from .matrix import SECURE, certificate_of, sign

pytestmark = pytest.mark.lab

ASSETS = files("lucky_keystone.demo") / "assets"
PROGRAMS = [tree(f"Windows/System32/boot/winload.{ending}", Item(b"it")) for ending in ("exe", "efi")]
ALL = ("bios", "bios-bochs", "uefi-x64", "uefi-x86", "uefi-arm64")


def rescue(folder: Path, architecture: str) -> Path:
    tools = {"tools.exe": Item(some(folder.name, 90_000)), **PROGRAMS[0]}
    data = install_image([tools], "none", name="Rescue", architecture=PROCESSORS[architecture], build=22621)
    put(folder, "sources/boot.wim", data)
    put(folder, "boot/boot.sdi", some(f"{folder.name} base", 20_000))
    return folder


@pytest.fixture(scope="module")
def discs(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """An installer whose boot managers read boot stores, and two rescue discs."""
    folder = tmp_path_factory.mktemp("discs")
    loaders = {each: (ASSETS / f"system-loader-{each}.efi").read_bytes() for each in REMOVABLE_LOADERS}
    crew = release(folder / "crew", build=26100, loaders=loaders, method="none")
    put(crew, "bootmgr", (ASSETS / "system-loader-bios.bin").read_bytes() + some("filling", 380_000))
    put(crew, "boot/boot.sdi", some("base", 30_000))
    put(crew, "boot/memtest.exe", some("memory test", 3000))
    return [crew, rescue(folder / "harbour", "x64"), rescue(folder / "gangway", "x86")]


def told(serial: str, what: str) -> list[tuple[int, int]]:
    """Return sum and size of what was read."""
    found = re.findall(rf"^{what} ([0-9a-f]{{8}}) (\d+) ", serial, re.MULTILINE)
    return [(int(total, 16), int(size)) for total, size in found]


def sums(places: Sequence[Path]) -> list[tuple[int, int]]:
    return [(zlib.crc32(data), len(data)) for data in (place.read_bytes() for place in places)]


def assert_all_are_read(serial: str, discs: Sequence[Path]) -> None:
    assert f"TIDEWELL MENU DONE {len(discs)}" in serial, serial[-2000:]
    assert told(serial, "IMAGE") == sums([disc / "sources/boot.wim" for disc in discs])
    assert told(serial, "BASE") == sums([disc / "boot/boot.sdi" for disc in discs])
    assert "SECONDS 12" in serial


@pytest.mark.parametrize(
    ("file_system", "firmware"),
    [*(("fat32", each) for each in ALL), *(("ntfs", each) for each in ("bios", "uefi-x64", "uefi-arm64")),
     *(("fat32+ntfs", each) for each in ("bios", "uefi-x64", "uefi-x86"))],
)  # fmt: skip
def test_every_entry_is_read(file_system: str, firmware: str, discs: list[Path], tmp_path: Path) -> None:
    drive = tmp_path / "drive.img"
    names = [word for name in ("Crew", "Harbour tools", "Gangway") for word in ("--entry-name", name)]
    further = ["--with", discs[1], "--with", discs[2], "--default-entry", "2", "--menu-timeout", "12"]
    run("build", discs[0], *further, *names, "--file-system", file_system, "--onto", drive)
    serial = start(drive, firmware).serial
    assert_all_are_read(serial, discs)
    assert re.findall(r"^ENTRY (.*?)\r?$", serial, re.MULTILINE) == ["Crew", "default Harbour tools", "Gangway"]
    assert told(serial, "TOOL") == (sums([discs[0] / "boot/memtest.exe"]) if firmware.startswith("bios") else [])


def test_discs_for_two_architectures(discs: list[Path], tmp_path: Path) -> None:
    loader = {"x86": (ASSETS / "system-loader-x86.efi").read_bytes()}
    gangway = release(tmp_path / "gangway", build=19045, architectures=("x86",), loaders=loader, method="none")
    put(gangway, "boot/boot.sdi", some("base", 30_000))
    crew = shutil.copytree(discs[0], tmp_path / "crew")
    for name in ("bootia32.efi", "bootaa64.efi"):
        (crew / "efi/boot" / name).unlink()
    drive = tmp_path / "drive.img"
    run("build", crew, "--with", gangway, "--menu-timeout", "12", "--file-system", "fat32+ntfs", "--onto", drive)
    for firmware in ("bios", "uefi-x64", "uefi-x86"):
        assert_all_are_read(start(drive, firmware).serial, [crew, gangway])


def test_with_secure_boot(discs: list[Path], tmp_path: Path) -> None:
    if not all(image.exists() for image in SECURE["uefi-x64"]):
        pytest.skip("firmware with Secure Boot is not installed")
    certificate_of()
    crew = shutil.copytree(discs[0], tmp_path / "crew")
    loader = crew / "efi/boot/bootx64.efi"
    loader.write_bytes(sign(loader.read_bytes(), tmp_path))
    drive = tmp_path / "drive.img"
    run("build", crew, "--with", discs[1], "--menu-timeout", "12", "--onto", drive)
    code, variables = SECURE["uefi-x64"]
    assert_all_are_read(start(drive, "uefi-x64", image=code, store=variables).serial, [crew, discs[1]])
