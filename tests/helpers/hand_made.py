"""Drives made by hand with the system's own tools, and what happened to them that keeps them from starting."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest

from lucky_keystone.boot.records import FAT32_RECORD, NTFS_RECORD, BootRecord, mbr_code
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tables.mbr import chs
from lucky_keystone.volumes.fat32.records import BootSector

from .drives import MemoryDrive, build_drive, small_disc
from .judges import need

MIB = 1 << 20
START = MIB
SIZE = 48 * MIB
SECTORS = (SIZE - START) // 512 - 4096
"""Of the volume on an MBR: room is left for a second partition."""
USER_FILES = {"Crew photos/deck at dawn.jpg": b"\xff\xd8dawn" * 3000, "lost property.txt": b"one umbrella, grey\n" * 40}
"""What somebody keeps on each of the drives beside the installer."""
Change = Callable[[MemoryDrive, Path], None]


def call(*words: object, typed: str = "") -> None:
    subprocess.run([str(word) for word in words], input=typed.encode(), check=True, capture_output=True)


def with_user_files(files: Path) -> Path:
    """Put the files of somebody beside an installer's."""
    for path, data in USER_FILES.items():
        place = files / path
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(data)
    return files


# -- the drives ------------------------------------------------------------------------------------------------------


def _new(image: Path) -> Path:
    with image.open("wb") as stream:
        stream.truncate(SIZE)
    return image


def _partitioned(image: Path, table: str, kind: str) -> int:
    """Partition a drive; return the sectors of its volume."""
    if table == "mbr":
        call(need("sfdisk"), "-q", _new(image), typed=f"label: dos\n2048,{SECTORS},{kind},*\n")
        return SECTORS
    call(need("sgdisk"), "-n", "1:2048:0", "-t", "1:0700", _new(image))
    return (SIZE - START) // 512 - 34


def made_fat32(image: Path, files: Path, table: str) -> bytes:
    """Partition, format and fill a drive as one does by hand."""
    sectors = _partitioned(image, table, "c")
    call(need("mkfs.fat"), "-F", "32", "-s", "1", "-h", "2048", "-g", "255/63", "--offset", "2048", image, sectors // 2)
    call(need("mcopy"), "-s", "-i", f"{image}@@{START}", *sorted(files.iterdir()), "::")
    return image.read_bytes()


def made_ntfs(image: Path, files: Path) -> bytes:
    sectors = _partitioned(image, "mbr", "7")
    alone = image.with_suffix(".volume")
    with alone.open("wb") as stream:
        stream.truncate(sectors * 512)
    call(need("mkntfs"), "-FQ", "-s", "512", "-p", "2048", "-H", "255", "-S", "63", alone)
    with mounted_ntfs(alone) as mount:
        call("cp", "-r", *sorted(files.iterdir()), mount)
    drive = bytearray(image.read_bytes())
    drive[START : START + sectors * 512] = alone.read_bytes()
    return bytes(drive)


@contextmanager
def mounted_ntfs(volume: Path) -> Iterator[Path]:
    with TemporaryDirectory() as folder:
        done = subprocess.run([need("ntfs-3g"), volume, folder], capture_output=True, check=False)
        if done.returncode:
            pytest.skip("nothing can be mounted here")
        try:
            yield Path(folder)
        finally:
            subprocess.run(["umount", folder], check=True)


def with_boot_code(drive: bytes, record: BootRecord, *copies: int) -> bytes:
    """Put the code of a start from the BIOS onto a drive that was made by hand."""
    ready = bytearray(drive)
    ready[: len(mbr_code())] = mbr_code()
    for place in (START, *copies):
        ready[place : place + 3] = record.first_sector[:3]
        ready[place + record.code_from : place + 510] = record.first_sector[record.code_from : 510]
    further = START + record.further_offset
    ready[further : further + len(record.further_code)] = record.further_code
    return bytes(ready)


def make_drives(folder: Path, files: Path) -> dict[str, bytes]:
    """Make the drives that changes begin with: for UEFI alone, and for both."""
    disc = open_source(small_disc(folder / "built.iso"))
    found = {table: made_fat32(folder / f"{table}.img", files, table) for table in ("mbr", "gpt")}
    found["ready"] = with_boot_code(found["mbr"], FAT32_RECORD, START + 6 * 512)
    found["ntfs"] = made_ntfs(folder / "ntfs.img", files)
    found["ntfs ready"] = with_boot_code(found["ntfs"], NTFS_RECORD, NTFS_COPY)
    found["both"] = build_drive(disc, folder / "both.img", Choices()).path.read_bytes()
    return found


# -- what happens to them --------------------------------------------------------------------------------------------

NTFS_COPY = START + (SECTORS - 1) * 512


def put(offset: int, data: bytes) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        drive.data[offset : offset + len(data)] = data

    return change


def both(offset: int, data: bytes) -> Change:
    """In FAT32's boot sector and its copy."""
    return several(put(START + offset, data), put(START + 6 * 512 + offset, data))


def mtools(*commands: list[str]) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        with TemporaryDirectory() as folder:
            image = Path(folder, "changed.img")
            image.write_bytes(drive.data)
            for name, *rest in commands:
                words = (word.format(files=files, folder=folder) for word in rest)
                call(need(name), "-i", f"{image}@@{START}", *words)
            drive.data[:] = image.read_bytes()

    return change


def several(*changes: Change) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        for one in changes:
            one(drive, files)

    return change


def nothing(drive: MemoryDrive, files: Path) -> None:
    pass


def stale_gpt(drive: MemoryDrive, files: Path) -> None:
    with TemporaryDirectory() as folder:
        image = _new(Path(folder, "gpt.img"))
        call(need("sgdisk"), "-n", "1:2048:0", image)
        drive.data[512 : 34 * 512] = image.read_bytes()[512 : 34 * 512]


def sgdisk(*words: str) -> Change:
    def change(drive: MemoryDrive, files: Path) -> None:
        with TemporaryDirectory() as folder:
            image = Path(folder, "changed.img")
            image.write_bytes(drive.data)
            call(need("sgdisk"), *words, image)
            drive.data[:] = image.read_bytes()

    return change


def other_backup(drive: MemoryDrive, files: Path) -> None:
    """The copy at the end is sound, and of the table that the drive had before."""
    with TemporaryDirectory() as folder:
        image = _new(Path(folder, "gpt.img"))
        call(need("sgdisk"), "-n", "1:4096:+10M", "-n", "2:30000:0", image)
        drive.data[-33 * 512 :] = image.read_bytes()[-33 * 512 :]


def on_a_larger_drive(drive: MemoryDrive, files: Path) -> None:
    drive.data += bytes(16 * MIB)
    drive.size = len(drive.data)


def second_partition(drive: MemoryDrive, files: Path) -> None:
    """The last MiB as an active partition of its own, of a type that nobody looks into."""
    first, count = SIZE // 512 - 2048, 2048
    numbers = first.to_bytes(4, "little") + count.to_bytes(4, "little")
    drive.data[462:478] = b"\x80" + chs(first) + b"\x83" + chs(first + count - 1) + numbers


def in_fat(copy: int, offset: int, data: bytes) -> Change:
    """Damage in one of the two FATs of the drives that mkfs.fat made."""

    def change(drive: MemoryDrive, files: Path) -> None:
        reserved = int.from_bytes(drive.data[START + 14 : START + 16], "little")
        size = int.from_bytes(drive.data[START + 36 : START + 40], "little")
        place = START + 512 * (reserved + copy * size) + offset
        drive.data[place : place + len(data)] = data

    return change


def in_fat_of_mkfs(copy: int, data: bytes) -> Change:
    """The same where the boot sector is lost already: by its copy."""

    def change(drive: MemoryDrive, files: Path) -> None:
        head = START + 6 * 512
        reserved = int.from_bytes(drive.data[head + 14 : head + 16], "little")
        size = int.from_bytes(drive.data[head + 36 : head + 40], "little")
        place = START + 512 * (reserved + copy * size)
        drive.data[place : place + len(data)] = data

    return change


def in_mft(field: int, record: int, data: bytes) -> Change:
    """Damage in the MFT (30h) or its mirror (38h), by the boot sector's fields."""

    def change(drive: MemoryDrive, files: Path) -> None:
        cluster = int.from_bytes(drive.data[START + field : START + field + 8], "little")
        place = START + cluster * 4096 + record * 1024
        drive.data[place : place + len(data)] = data

    return change


def other_machine(drive: MemoryDrive, files: Path) -> None:
    """The loader's header says another architecture."""
    loader = (files / "efi/boot/bootx64.efi").read_bytes()
    place = int.from_bytes(loader[60:64], "little") + 4
    _patch_file(drive, "efi/boot/bootx64.efi", files, place, b"\x64\xaa")


def cut_loader(drive: MemoryDrive, files: Path) -> None:
    with suppress(FileExistsError):
        (files.parent / "short.efi").write_bytes((files / "efi/boot/bootx64.efi").read_bytes()[:3000])
    mtools(["mcopy", "-o", "{files}/../short.efi", REMOVABLE])(drive, files)


def cut_image(drive: MemoryDrive, files: Path) -> None:
    """What is left of an install image where the copy ended early."""
    whole = (files / "sources/install.wim").read_bytes()
    (files.parent / "short.wim").write_bytes(whole[: len(whole) * 2 // 3])
    mtools(["mcopy", "-o", "{files}/../short.wim", "::sources/install.wim"])(drive, files)


def _patch_file(drive: MemoryDrive, path: str, files: Path, offset: int, data: bytes) -> None:
    with TemporaryDirectory() as folder:
        changed = bytearray((files / path).read_bytes())
        changed[offset : offset + len(data)] = data
        place = Path(folder, "changed")
        place.write_bytes(changed)
        mtools(["mcopy", "-o", str(place), f"::{path}"])(drive, files)


def other_system_code(sector: bytes, at: int = 0) -> bytes:
    """Code for byte `at` of a sector that prints a line and stops: it looks for no partition and loads nothing."""
    text = (0x7C00 + at + 23).to_bytes(2, "little")
    return (b"\xfa\x31\xc0\x8e\xd8\xfb\xbe" + text + b"\xac\x84\xc0\x74\x06\xb4\x0e\xcd\x10\xeb\xf5\xf4\xeb\xfd"
            b"Nothing to start here.\0").ljust(len(sector), b"\0")  # fmt: skip


REMOVABLE, INSTALLED = "::EFI/BOOT/BOOTX64.EFI", "::EFI/MICROSOFT/BOOT/BOOTMGFW.EFI"
LOST_LOADER = mtools(
    ["mcopy", REMOVABLE, "{folder}/moved"], ["mcopy", "{folder}/moved", INSTALLED], ["mdel", REMOVABLE]
)
FOREIGN = both(0x5A, other_system_code(bytes(420), 0x5A))
NO_MBR_CODE, NO_ACTIVE = put(0, bytes(440)), put(446, b"\0")
FOREIGN_NTFS = several(
    put(START + 0x54, other_system_code(bytes(426), 0x54)),
    put(NTFS_COPY + 0x54, other_system_code(bytes(426), 0x54)),
    put(START + 512, bytes(8192 - 512)),
)


def longer(drive: MemoryDrive, files: Path) -> None:
    """The volume says that it has 256 sectors more than its partition."""
    for place in (START + 32, START + 6 * 512 + 32):
        count = int.from_bytes(drive.data[place : place + 4], "little")
        drive.data[place : place + 4] = (count + 256).to_bytes(4, "little")


def in_use_behind(drive: MemoryDrive, files: Path) -> None:
    """The last cluster by that count is in use."""
    boot = BootSector.unpack(bytes(drive.data[START : START + 512]))
    first = boot.BPB_RsvdSecCnt + boot.BPB_NumFATs * boot.BPB_FATSz32
    last = min((boot.BPB_TotSec32 - first) // boot.BPB_SecPerClus + 1, boot.BPB_FATSz32 * 128 - 1)
    for copy in range(boot.BPB_NumFATs):
        place = START + (boot.BPB_RsvdSecCnt + copy * boot.BPB_FATSz32) * 512 + 4 * last
        drive.data[place : place + 4] = b"\xff\xff\xff\x0f"


@dataclass(frozen=True)
class HandMade:
    """A drive that was made by hand, with what is found and what is done about it."""

    base: str
    change: Change
    found: tuple[str, ...]
    """Codes of faults and of what keeps it from starting, all of them; with a '!' in front where it is a fault."""
    mended: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    starts: tuple[str, ...] = ("bios",)
    """Firmware of the lab that was concerned, and starts it once it is mended."""
    needs_source: bool = False

    def drive(self, drives: dict[str, bytes], files: Path) -> MemoryDrive:
        made = MemoryDrive(len(drives[self.base]))
        made.data[:] = drives[self.base]
        self.change(made, files)
        made.log.clear()
        return made


BIOS, UEFI, ALL = ("bios",), ("uefi-x64",), ("bios", "uefi-x64")
ANY: tuple[str, ...] = ("any",)
"""Findings follow from each other, and are not listed."""
FAT_DAMAGE = ("!fat.copies-differ", "!volume.entries", "!volume.lost-clusters")
NO_CODE = ("start.no-mbr-code", "start.foreign-code")


def _same(base: str, change: Change, *codes: str, starts: tuple[str, ...] = ("bios",)) -> HandMade:
    """A drive of which everything that is found is mended; consequences go with their reason."""
    causes = tuple(code.lstrip("!") for code in codes if code.lstrip("!") != "start.nothing")
    return HandMade(base, change, codes, causes, starts=starts)


CASES: dict[str, HandMade] = {
    "for both": _same("ready", nothing),
    "for UEFI alone, GPT": _same("gpt", nothing, starts=UEFI),
    "as made by hand, without boot code": _same("mbr", nothing, *NO_CODE),
    "no active mark": _same("ready", NO_ACTIVE, "start.no-active"),
    "no MBR code": _same("ready", NO_MBR_CODE, "start.no-mbr-code"),
    "foreign MBR code": _same("ready", put(0, other_system_code(bytes(440))), "start.foreign-mbr-code"),
    "foreign volume code": _same("ready", FOREIGN, "start.foreign-code"),
    "no volume code": _same("ready", both(0x5A, bytes(420)), "start.no-volume-code"),
    "further code lost": _same("ready", put(START + 12 * 512, bytes(1024)), "!start.volume-code"),
    "geometry": _same("ready", both(24, bytes((32, 0, 64, 0))), "volume.geometry"),
    "count beyond the partition": _same("ready", longer, "!volume.beyond-partition", "start.nothing"),
    "count beyond the partition, and clusters there in use": HandMade(
        "ready",
        several(longer, in_use_behind),
        ("!volume.beyond-partition", "start.nothing"),
        (),
        ("volume.beyond-partition", "start.nothing"),
        starts=(),
    ),
    "hidden sectors": _same("ready", both(28, bytes(4)), "!volume.hidden-sectors"),
    "boot sector and copy differ": HandMade(
        "ready", put(START + 24, b"\1"), ("!fat32.boot-copy", "volume.geometry"), ("fat32.boot-copy",)
    ),
    "copy of the boot sector lost": _same("ready", put(START + 6 * 512, bytes(512)), "!fat32.boot-copy"),
    "FSInfo lost": _same("ready", put(START + 512, bytes(512)), "!fat32.fsinfo"),
    "boot sector lost": _same("ready", put(START, bytes(512)), "!volume.boot-sector", "start.nothing", starts=ALL),
    "boot sector claims too much": _same(
        "ready", put(START + 32, b"\xff\xff\xff\x7f"), "!volume.boot-sector", "start.nothing"
    ),
    "second FAT damaged": _same("ready", in_fat(1, 4 * 500, b"\xaa" * 600), "!fat.copies-differ"),
    "first FAT damaged": HandMade("ready", in_fat(0, 4 * 3000, b"\xaa" * 600), FAT_DAMAGE, ("fat.copies-differ",)),
    "first FAT zeroed": HandMade("ready", in_fat(0, 4 * 2000, bytes(2048)), FAT_DAMAGE, ("fat.copies-differ",)),
    "first FAT lost": HandMade("ready", in_fat(0, 0, bytes(200_000)), ANY, ("fat.copies-differ",)),
    "first FAT and boot sector lost": HandMade(
        "ready",
        several(put(START, bytes(512)), in_fat_of_mkfs(0, bytes(200_000))),
        ANY,
        ("volume.boot-sector", "fat.copies-differ"),
    ),
    "lost loader": _same("ready", LOST_LOADER, "start.no-removable-loader", starts=UEFI),
    "lost loader, and UEFI alone": HandMade(
        "mbr",
        several(LOST_LOADER, NO_MBR_CODE),
        ("!start.no-mbr-code", "!start.foreign-code", "!start.no-removable-loader", "start.nothing"),
        (*NO_CODE, "start.no-removable-loader"),
        starts=ALL,
    ),
    "lost loader, and no setup": _same(
        "gpt",
        several(LOST_LOADER, mtools(["mdeltree", "::sources"])),
        "!start.no-removable-loader",
        "start.nothing",
        starts=UEFI,
    ),
    "loader under no name": HandMade(
        "ready",
        mtools(["mdel", REMOVABLE]),
        ("start.no-removable-loader",),
        ("start.no-removable-loader",),
        starts=UEFI,
        needs_source=True,
    ),
    "loader for other machines": HandMade(
        "ready",
        other_machine,
        ("start.loader-architecture",),
        ("start.loader-architecture",),
        starts=UEFI,
        needs_source=True,
    ),
    "loader cut off": HandMade(
        "ready", cut_loader, ("!start.loader",), ("start.loader",), starts=UEFI, needs_source=True
    ),
    "empty BOOTMGR": HandMade(
        "ready",
        mtools(["mdel", "::bootmgr"], ["mcopy", "/dev/null", "::bootmgr"]),
        ("!start.bootmgr",),
        ("start.bootmgr",),
        needs_source=True,
    ),
    "lost BOOTMGR": HandMade(
        "ready", mtools(["mdel", "::bootmgr"]), ("start.bootmgr",), ("start.bootmgr",), needs_source=True
    ),
    "install image cut off": HandMade(
        "ready", cut_image, ("!setup.image",), ("setup.image",), starts=ALL, needs_source=True
    ),
    "nothing on it": HandMade(
        "ready",
        mtools(["mdeltree", "::bootmgr", "::EFI", "::sources"]),
        ("start.nothing",),
        left=("start.nothing",),
        starts=(),
    ),
    "disk signature lost": _same("ready", put(440, bytes(4)), "!table.signature"),
    "status of an entry": HandMade("ready", put(446, b"\x01"), ("!mbr.status", "start.no-active"), ("mbr.status",)),
    "CHS fields": _same("ready", put(447, b"\x01\x01\x00"), "!mbr.chs"),
    "type of another system, GPT": _same("gpt", sgdisk("-t", "1:8300"), "partition.type", starts=UEFI),
    "two GPTs that differ": HandMade(
        "gpt", other_backup, ("!gpt.copies-differ",) * 2, ("gpt.copies-differ",), starts=UEFI
    ),
    "type of another system": _same("ready", put(450, b"\x83"), "partition.type", starts=ALL),
    "another partition active": _same("ready", several(NO_ACTIVE, second_partition), "start.wrong-active"),
    "two active": _same("ready", second_partition, "!table.several-active"),
    "stale GPT": _same("ready", stale_gpt, "gpt.stale"),
    "sector 0 lost": _same("ready", put(0, bytes(512)), "!table.missing", starts=ALL),
    "partition table emptied": _same("ready", put(446, bytes(64)), "!table.missing"),
    "NTFS, sector 0 lost": HandMade(
        "ntfs ready",
        put(0, bytes(512)),
        ("!table.missing",),
        ("table.missing",),
        ("start.no-crossing",),
        BIOS,
    ),
    "signature of sector 0": _same("ready", put(510, bytes(2)), "!table.missing"),
    "signature of sector 0, GPT": _same("gpt", put(510, bytes(2)), "!gpt.no-protective", starts=UEFI),
    "no protective record": _same("gpt", put(0, bytes(512)), "!gpt.no-protective", starts=UEFI),
    "MBR emptied over a GPT": _same("gpt", put(446, bytes(64)), "!gpt.no-protective", starts=UEFI),
    "primary GPT lost": _same("gpt", put(512, bytes(512)), "!gpt.primary", starts=UEFI),
    "entries of the primary GPT": _same("gpt", put(1024 + 32, b"\xff" * 8), "!gpt.primary", starts=UEFI),
    "copy of the GPT lost": _same("gpt", put(SIZE - 512, bytes(512)), "!gpt.backup", starts=UEFI),
    "small GPT image on a larger drive": HandMade("gpt", on_a_larger_drive, (), ("gpt.copy-not-at-end",), starts=UEFI),
    "NTFS, as made by hand": HandMade(
        "ntfs",
        nothing,
        ("!start.no-mbr-code", "!start.foreign-code", "!start.no-crossing", "start.nothing"),
        NO_CODE,
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS for BIOS": HandMade("ntfs ready", nothing, ("start.no-crossing",), (), ("start.no-crossing",), BIOS),
    "NTFS, boot sector lost": HandMade(
        "ntfs ready",
        put(START, bytes(512)),
        ("!volume.boot-sector", "start.nothing"),
        ("volume.boot-sector",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, copy of the boot sector lost": HandMade(
        "ntfs ready",
        put(NTFS_COPY, bytes(512)),
        ("!ntfs.boot-copy", "start.no-crossing"),
        ("ntfs.boot-copy",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, hidden sectors": HandMade(
        "ntfs ready",
        several(put(START + 28, bytes(4)), put(NTFS_COPY + 28, bytes(4))),
        ("!volume.hidden-sectors", "start.no-crossing"),
        ("volume.hidden-sectors",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, boot sector names another mirror": HandMade(
        "ntfs ready",
        put(START + 0x38, b"\x99\x03\0\0\0\0\0\0"),
        ("!ntfs.boot-copy", "start.no-crossing"),
        ("ntfs.boot-copy",),
        ("start.no-crossing",),
        BIOS,
    ),
    "boot sector names another FSInfo": HandMade(
        "ready", put(START + 48, b"\x09\0"), ("!fat32.boot-copy", "!fat32.fsinfo"), ("fat32.boot-copy",)
    ),
    "install image missing": HandMade(
        "ready", mtools(["mdel", "::sources/install.wim"]), ("!setup.image",), ("setup.image",), needs_source=True
    ),
    "NTFS, mirror damaged": HandMade(
        "ntfs ready",
        in_mft(0x38, 1, b"\xaa" * 700),
        ("!ntfs.mirror", "start.no-crossing"),
        ("ntfs.mirror",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, first record damaged": HandMade(
        "ntfs ready",
        in_mft(0x30, 0, b"\xaa" * 700),
        ("!ntfs.mft-start", "start.no-crossing"),
        ("ntfs.mft-start",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, foreign code": HandMade(
        "ntfs ready",
        FOREIGN_NTFS,
        ("!start.foreign-code", "!start.no-crossing", "start.nothing"),
        ("start.foreign-code",),
        ("start.no-crossing",),
        BIOS,
    ),
    "NTFS, no active mark": HandMade(
        "ntfs ready",
        NO_ACTIVE,
        ("!start.no-active", "!start.no-crossing", "start.nothing"),
        ("start.no-active",),
        ("start.no-crossing",),
        BIOS,
    ),
    "built for both, no active mark": _same("both", NO_ACTIVE, "!start.no-active"),
    "built for both, no MBR code": _same("both", NO_MBR_CODE, "!start.no-mbr-code"),
}
