"""Systems that run from a drive are started.

Stand-in boot managers take the stores apart by themselves, find the partition that these name, and read every file of
the applied volume.
"""

from __future__ import annotations

import random
import struct
import subprocess
import zlib
from collections.abc import Mapping
from importlib.resources import files
from pathlib import Path

import pytest
from msgspec.structs import replace

from lucky_keystone.rehearsal.emulator import FIRMWARES

from ..helpers.drives import check_file
from ..helpers.hives import Keys, hive_of
from ..helpers.install_images import Item, install_image
from ..helpers.judges import need
from ..helpers.program import run
from ..helpers.releases import some
from ..helpers.systems import system
from .emulator import files_told, start

pytestmark = pytest.mark.lab

ASSETS = files("lucky_keystone.demo") / "assets"
BIOS = (ASSETS / "system-loader-bios.bin").read_bytes() + some("filling", 380_000)
UEFI = (ASSETS / "system-loader-x64.efi").read_bytes()


@pytest.fixture(scope="module")
def wim(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("crew") / "crew.wim"
    path.write_bytes(install_image([edition()], "lzx", name="Crew"))
    return path


def edition() -> dict[str, Item]:
    many = {f"file {n}.dat": Item(some(f"{n % 40}", 700 * n % 30_001)) for n in range(150)}
    return system(bootmgr=BIOS, loader=UEFI, further={"many": Item(None, many)})


def expected() -> dict[str, tuple[int, int]]:
    """Return size and CRC-32 of every file by all of its paths, but of those that are not as the image has them."""
    found: dict[str, tuple[int, int]] = {}

    def walk(tree: Mapping[str, Item], prefix: str) -> None:
        for name, item in tree.items():
            if item.data is None:
                walk(item.below, f"{prefix}{name}/")
            elif not name.startswith("SYSTEM"):
                found[f"{prefix}{name}"] = len(item.data), zlib.crc32(item.data)

    walk(edition(), "")
    return found


@pytest.mark.parametrize("attached", ["stick", "sata"])
@pytest.mark.parametrize(("firmware", "table"), [("bios", "mbr"), ("uefi-x64", "mbr"), ("uefi-x64", "gpt")])
def test_the_system_is_found_and_read(
    firmware: str, table: str, attached: str, wim: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    drive = tmp_path / "drive.img"
    run("build", wim, "--purpose", "portable", "--table", table, "--onto", drive, "--yes")
    if attached == "sata":
        disk = replace(FIRMWARES[firmware], device="ide-hd,drive=stick,bus=ide.0,bootindex=0", hardware=())
        monkeypatch.setitem(FIRMWARES, firmware, disk)
    serial = start(drive, firmware).serial
    assert "TIDEWELL SYSTEM DONE" in serial, serial[-2000:]
    told = files_told(serial)
    wanted = expected()
    assert {path: told[path] for path in wanted} == wanted
    assert "SYSTEM Tidewell Crew 1" in serial


def test_a_drive_with_another_signature_does_not_start_its_system(wim: Path, tmp_path: Path) -> None:
    drive = tmp_path / "drive.img"
    run("build", wim, "--purpose", "portable", "--onto", drive, "--yes")
    with drive.open("r+b") as stream:
        stream.seek(0x1B8)
        stream.write(b"\1\2\3\4")
    assert "TIDEWELL SYSTEM FAILED no drive has that partition" in start(drive, "bios").serial


def store_by_hand(drive: Path, firmware: str, seed: int) -> bytes:
    """Return a store for a drive with an MBR, made by the tests' own writer of hives."""
    data = drive.read_bytes()[:512]
    element = struct.pack("<16xIIII", 6, 0, 72, 0) + struct.pack(
        "<QQ", int.from_bytes(data[454:458], "little") * 512, 0
    )
    element += struct.pack("<II", 0, 1) + data[0x1B8:0x1BC]
    system_, parent = "{11111111-2222-4333-8444-555555555555}", "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"

    def one(kind: int, elements: dict[str, tuple[int, bytes]]) -> Keys:
        below = {number: Keys({"Element": value}) for number, value in elements.items()}
        return Keys({}, {"Description": Keys({"Type": (4, struct.pack("<I", kind))}), "Elements": Keys({}, below)})

    def text(value: str) -> bytes:
        return f"{value}\0".encode("utf-16-le")

    ending = "exe" if firmware == "bios" else "efi"
    elements = {
        "11000001": (3, element.ljust(88, b"\0")),
        "12000002": (1, text(f"\\WINDOWS\\system32\\winload.{ending}")),
        "12000004": (1, text("made by hand")),
        "14000006": (7, text(parent) + bytes(2)),
        "21000001": (3, element.ljust(88, b"\0")),
    }
    objects = {
        "{9dea862c-5cdd-4e70-acc1-f32b344d4795}": one(0x10100002, {"23000003": (1, text(system_))}),
        system_: one(0x10200003, elements),
        parent: one(0x20200003, {}),
        **{f"{{{n:08x}-0000-4000-8000-000000000000}}": one(0x20100000, {}) for n in range(9)},
    }
    return hive_of(Keys({}, {"Description": Keys(), "Objects": Keys({}, objects)}), random.Random(seed), minor=3)


@pytest.mark.parametrize(("firmware", "seed"), [("bios", 1), ("uefi-x64", 3)])
def test_the_stand_ins_read_stores_of_another_maker(firmware: str, seed: int, wim: Path, tmp_path: Path) -> None:
    drive, store = tmp_path / "drive.img", tmp_path / "BCD"
    run("build", wim, "--purpose", "portable", "--onto", drive, "--yes")
    store.write_bytes(store_by_hand(drive, firmware, seed))
    start_at = int.from_bytes(drive.read_bytes()[470:474], "little") * 512
    place = "boot/BCD" if firmware == "bios" else "EFI/Microsoft/Boot/BCD"
    subprocess.run([need("mcopy"), "-o", "-i", f"{drive}@@{start_at}", store, f"::{place}"], check=True)
    serial = start(drive, firmware).serial
    assert "SYSTEM made by hand" in serial
    assert "TIDEWELL SYSTEM DONE" in serial, serial[-2000:]
    codes = {finding.code for finding in check_file(drive).findings}
    assert not any(code.startswith("start.store") for code in codes)
