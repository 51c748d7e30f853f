"""Checking: nothing wrong on a good drive, every damage found, use told from damage, drives of other makers."""

from __future__ import annotations

import random
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3

from lucky_keystone.content.extents import align_up
from lucky_keystone.content.regions import RegionKind
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.manifest.format import block_count, pack_manifest, read_manifest
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.fat32.read import Fat32Volume
from lucky_keystone.volumes.ntfs.read import NtfsVolume

from ..helpers.amount import part_of
from ..helpers.drives import Built, build_drive, check_file
from ..helpers.judges import need
from ..helpers.program import run

START = 1 << 20


def flip(path: Path, bit: int) -> None:
    with path.open("r+b") as stream:
        stream.seek(bit // 8)
        byte = stream.read(1)[0]
        stream.seek(bit // 8)
        stream.write(bytes((byte ^ 1 << bit % 8,)))


def test_a_good_drive_has_no_findings(built: Built) -> None:
    report = check_file(built.path)

    assert (report.findings, report.unknown) == ([], [])
    assert (report.built_from, report.volumes[0].label) == (built.source.path.name, "TIDEWELL_11")
    assert report.volumes[0].file_count == sum(1 for _ in built.plan.tree.files())
    assert report.bytes_checked > built.image.bytes_to_write
    assert {row.firmware: row.verdict for row in report.starts} == {
        row.firmware: row.verdict for row in built.plan.forecast
    }


def test_every_single_flipped_bit_is_found(built: Built, copy_of: Callable[[], Path]) -> None:
    """Random bits over all used bytes, and more in each structure that is small beside the files."""
    chance = random.Random(20260314)
    image = built.image
    with ImageFile(built.path) as drive:
        manifest = read_manifest(drive, 512)
        assert manifest is not None
    spans = [
        (0, 512),
        (512, align_up(manifest.stored_size, 512)),
        *((region.offset, region.size) for region in image.regions),
    ]
    weights = [size for _, size in spans]
    places = chance.choices(spans, weights, k=part_of(300)) + [span for span in spans[:-1] for _ in range(part_of(40))]
    path = copy_of()
    missed, mild = [], []
    for start, size in places:
        bit = 8 * start + chance.randrange(8 * size)
        flip(path, bit)
        report = check_file(path)
        if not report.findings:
            missed.append(bit // 8)
        elif report.healthy:
            mild.append(bit // 8)
        flip(path, bit)
    assert missed == []
    # Not called a fault: what a host changes in passing (mounted mark, free counts, access dates, entries of free
    # clusters).
    files = next(region for region in image.regions if region.kind == RegionKind.FILES)
    assert all(START <= byte < files.offset for byte in mild)
    assert check_file(path).findings == []


def change(path: Path, offset: int, data: bytes) -> None:
    with path.open("r+b") as stream:
        stream.seek(offset)
        stream.write(data)


@pytest.mark.parametrize(
    ("damage", "area", "words"),
    [
        ("seal gone", "table", "carries no partition table"),
        ("two active", "table", "2 partitions are active"),
        ("no signature", "table", "disk signature is 0"),
        ("hidden sectors", "boot sectors", "BPB_HiddSec is 0"),
        ("further code", "start", "boot code in the volume's sector 12 is missing"),
        ("crossed", "folders", "shares cluster"),
        ("lost", "FAT", "belong to no file"),
        ("circle", "folders", "loops"),
        ("second fat", "FAT", "two FATs differ, in 1 of"),
        ("file", "files", "sources/boot.wim"),
        ("manifest", "manifest", "do not match their hash"),
    ],
)
def test_damage_is_named_with_what_to_do(
    damage: str, area: str, words: str, built: Built, copy_of: Callable[[], Path]
) -> None:
    path = copy_of()
    with ImageFile(path) as drive:
        volume = Fat32Volume(drive, START, drive.size - START)
        wim, sdi = volume.find("sources/boot.wim"), volume.find("boot/boot.sdi")
        assert wim is not None
        assert sdi is not None
        fats = [volume.fat_offset(0), volume.fat_offset(1)]
        content = volume.cluster_offset(wim.first_cluster)
        inside = wim.first_cluster + 5

    def fat_entry(cluster: int, value: int) -> None:
        for fat in fats:
            change(path, fat + 4 * cluster, value.to_bytes(4, "little"))

    match damage:
        case "seal gone":
            change(path, 0, bytes(512))
        case "two active":
            change(path, 462, path.read_bytes()[446:462])
        case "no signature":
            change(path, 440, bytes(4))
        case "hidden sectors":
            change(path, START + 28, bytes(4))
        case "further code":
            change(path, START + 12 * 512, bytes(512))
        case "crossed":
            fat_entry(inside, sdi.first_cluster)
        case "lost":
            fat_entry(inside, 0x0FFFFFFF)
        case "circle":
            fat_entry(inside, wim.first_cluster)
        case "second fat":
            change(path, fats[1] + 4 * inside, (0x0FFFFFFF).to_bytes(4, "little"))
        case "file":
            change(path, content + 100_000, b"\xff\x00\xff")
        case "manifest":
            change(path, 512 + 600, b"!!")
    report = check_file(path)

    found = [finding for finding in report.findings if finding.area == area and words in finding.what]
    assert found, report.findings
    assert found[0].advice
    assert not report.healthy


def test_use_by_a_host_is_not_called_damage(copy_of: Callable[[], Path]) -> None:
    """What systems put on a stick they are given: a folder of their own, new access dates, the mounted mark."""
    path = copy_of()
    volume = f"{path}@@{START}"
    subprocess.run([need("mmd"), "-i", volume, "::System Volume Information"], check=True)
    subprocess.run(["mcopy", "-i", volume, __file__, "::System Volume Information/IndexerVolumeGuid"], check=True)
    change(path, START + 65, b"\x01")
    report = check_file(path)

    assert report.healthy
    assert {finding.level for finding in report.findings} == {"used", "note"}
    assert any("System Volume Information" in finding.what for finding in report.findings)

    subprocess.run(["mdel", "-i", volume, "::setup.exe"], check=True)
    assert not check_file(path).healthy


def test_a_drive_of_another_maker_is_checked_as_far_as_it_can_be(tmp_path: Path) -> None:
    path, loader = tmp_path / "other.img", tmp_path / "BOOTMGR"
    loader.write_bytes(bytes(range(256)) * 1000)
    with path.open("wb") as stream:
        stream.truncate(64 << 20)
    subprocess.run(
        [need("mkfs.fat"), "-F", "32", "-s", "1", "-h", "2048", "--offset", "2048", path, "64512"],
        check=True,
        capture_output=True,
    )
    change(path, 446, bytes.fromhex("80 20 21 00 0c 28 20 08 00 08 00 00 00 f8 01 00"))
    change(path, 510, b"\x55\xaa")
    change(path, 440, b"\x01\x02\x03\x04")
    subprocess.run([need("mcopy"), "-i", f"{path}@@{START}", loader, "::BOOTMGR"], check=True)
    report = check_file(path)

    assert [line for line in report.unknown if "no manifest" in line]
    assert report.volumes[0].file_count == 1
    found = [(finding.level, finding.code) for finding in report.findings]
    assert found == [
        ("fault", "start.no-mbr-code"),  # nothing else starts it
        ("fault", "start.foreign-code"),
        ("fault", "volume.geometry"),
        ("start", "start.nothing"),
    ], report.findings
    assert report.starts[0].reason == "sector 0 has no boot code"


def test_sectors_of_4096_bytes(disc: Path, tmp_path: Path) -> None:
    drive = build_drive(open_source(disc), tmp_path / "large.img", Choices(part_size=8 << 20), sector_size=4096)
    report = check_file(drive.path)

    assert (report.findings, report.unknown) == ([], [])
    verdicts = {row.firmware: row.verdict for row in report.starts}
    assert (verdicts["BIOS"], verdicts["UEFI 64-bit"]) == ("will not start", "starts")
    assert drive.image.size > 256 << 20


FOLDERS = [{"kind": "folders", "offset": 2 << 20, "size": 4096}]


@pytest.mark.parametrize(
    "forgery",
    [
        {"volume": {"free_clusters": 1 << 40}},
        {"volume": {"folders": [[0, 0], [4_000_000_000, 4_000_000_000], [2, 31]]}},
        {"volume": {"offset": 3}},
        {"volume": {"file_system": "ntfs", "records": "no base64!"}},
        {"volume": {"file_system": "ntfs", "records": "AAAA"}},
        {"regions": [{"kind": "reserved", "offset": 7, "size": 9}]},
        {"regions": [{"kind": "fat1", "offset": 1 << 20, "size": 5}]},
        {"regions": [{"kind": "folders", "offset": (2 << 20) + 17, "size": 1001}]},
        {"regions": [{"kind": "files", "offset": 0, "size": 1 << 62}]},
        {"regions": [{"kind": "sails", "offset": 0, "size": 512}]},
        {"sector_size": 0},
    ],
    ids=str,
)
def test_a_forged_manifest_whose_hashes_fit_is_no_trap(
    forgery: dict[str, Any], built: Built, copy_of: Callable[[], Path]
) -> None:
    """Whoever forges the text can take its hashes again: sizes and places in it are still not believed."""
    path = copy_of()
    about = built.image.about | {"volumes": [built.image.about["volumes"][0] | forgery.get("volume", {})]}
    about |= {key: value for key, value in forgery.items() if key == "sector_size"}
    regions = [
        (note["kind"], note["offset"], note["size"])
        for note in forgery.get("regions", [{"kind": "folders", "offset": 2 << 20, "size": 4096}])
    ]
    count = min(sum(block_count(size) for _, _, size in regions), 100)
    change(path, 512, pack_manifest(about, regions, [bytes(32)] * count, built.image.manifest_room))

    assert not check_file(path).healthy


def test_a_manifest_of_an_earlier_version_is_no_fault(copy_of: Callable[[], Path]) -> None:
    path = copy_of()
    head = b"LKEYMAN1" + path.read_bytes()[520 : 512 + 480]
    change(path, 512, head + blake3(head).digest())
    report = check_file(path)
    assert report.exit_code == 0
    assert [(finding.level, finding.code) for finding in report.findings] == [("note", "manifest.earlier")]
    assert any("earlier version" in line for line in report.unknown)


def test_what_was_written_as_zeros_behind_the_manifest_has_to_be_zeros(
    built: Built, copy_of: Callable[[], Path]
) -> None:
    path = copy_of()
    with ImageFile(built.path) as drive:
        manifest = read_manifest(drive, 512)
    assert manifest is not None
    end = 512 + manifest.stored_size
    assert end % 512, "the manifest fills its last sector by chance: build another one"
    change(path, end, b"\1")
    found = [finding for finding in check_file(path).findings if finding.level == "fault"]
    assert [finding.code for finding in found] == ["manifest.padding"]
    assert (found[0].place.offset, found[0].place.size) == (end, 512 - end % 512)


def test_a_copied_gpt_drive_is_healthy_where_its_copy_is_not_at_the_end(built: Built, tmp_path: Path) -> None:
    path = tmp_path / "larger.img"
    build_drive(built.source, path, Choices(table="gpt", part_size=8 << 20))
    with path.open("r+b") as stream:
        stream.truncate(path.stat().st_size + (9 << 20))
    report = check_file(path)
    assert [(finding.level, finding.code) for finding in report.findings] == [("note", "gpt.copy-not-at-end")]


def test_a_damaged_record_of_the_loader_is_a_finding_and_no_error(built: Built, tmp_path: Path) -> None:
    """One byte in the file record of the UEFI loader: everything else is still looked at and said."""
    path = tmp_path / "ntfs.img"
    build_drive(built.source, path, Choices(file_system="ntfs"))
    with ImageFile(path) as drive:
        volume = NtfsVolume(drive, START, drive.size - START)
        loader = volume.find("efi/boot/bootx64.efi")
        assert loader is not None
        data = path.read_bytes()
        at = data.index(volume.record_bytes(loader.number)[:64], volume.cluster_offset(volume.boot.mft_cluster))
    change(path, at, b"\xfe")
    report = check_file(path)
    assert report.exit_code == 1
    assert {"start.loader", "volume.entries"} <= {finding.code for finding in report.findings}
    verdicts = {row.firmware: row.verdict for row in report.starts}
    assert (verdicts["BIOS"], verdicts["UEFI 64-bit"]) == ("starts", "will not start")


@pytest.mark.parametrize(
    ("offset", "data", "code", "starts"),
    [
        (0, bytes(440), "start.no-mbr-code", "will not start"),
        (446, b"\0", "start.no-active", "will not start"),
        (START + 90, bytes(420), "start.no-volume-code", "will not start"),
        (START + 28, bytes(4), "volume.hidden-sectors", "starts"),
    ],
)
def test_what_keeps_a_drive_from_starting_has_a_code(
    offset: int, data: bytes, code: str, starts: str, copy_of: Callable[[], Path]
) -> None:
    path = copy_of()
    change(path, offset, data)
    report = check_file(path)
    codes = [finding.code for finding in report.findings]
    assert code in codes
    assert next(row.verdict for row in report.starts if row.firmware == "BIOS") == starts


def test_a_blank_drive_is_told_as_that(tmp_path: Path) -> None:
    """No repair is promised for it; one byte anywhere that is sampled, and it is a drive without a table."""
    path = tmp_path / "blank.img"
    path.write_bytes(bytes(40 << 20))
    told = run("check", path, code=1).stdout
    assert "the drive is blank" in told
    assert "mend" not in told
    with path.open("r+b") as out:
        out.seek(-5, 2)
        out.write(b"x")
    assert "carries no partition table" in run("check", path, code=1).stdout
