"""Drives of other releases start: an older one by the loader from inside its image, one for two architectures."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import build_drive
from ..helpers.releases import release
from .starting import assert_bios_starts, assert_uefi_reads_all

pytestmark = pytest.mark.lab
INSIDE = "Windows/Boot/EFI/bootmgfw.efi"


@pytest.mark.parametrize("file_system", ["fat32", "ntfs"])
def test_an_older_release(file_system: str, tmp_path: Path) -> None:
    """Its loader lies LZX-packed in the install image; on NTFS the crossing starts it."""
    folder = release(tmp_path / "old", build=7601, loaders={}, inside={INSIDE: uefi_loader("x64")})
    built = build_drive(open_source(folder), tmp_path / "drive.img", Choices(file_system=file_system))
    assert built.plan.tree.find_file("efi/boot/bootx64.efi")
    assert_bios_starts(built.path)
    assert_uefi_reads_all(built.path, built.plan.tree)


@pytest.mark.parametrize("firmware", ["uefi-x64", "uefi-x86"])
def test_two_architectures(firmware: str, tmp_path: Path) -> None:
    """Both folders' install images in parts."""
    folder = release(tmp_path / "both", build=19045, architectures=("x64", "x86"), method="none")
    choices = Choices(file_system="fat32", part_size=1 << 20)
    built = build_drive(open_source(folder), tmp_path / "drive.img", choices)
    assert [split.path for split in built.plan.splits] == [f"{each}/sources/install.wim" for each in ("x64", "x86")]
    assert_uefi_reads_all(built.path, built.plan.tree, firmware)
