"""FAT32 volumes: literal bytes, arithmetic, the system's checker, independent readers, and names of every kind."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lucky_keystone.boot.records import FAT32_RECORD
from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.errors import SourceError, UsageError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Zeros
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.volumes.fat32.compose import compose, fat_time, lay_out
from lucky_keystone.volumes.fat32.geometry import Geometry, default_cluster_size, geometry, smallest_total
from lucky_keystone.volumes.fat32.names import label_fault
from lucky_keystone.volumes.fat32.read import Fat32Volume
from lucky_keystone.volumes.fat32.records import short_name_checksum
from lucky_keystone.volumes.shortnames import ShortNames, exact_short_name

from ..helpers.judges import assert_checker_is_silent, theirs
from ..helpers.trees import MOMENT, file, files_of, folder, trees


def write_volume(
    root: Folder, path: Path, *, sector_size: int = 512, cluster_size: int = 512, hidden: int | None = None
) -> Geometry:
    """Write `root` as a volume alone in a file, as small as it can be."""
    hidden = 2048 * 512 // sector_size if hidden is None else hidden
    layout = lay_out(root, "PIER 4", cluster_size)
    total = smallest_total(hidden, layout.clusters_used, sector_size, cluster_size)
    shape = geometry(hidden=hidden, total=total, sector_size=sector_size, cluster_size=cluster_size)
    regions = compose(
        layout, shape, serial=0x0926_1403, boot_sector=FAT32_RECORD.first_sector, further_code=FAT32_RECORD.further_code
    )
    with ImageFile.make(path, (hidden + total) * sector_size) as target:
        stream_regions(regions, target, silent)
    return shape


def ours(path: Path, shape: Geometry) -> dict[str, bytes]:
    with ImageFile(path) as image:
        start = shape.hidden * shape.sector_size
        volume = Fat32Volume(image, start, image.size - start)
        found = list(volume.walk())
        assert [entry.faults for entry in found if entry.faults] == []
        return {entry.path: b"".join(volume.pieces(entry)) for entry in found if not entry.is_folder}


@settings(max_examples=15, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(trees())
def test_any_tree_comes_back_through_two_readers(tmp_path_factory: pytest.TempPathFactory, tree: Folder) -> None:
    folder_ = tmp_path_factory.mktemp("tree")
    path = folder_ / "drive.img"
    shape = write_volume(tree, path)

    assert ours(path, shape) == files_of(tree)
    assert theirs(path, shape) == files_of(tree)
    assert_checker_is_silent(path, shape, folder_)
    path.unlink()


@pytest.mark.parametrize(("sector_size", "cluster_size"), [(512, 4096), (4096, 4096), (512, 32768)])
def test_sector_and_cluster_sizes(sector_size: int, cluster_size: int, tmp_path: Path) -> None:
    tree = folder(
        "", file("BOOTMGR", bytes(range(256)) * 900), folder("deep", folder("er", file("last one.txt", b"x" * 70_001)))
    )
    path = tmp_path / "drive.img"
    shape = write_volume(tree, path, sector_size=sector_size, cluster_size=cluster_size)

    assert ours(path, shape) == files_of(tree)
    assert_checker_is_silent(path, shape, tmp_path)
    with path.open("rb") as stream:
        stream.seek(shape.hidden * sector_size)
        sector = stream.read(sector_size)
    # fatgen103: bytes per sector, sectors per cluster, reserved sectors, FATs at 11, 13, 14, 16
    assert sector[11:17] == (
        sector_size.to_bytes(2, "little")
        + bytes((cluster_size // sector_size,))
        + shape.reserved.to_bytes(2, "little")
        + b"\x02"
    )
    assert sector[28:32] == shape.hidden.to_bytes(4, "little")
    assert sector[67:82] == bytes.fromhex("03142609") + b"PIER 4     "
    assert (shape.hidden + shape.first_data) * sector_size % (1 << 20) == 0


def test_hundreds_of_names_that_collide_get_short_names_of_their_own(tmp_path: Path) -> None:
    names = [f"driver package {number} for the gangway.cab" for number in range(700)] + [
        "DRIVER~1.CAB",
        "driver~2.cab",
        "drive r.cab",
    ]
    tree = folder("", *(file(name, name.encode()) for name in names))
    short = ShortNames(names)
    given_names = [short.of(name) for name in names]

    assert len(set(given_names)) == len(names)
    assert given_names[-3:-1] == [b"DRIVER~1CAB", b"DRIVER~2CAB"]
    path = tmp_path / "drive.img"
    shape = write_volume(tree, path)
    assert ours(path, shape) == theirs(path, shape) == files_of(tree)
    assert_checker_is_silent(path, shape, tmp_path)


@pytest.mark.parametrize(
    ("name", "exact", "short"),
    [
        ("BOOTMGR", True, b"BOOTMGR    "),
        ("bootmgr", False, b"BOOTMGR    "),  # a long entry keeps its case, boot code finds the short one
        ("boot.wim", False, b"BOOT    WIM"),
        ("install2.swm", False, b"INSTALL2SWM"),
        ("autounattend.xml", False, b"AUTOUN~1XML"),
        ("a.b.c", False, b"AB~1    C  "),
        (".profile", False, b"PROFIL~1   "),
        ("東京.txt", False, b"__~1    TXT"),
    ],
)
def test_short_names(name: str, exact: bool, short: bytes) -> None:
    assert (exact_short_name(name) is not None, ShortNames([name]).of(name)) == (exact, short)


def test_the_checksum_of_a_short_name() -> None:
    """Worked by hand: each step rotates right by one bit and adds the next character (fatgen103, "ChkSum")."""
    # "A" then ten blanks: 41h; then per blank: 40h+... the first two steps are A0h+20h = C0h and 60h+20h = 80h
    assert [short_name_checksum(b"A"), short_name_checksum(b"A "), short_name_checksum(b"A  ")] == [0x41, 0xC0, 0x80]


@pytest.mark.parametrize(
    ("tree", "message"),
    [
        (folder("", file("what?.txt")), r"what\?\.txt: holds '\?'"),
        (folder("", folder("aft", file("ends."))), "aft/ends.: ends with a dot"),
        (folder("", file("x" * 256)), "has 256 characters"),
        (folder("", file("Anchor"), file("ANCHOR")), "ANCHOR and Anchor: differ in case only"),
        (folder("", *(file(f"{'n' * 240}{number}") for number in range(3300))), "needs 66001 entries on FAT"),
    ],
)
def test_what_fat_cannot_hold_is_refused_with_the_list(tree: Folder, message: str) -> None:
    with pytest.raises(SourceError, match=message):
        lay_out(tree, "X", 512)


@settings(max_examples=200)
@given(st.integers(1, 2047), st.integers(66_000, (1 << 32) - 4096), st.sampled_from([512, 4096]), st.integers(0, 6))
def test_geometry_always_adds_up(hidden_mib: int, total: int, sector_size: int, shift: int) -> None:
    hidden, cluster = hidden_mib * (1 << 20) // sector_size, min(sector_size << shift, 32768)
    try:
        shape = geometry(hidden=hidden, total=total, sector_size=sector_size, cluster_size=cluster)
    except UsageError:
        return
    assert shape.fat * sector_size >= 4 * (shape.cluster_count + 2)  # every cluster has its entry
    assert shape.first_data + shape.cluster_count * shape.sectors_per_cluster <= total
    assert 65_525 <= shape.cluster_count <= 0x0FFFFFF5
    assert (hidden + shape.first_data) * sector_size % (1 << 20) == 0
    smallest = smallest_total(hidden, shape.cluster_count, sector_size, cluster)
    again = geometry(hidden=hidden, total=smallest, sector_size=sector_size, cluster_size=cluster)
    assert again.cluster_count >= shape.cluster_count
    assert smallest <= total


def test_a_volume_of_two_tebibytes_is_composed_in_little_memory() -> None:
    layout = lay_out(folder("", File("chart.bin", Zeros((1 << 32) - 1), MOMENT)), "ARCHIVE", 32768)
    shape = geometry(hidden=2048, total=(1 << 32) - 4096, sector_size=512, cluster_size=32768)
    regions = compose(layout, shape, serial=1, boot_sector=FAT32_RECORD.first_sector, further_code=b"")

    assert shape.cluster_count > 67_000_000
    assert regions[1].size == regions[2].size == shape.fat * 512 > 255 << 20
    first = regions[1].extents[0].content.open()
    buffer = bytearray(16)
    first.readinto(memoryview(buffer))
    # media and clean marks, the root in cluster 2, the file from cluster 3 to 4
    assert buffer.hex(" ", 4) == "f8ffff0f ffffff0f ffffff0f 04000000"


@pytest.mark.parametrize(
    ("size", "sector_size", "expected"),
    [
        (200 << 20, 512, 2048),  # 4 KiB would leave too few clusters for FAT32
        (64 << 20, 512, 512),
        (300 << 20, 4096, 4096),
        (16_008_609_792, 512, 8192),
        (64 << 30, 512, 32768),
    ],
)
def test_default_cluster_sizes(size: int, sector_size: int, expected: int) -> None:
    assert default_cluster_size(size, sector_size) == expected


def test_times_are_stored_in_two_second_steps_and_kept_in_range() -> None:
    assert fat_time(MOMENT) == ((2026 - 1980) << 9 | 3 << 5 | 14, 9 << 11 | 26 << 5 | 26)
    assert fat_time(datetime(1601, 1, 1)) == (0x21, 0)
    assert fat_time(datetime(2200, 1, 1))[0] == 127 << 9 | 12 << 5 | 31


@pytest.mark.parametrize(
    ("label", "good"), [("CREW LAPTOP", True), ("TWELVE CHARS", False), ("a.b", False), (" X", False), ("", False)]
)
def test_labels(label: str, good: bool) -> None:
    assert (label_fault(label) == "") == good
