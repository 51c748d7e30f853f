"""What mending leaves alone: healthy drives, whoever made them; and the drives of Macs, whose headers are mended."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.checking.check import find_sector_size
from lucky_keystone.common.progress import silent
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.mending.make import make_mending
from lucky_keystone.mending.steps import make_steps
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.hfsplus.records import FinderInfo, VolumeHeader

from ..helpers.drives import MemoryDrive, build_drive
from ..helpers.hand_made import MIB, START, call
from ..helpers.judges import need, read_by_others
from ..helpers.mac import app_of


def partitioned(table: str, *words: str) -> Callable[[Path], None]:
    """Partition a drive with one of the system's partitioners and format it."""

    def make(path: Path) -> None:
        if table == "sfdisk":
            call(need("sfdisk"), "-q", path, typed=words[0])
        else:
            call(need(table), *(word.format(path=path) for word in words))
        call(need("mkfs.fat"), "-F", "32", "-s", "1", "--offset", "2048", path, 62 << 10)

    return make


def formatted(*words: object) -> Callable[[Path], None]:
    return lambda path: call(*words, path)


def ntfs(path: Path) -> None:
    call(need("sfdisk"), "-q", path, typed="label: dos\n2048,,7\n")
    alone = path.with_suffix(".volume")
    with alone.open("wb") as stream:
        stream.truncate(62 * MIB)  # smaller than its partition, as a volume is that was shrunk
    call(need("mkntfs"), "-FQ", alone)
    drive = bytearray(path.read_bytes())
    drive[START : START + alone.stat().st_size] = alone.read_bytes()
    path.write_bytes(drive)


MAKERS: dict[str, Callable[[Path], None]] = {
    "sfdisk": partitioned("sfdisk", "label: dos\n2048,,c\n"),
    "sfdisk, type 7": partitioned("sfdisk", "label: dos\n2048,,7\n"),
    "parted, MBR": partitioned(
        "parted", "-s", "{path}", "mklabel", "msdos", "mkpart", "primary", "fat32", "1MiB", "100%"
    ),
    "parted, GPT": partitioned("parted", "-s", "{path}", "mklabel", "gpt", "mkpart", "DATA", "1MiB", "100%"),
    "sgdisk, system partition": partitioned("sgdisk", "-n", "1:2048:0", "-t", "1:ef00", "{path}"),
    "no table, FAT32": formatted("mkfs.fat", "-I", "-F", "32", "-s", "1"),
    "no table, FAT16": formatted("mkfs.fat", "-I", "-F", "16"),
    "no table, one FAT": formatted("mkfs.fat", "-I", "-F", "32", "-s", "1", "-f", "1"),
    "NTFS": ntfs,
}


@pytest.mark.parametrize("maker", MAKERS)
@pytest.mark.parametrize("loader", [True, False])
def test_healthy_drives_of_other_makers_are_left_alone(maker: str, loader: bool, files: Path, tmp_path: Path) -> None:
    path = tmp_path / "stick.img"
    with path.open("wb") as stream:
        stream.truncate(64 * MIB)
    MAKERS[maker](path)
    if loader and maker != "NTFS":
        volume = f"{path}@@{0 if maker.startswith('no table') else START}"
        call("mmd", "-i", volume, "::EFI", "::EFI/BOOT")
        call("mcopy", "-i", volume, files / "efi/boot/bootx64.efi", "::EFI/BOOT/BOOTX64.EFI")
    drive = MemoryDrive.of(path)
    mending = make_mending(drive, 512, silent)
    assert mending.remedies == ()
    nothing = {"start.nothing"} if not loader or maker == "NTFS" else set()  # unless its code is not known
    assert {left.code for left in mending.left} <= nothing


@pytest.mark.parametrize(
    ("choices", "sector_size"),
    [
        (Choices(), 512),
        (Choices(table="gpt"), 512),
        (Choices(table="gpt"), 4096),
        (Choices(file_system="ntfs"), 512),
        (Choices(file_system="fat32+ntfs", table="gpt"), 512),
    ],
)
def test_our_own_drives_are_left_alone_and_get_back_what_they_lose(
    choices: Choices, sector_size: int, files: Path, tmp_path: Path
) -> None:
    built = build_drive(open_source(files), tmp_path / "drive.img", choices, sector_size=sector_size)
    drive = MemoryDrive.of(built.path)
    assert find_sector_size(drive, None) == sector_size
    assert make_mending(drive, sector_size, silent).remedies == ()
    whole, lost = bytes(drive.data), 512
    drive.data[:lost] = bytes(lost)
    mending = make_mending(drive, sector_size, silent)
    assert len(mending.remedies) == 1
    assert mending.after.report.exit_code == 0
    for step in make_steps(drive, mending.changes, sector_size):
        for offset, data in step.pieces():
            drive.write_at(offset, memoryview(data))
    signature = slice(440, 444)  # a number of its own: nothing says which it was
    assert whole[: signature.start] + whole[signature.stop :] == bytes(drive.data[:440] + drive.data[444:])


@pytest.fixture(scope="module")
def studio(tmp_path_factory: pytest.TempPathFactory) -> tuple[bytes, int, int]:
    """A Mac's drive without a manifest, and where its HFS+ volume lies."""
    folder = tmp_path_factory.mktemp("studio")
    built = build_drive(open_source(app_of("10.13", folder / "apps")), folder / "studio.img")
    volume = built.plan.volumes[-1].planned
    data = bytearray(built.path.read_bytes())
    manifest = built.image.manifest_offset
    assert manifest is not None
    data[manifest : 1 << 20] = bytes((1 << 20) - manifest)
    return bytes(data), volume.start, volume.end


INFO = VolumeHeader.offset_of("finderInfo")
WRONG_FOLDER = FinderInfo(blessed_folder=2, blessed_file=0).pack()[:4]
LOST: dict[str, tuple[tuple[str, ...], tuple[tuple[int, bytes], ...]]] = {
    "header": (("volume.boot-sector",), ((1024, bytes(512)),)),
    "alternate header": (("hfsplus.alternate",), ((-1024, bytes(512)),)),
    "words of the header": (("start.mac-names-none",), ((1024 + INFO, bytes(24)), (-1024 + INFO, bytes(24)))),
    "folder beside the loader": (("hfsplus.blessing",), ((1024 + INFO, WRONG_FOLDER), (-1024 + INFO, WRONG_FOLDER))),
}


@pytest.mark.parametrize("what", LOST)
def test_a_macs_headers_are_mended_and_name_the_loader(what: str, studio: tuple[bytes, int, int]) -> None:
    data, start, end = studio
    codes, changes = LOST[what]
    drive = MemoryDrive(len(data))
    drive.data[:] = data
    before = read_by_others(drive, start)
    for offset, put in changes:
        place = start + offset if offset > 0 else end + offset
        drive.data[place : place + len(put)] = put
    mending = make_mending(drive, 512, silent)
    assert tuple(remedy.code for remedy in mending.remedies) == codes
    for step in make_steps(drive, mending.changes, 512):
        for offset, piece in step.pieces():
            drive.write_at(offset, memoryview(piece))
    assert read_by_others(drive, start) == before
    names = VolumeHeader.unpack(bytes(drive.data[start + 1024 : start + 1536])).finderInfo[:24]
    assert names == VolumeHeader.unpack(data[start + 1024 : start + 1536]).finderInfo[:24]
    assert mending.after.report.exit_code == 0


def test_images_of_the_archive_are_left_alone() -> None:
    folder = Path(__file__).parents[2] / ".lab-images"
    found = [path for path in folder.rglob("*") if path.suffix in (".img", ".iso") and path.is_file()]
    if not found:
        pytest.skip("no images below .lab-images/ (run-tests puts some there)")
    for path in found:
        with ImageFile(path) as image:
            assert make_mending(image, 512, silent).remedies == (), path
