"""NTFS volumes for tests."""

from __future__ import annotations

from pathlib import Path

from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Joined, Literal, Zeros
from lucky_keystone.content.tree import File, Folder, Special
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.volumes.ntfs.catalogue import catalogue
from lucky_keystone.volumes.ntfs.compose import compose
from lucky_keystone.volumes.ntfs.geometry import Geometry, geometry
from lucky_keystone.volumes.ntfs.layout import place
from lucky_keystone.volumes.ntfs.security import for_everyone

from .trees import MOMENT, file, folder

BOOT = bytes(510) + b"\x55\xaa"

LINK = bytes.fromhex("0C0000A0 2C000000 0000 1000 1000 1000 01000000") + "Case.txt".encode("utf-16-le") * 2
"""A symbolic link to 'Case.txt' (MS-FSCC 2.1.2.4): tag, length, two names by offset and length, relative."""


def write_volume(
    root: Folder, path: Path, *, sector_size: int = 512, cluster_size: int = 4096, size: int = 64 << 20
) -> Geometry:
    """Write `root` as a volume that starts at byte 0 of a file."""
    shape_ = geometry(hidden=0, total=size // sector_size, sector_size=sector_size, cluster_size=cluster_size)
    layout = place(catalogue(root, "PIER 4", shape_.record_size), shape_)
    assert layout.next_free <= shape_.cluster_count
    with ImageFile.make(path, size) as target:
        stream_regions(
            compose(layout, serial=0x0926_1403_2026_0314, boot_sector=BOOT, further_code=b""), target, silent
        )
    return shape_


def ferry() -> Folder:
    """A tree with everything that only NTFS can hold."""
    several = file("k.dat", b"k" * 10_000)
    sparse = Joined([Literal(b"a" * 5000), Zeros(1 << 20), Literal(b"b" * 3000), Zeros(1 << 22)])
    return folder(
        "",
        file("Case.txt", b"1"),
        file("case.TXT", b"22"),
        file("L" * 255, b"long" * 1000),
        File("sparse.bin", sparse, MOMENT, Special(sparse=True)),
        file(
            "streams.txt", b"main" * 500, Special(streams={"Zone": Literal(b"three"), "big": Literal(b"q" * 100_000)})
        ),
        File("link", Literal(b""), MOMENT, Special(reparse=LINK)),
        file("own rules.txt", b"x", Special(security=for_everyone()[:-1] + b"\x01")),
        folder("D" * 255, *(file(f"{number:03}" + "n" * 252, b"%d" % number) for number in range(60))),
        folder("many", *(file(f"Überfahrt nach 東京 {number}.txt", b"%d" % number) for number in range(20_000))),
        Folder("names", MOMENT, {f"name {number} of it": several for number in range(40)}),
        Folder("names again", MOMENT, {f"other {number}": several for number in range(10)}),
    )
