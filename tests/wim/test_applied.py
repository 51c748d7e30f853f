"""An edition applied to a volume: all that NTFS keeps, by an independent reader and by the userspace driver."""

from __future__ import annotations

import ctypes
import os
import random
import struct
import subprocess
from collections import Counter
from collections.abc import Mapping
from itertools import pairwise
from pathlib import Path

import pytest
from dissect.ntfs import NTFS

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Literal
from lucky_keystone.content.tree import Folder
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.volumes.ntfs.read import NtfsVolume
from lucky_keystone.wim.applied import applied_tree
from lucky_keystone.wim.packed import PackedResource
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.resources import LARGEST_KEPT, Resources
from lucky_keystone.wim.whole import WholeImage

from ..helpers.editions import JUNCTION, LINK_DATA, OTHER, SYMLINK, everything
from ..helpers.install_images import MOMENT, Item, install_image
from ..helpers.judges import need
from ..helpers.ntfs import write_volume


def opened(data: bytes) -> WholeImage:
    return WholeImage([InstallImage(Literal(data), "install.wim")])


def tree_of(image: WholeImage) -> Folder:
    return applied_tree(Resources(image), image.tree(image.editions[0]))


def flat(tree: Mapping[str, Item], prefix: str = "") -> dict[str, Item]:
    found = {}
    for name, item in tree.items():
        found[f"{prefix}{name}"] = item
        found |= flat(item.below, f"{prefix}{name}/")
    return found


@pytest.fixture(scope="module", params=["none", "xpress", "lzx", "lzms", "lzx solid", "lzms solid"])
def applied(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, Item]]:
    """A volume, and what is on it: in one of them a folder that takes an index of several levels."""
    method, _, solid = request.param.partition(" ")
    edition = everything(3000 if method == "none" else 300)
    path = tmp_path_factory.mktemp("applied") / "volume.img"
    write_volume(tree_of(opened(install_image([edition], method, solid=bool(solid)))), path)
    return path, flat(edition)


def test_an_independent_reader_finds_all_of_it(applied: tuple[Path, dict[str, Item]]) -> None:
    (volume, wanted), records = applied, {}
    with volume.open("rb") as stream:
        ntfs = NTFS(stream)
        start = (MOMENT - 116_444_736_000_000_000) * 100
        for path, item in wanted.items():
            name = path.rpartition("/")[2]
            if name.lower() == "readme.txt" or (path.startswith("many/") and not path.endswith("7")):
                continue
            record = records[path] = ntfs.mft.get(path.replace("/", "\\"))
            facts = record.attributes.STANDARD_INFORMATION[0].attribute
            assert facts.attr.FileAttributes == item.attributes & (0x3527 if item.data is not None else 0x3102), path
            assert facts.creation_time_ns == start
            assert facts.last_modification_time_ns == facts.last_change_time_ns == start + 200
            assert facts.last_access_time_ns == start + 100
            names = {(each.attribute.attr.Flags, each.attribute.file_name) for each in record.attributes.FILE_NAME}
            if item.short:
                assert {(1, name), (2, item.short)} <= names
            elif not item.link or item.attributes & 0x400:
                assert [each for _, each in names] == [name]
            if item.security:
                held = ntfs.secure.lookup(facts.attr.SecurityId)
                assert (str(held.owner), len(held.dacl.ace)) == (
                    ("S-1-5-32-544", 200) if item.security == OTHER else ("S-1-5-18", 1)
                )
            for stream_name, data in item.streams.items():
                assert record.open(stream_name).read() == data
            if item.data is not None and not item.attributes & 0x400:
                assert record.open().read() == item.data, path
        linked = records["by name/FIRST.TXT"]
        assert records["WinSxS/" + "n" * 90 + " 3"].segment == linked.segment
        assert linked.header.ReferenceCount == len(linked.attributes.FILE_NAME) == 26
        assert sum(each.attribute.attr.Flags in (2, 3) for each in linked.attributes.FILE_NAME) == 1
        assert records["by name/twin"].segment == records["by name too/twin"].segment
        assert records["Windows/copy.bin"].segment != records["Windows/copy again.bin"].segment
        twins = [e.attribute.file_name for e in records["Windows"].index("$I30").entries()]
        assert {"Readme.txt", "README.TXT"} <= set(twins)
        names = [path for path in wanted if path.startswith("many/")]
        assert len(list(records["many"].index("$I30").entries())) == len(names)
        for path, tag in (("linked to.txt", SYMLINK), ("junction", JUNCTION), ("long point", SYMLINK)):
            point = records[f"Windows/{path}"].attributes.REPARSE_POINT[0]
            assert int(point.attribute.tag) == tag
        # Every reparse point of the volume is listed by its tag and file.
        listed = ntfs.mft.get("$Extend\\$Reparse").index("$R").entries()
        keys = {bytes(entry.key) for entry in listed}
        points = [path for path, item in wanted.items() if item.attributes & 0x400]
        references = [records[path].segment | records[path].header.SequenceNumber << 48 for path in points]
        assert keys == {struct.pack("<IQ", wanted[p].link, r) for p, r in zip(points, references, strict=True)}


def attribute_of(place: Path, name: str) -> bytes:
    """Return an extended attribute, asked for with room at once: the driver's answer to too little of it is a fault."""
    room = ctypes.create_string_buffer(1 << 16)
    size = ctypes.CDLL(None).lgetxattr(os.fsencode(place), name.encode(), room, len(room))
    assert size >= 0, (place, name)
    return room.raw[:size]


def test_the_userspace_driver_finds_all_of_it(applied: tuple[Path, dict[str, Item]], tmp_path: Path) -> None:
    volume, wanted = applied
    driver, mount = need("ntfs-3g"), tmp_path / "mount"
    mount.mkdir()
    if subprocess.run([driver, "-o", "ro", volume, mount], capture_output=True, check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        for path, item in wanted.items():
            place = mount / path
            if path.startswith("many/") and not path.endswith("77"):
                continue
            attributes = int.from_bytes(attribute_of(place, "system.ntfs_attrib_be"), "big")
            assert attributes & 0x3527 == item.attributes & (0x3527 if item.data is not None else 0x3102), path
            times = struct.unpack(">4Q", attribute_of(place, "system.ntfs_times_be"))
            assert times == (MOMENT, MOMENT + 2, MOMENT + 1, MOMENT + 2), path
            if item.security:
                assert attribute_of(place, "system.ntfs_acl") == item.security, path
            if item.attributes & 0x400:
                assert item.data is not None
                counted = len(item.data) - (0 if item.link >> 31 else 16)
                head = struct.pack("<IHH", item.link, counted, 0)
                assert attribute_of(place, "system.ntfs_reparse_data") == head + item.data, path
            elif item.data is not None:
                assert place.read_bytes() == item.data, path
                if item.short and not item.link:
                    assert attribute_of(place, "system.ntfs_dos_name") == item.short.encode()
    finally:
        subprocess.run(["umount", mount], check=True)
    subprocess.run([need("ntfsfix"), "--no-action", volume], check=True, capture_output=True)


@pytest.mark.parametrize(
    ("items", "words"),
    [
        ({"secret": Item(b"x" * 600, attributes=0x4020)}, "1 files of the edition are encrypted.*secret"),
        ({"a b c": Item(b"x", short="AB~1"), "AB~1": Item(b"y")}, "'a b c' has the short name 'AB~1'"),
        ({"a b c": Item(b"x", short="AB/1")}, "has the short name"),
        ({"one": Item(b"x", link=5), "two": Item(b"y", link=5)}, "two: another name of the same file has other bytes"),
        ({"link": Item(LINK_DATA, streams={"own": b"s"}, attributes=0x420, link=SYMLINK)}, ""),
        ({"large": Item(bytes(20_000), attributes=0x420, link=SYMLINK)}, "large: a reparse point of 20,000 bytes"),
        ({"rules": Item(b"x", security=b"\2" * 30)}, "rules: its security descriptor of 30 bytes"),
    ],
)
def test_what_cannot_be_carried_is_refused_by_name(items: dict[str, Item], words: str, tmp_path: Path) -> None:
    image = opened(install_image([items], "lzx"))
    if not words:
        write_volume(tree_of(image), tmp_path / "volume.img")
        return
    with pytest.raises(SourceError, match=words):
        write_volume(tree_of(image), tmp_path / "volume.img")


@pytest.mark.parametrize("size", [5000, LARGEST_KEPT + 5000])
def test_bytes_that_do_not_match_their_sum_end_the_build_with_the_files_name(size: int, tmp_path: Path) -> None:
    data = bytearray(install_image([{"Pier": Item(None, {"4.bin": Item(random.Random(1).randbytes(size))})}], "none"))
    data[3000] ^= 1
    with pytest.raises(SourceError, match=r"Pier/4\.bin: its bytes in the image do not match their SHA-1"):
        write_volume(tree_of(opened(bytes(data))), tmp_path / "volume.img")


@pytest.mark.parametrize("solid", [False, True])
def test_every_chunk_is_unpacked_once_and_copies_lie_behind_one_another(
    solid: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Files as they come in the tree have nothing of the image's order; a stream of a file is one of its resources."""
    chance = random.Random(9)
    contents = [bytes([chance.randrange(8)]) * 60 + chance.randbytes(40) for _ in range(400)]
    files = {f"file {n}": Item(contents[n] * (n % 90 + 1)) for n in range(400)}
    names = [*files, *(f"copy {n} of {n % 60}" for n in range(300))]
    chance.shuffle(names)
    tree = {n: files[n] if n in files else files[f"file {n.rpartition(' ')[2]}"] for n in names}
    image = opened(install_image([tree], "lzx", solid=solid))
    root = tree_of(image)
    unpacked: Counter[tuple[int, int]] = Counter()
    original = PackedResource._unpacked

    def counted(self: PackedResource, number: int, starts: object, data: bytes) -> bytes:
        for chunk in range(len(starts) - 1):  # type: ignore[arg-type]
            unpacked[self._chunks.data, number + chunk] += 1
        return original(self, number, starts, data)  # type: ignore[arg-type]

    monkeypatch.setattr(PackedResource, "_unpacked", counted)
    path = tmp_path / "volume.img"
    write_volume(root, path)
    assert set(unpacked.values()) == {1}
    with ImageFile(path) as drive:
        volume = NtfsVolume(drive, 0, drive.size)
        entries = {entry.path: entry for entry in volume.walk() if not entry.is_folder}
        assert all(b"".join(volume.pieces(entries[name])) == tree[name].data for name in names)
        placed = sorted((entry.runs[0].first, name) for name, entry in entries.items())
    order = [tree[name].data for _, name in placed]
    assert sum(before != after for before, after in pairwise(order)) == len(set(order)) - 1
