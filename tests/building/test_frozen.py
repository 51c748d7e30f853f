"""Frozen drives: regions, tables, manifest and seal of plans of every shape, as digests.

No change of structure may touch them.

A change that means to give other bytes renews the digests in a commit of its own, with the reason:

    python -m tests.building.test_frozen
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from blake3 import blake3
from msgspec.structs import replace

from lucky_keystone.building.build import build, manifest_of
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.image import DriveImage
from lucky_keystone.building.reclaim import compose_storage
from lucky_keystone.building.stream import Streamed
from lucky_keystone.building.update import read_standing
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Content, Literal, stream
from lucky_keystone.content.tree import EPOCH, File
from lucky_keystone.demo.tidewell import LABEL, installer
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning import make as planning
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source

from ..helpers.drives import MemoryDrive
from ..helpers.hfsplus import studio, with_facts
from ..helpers.install_images import install_image
from ..helpers.systems import system
from ..helpers.trees import file, folder

FROZEN = Path(__file__).with_name("frozen.txt")
MIB = 1 << 20
SHAPES: dict[str, tuple[Choices, int | None, int]] = {
    "decided by the tool, image file": (Choices(), None, 512),
    "mbr fat32, whole": (Choices(table="mbr", file_system="fat32"), 300 * MIB, 512),
    "mbr fat32, split": (Choices(part_size=5 * MIB, label="counter 4"), None, 512),
    "mbr fat32, 4096": (Choices(firmware="uefi", file_system="fat32", cluster=4096), None, 4096),
    "mbr ntfs with crossing": (Choices(file_system="ntfs"), 200 * MIB, 512),
    "mbr ntfs for bios": (Choices(file_system="ntfs", firmware="bios", use="needed"), 200 * MIB, 512),
    "mbr ntfs, 4096": (Choices(file_system="ntfs"), 640 * MIB, 4096),
    "mbr pair": (Choices(file_system="fat32+ntfs", label="Überfahrt"), 256 * MIB, 512),
    "mbr pair, clusters of 64 KiB": (Choices(file_system="fat32+ntfs", cluster=64 << 10), 16 << 30, 512),
    "gpt fat32": (Choices(table="gpt"), 300 * MIB, 512),
    "gpt fat32, 4096": (Choices(table="gpt"), None, 4096),
    "gpt ntfs with crossing": (Choices(table="gpt", file_system="ntfs"), 1 << 40, 512),
    "gpt pair": (Choices(table="gpt", file_system="fat32+ntfs", identity="CREW"), None, 512),
    "gpt pair, 4096": (Choices(table="gpt", file_system="fat32+ntfs"), 640 * MIB, 4096),
    "beyond 2 TiB": (Choices(firmware="uefi"), 3 << 40, 512),
}
MAC_SHAPES: dict[str, tuple[Choices, int | None, int]] = {
    "macos, image file": (Choices(), None, 512),
    "macos, whole": (Choices(label="Plakatstudio", cluster=8192), 16_008_609_792, 512),
    "macos, 4096": (Choices(), 800 * MIB, 4096),
}
COMBINED: dict[str, Choices] = {"mbr, with macos": Choices(table="mbr"), "gpt, with macos": Choices(table="gpt")}
RAW: dict[str, Choices] = {
    "mbr, raw": Choices(use="needed", file_system="fat32"),
    "gpt, raw": Choices(table="gpt", file_system="fat32"),
}
"""What the image of each was built by."""
PORTABLE: dict[str, Choices] = {
    "mbr, portable": Choices(purpose="portable", table="mbr"),
    "gpt, portable": Choices(purpose="portable", table="gpt"),
}
UPDATED = ("mbr fat32, split", "mbr ntfs with crossing", "gpt pair")


def source() -> Source:
    """A small Tidewell installer that lies nowhere: all its bytes are made."""
    root = installer(loader_size=300 << 10, hollow_size=MIB, hollow_count=0, files=12, architectures=("x64", "x86"))
    return Source(Path("tidewell.iso"), "disc image (UDF)", LABEL, root)


def newer() -> Source:
    """The next release: a file gone, one grown, one new."""
    given = source()
    root = given.root.merged(given.root)
    del root.entries["setup.exe"]
    root.entries["timetable.txt"] = File("timetable.txt", Literal(b"09:26 Steg 4\r\n" * 900), EPOCH)
    return Source(given.path, given.form, given.label, root)


def studio_source() -> Source:
    """A system volume with everything that HFS+ holds, that lies nowhere either."""
    root = studio(200)
    core = folder("CoreServices", with_facts("boot.efi", b"MZ" + bytes(4000), mode=0o755), file("SystemVersion.plist"))
    root.entries["System"] = folder("System", folder("Library", core))
    return Source(Path("studio.dmg"), "disk image", "Poster studio", root)


def raw_image(folder: Path, name: str) -> Source:
    """A drive that is taken as the image of one."""
    path = folder / f"{name}.img"
    image = compose_drive(make_plan(source(), RAW[name], DriveShape("T3ST", None)))
    drive = MemoryDrive(image.size)
    build(image, drive, silent)
    path.write_bytes(drive.data)
    return open_source(path)


def portable_image(folder: Path) -> Source:
    path = folder / "crew.wim"
    if path.exists():
        return open_source(path)
    path.write_bytes(install_image([system()], "lzx", name="Crew", build=26100))
    return open_source(path)


def content_digest(content: Content) -> bytes:
    digest = blake3()
    for piece in stream(content):
        digest.update(piece)
    return digest.digest()


def digest_of(image: DriveImage) -> str:
    """Sum everything that is written: where each extent lies, its bytes, tables, manifest and seal."""
    digest = blake3(f"{image.size} {image.sector_size} {image.manifest_offset or 0} {image.manifest_room}\n".encode())
    blocks: list[tuple[int, int, bytes]] = []
    for region in image.regions:
        sums = [content_digest(extent.content) for extent in region.extents if extent.content.size < 40 * MIB]
        lies = [(extent.offset, extent.content.size) for extent in region.extents]
        whole = blake3(b"".join(sums)).digest()
        digest.update(f"{region.kind} {region.offset} {region.size} {lies} {whole.hex()}\n".encode())
        blocks += [(start, 0, whole) for start in range(region.offset, region.offset + region.size, 4 * MIB)]
    for offset, data in [*image.tables, (0, image.seal)]:
        digest.update(f"{offset} {blake3(data).hexdigest()}\n".encode())
    digest.update(manifest_of(image, Streamed(blocks, [], 0)))
    return digest.hexdigest()[:32]


def drives() -> dict[str, DriveImage]:
    """Compose every plan, and the updates of some."""
    found: dict[str, DriveImage] = {}
    for name, (choices, size, sector_size) in SHAPES.items():
        found[name] = compose_drive(make_plan(source(), choices, DriveShape("T3ST", size, sector_size)))
        if name in UPDATED:
            image = found[name]
            drive = MemoryDrive(image.size)
            build(image, drive, silent)
            shape = DriveShape("T3ST", image.size, sector_size)
            kept = Choices(
                **{
                    key: getattr(choices, key)
                    for key in ("table", "firmware", "file_system", "label", "part_size", "identity")
                }
            )
            found[f"{name}, updated"] = compose_drive(
                make_plan(newer(), kept, shape, read_standing(drive, sector_size).volumes)
            )
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(planning, "_refuse_what_starts_nowhere", lambda *_: None)  # the loader of this volume is none
        for name, (choices, size, sector_size) in MAC_SHAPES.items():
            found[name] = compose_drive(make_plan(studio_source(), choices, DriveShape("T3ST", size, sector_size)))
        for name, choices in COMBINED.items():
            both = replace(source(), further=(studio_source(),))
            found[name] = compose_drive(make_plan(both, choices, DriveShape("T3ST", None)))
    for file_system in ("fat32", "ntfs"):
        found[f"storage, {file_system}"] = compose_storage(DriveShape("T3ST", 200 * MIB), "PIER 4", None, file_system)  # type: ignore[arg-type]
    return found


def drives_of_files(folder: Path) -> dict[str, DriveImage]:
    """Compose the plans whose sources are files."""
    made = [(name, raw_image(folder, name), Choices()) for name in RAW]
    made += [(name, portable_image(folder), choices) for name, choices in PORTABLE.items()]
    drive = DriveShape("T3ST", None)
    return {name: compose_drive(make_plan(source, choices, drive)) for name, source, choices in made}


def digests(folder: Path) -> dict[str, str]:
    return {name: digest_of(image) for name, image in (drives() | drives_of_files(folder)).items()}


def test_no_drive_has_changed_by_a_bit(tmp_path: Path) -> None:
    """Every plan gives the drive it gave when its digest was taken."""
    expected = dict(line.rsplit(": ", 1) for line in FROZEN.read_text("utf-8").splitlines())
    found = digests(tmp_path)

    assert found == expected


if __name__ == "__main__":
    with TemporaryDirectory() as place:
        FROZEN.write_text("".join(f"{name}: {digest}\n" for name, digest in digests(Path(place)).items()), "utf-8")
