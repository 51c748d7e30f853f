"""Boot code of others is judged by what it does: started in an emulation, and replaced only where it starts nothing."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.mending.make import make_mending
from lucky_keystone.mending.remedy import Wishes

from ..helpers.foreign_code import ENTRY, RECORD, VOLUME, drive_with


@pytest.mark.parametrize("base", ENTRY)
@pytest.mark.parametrize(
    "where", [*(("volume", name) for name in VOLUME), *(("sector 0", name) for name in RECORD)], ids=str
)
def test_what_it_does_decides(
    base: str, where: tuple[str, str], drives: dict[str, bytes], files: Path, tmp_path: Path
) -> None:
    place, code = (None, VOLUME[where[1]]) if where[0] == "volume" else (0, RECORD[where[1]])
    drive = drive_with(base, drives, files, code, place, tmp_path)
    report = check_drive(drive, silent)
    of_bios = [
        found.code.value for found in report.findings if "crossing" not in found.code and found.code != "start.nothing"
    ]
    assert sorted(of_bios) == sorted(code.found)
    row = next(row for row in report.starts if row.firmware == "BIOS")
    assert row.verdict == code.verdict, row.reason
    mending = make_mending(drive, 512, silent)
    assert any("foreign" in remedy.code for remedy in mending.remedies) == code.mended
    asked = make_mending(drive, 512, silent, wishes=Wishes(replace_code=True))
    assert any("foreign" in remedy.code for remedy in asked.remedies)
    assert next(row for row in asked.after.report.starts if row.firmware == "BIOS").verdict == "starts"


def test_without_an_emulation_it_is_not_known(
    drives: dict[str, bytes], files: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    drive = drive_with("ready", drives, files, VOLUME["says that BOOTMGR is missing"], None, tmp_path)
    monkeypatch.setitem(sys.modules, "lucky_keystone.boot.machine", None)
    report = check_drive(drive, silent)
    assert [found.code.value for found in report.findings] == ["start.code-not-known"]
    assert "no processor emulation is installed" in report.findings[0].what
    assert make_mending(drive, 512, silent).remedies == ()
    (remedy,) = make_mending(drive, 512, silent, wishes=Wishes(replace_code=True)).remedies
    assert remedy.code == "start.foreign-code"
