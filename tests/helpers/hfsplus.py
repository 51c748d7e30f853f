"""HFS+ volumes for tests."""

from __future__ import annotations

from pathlib import Path
from uuid import UUID

from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal
from lucky_keystone.content.tree import File, Folder, Special, UnixFacts
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.tables.partition import Use, WantedPartition
from lucky_keystone.tables.styles import STYLES, TableNumbers
from lucky_keystone.volumes.hfsplus.kind import HFSPLUS
from lucky_keystone.volumes.hfsplus.names import decomposed
from lucky_keystone.volumes.kind import PlannedVolume

from .trees import MOMENT, file, folder

SERIAL = 0x0926_1403_2026_0314


def with_facts(name: str, data: bytes = b"", **facts: object) -> File:
    return file(name, data, Special(unix=UnixFacts(**facts)))  # type: ignore[arg-type]


def write_volume(
    root: Folder, path: Path, *, cluster: int = 4096, size: int = 64 << 20, start: int = 0, sector: int = 512
) -> PlannedVolume:
    """Write `root` as a volume at byte `start` of a file; behind a table when that is not 0."""
    planned = HFSPLUS.draft(root, "Poster studio", cluster, sector).settle(start, start + size)
    total = planned.end + (1 << 20 if start else 0)
    path.unlink(missing_ok=True)
    with ImageFile.make(path, total) as image:
        stream_regions(planned.regions(SERIAL), image, silent)
    if start:
        with path.open("r+b") as out:
            place = WantedPartition(1, Use.HFS, False, start // sector, size // sector, UUID(int=7), "Poster studio")
            table = STYLES["gpt"].compose(TableNumbers(1, UUID(int=8)), [place], b"", total // sector, sector)
            for offset, data in ((0, table.seal), *table.rest):
                out.seek(offset)
                out.write(data)
    return planned


def studio(many: int = 3000) -> Folder:
    """A tree with everything that HFS+ holds, and names that lead astray."""
    linked = file("one name", b"linked" * 5000)
    icon = b"TXT ttxt" + (0x0400).to_bytes(2, "big")
    return folder(
        "",
        file("Case.txt", b"1"),
        file("empty"),
        file("Grüße aus Ålesund.txt", b"composed"),
        file("Gru\u0308n.txt", b"decomposed"),
        file("한국어 ΔΟΚΙΜΉ Ωm Ὠ", b"Hangul by rule, singletons kept"),
        file("Fähre 🚢", b"beyond 16 bits"),
        file("either:or", b"the colon is a slash"),
        file("é" * 127 + "x", b"255 units once decomposed"),
        with_facts("run", b"#!/bin/sh\n", mode=0o755),
        with_facts("alias", b"folder/deep", is_link=True),
        with_facts(
            "poster",
            b"data fork",
            resource=Literal(b"resource fork" * 1000),
            finder_info=icon.ljust(32, b"\0"),
            attributes={"org.tidewell.note": b"Pier 4", "org.tidewell.odd": b"Pier 4b"},
        ),
        with_facts("large attribute", b"data", attributes={"org.tidewell.large": bytes(range(256)) * 40}),
        folder("folder", folder("deep", file("file", b"x" * 9000)), linked),
        Folder("other names", MOMENT, {f"name {number}": linked for number in range(3)}),
        folder("many", *(file(f"Überfahrt {number:05} nach 東京.txt", b"%d" % number) for number in range(many))),
    )


def as_stored(files: dict[str, bytes]) -> dict[str, bytes]:
    """Return {path: bytes} with names as the volume has them."""
    return {"/".join(decomposed(part) for part in path.split("/")): data for path, data in files.items()}
