"""Zip archives as packers make them that tell little: names without their flag, folders around, sizes cut off."""

from __future__ import annotations

import struct
import zipfile
from pathlib import Path

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.bundles import INFO
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.zip_archive import ZipArchive

UNIX, WINDOWS = 3, 0
FÄHRE = "Fährplan Überfahrt.app"


def _stand_in(number: int, name: str) -> str:
    return str(number).ljust(len(name.encode()), "x")


def packed(path: Path, names: list[str], system: int) -> Path:
    """An archive whose names are UTF-8, and whose flags do not say so."""
    with zipfile.ZipFile(path, "w") as archive:
        for number, name in enumerate(names):
            info = zipfile.ZipInfo(_stand_in(number, name))
            info.create_system = system
            archive.writestr(info, b"")
    data = path.read_bytes()
    for number, name in enumerate(names):
        data = data.replace(_stand_in(number, name).encode(), name.encode())
    path.write_bytes(data)
    return path


def opened(path: Path) -> ZipArchive:
    file = SourceFile(path)
    return ZipArchive(FileRange(file, 0, file.size), path.name)


def test_names_of_unix_are_utf8_and_those_of_others_are_not(tmp_path: Path) -> None:
    assert opened(packed(tmp_path / "a.zip", ["Überfahrt.txt"], UNIX)).names == ("Überfahrt.txt",)
    assert opened(packed(tmp_path / "b.zip", ["Überfahrt.txt"], WINDOWS)).names == (
        "Überfahrt.txt".encode().decode("cp437"),
    )
    path = packed(tmp_path / "c.zip", ["??berfahrt.txt"], UNIX)
    path.write_bytes(path.read_bytes().replace(b"??", b"\x9a\xff"))  # valid in no UTF-8
    assert opened(path).names == (b"\x9a\xffberfahrt.txt".decode("cp437"),)


@pytest.mark.parametrize("above", ["", "Tidewell downloads/"])
def test_an_app_is_found_with_a_folder_above_it(above: str, tmp_path: Path) -> None:
    names = [f"{above}{FÄHRE}/{name}" for name in (INFO, *(f"Contents/{number}" for number in range(9)))]
    source = open_source(packed(tmp_path / "app.zip", names, UNIX))
    assert source.form == "zip archive"
    assert list(source.root.entries) == [FÄHRE]


def test_sizes_that_were_cut_off_are_seen_in_the_directory(tmp_path: Path) -> None:
    """APPNOTE 6.3.10, 4.3.7 and 4.3.12: a stored member of 5 GiB, whose sizes and places are kept modulo 4 GiB."""
    size, name, path = 5 << 30, b"Install.app/Contents/payload.dmg", tmp_path / "big.zip"
    cut = size & 0xFFFF_FFFF
    local = struct.pack("<4s5H3I2H", b"PK\3\4", 10, 0, 0, 0, 0, 0, cut, cut, len(name), 0) + name
    entry = struct.pack("<4s6H3I5H2I", b"PK\1\2", 0x314, 10, 0, 0, 0, 0, 0, cut, cut, len(name), *(0,) * 6) + name
    begin = len(local) + size
    end = struct.pack("<4s4H2IH", b"PK\5\6", 0, 0, 1, 1, len(entry), begin & 0xFFFF_FFFF, 0)
    with path.open("wb") as stream:
        stream.write(local)
        stream.seek(begin)
        stream.write(entry + end)
    with pytest.raises(SourceError, match="it has more than 4 GiB"):
        opened(path)
