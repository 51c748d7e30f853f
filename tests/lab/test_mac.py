"""Every generation's drive is started as a Mac starts it, and its loader finds what its boot configuration names."""

from __future__ import annotations

import shutil
import zlib
from pathlib import Path

import pytest
from msgspec.structs import replace

from lucky_keystone.content.contents import stream
from lucky_keystone.demo.mac import RELEASES
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import build_drive
from ..helpers.mac import app_of, carried
from .mac import files_said, firmware_disk, start_by_header
from .starting import assert_bios_starts, assert_uefi_reads_all

pytestmark = pytest.mark.lab
IMAGES = {
    "container": ("CONTAINER", "{app}/Contents/SharedSupport/InstallESD.dmg"),
    "beside": ("BASE", "{app}/Contents/SharedSupport/BaseSystem.dmg"),
    "asset": ("BASE", "BaseSystem/BaseSystem.dmg"),
}


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return firmware_disk(tmp_path_factory.mktemp("firmware"))


@pytest.mark.parametrize(
    ("release", "carrier"),
    [(release, "folder") for release in RELEASES]
    + [(name, "disk image") for name in ("10.9", "10.13", "11", "15")]
    + [("14", "package, pbzx"), ("26", "zip archive")],
)
def test_a_mac_starts_it(release: str, carrier: str, disk: Path, tmp_path: Path) -> None:
    made = RELEASES[release]
    source = open_source(carried(app_of(release, tmp_path / "apps"), carrier, tmp_path))
    built = build_drive(source, tmp_path / "drive.img", Choices(label="Plakatstudio"), size=400 << 20)
    serial = start_by_header(built.path, disk, tmp_path)
    assert "TIDEWELL MAC LOADER DONE" in serial, serial[-2000:]

    wanted = {made.kernel: "KERNEL"}
    if made.generation in IMAGES:
        what, path = IMAGES[made.generation]
        wanted[path.format(app=made.app)] = what
    said = files_said(serial)
    assert {path: what for path, (what, _, _) in said.items()} == wanted
    for path, (_, size, crc) in said.items():
        file = built.plan.tree.find_file(path)
        assert file is not None
        sum_ = 0
        for piece in stream(file.content):
            sum_ = zlib.crc32(piece, sum_)
        assert (size, crc) == (file.size, sum_)


def test_both_sides_of_a_combined_drive_start(disc: Path, disk: Path, tmp_path: Path) -> None:
    """With a GPT as UEFI and as a Mac; with an MBR, asked for BIOS too, as both kinds of PC."""
    app = app_of("10.13", tmp_path / "apps")
    for choices, starts in ((Choices(), ("uefi", "mac")), (Choices(firmware="both"), ("bios", "uefi"))):
        path = tmp_path / "drive.img"
        path.unlink(missing_ok=True)
        source = open_source(disc, further=[app])
        built = build_drive(source, path, replace(choices, part_size=5 << 20), size=600 << 20)
        if "bios" in starts:
            assert_bios_starts(path)
        if "mac" in starts:
            assert "TIDEWELL MAC LOADER DONE" in start_by_header(path, disk, tmp_path)
        assert_uefi_reads_all(path, built.plan.tree)


def test_each_of_two_releases_beside_windows_starts(disc: Path, disk: Path, tmp_path: Path) -> None:
    """The firmware here takes the first volume that names a loader, so the other one is hidden from it in turn."""
    names = ("14", "10.13")
    apps = [app_of(name, tmp_path / name) for name in names]
    source = open_source(disc, further=apps)
    built = build_drive(source, tmp_path / "drive.img", Choices(part_size=5 << 20), size=900 << 20)
    volumes = [volume.planned.start for volume in built.plan.volumes if volume.planned.kind.names_loaders]
    assert len(volumes) == len(names)
    for name, start in zip(names, volumes, strict=True):
        hidden = tmp_path / f"{name}.img"
        shutil.copyfile(built.path, hidden)
        with hidden.open("r+b") as stream_out:
            for other in volumes:
                if other != start:
                    stream_out.seek(other + 1024)
                    stream_out.write(bytes(512))
        serial = start_by_header(hidden, disk, tmp_path)
        assert "TIDEWELL MAC LOADER DONE" in serial, serial[-2000:]
        assert RELEASES[name].kernel in files_said(serial)
    assert_uefi_reads_all(built.path, built.plan.tree)
