"""What carries macOS installers, and a drive that one became: disk images, archives, packages, HFS+."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.ranges import ContentFile
from lucky_keystone.content.tree import Folder
from lucky_keystone.demo.apfs import ApfsPart, sealed_block, write_apfs
from lucky_keystone.demo.mac import chunk_list_of
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.family import DriveShape
from lucky_keystone.families.proving import verify_source
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.apfs import ApfsInImage
from lucky_keystone.sources.chunk_list import compare, misfit, read_chunk_list
from lucky_keystone.sources.cpio import read_cpio
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.pbzx import PbzxFile
from lucky_keystone.sources.udif_records import Trailer

from ..helpers.drives import MemoryDrive, build_drive
from ..helpers.mac import app_of, carried, packaged
from ..helpers.pbzx import packed_cpio, packed_pbzx
from ..helpers.trees import file
from .targets import Target, in_memory, on_file, used_spans


def mac_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in the new folder `folder`."""
    app = app_of("10.13", folder / "apps")
    image, archive = carried(app, "disk image", folder), carried(app, "zip archive", folder)
    package = packaged(app, folder)
    data = image.read_bytes()
    trailer = Trailer.unpack(data[-512:])
    end = len(data)
    listed = (trailer.list_offset, trailer.list_length)
    found = {
        "mac disk image": _source(image, [(end - 512, 512)] * 3 + [listed] * 6 + [(0, 64 << 10)] * 3),
        "mac zip": _source(archive, [(archive.stat().st_size - 8000, 8000)] * 3 + [(0, 4000)]),
        "mac package": _source(package, [(0, 600)] * 3 + [(0, package.stat().st_size)]),
        "mac payload": _payload(),
        "chunk list": _chunk_list(),
        "apfs": _apfs(folder, 1),
        "sealed apfs": _apfs(folder, 0x21),
        "studio drive": _drive(app, folder),
    }
    asset = app_of("11", folder / "apps") / "Contents/SharedSupport/SharedSupport.dmg"
    # The asset lies in raw blocks: headers of its volume, catalog, and the archive's own directory are in reach.
    spans = used_spans(asset.read_bytes()[: 96 << 10])
    whole = _source(asset, spans)
    found["mac asset"] = Target(whole.read, whole.write, whole.spans, lambda: _use(asset.parents[2]))
    return found


def _payload() -> Target:
    """A payload in chunks by itself: in a package its sum is compared before anything of it is looked at."""
    texts = {f"text {number}": b"The 7:40 to Fairwater leaves from berth three.\n" * number for number in range(80)}
    data = bytearray(packed_pbzx(packed_cpio(texts), 8_000, random.Random(3)))

    def use() -> None:
        payload = PbzxFile(Literal(bytes(data)), "Payload")
        for _path, found in read_cpio(payload, "Payload").files():
            assert sum(len(piece) for piece in stream(found.content)) == found.size

    heads = [(0, 12), *((at, 16) for at in _heads(data))]
    return Target(*in_memory(data), heads * 3 + [(0, len(data))], use)


def _chunk_list() -> Target:
    image = b"The 7:40 to Fairwater." * 40_000
    data = bytearray(chunk_list_of(image))

    def use() -> None:
        listed = read_chunk_list(Literal(bytes(data)), "a.chunklist")
        if listed is not None:
            assert misfit(listed, len(image)) or listed.size == len(image)
            compare(Literal(image), listed, "a.dmg", silent)

    return Target(*in_memory(data), [(0, 72)] * 3 + [(0, len(data))], use)


def _heads(data: bytearray) -> Iterator[int]:
    at = 12
    while at < len(data):
        yield at
        at += 16 + int.from_bytes(data[at + 8 : at + 16], "big")


def _apfs(folder: Path, features: int) -> Target:
    """A container in memory, whose objects' checksums are made anew: else nothing of a changed one is looked at."""
    # Long names, so that few files need many nodes.
    names = [
        f"Poster {number:03} of the summer timetable, for the pier, the mole and both decks" for number in range(70)
    ]
    tree = Folder("", entries={name: file(name, b"p" * 900) for name in names})
    tree.entries["more"] = Folder("more", entries={"link": file("link", b"../timetable")})
    path = folder / f"{features}.apfs"
    older = Folder("", entries={"a": file("a", b"1")}) if features == 1 else None
    write_apfs(path, [ApfsPart("Studio", tree, features=features, snapshot=older)])
    data = bytearray(path.read_bytes())
    blocks = [bytes(data[at : at + 4096]) for at in range(0, len(data), 4096)]
    objects = [number for number, block in enumerate(blocks) if any(block[:32]) and sealed_block(block) == block]
    nodes = [number for number, block in enumerate(blocks) if not any(block[:32]) and block[32] & 0x10]
    spans = [
        (4096 * number + at, size) for number in (*objects, *nodes) for at, size in ((0, 1408), (32, 64), (0, 4096))
    ]

    def use() -> None:
        here = bytearray(data)
        for number in objects:
            at = 4096 * number
            if here[at : at + 4096] != blocks[number]:
                here[at : at + 4096] = sealed_block(bytes(here[at : at + 4096]))
        image = ContentFile(Literal(bytes(here)), "studio.apfs")
        volumes = ApfsInImage(image, 0, image.size)
        for volume in volumes.volumes:
            list(volume.snapshots())
        _ = volumes.label, volumes.notes, volumes.find("more/link"), list(volumes.beside("more/x"))
        for _path, found in volumes.tree().files():
            assert sum(len(piece) for piece in stream(found.content)) == found.size

    return Target(*in_memory(data), spans, use)


def _source(path: Path, spans: list[tuple[int, int]]) -> Target:
    target = on_file(path, spans)
    return Target(target.read, target.write, spans, lambda: _use(path))


def _use(path: Path) -> None:
    """Open and plan it; read what a drive would be given, and what the image's checksums say."""
    source = open_source(path)
    _ = facts_of(source), source.fingerprint
    verify_source(source, None, silent, integrity=True)
    plan = make_plan(source, Choices(as_is=True), DriveShape("x", None))
    for _path, found in plan.tree.files():
        assert sum(len(piece) for piece in stream(found.content)) == found.size


def _drive(app: Path, folder: Path) -> Target:
    built = build_drive(open_source(app), folder / "mac.img")
    drive = MemoryDrive(built.image.size)
    drive.data = bytearray(built.path.read_bytes())

    def use() -> None:
        drive.log.clear()
        check_drive(drive, silent, contents=False)

    start = built.plan.volumes[-1].planned.start
    spans = [(512, 92), (1024, 256), (start + 1024, 512), (start + 1024, 512), (start + 1024, 512)]
    spans += [(built.plan.volumes[-1].planned.end - 1024, 512)]
    spans += [(start + at, size) for at, size in used_spans(bytes(drive.data[start : start + (64 << 10)]))]
    return Target(*in_memory(drive.data), spans, use)
