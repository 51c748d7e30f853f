"""Members of archives that carry their sums, packed by other programs: one wrong byte is found, and said of which."""

from __future__ import annotations

import random
import subprocess
import zipfile
from pathlib import Path

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Seekable, stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.sources.summed import own_sum
from lucky_keystone.sources.xar import XarArchive
from lucky_keystone.sources.zip_archive import ZipArchive

from ..helpers.judges import need

SIZE = 9 << 20  # read in several pieces


def _packed(form: str, folder: Path) -> Path:
    (folder / "poster.dmg").write_bytes(random.Random(form).randbytes(SIZE))
    archive = folder / "studio.archive"
    if form.startswith("zip"):
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED if "stored" in form else zipfile.ZIP_DEFLATED) as made:
            made.write(folder / "poster.dmg", "poster.dmg")
        return archive
    _, compression, checksum = form.split()
    options = f"xar:compression={compression},xar:checksum={checksum},xar:toc-checksum={checksum}"
    made_by = [need("bsdtar"), "-c", "--format", "xar", "--options", options, "-f", archive, "-C", folder, "poster.dmg"]
    subprocess.run(made_by, check=True)
    return archive


def _member(archive: Path) -> Seekable:
    whole = FileRange(SourceFile(archive), 0, archive.stat().st_size)
    if whole.read_at(0, 2) == b"PK":
        found = ZipArchive(whole, archive.name).member("poster.dmg")
        assert found is not None
        return found.content
    content = XarArchive(whole, archive.name).member("poster.dmg")
    assert content is not None
    return content


@pytest.mark.parametrize("form", ["zip stored", "zip deflated", "xar none sha1", "xar none md5", "xar gzip sha1"])
def test_a_member_is_held_against_its_sum(form: str, tmp_path: Path) -> None:
    archive = _packed(form, tmp_path)
    whole = (tmp_path / "poster.dmg").read_bytes()
    content = _member(archive)
    assert own_sum(content) is not None
    assert b"".join(bytes(piece) for piece in stream(content)) == whole
    assert content.read_at(SIZE - 9, 9) == whole[-9:]
    data = bytearray(archive.read_bytes())
    at = data.find(whole[5000:5040]) if whole[5000:5040] in data else len(data) // 2
    data[at] ^= 1
    archive.write_bytes(data)
    with pytest.raises(SourceError, match=r"poster.dmg.* damaged: "):
        for _ in stream(_member(archive)):
            pass


def test_several_read_it_at_once_and_each_in_order_gets_it_proven(tmp_path: Path) -> None:
    archive = _packed("xar none sha1", tmp_path)
    content = _member(archive)
    one, other = stream(content, 1 << 20), stream(content, 3 << 20)
    for first, _ in zip(one, other, strict=False):
        assert len(first) == 1 << 20
        content.read_at(77, 9)
    assert sum(len(piece) for piece in one) == SIZE - (4 << 20)


@pytest.mark.parametrize("what", ["table", "its sum"])
def test_a_package_whose_table_was_changed_is_refused(what: str, tmp_path: Path) -> None:
    archive = _packed("xar none sha1", tmp_path)
    data = bytearray(archive.read_bytes())
    table_size = int.from_bytes(data[8:16], "big")
    if what == "its sum":
        data[28 + table_size] ^= 1
    else:
        data[28 : 28 + 2] = b"\x78\x9c" if data[28 : 28 + 2] != b"\x78\x9c" else b"\x78\x01"  # decodes all the same
    archive.write_bytes(data)
    with pytest.raises(SourceError, match="its table of contents is damaged"):
        _member(archive)
