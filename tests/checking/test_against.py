"""`check --against`: every file compared with the source, whatever the drive's own manifest says."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source

from ..helpers.drives import MemoryDrive, build_drive, extract, small_disc
from ..helpers.program import run, run_json

MIB = 1 << 20
SHAPES = [
    Choices(part_size=6 * MIB),
    Choices(file_system="ntfs"),
    Choices(file_system="fat32+ntfs", table="gpt"),
]


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    return open_source(small_disc(tmp_path_factory.mktemp("against") / "disc.iso", filling=9))


def compared(drive: MemoryDrive, source: Source) -> list[tuple[str, str]]:
    report = check_drive(drive, silent, contents=False, against=source)
    return [(str(finding.code), finding.what) for finding in report.findings]


@pytest.mark.parametrize("choices", SHAPES, ids=["parts", "crossing", "pair"])
def test_a_drive_holds_its_source(choices: Choices, source: Source, tmp_path: Path) -> None:
    """In parts, beside our own helper, twice on a pair: nothing differs; one byte of a file does, and is named."""
    drive = MemoryDrive.of(build_drive(source, tmp_path / "drive.img", choices).path)
    assert compared(drive, source) == []
    setup = source.root.find_file("setup.exe")
    assert setup is not None
    data = setup.content.read_at(0, setup.size)  # type: ignore[attr-defined]
    at = drive.data.find(data)
    drive.data[at + 777] ^= 1
    assert compared(drive, source) == [
        ("against.different", "setup.exe differs from the source: the first byte that differs is 777.")
    ]


def test_parts_are_compared_resource_by_resource(source: Source, tmp_path: Path) -> None:
    drive = MemoryDrive.of(build_drive(source, tmp_path / "drive.img", SHAPES[0]).path)
    image = source.root.find_file("sources/install.wim")
    assert image is not None
    whole = image.content.read_at(0, image.size)  # type: ignore[attr-defined]
    drive.data[drive.data.find(whole[208 : 208 + 4096]) + 5] ^= 1
    (found,) = compared(drive, source)
    assert found[0] == "against.different"
    assert "sources/install.wim differs from the source: sources/install" in found[1]
    assert "resource" in found[1]


def test_another_source_and_what_is_only_on_the_drive(source: Source, tmp_path: Path) -> None:
    """As a technician types it: a file missing, one of another size, one that only the drive has."""
    drive = build_drive(source, tmp_path / "drive.img", SHAPES[0]).path
    folder = extract(source.path, tmp_path / "folder")
    assert run_json("check", drive, "--against", folder)["findings"] == []
    (folder / "sources/lang.ini").write_bytes(b"other")
    (folder / "support/new.txt").write_bytes(b"new")
    (folder / "setup.exe").unlink()
    found = run_json("check", drive, "--against", folder, code=1)["findings"]
    assert [(finding["code"], finding["level"]) for finding in found] == [
        ("against.different", "fault"),
        ("against.missing", "fault"),
        ("against.extra", "note"),
    ]
    assert "it has 37 bytes, in the source 5" in found[0]["what"]
    assert "setup.exe" in found[2]["what"]
    assert "support/new.txt is missing" in run("check", drive, "--against", folder, code=1).stdout
    assert "--against" in run("check", drive, "--add", folder, code=2).stderr
