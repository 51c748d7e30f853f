"""A real kernel's FAT and NTFS drivers read the same tree and bytes as the source's; they write to it."""

from __future__ import annotations

import hashlib
import subprocess
from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.content.tree import Folder
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.exfat.kind import EXFAT
from lucky_keystone.volumes.hfsplus.names import composed

from ..helpers.drives import build_drive, check_file
from ..helpers.editions import everything
from ..helpers.exfat import exfat_drive
from ..helpers.hfsplus import studio, write_volume
from ..helpers.install_images import install_image
from ..helpers.judges import need
from ..helpers.mac import app_of
from ..helpers.releases import merged
from ..helpers.systems import system
from ..helpers.trees import file, folder
from .kernel import see

pytestmark = pytest.mark.lab


def sums_of(tree: Folder) -> dict[str, str]:
    """Return {path: SHA-256} of a tree."""
    sums = {}
    for path, each in tree.files():
        digest = hashlib.sha256()
        for piece in stream(each.content):
            digest.update(piece)
        sums[path] = digest.hexdigest()
    return sums


@pytest.mark.parametrize(("file_system", "driver"), [("fat32", "vfat"), ("ntfs", "ntfs3"), ("fat32+ntfs", "ntfs3")])
def test_a_kernel_reads_the_source_and_writes_beside_it(
    file_system: str, driver: str, disc: Path, tmp_path: Path
) -> None:
    part_size = 8 << 20 if file_system == "fat32" else None
    built = build_drive(
        open_source(disc), tmp_path / "drive.img", Choices(file_system=file_system, part_size=part_size), size=96 << 20
    )
    sums, messages, written = see(built.path, tmp_path, driver)
    assert sums == sums_of(built.plan.tree)
    assert [line for line in messages if "FAT-fs" in line or "ntfs3(vda" in line] == []
    assert written

    report = check_file(built.path)
    assert [finding.level for finding in report.findings] == ["used"], report.findings
    assert "Deck log.txt" in report.findings[0].what
    start, size = built.plan.volumes[0].planned.start, built.plan.volumes[0].planned.size
    with built.path.open("rb") as stream_in, (tmp_path / "volume").open("wb") as out:
        stream_in.seek(start)
        out.write(stream_in.read(size))
    checker = [need("fsck.fat"), "-n"] if driver == "vfat" else [need("ntfsfix"), "--no-action"]
    subprocess.run([*checker, tmp_path / "volume"], check=True, capture_output=True)


def test_a_kernel_reads_an_applied_edition_and_writes_beside_it(tmp_path: Path) -> None:
    """With hard links, streams, twins, names beyond its own rules; reparse points are not files to it."""
    wim, edition = tmp_path / "crew.wim", merged(system(), everything())
    wim.write_bytes(install_image([edition], "lzx"))
    built = build_drive(open_source(wim), tmp_path / "drive.img", Choices(purpose="portable"), size=400 << 20)
    sums, messages, written = see(built.path, tmp_path, "ntfs3")
    points = {path for path, entry in built.plan.tree.walk() if entry.special.reparse}
    assert {path: sums.get(path) for path in sums_of(built.plan.tree).keys() - points} == {
        path: digest for path, digest in sums_of(built.plan.tree).items() if path not in points
    }
    assert [line for line in messages if "ntfs3(vda" in line] == []
    assert written
    assert [finding.level for finding in check_file(built.path).findings] == ["used"]


def test_a_kernel_reads_hfsplus_and_writes_to_it(tmp_path: Path) -> None:
    """Its driver knows no characters beyond 16 bits, shows names composed, and follows hard links."""
    drive, tree = tmp_path / "drive.img", studio()
    del tree.entries["Fähre 🚢"]
    write_volume(tree, drive, start=1 << 20)
    sums, messages, written = see(drive, tmp_path, "hfsplus")
    del tree.entries["alias"]  # a symbolic link, which the guest does not sum
    assert {composed(path): digest for path, digest in sums.items()} == {
        composed(path): digest for path, digest in sums_of(tree).items()
    }
    assert messages == []
    assert written
    faults = [finding for finding in check_file(drive).findings if finding.level in ("fault", "note")]
    assert [finding for finding in faults if finding.code != "start.nothing"] == []


def test_a_kernel_reads_exfat_and_writes_to_it(tmp_path: Path) -> None:
    tree = folder("", file("empty"), file("Fähre 東京.txt", b"09:26\n" * 9000), folder("deck", file("a" * 200, b"x")))
    drive, _ = exfat_drive(tree, size=40 << 20)
    (tmp_path / "drive.img").write_bytes(drive.data)
    sums, messages, written = see(tmp_path / "drive.img", tmp_path, "exfat")
    assert (sums, messages, written) == (sums_of(tree), [], True)
    with ImageFile(tmp_path / "drive.img") as image:
        report = check_drive(image, silent)
        volume = EXFAT.open(image, 1 << 20, 40 << 20)
        assert volume.read_at_of(volume.find("deck log.TXT"), 0, 99) == b"ferry\n"
    assert [found.code.value for found in report.findings] == ["start.nothing"]
    (tmp_path / "volume").write_bytes((tmp_path / "drive.img").read_bytes()[1 << 20 : 41 << 20])
    subprocess.run([need("fsck.exfat"), "-n", tmp_path / "volume"], check=True, capture_output=True)


def test_what_a_kernel_does_to_a_drive_for_macs_is_use(tmp_path: Path) -> None:
    built = build_drive(open_source(app_of("10.13", tmp_path / "apps")), tmp_path / "drive.img", size=300 << 20)
    sums, messages, written = see(built.path, tmp_path, "hfsplus", partition=2)
    links = {path for path, file in built.plan.tree.files() if file.special.unix.is_link}
    assert sums == {path: digest for path, digest in sums_of(built.plan.tree).items() if path not in links}
    assert (messages, written) == ([], True)
    report = check_file(built.path)
    assert {finding.level for finding in report.findings} <= {"used", "note"}, report.findings
    used = next(finding for finding in report.findings if finding.level == "used")
    assert "Deck log.txt" in used.what
    assert "everything that was built is unchanged" in used.what
