"""Boot code of others that is said to start does so, on the BIOSes of two makers, and is left as it is."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.common.progress import silent
from lucky_keystone.mending.make import make_mending

from ..helpers.amount import sample_of
from ..helpers.foreign_code import ENTRY, RECORD, VOLUME, drive_with
from .starting import assert_bios_starts

pytestmark = pytest.mark.lab
KINDS = [(None, code) for code in VOLUME.values() if code.verdict == "starts"]
KINDS += [(0, code) for code in RECORD.values() if code.verdict == "starts"]
FIRST, LAST = KINDS[0], KINDS[-1]
STARTS = [(base, kind, bios) for base in ENTRY for kind in KINDS for bios in ("bios", "bios-bochs")]


@pytest.mark.parametrize(
    ("base", "kind", "bios"),
    sample_of(STARTS, [("ready", FIRST, "bios-bochs"), ("ntfs ready", FIRST, "bios"), ("ready", LAST, "bios")]),
)
def test_it_starts(base: str, kind: tuple, bios: str, drives: dict[str, bytes], files: Path, tmp_path: Path) -> None:
    place, code = kind
    drive = drive_with(base, drives, files, code, place, tmp_path)
    assert make_mending(drive, 512, silent).remedies == ()
    (tmp_path / "drive.img").write_bytes(drive.data)
    assert_bios_starts(tmp_path / "drive.img", bios)
