"""What is mutated: sources, images and drives of every kind, and what is done with each."""

from __future__ import annotations

import random
import re
import subprocess
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.update import read_standing
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import DriveError, KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.regions import RegionKind
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.demo.bay import make_bay
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.install_image import DemoEdition, install_image, small_resource
from lucky_keystone.demo.tidewell import LABEL, MOMENT
from lucky_keystone.drives.bay import DESCRIPTION, Bay
from lucky_keystone.drives.contents import inventories
from lucky_keystone.drives.guards import refusals
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.family import DriveShape
from lucky_keystone.manifest.format import read_manifest
from lucky_keystone.manifest.unfinished import Unfinished, pack_unfinished
from lucky_keystone.planning.make import make_plan
from lucky_keystone.planning.planfile import read_plan, save_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.split import divide

from ..helpers.drives import MemoryDrive, build_drive
from ..helpers.exfat import exfat_drive
from ..helpers.judges import need
from ..helpers.packing import PACKINGS


def small_installer() -> Folder:
    editions = [
        DemoEdition(
            "Tidewell Mini",
            "Mini",
            [("pier.dll", small_resource(b"pier" * 500)), ("mole.dll", small_resource(b"mole" * 900))],
        )
    ]
    image = install_image(editions, architecture=9, version=(11, 2, 30110, 1), language="en-GB")
    root = Folder("", MOMENT)
    for path in (
        "sources/boot.wim",
        "sources/install.wim",
        "bootmgr",
        "efi/boot/bootx64.efi",
        "support/deck/Überfahrt nach 東京.txt",
    ):
        here = root
        *folders, name = path.split("/")
        for folder in folders:
            here = here.entries.setdefault(folder, Folder(folder, MOMENT))  # type: ignore[assignment]
        here.entries[name] = File(name, image if name.endswith(".wim") else Literal(path.encode() * 40), MOMENT)
    return root


@dataclass
class Target:
    """Bytes to mutate, where in them structures lie, and what is done with them."""

    read: Callable[[int, int], bytes]
    write: Callable[[int, bytes], None]
    spans: list[tuple[int, int]]
    use: Callable[[], None]


def used_spans(data: bytes, step: int = 512) -> list[tuple[int, int]]:
    """The pieces of `data` that are not all zero: where a mutation can matter."""
    return [(at, step) for at in range(0, len(data) - step + 1, step) if any(data[at : at + step])]


def shows_bytes(message: str) -> bool:
    """Tell whether a message has bytes as Python writes them; a quoted name may end with such letters."""
    found = re.finditer(r"(?<![\w'])b'", message)
    return any(message.count("'", 0, match.start()) % 2 == 0 for match in found)


def in_memory(data: bytearray) -> tuple[Callable[[int, int], bytes], Callable[[int, bytes], None]]:
    """How to read and write bytes in memory."""

    def write(offset: int, piece: bytes) -> None:
        data[offset : offset + len(piece)] = piece

    return lambda offset, size: bytes(data[offset : offset + size]), write


def on_file(path: Path, spans: list[tuple[int, int]]) -> Target:
    def read(offset: int, size: int) -> bytes:
        with path.open("rb") as stream_in:
            stream_in.seek(offset)
            return stream_in.read(size)

    def write(offset: int, data: bytes) -> None:
        with path.open("r+b") as stream_out:
            stream_out.seek(offset)
            stream_out.write(data)

    def use() -> None:
        source = open_source(path)
        _ = facts_of(source), source.fingerprint
        make_plan(source, Choices(part_size=1 << 20, as_is=True), DriveShape("x", None))

    return Target(read, write, spans, use)


def make_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in `folder`."""
    ours = folder / "udf.iso"
    write_disc(ours, small_installer(), LABEL, MOMENT, silent)
    found = {"udf": on_file(ours, used_spans(ours.read_bytes()[: 300 * 2048]))}
    for path, file in small_installer().files():
        (folder / "in" / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / "in" / path).write_bytes(b"".join(bytes(piece) for piece in stream(file.content)))
    for kind, options in (("joliet", ["-J"]), ("rock ridge", ["-R"])):
        disc = folder / f"{kind}.iso"
        subprocess.run(
            [need("genisoimage"), "-quiet", *options, "-o", disc, folder / "in"], check=True, capture_output=True
        )
        found[kind] = on_file(disc, [(32768 + at, size) for at, size in used_spans(disc.read_bytes()[32768:69_632])])

    wim = bytearray((folder / "in/sources/install.wim").read_bytes())

    def use_image() -> None:
        image = InstallImage(Literal(bytes(wim)), "install.wim")
        _ = image.editions
        for part in divide(image, 1 << 20):
            for _piece in stream(part.content):
                pass
        if image.has_integrity:
            image.verify_integrity(lambda done, total: None)

    wim_spans = [(0, 208), (len(wim) - 2600, 2600), (len(wim) - 2600, 2600)]
    found["install image"] = Target(*in_memory(wim), wim_spans, use_image)

    whole = open_source(folder / "in")
    built = build_drive(open_source(ours), folder / "drive.img")
    witness = MemoryDrive(built.image.size)
    witness.data = bytearray(built.path.read_bytes())

    def use_drive() -> None:
        witness.log.clear()
        against = whole if chance_of_contents.random() < 0.05 else None
        check_drive(witness, silent, contents=chance_of_contents.random() < 0.02, against=against)

    chance_of_contents = random.Random(1)
    places = {region.kind: region.offset for region in built.image.regions}
    fats, folders = places[RegionKind.FAT1], places[RegionKind.FOLDERS]
    spans = [(0, 512)] * 6 + [(512, 3000)] * 4 + [(1 << 20, 1024)] * 12 + [(fats, 600)] * 6
    spans += [(folders + at, size) for at, size in used_spans(bytes(witness.data[folders : folders + 6144]))]
    found["drive"] = Target(*in_memory(witness.data), spans, use_drive)
    built = build_drive(open_source(ours), folder / "gpt.img", Choices(table="gpt", as_is=True))
    other = MemoryDrive(built.image.size)
    other.data = bytearray(built.path.read_bytes())

    def use_gpt_drive() -> None:
        other.log.clear()
        check_drive(other, silent, contents=False)

    end = len(other.data)
    spans = [(446, 66), (512, 92), (512, 92), (1024, 128), (17_408, 2000), (end - 512, 92), (end - 512 - 16_384, 128)]
    found["gpt drive"] = Target(*in_memory(other.data), spans, use_gpt_drive)
    built = build_drive(open_source(ours), folder / "ntfs.img", Choices(file_system="ntfs"))
    third = MemoryDrive(built.image.size)
    third.data = bytearray(built.path.read_bytes())

    def use_ntfs_drive() -> None:
        third.log.clear()
        against = whole if chance_of_contents.random() < 0.05 else None
        check_drive(third, silent, contents=chance_of_contents.random() < 0.02, against=against)

    spans = [(446, 66), (512, 3000)] + [(1 << 20, 512)] * 6
    for region in built.image.regions:
        if region.kind in (RegionKind.MFT, RegionKind.BITMAP, RegionKind.FOLDERS):
            front = bytes(third.data[region.offset : region.offset + min(region.size, 96 << 10)])
            spans += [(region.offset + at, size) for at, size in used_spans(front)]
    found["ntfs drive"] = Target(*in_memory(third.data), spans, use_ntfs_drive)
    plain, _ = exfat_drive(small_installer(), size=8 << 20)

    def use_exfat_drive() -> None:
        plain.log.clear()
        check_drive(plain, silent)
        inventories(plain, 512)

    spans = [(0, 512), *((1 << 20 | at, size) for at, size in used_spans(bytes(plain.data[1 << 20 : 3 << 20])))]
    found["exfat drive"] = Target(*in_memory(plain.data), spans, use_exfat_drive)
    found |= described_targets(folder, ours, witness)
    found |= raw_targets(folder)
    return found


def described_targets(folder: Path, disc: Path, drive: MemoryDrive) -> dict[str, Target]:
    """Texts and records of our own, with every sum made right: manifest, progress, a bay, a plan."""
    found: dict[str, Target] = {}
    manifest = read_manifest(drive, 512)
    assert manifest is not None
    size = int.from_bytes(drive.data[512 + 8 : 512 + 16], "little")
    text = drive.data[1024 : 1024 + size]
    forged = MemoryDrive(drive.size)
    forged.data[:] = drive.data

    def use_manifest() -> None:
        forged.log.clear()
        head = bytearray(drive.data[512:1024])
        body = bytes(text) + manifest.hashes
        head[8:16] = len(text).to_bytes(8, "little")
        head[32:64] = blake3(body).digest()
        head[480:512] = blake3(bytes(head[:480])).digest()
        forged.data[512 : 1024 + len(body)] = head + body
        check_drive(forged, silent, contents=False)

    found["manifest drive"] = Target(*in_memory(text), [(0, len(text))] * 3 + [(0, 64)], use_manifest)

    record = bytearray(pack_unfinished(Unfinished("update", bytes(32), 5 << 20, (1 << 20,)), 512))
    begun = MemoryDrive(drive.size)
    begun.data[:] = drive.data
    begun.data[:512] = bytes(512)

    def use_progress() -> None:
        begun.data[512:1024] = bytes(record[:480]) + blake3(bytes(record[:480])).digest()
        with suppress(KeystoneError):
            read_standing(begun, 512)
        check_drive(begun, silent, contents=False)

    found["progress drive"] = Target(*in_memory(record), [(0, 72), (8, 24), (64, 40)], use_progress)

    make_bay(folder / "bay")
    bay = bytearray((folder / "bay" / DESCRIPTION).read_bytes())

    def use_bay() -> None:
        (folder / "bay" / DESCRIPTION).write_bytes(bay)
        with suppress(DriveError):  # a file that it names and that is not there
            for each in Bay(folder / "bay").drives():
                _ = each.tag, refusals(each)

    found["bay"] = Target(*in_memory(bay), [(0, len(bay))], use_bay)

    source = open_source(disc)
    save_plan(make_plan(source, Choices(label="CREW"), DriveShape("x", None)), folder / "plan.toml")
    plan = bytearray((folder / "plan.toml").read_bytes())

    def use_plan() -> None:
        (folder / "plan.toml").write_bytes(plan)
        saved = read_plan(folder / "plan.toml")
        shape = DriveShape(saved.drive.name or "x", saved.drive.size, saved.drive.sector_size)
        make_plan(source, saved.choices, shape, earlier=saved.decided)

    found["plan"] = Target(*in_memory(plan), [(0, plan.find(b"# Why:"))], use_plan)
    return found


def raw_targets(folder: Path) -> dict[str, Target]:
    """Raw images with a table and without, their compressed forms, and a drive that one was written onto."""
    fat12, fat16, gpt = folder / "fat12.img", folder / "fat16.img", folder / "raw-gpt.img"
    for path, bits, size in ((fat12, "12", 720 << 10), (fat16, "16", 5 << 20)):
        with path.open("wb") as out:
            out.truncate(size)
        subprocess.run([need("mkfs.fat"), "-F", bits, "-s", "1", path], check=True, capture_output=True)
        subprocess.run([need("mmd"), "-i", path, "::EFI", "::EFI/BOOT"], check=True)
        (folder / "loader").write_bytes(b"MZ" + bytes(3000))
        subprocess.run([need("mcopy"), "-i", path, folder / "loader", "::EFI/BOOT/BOOTX64.EFI"], check=True)
    volume = fat12.read_bytes()
    hybrid = bytearray(2048 * 512) + volume
    hybrid[446:462] = bytes.fromhex("80 20 21 00 06 20 25 00 00 08 00 00 A0 05 00 00")
    hybrid[510:512] = b"\x55\xaa"
    (folder / "raw-mbr.img").write_bytes(hybrid)
    build_drive(open_source(folder / "udf.iso"), gpt, Choices(table="gpt", as_is=True))
    found = {
        "raw mbr": on_image(folder / "raw-mbr.img", [(440, 72), (2048 * 512, 512), (2048 * 512 + 512, 6000)]),
        "raw gpt": on_image(gpt, [(446, 66), (512, 92), (1024, 256)]),
        "raw fat12": on_image(fat12, [(0, 512), (0, 512), (512, 8000)]),
        "raw fat16": on_image(fat16, [(0, 512), (0, 512), (512, 200), (20_000, 20_000)]),
    }
    for name, pack in PACKINGS.items():
        if name:
            path = folder / f"packed.img.{name}"
            path.write_bytes(pack(volume))
            ends = [(0, 64)] * 2 + [(path.stat().st_size - 64, 64)] * 2
            found[f"raw {name}"] = on_image(path, [*ends, (0, path.stat().st_size)])
    drive = MemoryDrive(4 << 20)
    build(compose_drive(make_plan(open_source(fat12), Choices(), DriveShape("x", drive.size))), drive, silent)

    def use() -> None:
        drive.log.clear()
        check_drive(drive, silent)

    found["raw drive"] = Target(*in_memory(drive.data), [(0, 8000), (3 << 20, 1200), (3 << 20, 512)], use)
    return found


def on_image(path: Path, spans: list[tuple[int, int]]) -> Target:
    """An image that is opened, planned, and read to its end.

    What comes out has the size that was planned, or an error comes.
    """
    target = on_file(path, spans)

    def use() -> None:
        source = open_source(path)
        _ = facts_of(source), source.fingerprint
        plan = make_plan(source, Choices(), DriveShape("x", None))
        if plan.image is not None:
            assert sum(len(piece) for piece in stream(plan.image.content)) == plan.needed

    return Target(target.read, target.write, spans, use)
