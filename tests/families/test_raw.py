"""Raw images: recognised, written byte for byte from every form, never half done, checked wherever they are."""

from __future__ import annotations

import gzip
import lzma
import os
import random
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.several import Job, build_all
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import DriveGone, KeystoneError, SourceError, UsageError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.family import DriveShape
from lucky_keystone.families.proving import verify_source
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.decoders import Xz
from lucky_keystone.sources.opening import open_source

from ..helpers.amount import part_of, sample_of
from ..helpers.drives import MemoryDrive, build_drive, small_disc
from ..helpers.judges import need
from ..helpers.packing import PACKINGS
from ..helpers.program import run_json

MIB = 1 << 20
FORMS = ("mbr", "gpt", "gpt, 4096", "fat12", "fat16", "fat32", "hybrid disc")
DECIDE = Choices()


@pytest.fixture(scope="module")
def images(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """An image of each form, made by our own composer or the system's tools."""
    folder = tmp_path_factory.mktemp("raw")
    disc = small_disc(folder / "disc.iso")
    found = {name: folder / f"{name.replace(', ', '-').replace(' ', '-')}.img" for name in FORMS}
    source = open_source(disc)
    build_drive(source, found["mbr"], Choices(use="needed"), size=None)
    build_drive(source, found["gpt"], Choices(table="gpt"))
    build_drive(source, found["gpt, 4096"], Choices(table="gpt", file_system="ntfs"), sector_size=4096)
    for name, bits, size in (("fat12", "12", 2 * MIB), ("fat16", "16", 24 * MIB), ("fat32", "32", 40 * MIB)):
        with found[name].open("wb") as file:
            file.truncate(size)
        command = [need("mkfs.fat"), "-F", bits, "-s", "1", "-n", "PRINTER", found[name]]
        subprocess.run(command, check=True, capture_output=True)
        subprocess.run([need("mmd"), "-i", found[name], "::EFI", "::EFI/BOOT"], check=True)
        loader = source.root.find_file("efi/boot/bootx64.efi")
        assert loader is not None
        (folder / "loader").write_bytes(b"".join(bytes(piece) for piece in stream(loader.content)))
        copy = [need("mcopy"), "-i", found[name], folder / "loader", "::EFI/BOOT/BOOTX64.EFI"]
        subprocess.run(copy, check=True)
    files = folder / "files"
    files.mkdir()
    (files / "read me.txt").write_text("Tidewell Ferry Company, tests of the ticket printers")
    disc = folder / "printer.iso"
    subprocess.run([need("genisoimage"), "-quiet", "-J", "-R", "-o", disc, files], check=True)
    # A disc with a table in front of it, and behind it the FAT volume that firmware starts from.
    hybrid = bytearray(disc.read_bytes().ljust(MIB, b"\0") + found["fat12"].read_bytes())
    hybrid[446:462] = bytes.fromhex("00 20 21 00 EF 60 25 00 00 08 00 00 00 10 00 00")
    hybrid[510:512] = b"\x55\xaa"
    found["hybrid disc"].write_bytes(hybrid)
    return found


def packed(image: Path, packing: str) -> Path:
    path = image.with_name(f"{image.name}.{packing}") if packing else image
    if not path.exists():
        path.write_bytes(PACKINGS[packing](image.read_bytes()))
    return path


def sectors_of(name: str) -> int:
    return 4096 if "4096" in name else 512


@pytest.mark.parametrize(
    ("name", "packing"),
    sample_of(
        [(name, packing) for name in FORMS for packing in PACKINGS],
        [*((name, "") for name in FORMS), *(("fat16", packing) for packing in PACKINGS if packing)],
    ),
)
def test_an_image_becomes_the_drive_byte_for_byte(name: str, packing: str, images: dict[str, Path]) -> None:
    expected, sector = images[name].read_bytes(), sectors_of(name)
    source = open_source(packed(images[name], packing))
    assert facts_of(source).family == "raw-image"
    heard: list[tuple[str, int, int]] = []
    proofs = verify_source(source, None, lambda *how_far: heard.append(how_far), integrity=True)
    assert len(proofs) == (1 if packing else 0)
    assert all(done <= whole for _, done, whole in heard)
    plan = make_plan(source, DECIDE, DriveShape("MAST", len(expected) + 9 * MIB, sector))
    drive = MemoryDrive(len(expected) + 9 * MIB)
    drive.data[-512:] = b"EFI PART".ljust(512, b"\xa5")  # the copy of an old table
    build(compose_drive(plan), drive, silent)

    assert bytes(drive.data[: len(expected)]) == expected
    assert b"EFI PART" not in drive.data[-MIB:]
    writes = [offset for what, offset, _ in drive.log if what == "write"]
    assert writes[-1] == 0, "sector 0 goes last"
    report = check_drive(drive, silent)
    assert report.healthy, report.findings
    assert report.bytes_checked > len(expected)
    verdicts = {row.firmware: row.verdict for row in report.starts}
    assert verdicts == {row.firmware: row.verdict for row in plan.forecast}
    assert verdicts["UEFI 64-bit"] == "starts"

    drive.data[len(expected) // 2] ^= 1
    faults = [
        finding for finding in check_drive(drive, silent, sector_size=sector).findings if finding.level == "fault"
    ]
    assert "content.image" in [finding.code for finding in faults]


@pytest.mark.parametrize("packing", [packing for packing in PACKINGS if packing])
def test_a_cut_or_damaged_stream_never_becomes_a_finished_drive(
    packing: str, images: dict[str, Path], tmp_path: Path
) -> None:
    whole = packed(images["fat16"], packing).read_bytes()
    chance = random.Random(20261125)
    path = tmp_path / f"cut.img.{packing}"
    for number in range(24):
        bad = bytearray(whole)
        if number % 2:
            bad[chance.randrange(20, len(bad))] ^= 1 << chance.randrange(8)
        else:
            del bad[len(bad) - chance.randrange(1, len(bad) - 20) :]
        path.write_bytes(bad)
        drive = MemoryDrive(30 * MIB)
        try:
            build(compose_drive(make_plan(open_source(path), DECIDE, DriveShape("MAST", drive.size))), drive, silent)
        except SourceError:
            assert not any(drive.data[:512]), "no seal"
            continue
        assert bytes(drive.data[: 24 * MIB]) == images["fat16"].read_bytes(), "a bit that no reader looks at"


@pytest.mark.parametrize("padding", [0, 4, (256 << 10) + 4, 256 * MIB])
def test_padding_behind_an_xz_stream_is_passed_over_at_once(padding: int, tmp_path: Path) -> None:
    """Zeros, four by four, may follow (The .xz file format 1.1.0, 2.2); other counts are damage."""
    path = tmp_path / "padded.xz"
    packed = lzma.compress(bytes(2 * MIB), preset=0)
    path.write_bytes(packed)
    os.truncate(path, len(packed) + padding)
    assert Xz().stated_size(SourceFile(path)) == 2 * MIB
    os.truncate(path, len(packed) + padding + 2)
    with pytest.raises(SourceError, match="no stream footer"):
        Xz().stated_size(SourceFile(path))


def test_in_a_file_of_just_its_size_nothing_is_added_and_this_computer_keeps_the_manifest(
    images: dict[str, Path], tmp_path: Path
) -> None:
    target, log = tmp_path / "stick.img", tmp_path / "log.sqlite"
    built = run_json("build", images["fat32"], "--onto", target, log=log)
    assert any(decision["value"] == "in this computer's record" for decision in built["drives"][0]["plan"]["decisions"])
    assert target.read_bytes() == images["fat32"].read_bytes()
    here = run_json("check", target, log=log)
    assert here["bytes_checked"] > 0
    assert [finding["code"] for finding in here["findings"]] == ["manifest.elsewhere"]
    elsewhere = run_json("check", target, log="off")
    assert (elsewhere["healthy"], elsewhere["bytes_checked"]) == (True, 0)
    assert any("no manifest" in line for line in elsewhere["unknown"])

    updated = run_json("build", images["fat32"], "--onto", target, "--update", "--yes", log=log, code=2)
    assert "written whole" in updated["error"]["message"]
    run_json("reclaim", target, "--yes", log=log)
    assert run_json("check", target, log=log, code=1)["built_from"] == ""


@pytest.mark.parametrize("room", [0, 9 * MIB])
def test_an_interrupted_image_is_continued(room: int, images: dict[str, Path]) -> None:
    """Cut off at random moments with a cache that is lost, the progress on the drive or beside it."""
    expected = images["fat16"].read_bytes()
    image = compose_drive(
        make_plan(open_source(images["fat16"]), DECIDE, DriveShape("MAST", len(expected) + room, 512))
    )
    chance, cuts, operations, shelf = random.Random(7), 0, 0, Shelf()
    for round_ in range(part_of(6)):
        memory, shelf.data = MemoryDrive(image.size), None
        while True:
            drive = FaultyDrive(memory, Faults(volatile_cache=1 << 20), seed=round_)
            if operations:
                drive.cut_at = chance.randrange(operations)
            try:
                build(image, drive, silent, shelf=shelf)
            except DriveGone:
                cuts += 1
                assert not any(memory.data[:512]) or bytes(memory.data[: len(expected)]) == expected
                continue
            operations = operations or drive.operations
            drive.close()
            break
        assert bytes(memory.data[: len(expected)]) == expected
        assert check_drive(memory, silent, kept=shelf.get()).healthy
    assert cuts >= part_of(6) // 2


class Shelf:
    """What a computer keeps beside a drive."""

    data: bytes | None = None

    def get(self) -> bytes | None:
        return self.data

    def put(self, data: bytes) -> None:
        self.data = data

    def clear(self) -> None:
        self.data = None


def test_several_drives_of_one_image_share_its_reading(images: dict[str, Path]) -> None:
    expected = images["fat16"].read_bytes()
    source = open_source(packed(images["fat16"], "gz"))
    jobs = []
    for number, size in enumerate((30, 33, 40)):
        drive = MemoryDrive(size * MIB)
        image = compose_drive(make_plan(source, DECIDE, DriveShape(f"DRV{number}", drive.size)))
        jobs.append(Job(name=f"DRV{number}", image=image, medium=drive))
    build_all(jobs)
    for job in jobs:
        assert job.error is None
        assert isinstance(job.medium, MemoryDrive)
        assert bytes(job.medium.data[: len(expected)]) == expected


def cut_image(folder: Path, images: dict[str, Path]) -> Path:
    (folder / "half.img").write_bytes(images["mbr"].read_bytes()[: 20 * MIB])
    return folder / "half.img"


def windows_disc(folder: Path, images: dict[str, Path]) -> Path:
    (folder / "disc.iso.gz").write_bytes(gzip.compress(small_disc(folder / "disc.iso").read_bytes(), 1))
    return folder / "disc.iso.gz"


def two_images(folder: Path, images: dict[str, Path]) -> Path:
    with zipfile.ZipFile(folder / "two.zip", "w") as archive:
        archive.writestr("a.img", b"a" * 999)
        archive.writestr("b.img", b"b" * 999)
    return folder / "two.zip"


@pytest.mark.parametrize(
    ("make", "choices", "sector", "kind", "told"),
    [
        (cut_image, DECIDE, 512, SourceError, "incomplete or damaged: Its last partition ends at byte"),
        (windows_disc, DECIDE, 512, SourceError, "compressed Windows installer"),
        (two_images, DECIDE, 512, SourceError, "not one image: a.img, b.img"),
        (lambda _, images: images["gpt, 4096"], DECIDE, 512, UsageError, "sectors of 4096 bytes; MAST has 512"),
        (lambda _, images: images["fat12"], DECIDE, 4096, UsageError, "sectors of 512 bytes; MAST has 4096"),
        (
            lambda _, images: images["mbr"],
            Choices(label="CREW"),
            512,
            UsageError,
            "--label CREW: .* nothing in it can be chosen",
        ),
        (lambda _, images: images["mbr"], Choices(table="gpt"), 512, UsageError, "--table gpt: "),
    ],
)
def test_what_cannot_be_written_as_it_is_is_refused(
    make: Callable[[Path, dict[str, Path]], Path],
    choices: Choices,
    sector: int,
    kind: type[KeystoneError],
    told: str,
    images: dict[str, Path],
    tmp_path: Path,
) -> None:
    with pytest.raises(kind, match=told) as refusal:
        make_plan(open_source(make(tmp_path, images)), choices, DriveShape("MAST", 4 << 30, sector))
    assert refusal.value.advice


def test_a_windows_installer_is_never_written_as_it_is(tmp_path: Path) -> None:
    """Not even where its disc image carries a table, and the plan says why."""
    disc = small_disc(tmp_path / "disc.iso")
    with disc.open("r+b") as stream:
        stream.seek(446)
        stream.write(bytes.fromhex("80 00 21 00 0C 00 00 00 00 08 00 00 00 10 00 00"))
        stream.seek(510)
        stream.write(b"\x55\xaa")
    plan = make_plan(open_source(disc), DECIDE, DriveShape("MAST", None))
    method = next(decision for decision in plan.decisions if decision.topic == "method")
    assert plan.image is None
    assert "does not start when it is written to a drive as it is" in method.reason
