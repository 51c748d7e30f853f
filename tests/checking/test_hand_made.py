"""Drives made by hand with the system's own tools, and what keeps each of them from starting."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.boot.records import FAT32_RECORD, mbr_code
from lucky_keystone.checking.check import check_drive
from lucky_keystone.checking.report import Report
from lucky_keystone.families.choices import Choices
from lucky_keystone.progress import silent
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tables.mbr import chs

from ..helpers.drives import MemoryDrive, build_drive, extract, small_disc
from ..helpers.judges import need

MIB = 1 << 20
START = MIB
SIZE = 64 * MIB
SECTORS = (SIZE - START) // 512 - 4096  # of the volume on an MBR: room is left for a second partition
Change = Callable[[MemoryDrive, Path], None]


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("hand")
    return extract(small_disc(folder / "disc.iso"), folder / "files")


def call(*words: object, typed: str = "") -> None:
    subprocess.run([str(word) for word in words], input=typed.encode(), check=True, capture_output=True)


def made(folder: Path, files: Path, table: str) -> Path:
    """Partition, format and fill a drive as one does by hand."""
    image = folder / f"{table}.img"
    with image.open("wb") as stream:
        stream.truncate(SIZE)
    if table == "mbr":
        call(need("sfdisk"), "-q", image, typed=f"label: dos\n2048,{SECTORS},c,*\n")
    else:
        call(need("sgdisk"), "-n", "1:2048:0", "-t", "1:0700", image)
    sectors = SECTORS if table == "mbr" else (SIZE - START) // 512 - 34
    call(need("mkfs.fat"), "-F", "32", "-s", "1", "-h", "2048", "-g", "255/63", "--offset", "2048", image, sectors // 2)
    call(need("mcopy"), "-s", "-i", f"{image}@@{START}", *sorted(files.iterdir()), "::")
    return image


@pytest.fixture(scope="module")
def drives(tmp_path_factory: pytest.TempPathFactory, files: Path) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("made")
    found = {table: made(folder, files, table).read_bytes() for table in ("mbr", "gpt")}
    source = open_source(small_disc(folder / "disc.iso"))
    for name, choices in (("ntfs", Choices(file_system="ntfs", firmware="bios")), ("both", Choices())):
        drive = bytearray(build_drive(source, folder / f"{name}.img", choices).path.read_bytes())
        if name == "ntfs":
            drive[512:START] = bytes(START - 512)  # by hand there is no manifest
        found[name] = bytes(drive)
    # The boot code of a start from the BIOS, put there by hand as well.
    ready = bytearray(found["mbr"])
    ready[: len(mbr_code())] = mbr_code()
    for sector in (0, 6):
        place = START + 512 * sector
        ready[place : place + 3] = FAT32_RECORD.first_sector[:3]
        ready[place + 90 : place + 512] = FAT32_RECORD.first_sector[90:512]
    further = START + FAT32_RECORD.further_offset
    ready[further : further + len(FAT32_RECORD.further_code)] = FAT32_RECORD.further_code
    found["ready"] = bytes(ready)
    return found


def put(offset: int, data: bytes) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        drive.data[offset : offset + len(data)] = data

    return change


def both(offset: int, data: bytes) -> Change:
    """In FAT32's boot sector and its copy."""

    def change(drive: MemoryDrive, files: Path) -> None:
        for place in (START, START + 6 * 512):
            drive.data[place + offset : place + offset + len(data)] = data

    return change


def mtools(*commands: list[str]) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        image = files.parent / "changed.img"
        image.write_bytes(drive.data)
        for name, *rest in commands:
            call(need(name), "-i", f"{image}@@{START}", *(word.format(files=files) for word in rest))
        drive.data[:] = image.read_bytes()

    return change


def nothing(drive: MemoryDrive, files: Path) -> None:
    pass


def lost_boot_sector(drive: MemoryDrive, files: Path) -> None:
    drive.data[START : START + 512] = bytes(512)


def stale_gpt(drive: MemoryDrive, files: Path) -> None:
    image = files.parent / "gpt.img"
    with image.open("wb") as stream:
        stream.truncate(SIZE)
    call(need("sgdisk"), "-n", "1:2048:0", image)
    drive.data[512 : 34 * 512] = image.read_bytes()[512 : 34 * 512]


def on_a_larger_drive(drive: MemoryDrive, files: Path) -> None:
    drive.data += bytes(16 * MIB)
    drive.size = len(drive.data)


def second_partition(drive: MemoryDrive, files: Path) -> None:
    """The last MiB as an active partition of its own, of a type that nobody looks into."""
    first, count = SIZE // 512 - 2048, 2048
    numbers = first.to_bytes(4, "little") + count.to_bytes(4, "little")
    drive.data[462:478] = b"\x80" + chs(first) + b"\x83" + chs(first + count - 1) + numbers


def several(*changes: Change) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        for one in changes:
            one(drive, files)

    return change


REMOVABLE, INSTALLED = "::EFI/BOOT/BOOTX64.EFI", "::EFI/MICROSOFT/BOOT/BOOTMGFW.EFI"
LOST_LOADER = mtools(
    ["mcopy", REMOVABLE, "{files}/../moved"], ["mcopy", "{files}/../moved", INSTALLED], ["mdel", REMOVABLE]
)
FOREIGN = both(0x5A, b"\x0e\x1fThis is not a bootable disk.".ljust(420, b"\0"))
NO_MBR_CODE, NO_ACTIVE = put(0, bytes(440)), put(446, b"\0")
CASES: dict[str, tuple[str, Change, list[tuple[str, str]], int]] = {
    "for UEFI alone, MBR": ("mbr", nothing, [("start", "start.foreign-code")], 0),
    "for UEFI alone, GPT": ("gpt", nothing, [], 0),
    "for both": ("ready", nothing, [], 0),
    "no active mark": ("ready", NO_ACTIVE, [("start", "start.no-active")], 0),
    "no MBR code": ("ready", NO_MBR_CODE, [("start", "start.no-mbr-code")], 0),
    "foreign code": ("ready", FOREIGN, [("start", "start.foreign-code")], 0),
    "geometry": ("ready", both(24, bytes((32, 0, 64, 0))), [("start", "volume.geometry")], 0),
    "hidden sectors": ("ready", both(28, bytes(4)), [("fault", "volume.hidden-sectors")], 1),
    "boot sector and copy differ": ("ready", put(START + 24, b"\1"), [("fault", "fat32.boot-copy")], 1),
    "lost loader": ("ready", LOST_LOADER, [("start", "start.no-removable-loader")], 0),
    "lost loader, and UEFI alone": (
        "mbr",
        several(LOST_LOADER, NO_MBR_CODE),
        [("fault", "start.no-removable-loader"), ("fault", "start.foreign-code"), ("start", "start.nothing")],
        1,
    ),
    "lost BOOTMGR": ("ready", mtools(["mdel", "::bootmgr"]), [], 0),
    "empty BOOTMGR": (
        "ready",
        mtools(["mdel", "::bootmgr"], ["mcopy", "/dev/null", "::bootmgr"]),
        [("fault", "start.bootmgr")],
        1,
    ),
    "nothing on it": (
        "ready",
        mtools(["mdeltree", "::bootmgr", "::EFI"]),
        [("start", "start.nothing")],
        1,
    ),
    "stale GPT": ("ready", stale_gpt, [("start", "gpt.stale")], 0),
    "FAT32 boot sector lost": ("ready", lost_boot_sector, [("fault", "volume.boot-sector")], 1),
    "no protective record": ("gpt", put(0, bytes(512)), [("fault", "gpt.no-protective")], 1),
    "MBR emptied over a GPT": ("gpt", put(446, bytes(64)), [("fault", "gpt.no-protective")], 1),
    "primary GPT lost": ("gpt", put(512, bytes(512)), [("fault", "gpt.primary")], 1),
    "copy of the GPT lost": ("gpt", put(SIZE - 512, bytes(512)), [("fault", "gpt.backup")], 1),
    "small GPT image on a larger drive": ("gpt", on_a_larger_drive, [("note", "gpt.copy-not-at-end")], 0),
    "NTFS, by hand": ("ntfs", nothing, [("start", "start.no-crossing")], 0),
    "NTFS boot sector lost": ("ntfs", lost_boot_sector, [("fault", "volume.boot-sector")], 1),
    "NTFS, foreign code": (
        "ntfs",
        several(put(START + 0x54, b"not bootable".ljust(426, b"\0")), put(START + 512, bytes(8192 - 512))),
        [("fault", "start.foreign-code")],
        1,
    ),
    "NTFS, no active mark": ("ntfs", NO_ACTIVE, [("fault", "start.no-active")], 1),
    "built for both, no active mark": ("both", NO_ACTIVE, [("fault", "start.no-active")], 1),
    "built for both, no MBR code": ("both", NO_MBR_CODE, [("fault", "start.no-mbr-code")], 1),
    "another partition active": (
        "ready",
        several(NO_ACTIVE, second_partition),
        [("start", "start.wrong-active")],
        0,
    ),
    "two active": (
        "ready",
        second_partition,
        [("fault", "table.several-active")],
        1,
    ),
}


def checked(drives: dict[str, bytes], files: Path, case: str, firmware: str = "") -> Report:
    base, change, _, _ = CASES[case]
    drive = MemoryDrive(len(drives[base]))
    drive.data[:] = drives[base]
    change(drive, files)
    return check_drive(drive, silent, firmware=firmware)


@pytest.mark.parametrize("case", CASES)
def test_each_cause_has_its_finding(case: str, drives: dict[str, bytes], files: Path) -> None:
    _, _, expected, code = CASES[case]
    report = checked(drives, files, case)
    found = [(finding.level, str(finding.code)) for finding in report.findings]
    assert set(expected) <= set(found), report.findings
    assert report.exit_code == code
    assert all(finding.advice for finding in report.findings if finding.level in ("fault", "start"))
    if not expected:
        assert [pair for pair in found if pair[0] in ("fault", "start")] == []


@pytest.mark.parametrize(
    ("case", "firmware", "expected"),
    [
        ("no active mark", "bios", ("fault", "start.no-active")),
        ("no active mark", "uefi", ("start", "start.no-active")),
        ("lost loader", "both", ("fault", "start.no-removable-loader")),
        ("lost BOOTMGR", "bios", ("fault", "start.wanted")),
        ("for UEFI alone, GPT", "both", ("fault", "start.wanted")),
        ("for UEFI alone, GPT", "uefi", None),
    ],
)
def test_what_is_asked_for_decides_what_is_a_fault(
    case: str, firmware: str, expected: tuple[str, str] | None, drives: dict[str, bytes], files: Path
) -> None:
    report = checked(drives, files, case, firmware)
    found = [(finding.level, str(finding.code)) for finding in report.findings]
    assert expected in found if expected else found == []
    assert report.exit_code == (1 if expected and expected[0] == "fault" else 0)


def test_a_loader_for_other_machines_under_the_right_name(drives: dict[str, bytes], files: Path) -> None:
    loader = bytearray((files / "efi/boot/bootx64.efi").read_bytes())
    place = int.from_bytes(loader[60:64], "little") + 4
    assert loader[place : place + 2] == b"\x64\x86"
    drive = MemoryDrive(len(drives["mbr"]))
    drive.data[:] = drives["mbr"].replace(bytes(loader[:place]) + b"\x64\x86", bytes(loader[:place]) + b"\x64\xaa")
    found = [(finding.level, str(finding.code)) for finding in check_drive(drive, silent).findings]
    assert ("fault", "start.loader-architecture") in found  # nothing else starts it
