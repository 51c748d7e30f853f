"""The boot code on awkward firmware.

Old reads, odd geometry, failing drives, and a clear line for every way to fail.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from unicorn.x86_const import UC_X86_REG_DL

from lucky_keystone.boot.machine import LOADER, EmulatedMachine
from lucky_keystone.common.progress import silent
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.rehearsal.rehearse import rehearse_bios
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.fat32.read import Entry, Fat32Volume

from ..helpers.drives import build_drive
from .awkward import AWKWARD, START, Bytes, patched


@pytest.fixture(scope="module", params=[512, 4096, 32768], ids=lambda size: f"clusters of {size}")
def drive(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> bytes:
    """The front of a drive with a loader of 500 KiB, up to the last byte in use."""
    folder = tmp_path_factory.mktemp("boot")
    write_disc(folder / "disc.iso", installer(loader_size=500 << 10, hollow_count=0, files=4), LABEL, MOMENT, silent)
    size = {512: None, 4096: 300 << 20, 32768: 3 << 30}[request.param]
    built = build_drive(
        open_source(folder / "disc.iso"), folder / "drive.img", Choices(cluster=request.param), size=size
    )
    with ImageFile(built.path) as image:
        last = built.image.regions[-1]
        return image.read_at(0, last.offset + last.size)


def loader_of(drive: bytes) -> tuple[Entry, Fat32Volume, bytes]:
    volume = Fat32Volume(Bytes(drive), START * 512, 1 << 42)
    entry = volume.find("bootmgr")
    assert entry is not None
    return entry, volume, b"".join(volume.pieces(entry))


@pytest.mark.parametrize("firmware", AWKWARD, ids=str)
def test_the_loader_is_entered_as_real_ones_expect(firmware: dict[str, int], drive: bytes) -> None:
    machine = EmulatedMachine(Bytes(drive), **firmware).start()  # type: ignore[arg-type]

    assert machine.entered, machine.said
    _, _, loader = loader_of(drive)
    assert machine.memory(LOADER, len(loader)) == loader
    assert machine.memory(0x7C00, 512) == drive[START * 512 : START * 512 + 512]
    assert machine.get(UC_X86_REG_DL) == firmware.get("drive_number", 0x80)
    ways = {how for how, _, _ in machine.reads}
    assert ("02" in ways) == (not firmware.get("extended_reads", True) or bool(firmware.get("extended_reads_fail")))


def broken(drive: bytes, how: str) -> EmulatedMachine:
    entry, volume, _ = loader_of(drive)
    root = drive.index(b"BOOTMGR    ", volume.cluster_offset(2))
    fat = volume.fat_offset() + 4 * entry.first_cluster
    match how:
        case "no active partition":
            return EmulatedMachine(Bytes(patched(drive, (446, b"\0"))))
        case "two active partitions":
            return EmulatedMachine(Bytes(patched(drive, (462, drive[446:462]))))
        case "no boot sector":
            return EmulatedMachine(Bytes(patched(drive, (START * 512 + 510, b"\0\0"))))
        case "unreadable drive":
            return EmulatedMachine(Bytes(drive), fails_from=1)
        case "unreadable volume":
            return EmulatedMachine(Bytes(drive), fails_from=START + 20)
        case "no further code":
            return EmulatedMachine(Bytes(patched(drive, ((START + 12) * 512, bytes(1024)))))
        case "loader renamed":
            return EmulatedMachine(Bytes(patched(drive, (root, b"BOOTMGX"))))
        case "loader is a folder":
            return EmulatedMachine(Bytes(patched(drive, (root + 11, b"\x10"))))
        case "loader is empty":
            return EmulatedMachine(Bytes(patched(drive, (root + 28, bytes(4)))))
        case "loader too large":
            return EmulatedMachine(Bytes(drive), low_memory_kib=512)
        case "chain ends early":
            return EmulatedMachine(Bytes(patched(drive, (fat, b"\xff\xff\xff\x0f"))))
        case "chain leads to a free cluster":
            return EmulatedMachine(Bytes(patched(drive, (fat, bytes(4)))))
        case "root runs in a loop":
            names = bytearray(drive)
            for at in range(volume.cluster_offset(2), volume.cluster_offset(2) + volume.cluster_size, 32):
                names[at] = 0xE5
            return EmulatedMachine(Bytes(patched(bytes(names), (volume.fat_offset() + 8, b"\x02\0\0\0"))))
    raise AssertionError(how)


@pytest.mark.parametrize(
    ("how", "words"),
    [
        ("no active partition", "not one active partition"),
        ("two active partitions", "not one active partition"),
        ("no boot sector", "no boot sector"),
        ("unreadable drive", "cannot read drive"),
        ("unreadable volume", "cannot read the drive"),
        ("no further code", "boot code is missing"),
        ("loader renamed", "BOOTMGR is not in the root folder"),
        ("loader is a folder", "BOOTMGR is not in the root folder"),
        ("loader is empty", "BOOTMGR is damaged"),
        ("loader too large", "too large for this machine's low memory"),
        ("chain ends early", "BOOTMGR is damaged"),
        ("chain leads to a free cluster", "BOOTMGR is damaged"),
        ("root runs in a loop", "BOOTMGR is not in the root folder"),
    ],
)
def test_every_failure_ends_in_one_line_and_a_wait_for_a_key(how: str, words: str, drive: bytes) -> None:
    if how.startswith("chain") and loader_of(drive)[0].runs_clusters() < 2:
        pytest.skip("the loader has one cluster")
    machine = broken(drive, how).start()

    assert machine.waiting, machine.said
    assert not machine.entered
    assert machine.said.strip().count("\n") == 0
    assert machine.said.startswith("\r\nLucky Keystone: ")
    assert words in machine.said
    assert machine.said.rstrip().endswith("Press a key.")


def test_a_fragmented_loader_is_loaded_along_its_chain(drive: bytes, tmp_path: Path) -> None:
    """Its clusters are moved behind everything in use, in reverse order: no two stand in a row."""
    entry, volume, loader = loader_of(drive)
    data = bytearray(drive.ljust(len(drive) + 2 * entry.runs_clusters() * volume.cluster_size, b"\0"))
    free = volume.cluster_at(len(drive)) + 1
    old = [run.first + number for run in entry.runs for number in range(run.count)]
    new = [free + 2 * (len(old) - number) for number in range(len(old))]
    data.extend(bytes(volume.cluster_offset(max(new) + 1) - min(len(data), volume.cluster_offset(max(new) + 1))))
    for number, (source, target) in enumerate(zip(old, new, strict=True)):
        at, to = volume.cluster_offset(source), volume.cluster_offset(target)
        data[to : to + volume.cluster_size] = data[at : at + volume.cluster_size]
        data[at : at + volume.cluster_size] = b"\xee" * volume.cluster_size
        following = new[number + 1] if number + 1 < len(new) else 0x0FFFFFFF
        data[volume.fat_offset() + 4 * target : volume.fat_offset() + 4 * target + 4] = following.to_bytes(4, "little")
    root = data.index(b"BOOTMGR    ", volume.cluster_offset(2))
    data[root + 20 : root + 22] = (new[0] >> 16).to_bytes(2, "little")
    data[root + 26 : root + 28] = (new[0] & 0xFFFF).to_bytes(2, "little")
    machine = EmulatedMachine(Bytes(data)).start()

    assert machine.entered, machine.said
    assert machine.memory(LOADER, len(loader)) == loader


def test_a_rehearsal_tells_each_step_and_the_end(drive: bytes) -> None:
    found = rehearse_bios(Bytes(drive, 1 << 42), 512)
    assert (found.starts, found.sectors_read) == (
        True,
        sum(count for _, _, count in EmulatedMachine(Bytes(drive)).start().reads),
    )
    told = " ".join(found.steps)
    places = [
        told.index(word)
        for word in ("Sector 0", "boot sector", "further boot code", "the root folder", "reads BOOTMGR")
    ]
    assert places == sorted(places)
    assert "starts BOOTMGR at 2000:0000: 512,000 bytes, whole" in found.end


WAYS_TO_END = [
    ((446, b"\0"), "not one active partition"),
    ((510, b"\0\0"), "does not regard the drive as bootable"),
    ((0, b"\xeb\xfe"), "runs forever"),
    ((0, b"\xcd\x77"), "failed: it called INT 77h"),
    ((0, b"\xb4\x42\xb2\x99\xcd\x13"), "failed: it asked for drive 99h"),
    ((0, b"\xea\x00\x00\x00\x20"), "is not BOOTMGR as it is on the drive"),
]


@pytest.mark.parametrize(("patch", "told"), WAYS_TO_END, ids=[told for _, told in WAYS_TO_END])
def test_a_rehearsal_says_where_it_ends_and_why(patch: tuple[int, bytes], told: str, drive: bytes) -> None:
    found = rehearse_bios(Bytes(patched(drive, patch), 1 << 42), 512)
    assert not found.starts
    assert told in " ".join((*found.steps, found.end))
