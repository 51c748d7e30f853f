"""Raw images, written from every way of compressing, start under real firmware.

Some are what the archive's packages ship.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard
from matplotlib.image import imread

from lucky_keystone.content.contents import stream
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.rehearsal.emulator import start_drive
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import build_drive, check_file, small_disc
from ..helpers.judges import need
from .emulator import need_firmware, start
from .starting import BIOS_DONE

pytestmark = pytest.mark.lab
ARCHIVE = Path(".lab-images/usr/lib")
MIB = 1 << 20


def written(image: Path, pack: Callable[[bytes], bytes], *, room: int) -> Path:
    """Compress an image and write it onto a drive with `room` bytes more."""
    packed = image.with_suffix(".packed")
    packed.write_bytes(pack(image.read_bytes()))
    source = open_source(packed)
    assert facts_of(source).family == "raw-image"
    size = image.stat().st_size + room
    drive = build_drive(source, image.with_suffix(".drive"), size=size)
    report = check_file(drive.path)
    assert report.healthy, report.findings
    return drive.path


@pytest.mark.parametrize("pack", [lambda data: gzip.compress(data, 1), lambda data: bz2.compress(data, 1)])
def test_an_image_with_an_mbr_starts_on_both_firmwares(pack: Callable[[bytes], bytes], tmp_path: Path) -> None:
    disc = small_disc(tmp_path / "disc.iso")
    image = build_drive(open_source(disc), tmp_path / "mbr.img").path
    drive = written(image, pack, room=8 * MIB)
    serial = start(drive, "bios").serial
    assert [line for line in BIOS_DONE if line not in serial] == [], serial
    assert "TIDEWELL UEFI DONE" in start(drive, "uefi-x64").serial


def test_an_image_with_a_gpt_starts_under_uefi_on_a_larger_drive(tmp_path: Path) -> None:
    """Its copy lies at the image's end, not at the drive's: firmware takes the first one."""
    disc = small_disc(tmp_path / "disc.iso")
    image = build_drive(open_source(disc), tmp_path / "gpt.img", Choices(table="gpt")).path
    drive = written(image, lambda data: lzma.compress(data, preset=0), room=8 * MIB)
    assert "TIDEWELL UEFI DONE" in start(drive, "uefi-x64").serial


def test_a_fat_volume_without_a_table_starts_under_uefi(tmp_path: Path) -> None:
    image, loader = tmp_path / "updater.img", tmp_path / "loader"
    with image.open("wb") as file:
        file.truncate(24 * MIB)
    found = open_source(small_disc(tmp_path / "disc.iso")).root.find_file("efi/boot/bootx64.efi")
    assert found is not None
    loader.write_bytes(b"".join(bytes(piece) for piece in stream(found.content)))
    subprocess.run([need("mkfs.fat"), "-F", "16", image], check=True, capture_output=True)
    subprocess.run([need("mmd"), "-i", image, "::EFI", "::EFI/BOOT"], check=True)
    subprocess.run([need("mcopy"), "-i", image, loader, "::EFI/BOOT/BOOTX64.EFI"], check=True)
    drive = written(image, lambda data: zstandard.ZstdCompressor().compress(data), room=0)
    assert "TIDEWELL UEFI DONE" in start(drive, "uefi-x64").serial


@pytest.mark.parametrize("firmware", ["bios", "uefi-x64"])
def test_a_hybrid_disc_of_the_archive_starts(firmware: str, tmp_path: Path) -> None:
    """A memory test, whose screen is blue: written as it is, it starts as its makers mean it to."""
    image = ARCHIVE / "memtest86+/memtest86+x64.iso"
    if not image.exists():
        pytest.skip("the archive's memory test is not unpacked in .lab-images")
    copy = tmp_path / "memory.img"
    copy.write_bytes(image.read_bytes())
    drive = written(copy, gzip.compress, room=8 * MIB)
    need_firmware(firmware)
    for seconds in (10, 40, 160, 600):  # as long as a busy machine may need
        picture = start_drive(drive, firmware, seconds=seconds).picture
        red, green, blue = (imread(io.BytesIO(picture))[..., channel] for channel in range(3))
        if ((blue > 0.5) & (red < 0.1) & (green < 0.1)).mean() > 0.5:
            return
    raise AssertionError("the screen is not the memory test's")


def test_a_boot_menu_of_the_archive_starts_from_the_bios(tmp_path: Path) -> None:
    """Its screen is black with grey letters.

    A BIOS that finds nothing says so in the same way, so the two are compared.
    """
    image = ARCHIVE / "grub-rescue" / "grub-rescue-usb.img"
    if not image.exists():
        pytest.skip("the archive's boot menu is not unpacked in .lab-images")
    copy, empty = tmp_path / "menu.img", tmp_path / "empty.img"
    copy.write_bytes(image.read_bytes())
    with empty.open("wb") as file:
        file.truncate(8 * MIB)
    drive = written(copy, lambda data: data, room=8 * MIB)
    need_firmware("bios")
    for seconds in (10, 40, 160, 600):
        shown = []
        for path in (drive, empty):
            screen = imread(io.BytesIO(start_drive(path, "bios", seconds=seconds).picture))[..., :3]
            shown.append((screen.max(axis=2) > 0.5).sum(axis=1))
        if (shown[0] > 500).any():  # the frame of the menu crosses the screen; no line of text does
            assert not (shown[1] > 500).any()
            return
    raise AssertionError("no menu came up")
