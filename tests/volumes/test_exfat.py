"""exFAT volumes: the system's checker, an independent reader, volumes of the system's own maker, and damage."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.tree import Folder
from lucky_keystone.drives.contents import describe, inventories
from lucky_keystone.mending.make import make_mending
from lucky_keystone.volumes.exfat.kind import EXFAT
from lucky_keystone.volumes.exfat.names import compressed_table, folded, read_table
from lucky_keystone.volumes.exfat.records import BootSector, name_hash, set_checksum
from lucky_keystone.volumes.ntfs.upcase import upcase

from ..helpers.drives import MemoryDrive, small_disc
from ..helpers.exfat import START, exfat_drive, volume_file
from ..helpers.judges import need, read_by_others
from ..helpers.program import run, run_json
from ..helpers.trees import file, files_of, folder, trees

KIB, MIB, GIB = 1 << 10, 1 << 20, 1 << 30


def pier() -> Folder:
    long = "Fahrplan der Fähre nach 東京 " * 8 + "!"
    many = (file(f"{n:03} Zettel.txt", bytes((n,)) * n * 40) for n in range(200))
    return folder("", file("empty"), file(long), file("log.txt", b"09:26\n" * 9000), folder("deck", *many), folder("e"))


def clean(volume: Path) -> str:
    done = subprocess.run([need("fsck.exfat"), "-n", "-v", volume], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "clean" in done.stdout, done.stdout
    return done.stdout


def ours(drive: MemoryDrive) -> dict[str, bytes]:
    volume = EXFAT.open(drive, START, drive.size - START)
    entries = list(volume.walk())
    assert [entry.faults for entry in entries if entry.faults] == []
    return {entry.path: b"".join(volume.pieces(entry)) for entry in entries if not entry.is_folder}


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(trees())
def test_any_tree_comes_back_through_two_readers(tree: Folder) -> None:
    drive, _ = exfat_drive(tree, cluster=512)
    assert ours(drive) == files_of(tree)
    assert read_by_others(drive, START) == files_of(tree)


@pytest.mark.parametrize(
    ("size", "cluster", "sector"),
    [(None, 512, 512), (None, 64 * KIB, 512), (70 * MIB, 4096, 4096), (300 * MIB, 32 * KIB, 512), (None, MIB, 512)],
)
def test_the_systems_checker_finds_it_clean(size: int | None, cluster: int, sector: int, tmp_path: Path) -> None:
    drive, planned = exfat_drive(pier(), size=size, cluster=cluster, sector=sector)
    told = clean(volume_file(drive, planned, tmp_path))
    assert re.search(r"directories 3, files 203", told), told
    assert ours(drive) == files_of(pier())
    report = check_drive(drive, silent, sector_size=sector)
    assert [found.code.value for found in report.findings] == ["start.nothing"]
    assert report.volumes[0].free == planned.free
    for boundary in (planned.geometry.fat_offset, planned.geometry.heap):  # type: ignore[attr-defined]
        assert (START + boundary * sector) % (128 * KIB) == 0


@pytest.mark.parametrize(
    "options", [["-c", "512"], ["-c", "1M", "-b", "4M"], ["-c", "256K", "-L", "Überfahrt"]], ids=str
)
def test_volumes_of_another_maker_are_read(options: list[str], tmp_path: Path) -> None:
    path = tmp_path / "volume.img"
    with path.open("wb") as out:
        out.truncate(80 * MIB)
    subprocess.run([need("mkfs.exfat"), *options, path], check=True, capture_output=True)
    drive, _ = exfat_drive(folder(""), size=80 * MIB)
    drive.data[START : START + 80 * MIB] = path.read_bytes()
    report = check_drive(drive, silent, sector_size=512)
    faults = [found for found in report.findings if found.level == "fault"]
    assert [found.code.value for found in faults] == []
    assert EXFAT.sector_size_at(drive, START) == 512
    assert report.volumes[0].label == (options[3] if "-L" in options else "")
    assert "exFAT" in describe(drive, 512)


def at_volume(at: int, data: bytes) -> Callable[[MemoryDrive, object], None]:
    def change(drive: MemoryDrive, _: object) -> None:
        drive.data[START + at : START + at + len(data)] = data

    return change


def in_root(type_: int, at: int, data: bytes) -> Callable[[MemoryDrive, object], None]:
    """Change the first entry of a type."""

    def change(drive: MemoryDrive, _: object) -> None:
        volume = EXFAT.open(drive, START, drive.size - START)
        start = volume.cluster_offset(volume.boot.FirstClusterOfRootDirectory)
        place = next(p for p in range(start, start + 64 * KIB, 32) if drive.data[p] == type_) + at
        drive.data[place : place + len(data)] = data

    return change


def in_bitmap(cluster: int) -> Callable[[MemoryDrive, object], None]:
    """Turn the bit of a cluster, counted from the heap's begin."""

    def change(drive: MemoryDrive, _: object) -> None:
        volume = EXFAT.open(drive, START, drive.size - START)
        drive.data[volume.cluster_offset(2) + cluster // 8] ^= 1 << cluster % 8

    return change


SERIAL, FLAGS = BootSector.offset_of("VolumeSerialNumber"), BootSector.offset_of("VolumeFlags")
DAMAGE = {
    "boot sector lost": (at_volume(0, bytes(512)), ["volume.boot-sector"], True),
    "a field of it": (at_volume(BootSector.offset_of("FatOffset"), bytes(4)), ["volume.boot-sector"], True),
    "its serial number": (at_volume(SERIAL, b"xxxx"), ["exfat.boot-copy", "exfat.boot-sum"], True),
    "the copy": (at_volume(12 * 512 + SERIAL, b"xxxx"), ["exfat.boot-copy"], True),
    "the sum": (at_volume(11 * 512, b"xxxx"), ["exfat.boot-copy", "exfat.boot-sum"], True),
    "being written to": (at_volume(FLAGS, b"\x02\0"), ["volume.mounted"], False),
    "the drive failed": (at_volume(FLAGS, b"\x04\0"), ["exfat.media-failure"], False),
    "a lost cluster": (in_bitmap(3000), ["volume.lost-clusters"], False),
    "a file's cluster is free": (in_bitmap(8), ["exfat.bitmap"], False),
    "no bitmap": (in_root(0x81, 0, b"\x01"), ["exfat.bitmap", "volume.lost-clusters"], False),
    "the up-case table's sum": (in_root(0x82, 4, b"xxxx"), ["exfat.upcase"], False),
    "the sum of a set": (in_root(0x85, 2, b"xx"), ["volume.entries"], False),
    "the length of a name": (in_root(0xC0, 3, b"\x63"), ["volume.entries"], False),
    "a chain that leaves the volume": (in_root(0xC0, 20, b"\xff\xff\xff\x0f"), ["volume.entries"], False),
    "an unknown entry": (in_root(0x83, 0, b"\x84"), ["volume.entries"], False),
}


@pytest.mark.parametrize("case", DAMAGE)
def test_damage_is_named_and_mended_where_a_copy_is_whole(case: str) -> None:
    change, codes, is_mended = DAMAGE[case]
    drive, _ = exfat_drive(pier(), size=20 * MIB)
    sound = bytes(drive.data)
    change(drive, None)
    report = check_drive(drive, silent)
    found = {each.code.value for each in report.findings} - {"start.nothing"}
    assert set(codes) - {"volume.lost-clusters"} <= found <= {*codes, "volume.lost-clusters"}, report.findings
    mending = make_mending(drive, 512, silent)
    assert bool(mending.remedies) == is_mended
    for change_ in mending.changes:
        drive.data[change_.offset : change_.offset + len(change_.data)] = change_.data
    if is_mended:
        assert bytes(drive.data) == sound


def test_literal_sums_and_table() -> None:
    """By hand: two units, 'a' folded; and our table folds every name as it does when it is written out."""
    assert name_hash("A".encode("utf-16-le")) == (0x41 >> 1 | 0x8000)
    assert set_checksum(bytes((0x85, 0, 9, 9, 1))) == ((0x85 >> 1 | 0x8000) >> 1) + 1
    table = read_table(compressed_table())
    assert table is not None
    for name in ("Fähre 12 ÿ ǆ ﬀ", "ΔΟΚΙΜΉ ς", "東京 🚢", "ǅ"):
        assert folded(name, table) == upcase(name).encode("utf-16-le")
    assert read_table(b"\xff\xff\xff\xff") is None


@pytest.mark.parametrize(("label", "cluster"), [("123456789012", 4096), ("a/b", 4096), ("A", 3000), ("A", 64 * MIB)])
def test_what_it_does_not_have_is_refused(label: str, cluster: int, tmp_path: Path) -> None:
    with (tmp_path / "stick.img").open("wb") as out:
        out.truncate(64 * MIB)
    words = ("--label", label, "--cluster", cluster, "--yes")
    run("reclaim", tmp_path / "stick.img", "--file-system", "exfat", *words, code=2)
    with pytest.raises(SourceError):
        exfat_drive(folder("", file("x", bytes(9 * MIB))), size=8 * MIB)
    told = run("plan", small_disc(tmp_path / "x.iso"), "--file-system", "exfat", code=2).stderr
    assert "firmware" in told, told


def test_a_stick_becomes_storage(tmp_path: Path) -> None:
    """A stick of 64 GB: cluster heap and FAT lie on whole MiB, the clusters are those of such a size."""
    path = tmp_path / "stick.img"
    with path.open("wb") as out:
        out.truncate(64_000_000_000)
    found = run_json("reclaim", path, "--file-system", "exfat", "--label", "Timetables", "--yes")
    assert (found["file_system"], found["label"]) == ("exfat", "Timetables")
    told = run("reclaim", path, "--file-system", "exfat", "--yes").stdout
    assert "one exFAT volume 'STORAGE' of 59.6 GiB" in told
    with path.open("rb") as stream:
        boot = BootSector.unpack(stream.read(2 * MIB), MIB)
        assert (boot.PartitionOffset, boot.FatOffset % 2048, boot.ClusterHeapOffset % 2048) == (2048, 0, 0)
        assert 512 << boot.SectorsPerClusterShift == 128 * KIB
    assert run_json("check", path, code=1)["volumes"][0]["file_system"] == "exFAT"


def test_what_is_on_it_is_listed_before_it_is_lost() -> None:
    drive, _ = exfat_drive(pier())
    (inventory,) = inventories(drive, 512)
    assert (inventory.volume, inventory.files) == ("exFAT 'Pier 4'", 203)
