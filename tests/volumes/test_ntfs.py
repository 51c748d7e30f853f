"""NTFS volumes: literal bytes, index trees, independent readers, the system's own driver, and hostile bytes."""

from __future__ import annotations

import os
import random
import subprocess
from pathlib import Path

import pytest
import pytsk3
from dissect.ntfs import NTFS
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError, UsageError
from lucky_keystone.content.contents import stream
from lucky_keystone.content.tree import File, Folder, Special
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.volumes.ntfs.attributes import mapping_pairs
from lucky_keystone.volumes.ntfs.catalogue import catalogue
from lucky_keystone.volumes.ntfs.compose import compose
from lucky_keystone.volumes.ntfs.geometry import geometry, vcns_per_block
from lucky_keystone.volumes.ntfs.index import BLOCK_ROOM, IndexNode, shape
from lucky_keystone.volumes.ntfs.layout import place
from lucky_keystone.volumes.ntfs.parse import parse_runs
from lucky_keystone.volumes.ntfs.read import NtfsVolume
from lucky_keystone.volumes.ntfs.records import DATA, STANDARD_INFORMATION, StandardInformation
from lucky_keystone.volumes.ntfs.security import descriptor_hash, for_everyone
from lucky_keystone.volumes.ntfs.upcase import collation_key
from lucky_keystone.volumes.volume import HOLE, Run, VolumeError

from ..helpers.amount import part_of
from ..helpers.judges import need
from ..helpers.ntfs import BOOT, ferry, write_volume
from ..helpers.trees import file, files_of, folder


def ours(path: Path) -> dict[str, bytes]:
    with ImageFile(path) as image:
        volume = NtfsVolume(image, 0, image.size)
        found = list(volume.walk())
        assert [(entry.path, entry.faults) for entry in found if entry.faults] == []
        return {entry.path: b"".join(volume.pieces(entry)) for entry in found if not entry.is_folder}


def sleuth(path: Path) -> dict[str, bytes]:
    """The same through an independent reader."""
    system = pytsk3.FS_Info(pytsk3.Img_Info(str(path)))
    found: dict[str, bytes] = {}
    waiting = [("", system.open_dir("/"))]
    while waiting:
        prefix, directory = waiting.pop()
        for entry in directory:
            name = entry.info.name.name.decode()
            if name in (".", "..") or entry.info.meta is None or (not prefix and entry.info.meta.addr < 27):
                continue
            if entry.info.meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                waiting.append((f"{prefix}{name}/", entry.as_directory()))
            elif entry.info.meta.addr < (1 << 48) and not name.startswith("$Orphan"):
                plain = [a for a in entry if a.info.type == pytsk3.TSK_FS_ATTR_TYPE_NTFS_DATA and not a.info.name]
                size = plain[0].info.size if plain else 0
                found[prefix + name] = entry.read_random(0, size, 128, plain[0].info.id) if size else b""
    return found


def dissected(path: Path) -> dict[str, bytes]:
    """And through another one. It lists short names beside long ones, and so do we here."""
    with path.open("rb") as image:
        volume = NTFS(image)
        found: dict[str, bytes] = {}
        waiting = [("", volume.mft.root)]
        while waiting:
            prefix, directory = waiting.pop()
            for entry in directory.index("$I30").entries():
                key = entry.attribute
                record = entry.dereference()
                if key.is_dos_only() if hasattr(key, "is_dos_only") else key.attr.Flags == 2:
                    continue
                if record.segment < 27:
                    continue
                name = prefix + key.file_name
                if record.is_dir():
                    waiting.append((name + "/", record))
                else:
                    found[name] = record.open().read()
        return found


# -- literal bytes ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sector", "cluster", "per_record", "per_block"),
    [(512, 4096, 0xF6, 1), (512, 512, 2, 8), (4096, 65536, 0xF4, 0xF4)],
)
def test_boot_sector_its_copy_and_the_mirror(
    sector: int, cluster: int, per_record: int, per_block: int, tmp_path: Path
) -> None:
    path = tmp_path / "volume.img"
    write_volume(folder("", file("a.txt", b"a")), path, sector_size=sector, cluster_size=cluster, size=32 << 20)
    data = path.read_bytes()
    total = (32 << 20) // sector

    def number(at: int, size: int) -> int:
        return int.from_bytes(data[at : at + size], "little")

    assert data[3:11] == b"NTFS    "
    assert (number(11, 2), number(13, 1), number(0x28, 8)) == (sector, cluster // sector, total - 1)
    assert (data[0x40], data[0x44], number(0x48, 8)) == (per_record, per_block, 0x0926_1403_2026_0314)
    assert data[(total - 1) * sector :][:512] == data[:512]
    record = max(1024, sector)
    mft, mirror = number(0x30, 8) * cluster, number(0x38, 8) * cluster
    assert data[mft : mft + 4] == b"FILE"
    assert data[mirror : mirror + 4 * record] == data[mft : mft + 4 * record]


@pytest.mark.parametrize(
    ("runs", "stored"),
    [
        ([Run(0x1234, 0x38)], "21 38 34 12 00"),
        ([Run(0x80, 0x80)], "22 80 00 80 00 00"),  # both would be negative in one byte
        ([Run(0x300, 5), Run(HOLE, 16), Run(0x2F0, 3)], "21 05 00 03 01 10 11 03 F0 00"),
    ],
)
def test_mapping_pairs(runs: list[Run], stored: str) -> None:
    """Worked by hand: sizes of length and step, the length, the step from the run before."""
    assert mapping_pairs(runs) == bytes.fromhex(stored)
    assert list(parse_runs(bytes.fromhex(stored), 0x10000, "here")) == runs


def test_hash_of_a_descriptor() -> None:
    """Two words: the first rotated left by 3, plus the second."""
    assert descriptor_hash(bytes.fromhex("01000080 05000000")) == (0x8000_0001 << 3 & 0xFFFF_FFFF | 4) + 5


# -- index trees -----------------------------------------------------------------------------------------------------


@given(st.lists(st.integers(11, 74).map(lambda words: 8 * words), max_size=3000), st.integers(0, 800))
@settings(max_examples=40)
def test_a_tree_holds_every_entry_in_order_in_nodes_that_fit(sizes: list[int], room: int) -> None:
    tree = shape(sizes, room)

    def walk(node: IndexNode) -> list[int]:
        assert not node.children or len(node.children) == len(node.entries) + 1
        found: list[int] = []
        for position, entry in enumerate(node.entries):
            found += (walk(tree.blocks[node.children[position]]) if node.children else []) + [entry]
        return found + (walk(tree.blocks[node.children[-1]]) if node.children else [])

    assert walk(tree.root) == list(range(len(sizes)))
    for node in tree.blocks:
        assert node.entries, "a block without entries"
        assert sum(sizes[entry] for entry in node.entries) + 16 + 8 * len(node.children) <= BLOCK_ROOM


# -- trees and readers -----------------------------------------------------------------------------------------------

NAMES = st.text(
    st.characters(codec="utf-8", exclude_characters='"*/:<>?\\|', exclude_categories=["Cc", "Cs"]),
    min_size=1,
    max_size=40,
).filter(lambda name: name == name.rstrip(". ") and not name.startswith("$"))


@st.composite
def trees(draw: st.DrawFn, depth: int = 2, name: str = "") -> Folder:
    entries: list[File | Folder] = []
    for entry in draw(st.lists(NAMES, max_size=8, unique=True)):
        inner = depth and draw(st.booleans())
        entries.append(draw(trees(depth - 1, entry)) if inner else file(entry, draw(st.binary(max_size=3000))))
    return folder(name, *entries)


@settings(max_examples=15, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(trees(), st.sampled_from([(512, 512), (512, 2048), (512, 4096), (512, 65536), (4096, 4096), (4096, 16384)]))
def test_any_tree_comes_back_through_three_readers(
    tmp_path_factory: pytest.TempPathFactory, tree: Folder, sizes: tuple[int, int]
) -> None:
    path = tmp_path_factory.mktemp("tree") / "volume.img"
    write_volume(tree, path, sector_size=sizes[0], cluster_size=sizes[1])
    assert ours(path) == files_of(tree)
    assert sleuth(path) == files_of(tree)
    assert dissected(path) == files_of(tree)


@pytest.fixture(scope="module")
def special(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("ferry") / "volume.img"
    write_volume(ferry(), path, size=128 << 20)
    return path


def security_of(volume: NtfsVolume, path: str) -> bytes:
    """Find a file's descriptor as systems do: its number, both indexes of $Secure, and the stream and its copy."""
    entry = volume.find(path)
    assert entry is not None
    value = next(volume.file(entry.number).of(STANDARD_INFORMATION)).value
    assert value is not None
    standard = StandardInformation.unpack(value)
    secure = volume.file(9)
    by_number = {found.key: found for found in volume.index(secure, "$SII")}
    assert standard.security.to_bytes(4, "little") in by_number
    by_hash = {found.key[4:]: found.key[:4] for found in volume.index(secure, "$SDH")}
    stream_ = volume.own_stream(9, "$SDS")
    data = volume.read_stream(stream_, 0, stream_.size)
    half = 256 << 10
    assert data[: len(data) - half] == data[half:], "the copy behind 256 KiB"
    at = next(at for at in range(0, half, 16) if data[at + 4 : at + 8] == standard.security.to_bytes(4, "little"))
    length = int.from_bytes(data[at + 16 : at + 20], "little")
    descriptor = data[at + 20 : at + length]
    assert data[at : at + 4] == by_hash[standard.security.to_bytes(4, "little")]
    assert int.from_bytes(data[at : at + 4], "little") == descriptor_hash(descriptor)
    return descriptor


def test_everything_that_only_ntfs_can_hold(special: Path) -> None:
    expected = files_of(ferry())
    assert ours(special) == expected
    assert sleuth(special) == expected
    with ImageFile(special) as image:
        volume = NtfsVolume(image, 0, image.size)
        entry = volume.find("STREAMS.TXT")
        assert entry is not None
        found = volume.file(entry.number)
        assert [attribute.name for attribute in found.attributes if attribute.type == DATA] == ["", "big", "Zone"]
        assert [len(volume.read_stream(found.stream(name), 0, 1 << 20)) for name in ("big", "Zone")] == [100_000, 5]  # type: ignore[arg-type]
        entry = volume.find("sparse.bin")
        assert entry is not None
        # Zeros from byte 5,000 to 1,053,576 are a hole from cluster 2 to 256; those from 1,056,576 to the end from 258
        # on.
        assert [(run.is_hole, run.count) for run in entry.runs] == [(False, 2), (True, 255), (False, 1), (True, 1024)]
        # 2026-03-14 09:26:52, in units of 100 ns since 1601 (days from the calendar, not from the program).
        assert entry.written == ((425 * 365 + 103 + 72) * 86_400 + 9 * 3600 + 26 * 60 + 52) * 10_000_000
        assert security_of(volume, "own rules.txt") == for_everyone()[:-1] + b"\x01"
        assert security_of(volume, "many") == for_everyone()
        names = [name for _, _, name in volume.names(volume.find("many").number)]  # type: ignore[union-attr]
        assert len(names) == 40_000
        assert names == sorted(names, key=collation_key)
        assert volume.file(volume.find("names/name 3 of it").number) == volume.file(
            volume.find("names again/OTHER 3").number
        )  # type: ignore[union-attr]


@pytest.mark.parametrize("cluster_size", [512, 4096, 65536])
def test_the_systems_driver_reads_and_writes(cluster_size: int, tmp_path: Path) -> None:
    """Mounted read-write by the userspace driver: files read, added, removed; unmounted, and all read again."""
    driver = need("ntfs-3g")
    if not Path("/dev/fuse").exists() or os.geteuid() != 0:
        pytest.skip("nothing can be mounted here")
    path, mount = tmp_path / "volume.img", tmp_path / "mount"
    mount.mkdir()
    write_volume(ferry(), path, cluster_size=cluster_size, size=1536 << 20 if cluster_size == 65536 else 256 << 20)
    subprocess.run([driver, "-o", "streams_interface=windows", path, mount], check=True, capture_output=True)
    try:
        assert (mount / "streams.txt:Zone").read_bytes() == b"three"
        assert (mount / "link").readlink() == Path("Case.txt")
        assert (mount / "names" / "name 3 of it").stat().st_nlink >= 50
        assert len(list((mount / "many").iterdir())) == 20_000
        for number in range(0, 20_000, 3):
            (mount / "many" / f"Überfahrt nach 東京 {number}.txt").unlink()
        for number in range(3000):
            (mount / "many" / f"new {number}.log").write_bytes(b"%d" % number * 500)
    finally:
        subprocess.run(["umount", mount], check=True)
    expected = {name: data for name, data in files_of(ferry()).items() if not name.startswith("many/")}
    expected |= {f"many/Überfahrt nach 東京 {number}.txt": b"%d" % number for number in range(20_000) if number % 3}
    expected |= {f"many/new {number}.log": b"%d" % number * 500 for number in range(3000)}
    assert ours(path) == expected
    assert sleuth(path) == expected
    subprocess.run([need("ntfsfix"), "--no-action", path], check=True, capture_output=True)


def test_a_tree_of_very_many_files(tmp_path: Path) -> None:
    """Composed, counted and sampled by the system's driver and by our reader; every name leads to its file."""
    path, mount = tmp_path / "volume.img", tmp_path / "mount"
    mount.mkdir()
    crates = [
        folder(
            f"crate {crate}",
            *(file(f"part {crate}-{number} of the ferry.bin", b"%d" % number * 100) for number in range(500)),
        )
        for crate in range(part_of(200))
    ]
    write_volume(folder("", *crates), path, size=1 << 30)
    with ImageFile(path) as image:
        volume = NtfsVolume(image, 0, image.size)
        for crate in (0, part_of(200) // 2, part_of(200) - 1):
            found = volume.find(f"crate {crate}/PART {crate}-7 OF THE FERRY.BIN")
            assert found is not None
            assert b"".join(volume.pieces(found)) == b"7" * 100
        assert sum(1 for _ in volume.walk()) == 501 * part_of(200) + 1
    if subprocess.run([need("ntfs-3g"), "-o", "ro", path, mount], capture_output=True, check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        found = subprocess.run(["find", mount, "-type", "f", "-size", "-3"], capture_output=True, check=True).stdout
        assert found.count(b"\n") == 500 * part_of(200)
        assert (mount / "crate 40" / "part 40-499 of the ferry.bin").read_bytes() == b"499" * 100
    finally:
        subprocess.run(["umount", mount], check=True)


def test_a_volume_of_two_tebibytes() -> None:
    """Measures only: the bitmap's pieces are made on demand, and the last of them marks what lies behind the volume."""
    shape_ = geometry(hidden=2048, total=(2 << 40) // 512, sector_size=512, cluster_size=4096)
    layout = place(catalogue(folder("", file("a", b"a" * 5000)), "X", 1024), shape_)
    regions = {region.kind: region for region in compose(layout, serial=1, boot_sector=BOOT, further_code=b"")}
    bitmap = regions["bitmap"].extents[0].content
    bits = b"".join(bytes(piece) for piece in stream(bitmap))
    assert len(bits) == (shape_.cluster_count + 63) // 64 * 8
    marked = sum(byte.bit_count() for byte in bits if byte)
    assert marked == layout.next_free + len(bits) * 8 - shape_.cluster_count
    assert regions["bootcopy"].offset == (2048 + shape_.total - 1) * 512


# -- what cannot be --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("tree", "told"),
    [
        (folder("", file("$mft")), "the volume's own"),
        (folder("", file("a" * 256)), "256 characters"),
        (folder("", file("dot.")), "ends with a dot"),
        (folder("", file("a", b"", Special(reparse=bytes(20_000)))), "reparse point of 20,000 bytes"),
    ],
)
def test_what_ntfs_cannot_hold_is_refused(tree: Folder, told: str) -> None:
    with pytest.raises(SourceError, match=told):
        catalogue(tree, "X", 1024)


@pytest.mark.parametrize(("cluster", "sector"), [(256, 512), (512, 4096), (128 << 10, 512), (3000, 512)])
def test_cluster_sizes_that_ntfs_does_not_have(cluster: int, sector: int) -> None:
    with pytest.raises(UsageError):
        geometry(hidden=0, total=1 << 20, sector_size=sector, cluster_size=cluster)


def test_vcns_of_index_blocks() -> None:
    """Clusters up to the block's size, strides of 512 bytes where a cluster is larger than a block."""
    assert [vcns_per_block(size) for size in (512, 1024, 4096, 8192, 65536)] == [8, 4, 1, 8, 8]


def test_mutated_volumes_give_a_result_or_a_clear_error(tmp_path: Path) -> None:
    """Mutations of every structure; what comes is entries with their faults, or VolumeError."""
    path = tmp_path / "volume.img"
    tree = folder("", file("a", b"a" * 9000), folder("names", *(file(f"a longer name {n}", b"x") for n in range(36))))
    write_volume(tree, path, cluster_size=512, size=4 << 20)
    data = bytearray(path.read_bytes())
    used = [at for at in range(0, len(data), 512) if any(data[at : at + 512]) and data[at : at + 4] != b"\xff" * 4]
    chance = random.Random(20261123)

    class Drive:
        def read_at(self, offset: int, size: int) -> bytes:
            assert 0 <= offset <= offset + size <= len(data), "read outside the volume"
            return bytes(data[offset : offset + size])

    for case in range(part_of(4000)):
        places = [chance.choice(used) + chance.randrange(512) for _ in range(chance.choice((1, 1, 2, 5)))]
        before = [data[at] for at in places]
        for at in places:
            data[at] = chance.choice((0, 0xFF, 0x80, data[at] ^ 1 << chance.randrange(8)))
        try:
            volume = NtfsVolume(Drive(), 0, len(data))
            for entry in volume.walk():
                if not entry.is_folder and not entry.faults and entry.size < 1 << 20:
                    list(volume.pieces(entry))
        except VolumeError as error:
            assert error.message, case
        finally:
            for at, byte in reversed(list(zip(places, before, strict=True))):
                data[at] = byte
