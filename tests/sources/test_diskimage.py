"""Disk images: every kind of block through another program, checksums, what lies inside, and hostile bytes."""

from __future__ import annotations

import plistlib
import random
import struct
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal, Zeros
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.demo.disk_image import Part, write_disk_image
from lucky_keystone.sources.diskimage import DiskImage
from lucky_keystone.sources.diskimage_sums import verify
from lucky_keystone.sources.inside import InsideVolume, volumes_in
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.udif_records import Trailer

from ..helpers.amount import part_of
from ..helpers.hfsplus import as_stored, studio, write_volume
from ..helpers.judges import need
from ..helpers.trees import file, files_of, folder

METHODS = ["ADC", "zlib", "bzip2", "LZFSE", "xz", "raw"]
FREE = (30 << 20, 39 << 20)


def packed(path: Path, methods: Sequence[str], size: int = 40 << 20, **choices: bool) -> bytes:
    """Make a disk image of a volume with everything; return the volume's bytes."""
    plain = path.with_suffix(".img")
    write_volume(studio(), plain, size=size)
    content = SourceFile(plain)
    part = Part("whole disk (Apple_HFS : 0)", FileRange(content, 0, content.size), [FREE])
    write_disk_image(path, [part], methods, **choices)
    return plain.read_bytes()


def image(path: Path) -> DiskImage:
    file_ = SourceFile(path)
    return DiskImage(FileRange(file_, 0, file_.size), str(path))


@pytest.mark.parametrize("methods", [*([method] for method in METHODS), METHODS])
def test_every_kind_of_block_is_read_and_another_program_agrees(methods: list[str], tmp_path: Path) -> None:
    path = tmp_path / "studio.dmg"
    plain = packed(path, methods)
    disk = image(path)
    whole = FileRange(disk, 0, disk.size)
    assert whole.read_at(0, disk.size) == plain
    chance = random.Random(3)
    for _ in range(200):
        offset = chance.randrange(disk.size)
        size = min(chance.choice((1, 700, 5000, 2 << 20)), disk.size - offset)
        assert whole.read_at(offset, size) == plain[offset : offset + size]
    verified = verify(disk, silent)
    assert (verified.wrong, verified.unverified) == ([], [])
    assert len(verified.right) == 3
    out = subprocess.run([need("7z"), "t", path], capture_output=True, text=True, check=False)
    assert out.returncode == 0, out.stdout + out.stderr
    assert "Everything is Ok" in out.stdout
    source = open_source(path)
    assert files_of(source.root) == as_stored(files_of(studio()))
    assert [found.path for found in source.files] == [path]


def test_wrong_checksums_are_found_and_missing_ones_named(tmp_path: Path) -> None:
    path = tmp_path / "studio.dmg"
    packed(path, ["raw"])
    data = bytearray(path.read_bytes())
    data[5 << 20] ^= 1
    path.write_bytes(data)
    wrong = verify(image(path), silent).wrong
    assert len(wrong) == 2
    assert "whole disk" in wrong[0]
    assert "stored blocks" in wrong[1]
    packed(path, ["zlib"], checksums=False)
    assert verify(image(path), silent).unverified == [
        "the stored blocks carry no checksum",
        "there is no checksum of the checksums",
    ]


def test_both_conventions_of_zero_fill_and_ignored_blocks_are_right(tmp_path: Path) -> None:
    """A sum that was taken with the ignored blocks and without the zero fill is no fault either."""
    path = tmp_path / "studio.dmg"
    packed(path, ["zlib"])
    data = path.read_bytes()
    trailer = Trailer.unpack(data[-512:])
    listed = plistlib.loads(data[trailer.list_offset :][: trailer.list_length])
    entry = listed["resource-fork"]["blkx"][0]
    blocks = bytearray(entry["Data"])
    for at in range(204, len(blocks), 40):  # the two kinds change places, their sum stays
        kind = int.from_bytes(blocks[at : at + 4], "big")
        blocks[at : at + 4] = {0: 2, 2: 0}.get(kind, kind).to_bytes(4, "big")
    entry["Data"] = bytes(blocks)
    text = plistlib.dumps(listed)
    changed = bytearray(data[-512:])
    changed[224:232] = len(text).to_bytes(8, "big")
    path.write_bytes(data[: trailer.list_offset] + text + changed)
    assert verify(image(path), silent).wrong == []


def test_an_image_in_a_volume_in_an_image(tmp_path: Path) -> None:
    inner, outer, plain = tmp_path / "inner.dmg", tmp_path / "outer.dmg", tmp_path / "outer.img"
    bytes_inside = packed(inner, METHODS)
    write_volume(folder("", folder("deep", file("inner.dmg", inner.read_bytes()))), plain, size=16 << 20)
    content = SourceFile(plain)
    write_disk_image(outer, [Part("x", FileRange(content, 0, content.size))], ["LZFSE", "zlib"])
    found = open_source(outer).root.find_file("deep/inner.dmg")
    assert found is not None
    disk = DiskImage(found.content, "outer.dmg: deep/inner.dmg")  # type: ignore[arg-type]
    assert FileRange(disk, 0, disk.size).read_at(0, disk.size) == bytes_inside


def test_volumes_are_found_behind_both_kinds_of_map(tmp_path: Path) -> None:
    gpt, bare = tmp_path / "gpt.img", tmp_path / "bare.img"
    write_volume(studio(10), gpt, start=1 << 20, size=8 << 20)
    write_volume(studio(10), bare, size=8 << 20)
    for path, offset in ((gpt, 1 << 20), (bare, 0)):
        content = SourceFile(path)
        assert volumes_in(FileRange(content, 0, content.size)) == (InsideVolume("hfsplus", offset, 8 << 20),)
    entry = struct.pack(">2sHIII32s32s", b"PM", 0, 2, 1, 63, b"Apple", b"Apple_partition_map").ljust(512, b"\0")
    entry += struct.pack(">2sHIII32s32s", b"PM", 0, 2, 64, 16384, b"disk image", b"Apple_HFS").ljust(512, b"\0")
    front = (b"ER" + struct.pack(">HI", 512, 16448)).ljust(512, b"\0") + entry
    mapped = Literal(front.ljust(64 * 512, b"\0") + bare.read_bytes())
    assert volumes_in(mapped) == (InsideVolume("hfsplus", 64 * 512, 8 << 20),)


def test_what_cannot_be_read_is_named(tmp_path: Path) -> None:
    path = tmp_path / "studio.dmg"
    packed(path, ["zlib"])
    whole = path.read_bytes()
    parts = bytearray(whole)
    parts[-512 + 56 : -512 + 64] = struct.pack(">2I", 1, 3)
    cases = {
        "part 1 of 3": bytes(parts),
        "encrypted disk image": b"encrcdsa" + whole[8:],
        "volume of APFS": b"",
        "lies outside": whole[:5000] + whole[-512:],
        "its property list cannot be read": whole.replace(b'encoding="UTF-8"', b'encoding="UTFp8"'),
    }
    for words, data in cases.items():
        if data:
            path.write_bytes(data)
        else:
            inner = Literal(bytes(32) + b"NXSB" + bytes(65536 - 36))
            write_disk_image(path, [Part("container", inner), Part("rest", Zeros(1 << 20))], ["zlib"])
        with pytest.raises(SourceError, match=words if words != "lies outside" else "end at byte|lies outside"):
            open_source(path)


@pytest.mark.parametrize("seed", range(part_of(4)))
def test_hostile_images_end_in_words(seed: int, tmp_path: Path) -> None:
    path, chance = tmp_path / "studio.dmg", random.Random(seed)
    packed(path, METHODS)
    clean = path.read_bytes()
    trailer = Trailer.unpack(clean[-512:])
    spans = [(trailer.list_offset, trailer.list_length), (len(clean) - 512, 512), (0, trailer.list_offset)]
    for _ in range(40):
        data = bytearray(clean)
        for _ in range(chance.choice((1, 2, 6))):
            start, size = chance.choice(spans)
            at = start + chance.randrange(size)
            data[at : at + 4] = chance.choice((chance.randbytes(4), b"\xff" * 4, b"AAAA"))
        path.write_bytes(data)
        try:
            source = open_source(path)
            assert source.image is not None
            for at in range(0, min(source.image.size, 64 << 20), 8 << 20):
                source.image.read_at(at, min(4096, source.image.size - at))
            if isinstance(source.image.file, DiskImage):
                verify(source.image.file, silent)
        except SourceError:
            pass
