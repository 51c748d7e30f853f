"""Drives that did not start, or not everywhere, start under real firmware once they are mended."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.common.progress import silent
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.mending.carry_out import write_steps
from lucky_keystone.mending.journal import JournalText
from lucky_keystone.mending.make import make_mending
from lucky_keystone.mending.remedy import Wishes
from lucky_keystone.mending.steps import make_steps
from lucky_keystone.sources.opening import open_source

from ..helpers.amount import sample_of
from ..helpers.hand_made import CASES
from .emulator import start
from .starting import assert_bios_starts

pytestmark = pytest.mark.lab
SAMPLE = (
    *("as made by hand, without boot code", "hidden sectors", "boot sector lost", "first FAT damaged", "lost loader"),
    *("install image cut off", "sector 0 lost", "stale GPT", "no protective record", "primary GPT lost"),
    *("NTFS, as made by hand", "NTFS, boot sector lost", "NTFS, first record damaged"),
)
"""What CI starts, each on one firmware; LUCKY_KEYSTONE_LAB=all starts every kind on every firmware."""
STARTS = sample_of(
    [(name, firmware) for name, case in CASES.items() for firmware in case.starts],
    [(name, CASES[name].starts[-1]) for name in SAMPLE],
)


@pytest.mark.parametrize(("name", "firmware"), STARTS)
def test_a_mended_drive_starts(name: str, firmware: str, drives: dict[str, bytes], files: Path, tmp_path: Path) -> None:
    path, case = tmp_path / "mended.img", CASES[name]
    path.write_bytes(case.drive(drives, files).data)
    source = open_source(files) if case.needs_source else None
    with ImageFile(path, write=True) as drive:
        mending = make_mending(drive, 512, silent, wishes=Wishes(source=source))
        steps = make_steps(drive, mending.changes, 512)
        text = JournalText(str(path), path.name, "2026-11-29T08:00:00Z", [])
        write_steps(steps, drive, tmp_path / "one.mend", text, 512, silent)
    if firmware == "bios":
        assert_bios_starts(path)
    else:
        assert "TIDEWELL UEFI DONE" in start(path, firmware).serial
