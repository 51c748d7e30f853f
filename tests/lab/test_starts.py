"""Drives start under real firmware, and the stand-in loaders find on them what real ones rely on."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.fat32.read import Fat32Volume

from ..helpers.amount import ALL, sample_of
from ..helpers.drives import Built, build_drive, check_file
from ..helpers.judges import need
from .starting import assert_bios_starts, assert_uefi_reads_all

pytestmark = pytest.mark.lab


@pytest.mark.parametrize("kib", sample_of([300, 410, 500], [500]))
def test_bios_starts_loaders_of_every_size(kib: int, tmp_path: Path) -> None:
    """300 KiB crosses four borders of 64 KiB; 500 KiB reaches close to the firmware's own data."""
    disc = tmp_path / "disc.iso"
    write_disc(disc, installer(loader_size=kib << 10, hollow_count=0), LABEL, MOMENT, silent)
    assert_bios_starts(build_drive(open_source(disc), tmp_path / "drive.img").path)


def test_bios_starts_with_large_clusters(disc: Path, tmp_path: Path) -> None:
    drive = build_drive(open_source(disc), tmp_path / "drive.img", Choices(cluster=32 << 10), size=3 << 30)
    assert_bios_starts(drive.path)


def test_a_second_bios_starts_the_drive_as_an_ide_disk(built: Built) -> None:
    """Bochs' BIOS on a PC with an ISA bus and a 486: nothing in common with the first but the interface."""
    assert_bios_starts(built.path, "bios-bochs")


def test_uefi_reads_every_file_and_part(built: Built, tmp_path: Path) -> None:
    assert [len(split.parts) for split in built.plan.splits] == [3]
    assert_uefi_reads_all(built.path, built.plan.tree)


@pytest.mark.parametrize("file_system", sample_of(["fat32", "ntfs"], ["fat32"]))
def test_drives_with_an_install_image_larger_than_fat32_can_hold(file_system: str, tmp_path: Path) -> None:
    """The demo's own source with 4.4 GiB: split on the way, and whole on NTFS, each under both firmwares."""
    disc = tmp_path / "disc.iso"
    write_disc(disc, installer(hollow_count=7), LABEL, MOMENT, silent)
    drive = build_drive(
        open_source(disc), tmp_path / "drive.img", Choices(file_system=file_system), size=16_008_609_792
    )
    images = [file.size for path, file in drive.plan.tree.files() if path.startswith("sources/install")]
    assert sum(images) > 1 << 32
    assert len(images) == (2 if file_system == "fat32" else 1)
    assert_bios_starts(drive.path)
    if ALL:  # some minutes of an emulated processor
        assert_uefi_reads_all(drive.path, drive.plan.tree)


def test_disc_of_an_independent_authoring_tool(disc: Path, tmp_path: Path) -> None:
    """The same files, put on a disc by another program: the drive starts on both firmwares."""
    folder, other = tmp_path / "files", tmp_path / "other.iso"
    for path, file in open_source(disc).root.files():
        place = folder / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(b"".join(bytes(piece) for piece in stream(file.content)))
    subprocess.run(
        [need("genisoimage"), "-quiet", "-udf", "-V", "WORKSHOP", "-o", other, folder], check=True, capture_output=True
    )
    source = open_source(other)
    assert source.form == "disc image (UDF)"
    drive = build_drive(source, tmp_path / "drive.img", Choices(part_size=8 << 20))
    assert_bios_starts(drive.path)
    assert_uefi_reads_all(drive.path, drive.plan.tree)


def test_bios_starts_a_loader_replaced_and_fragmented(disc: Path, tmp_path: Path) -> None:
    """BOOTMGR is removed and written again by another tool into the holes that other files left."""
    drive = build_drive(open_source(disc), tmp_path / "drive.img", Choices(cluster=4096), size=320 << 20).path
    volume = f"{drive}@@{1 << 20}"
    loader = tmp_path / "bootmgr"
    subprocess.run([need("mcopy"), "-i", volume, "::bootmgr", loader], check=True)
    fillers = [tmp_path / f"f{number}" for number in range(40)]
    for filler in fillers:
        filler.write_bytes(bytes(20_000))
    subprocess.run(["mdel", "-i", volume, "::bootmgr"], check=True)
    _forget_next_free(drive)
    subprocess.run(["mcopy", "-i", volume, *fillers, "::"], check=True)
    subprocess.run(["mdel", "-i", volume, *(f"::{filler.name}" for filler in fillers[::2])], check=True)
    _forget_next_free(drive)
    subprocess.run(["mcopy", "-i", volume, loader, "::bootmgr"], check=True)
    subprocess.run(["mdel", "-i", volume, *(f"::{filler.name}" for filler in fillers[1::2])], check=True)
    with ImageFile(drive) as image:
        entry = Fat32Volume(image, 1 << 20, image.size - (1 << 20)).find("bootmgr")
        assert entry is not None
        assert len(entry.runs) > 10
    assert_bios_starts(drive)
    assert {row.firmware: row.verdict for row in check_file(drive).starts}["BIOS"] == "starts"


def _forget_next_free(drive: Path) -> None:
    """Let the next tool search for free clusters from the front: the free count and the hint become 'not known'."""
    with ImageFile(drive, write=True) as image:
        image.write_at((1 << 20) + 512 + 488, memoryview(b"\xff" * 8))
