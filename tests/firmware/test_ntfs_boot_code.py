"""The NTFS record: on awkward firmware, through deep root folders, for a scattered loader, and each way to fail."""

from __future__ import annotations

from pathlib import Path

import pytest
from unicorn.x86_const import UC_X86_REG_DL

from lucky_keystone.boot.machine import LOADER, EmulatedMachine
from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.rehearsal.rehearse import rehearse_bios
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.ntfs.read import NtfsVolume
from lucky_keystone.volumes.ntfs.records import DATA, INDEX_ALLOCATION

from ..helpers.drives import MemoryDrive
from ..helpers.judges import mounted
from .awkward import AWKWARD, START, Bytes, patched

_ROOT_FILES = 900  # with these the root's index has three levels


@pytest.fixture(scope="module", params=[512, 4096, 65536], ids=lambda size: f"clusters of {size}")
def whole(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> MemoryDrive:
    folder = tmp_path_factory.mktemp("boot")
    write_disc(folder / "disc.iso", installer(loader_size=500 << 10, hollow_count=0, files=4), LABEL, MOMENT, silent)
    (folder / "over").mkdir()
    for number in range(_ROOT_FILES):
        (folder / "over" / f"{chr(97 + number % 26)} timetable of pier {number} and all that.txt").write_bytes(b"")
    choices = Choices(file_system="ntfs", firmware="bios", cluster=request.param)
    image = compose_drive(
        make_plan(open_source(folder / "disc.iso", [folder / "over"]), choices, DriveShape("counter", 48 << 20))
    )
    made = MemoryDrive(image.size)
    build(image, made, silent)
    return made


@pytest.fixture
def drive(whole: MemoryDrive) -> bytes:
    return bytes(whole.data)


def volume_of(drive: bytes) -> NtfsVolume:
    return NtfsVolume(Bytes(drive), START * 512, len(drive) - START * 512)


def loader_of(drive: bytes) -> bytes:
    volume = volume_of(drive)
    entry = volume.find("bootmgr")
    assert entry is not None
    return b"".join(volume.pieces(entry))


@pytest.mark.parametrize("firmware", AWKWARD, ids=str)
def test_the_loader_is_entered_as_real_ones_expect(firmware: dict[str, int], drive: bytes) -> None:
    machine = EmulatedMachine(Bytes(drive), **firmware).start()  # type: ignore[arg-type]
    assert machine.entered, machine.said
    loader = loader_of(drive)
    assert machine.memory(LOADER, len(loader)) == loader
    assert machine.memory(0x7C00, 512) == drive[START * 512 : START * 512 + 512]
    assert machine.get(UC_X86_REG_DL) == firmware.get("drive_number", 0x80)


def test_a_loader_replaced_and_scattered_by_another_system(whole: MemoryDrive, tmp_path: Path) -> None:
    """The volume is filled with small files, every second one removed, and BOOTMGR written again into the holes."""
    used = MemoryDrive(whole.size)
    used.data[:] = whole.data
    cluster = volume_of(bytes(whole.data)).cluster_size
    size = max(cluster, 8192)
    fill = "cp bootmgr /tmp/keep.$$; n=0; "
    fill += f"while head -c {size} /dev/zero > fill.$n 2>/dev/null; do n=$((n+1)); done"
    scatter = "i=0; while [ $i -le $n ]; do rm -f fill.$i; i=$((i+2)); done; "
    scatter += "rm bootmgr; sync; cp /tmp/keep.$$ bootmgr; rm -f fill.* /tmp/keep.$$"
    mounted(used, tmp_path, ["sh", "-c", f"{fill}; {scatter}"])
    drive = bytes(used.data)
    entry = volume_of(drive).find("bootmgr")
    assert entry is not None
    assert len(entry.runs) > 3  # how many is the driver's choice
    machine = EmulatedMachine(Bytes(drive)).start()
    assert machine.entered, machine.said
    assert machine.memory(LOADER, 500 << 10) == loader_of(bytes(whole.data))


def broken(drive: bytes, how: str) -> EmulatedMachine:
    volume = volume_of(drive)
    mft = volume.cluster_offset(volume.boot.mft_cluster)
    entry = volume.find("bootmgr")
    assert entry is not None
    record = mft + entry.number * 1024
    data = drive.index(DATA.to_bytes(4, "little"), record + 56)
    root = mft + 5 * 1024
    index = volume.file(5).stream("$I30", INDEX_ALLOCATION)
    assert index is not None
    blocks = [volume.cluster_offset(run.first) for run in index.runs]
    match how:
        case "no further code":
            return EmulatedMachine(Bytes(patched(drive, ((START + 1) * 512, bytes(512)))))
        case "unreadable further code":
            return EmulatedMachine(Bytes(drive), fails_from=START + 1)
        case "unreadable file table":
            return EmulatedMachine(Bytes(drive), fails_from=START + 16)
        case "file table damaged":
            return EmulatedMachine(Bytes(patched(drive, (mft, b"BAAD"))))
        case "root written in part":
            return EmulatedMachine(Bytes(patched(drive, (root + 510, b"\x99\x99"))))
        case "index damaged":
            return EmulatedMachine(
                Bytes(patched(drive, *((blocks[0] + at, b"BAAD") for at in range(0, index.size, 4096))))
            )
        case "index runs in a loop":
            return EmulatedMachine(Bytes(circling(drive, blocks[0], index.size)))
        case "loader renamed":
            return EmulatedMachine(Bytes(drive.replace("bootmgr".encode("utf-16-le"), "bootmgx".encode("utf-16-le"))))
        case "loader is a folder":
            return EmulatedMachine(Bytes(patched(drive, (record + 22, b"\x03"))))
        case "loader is not in use":
            return EmulatedMachine(Bytes(patched(drive, (record + 22, b"\x00"))))
        case "loader is sparse":
            return EmulatedMachine(Bytes(patched(drive, (data + 12, b"\x00\x80"))))
        case "loader is empty":
            return EmulatedMachine(Bytes(patched(drive, (data + 48, bytes(8)))))
        case "loader too large":
            return EmulatedMachine(Bytes(drive), low_memory_kib=512)
        case "runs end early":
            return EmulatedMachine(Bytes(patched(drive, (data + 64, b"\x00"))))
    raise AssertionError(how)


def circling(drive: bytes, first: int, size: int) -> bytes:
    """Let every index block be entered again from its last entry, wherever BOOTMGR would stand."""
    data = bytearray(drive)
    for at in range(first, first + size, 4096):
        vcn = data[at + 16 : at + 24]
        head = (16).to_bytes(4, "little") + (40).to_bytes(4, "little")
        data[at + 24 : at + 32] = head
        data[at + 40 : at + 64] = bytes(8) + (24).to_bytes(2, "little") + bytes(2) + b"\x03\0\0\0" + vcn
        data[at + 0x28 : at + 0x40] = data[at + 40 : at + 64]
        # The update sequence would lie where the entry is now: it goes further back.
        data[at + 4 : at + 6] = (0x60).to_bytes(2, "little")
        data[at + 0x60 : at + 0x72] = b"\1\0" * 9
    return bytes(data)


FAILURES = [
    ("no further code", "boot code is missing"),
    ("unreadable further code", "cannot read the drive"),
    ("unreadable file table", "file table cannot be read"),
    ("file table damaged", "file table cannot be read"),
    ("root written in part", "root folder cannot be read"),
    ("index damaged", "root folder cannot be read"),
    ("index runs in a loop", "root folder cannot be read"),
    ("loader renamed", "BOOTMGR is not in the root folder"),
    ("loader is a folder", "BOOTMGR is not in the root folder"),
    ("loader is not in use", "BOOTMGR is damaged"),
    ("loader is sparse", "compressed or too scattered"),
    ("loader is empty", "BOOTMGR is damaged"),
    ("loader too large", "too large for this machine's low memory"),
    ("runs end early", "BOOTMGR is damaged"),
]


@pytest.mark.parametrize(("how", "words"), FAILURES)
def test_every_failure_ends_in_one_line_and_a_wait_for_a_key(how: str, words: str, drive: bytes) -> None:
    machine = broken(drive, how).start()
    assert machine.waiting, machine.said
    assert not machine.entered
    assert machine.said.startswith("\r\nLucky Keystone: ")
    assert machine.said.strip().count("\n") == 0
    assert words in machine.said
    assert machine.said.rstrip().endswith("Press a key.")


def test_a_rehearsal_tells_each_step_and_the_end(drive: bytes) -> None:
    found = rehearse_bios(Bytes(drive), 512)
    assert found.starts
    told = " ".join(found.steps)
    words = (
        "Sector 0",
        "boot sector",
        "further boot code in $Boot",
        "the MFT",
        "the root folder",
        "reads BOOTMGR",
    )
    places = [told.index(word) for word in words]
    assert places == sorted(places)
