"""20,000 mutated inputs: a result or one clear error, no other exception, no endless loop, no memory without bound.

A case is wholly given by its kind and number; a failure names both, and `one(KIND, NUMBER)` runs it again.
"""

from __future__ import annotations

import random
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.content import Literal, stream
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.install_image import DemoEdition, install_image, small_blob
from lucky_keystone.demo.tidewell import LABEL, MOMENT
from lucky_keystone.errors import SourceError
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tree import File, Folder
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.split import divide

from ..conftest import build_drive, need, silent
from ..media import MemoryDrive

CASES, CHUNKS = 20_000, 8
KINDS = ("udf", "joliet", "rock ridge", "install image", "drive", "gpt drive", "ntfs drive")
LONGEST = 20.0  # seconds for one case; a good one takes some milliseconds, a busy machine more
EXTREMES = [
    b"\0" * 4,
    b"\xff" * 4,
    b"\x01\0\0\0",
    b"\xff\xff\xff\x7f",
    b"\0\0\0\x80",
    b"\xff" * 8,
    b"\xff" * 7 + b"\x7f",
]


def small_installer() -> Folder:
    editions = [
        DemoEdition(
            "Tidewell Mini", "Mini", [("pier.dll", small_blob(b"pier" * 500)), ("mole.dll", small_blob(b"mole" * 900))]
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
        make_plan(source, Choices(part_size=1 << 20), DriveShape("x", None))

    return Target(read, write, spans, use)


@pytest.fixture(scope="module")
def targets(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Target]:
    folder = tmp_path_factory.mktemp("fuzz")
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

    built = build_drive(open_source(ours), folder / "drive.img")
    witness = MemoryDrive(built.image.size)
    witness.data = bytearray(built.path.read_bytes())

    def use_drive() -> None:
        witness.log.clear()
        check_drive(witness, silent, contents=chance_of_contents.random() < 0.02)

    chance_of_contents = random.Random(1)
    fats, folders = built.image.regions[1].offset, built.image.regions[3].offset
    spans = [(0, 512)] * 6 + [(512, 3000)] * 4 + [(1 << 20, 1024)] * 12 + [(fats, 600)] * 6
    spans += [(folders + at, size) for at, size in used_spans(bytes(witness.data[folders : folders + 6144]))]
    found["drive"] = Target(*in_memory(witness.data), spans, use_drive)
    built = build_drive(open_source(ours), folder / "gpt.img", Choices(table="gpt"))
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
        check_drive(third, silent, contents=chance_of_contents.random() < 0.02)

    spans = [(446, 66), (512, 3000)] + [(1 << 20, 512)] * 6
    for region in built.image.regions:
        if region.kind in ("mft", "bitmap", "folders"):
            front = bytes(third.data[region.offset : region.offset + min(region.size, 96 << 10)])
            spans += [(region.offset + at, size) for at, size in used_spans(front)]
    found["ntfs drive"] = Target(*in_memory(third.data), spans, use_ntfs_drive)
    return found


@contextmanager
def mutated(target: Target, chance: random.Random) -> Iterator[None]:
    """Change 1 to 6 places: a bit, a random run of bytes, or an extreme number; put all back afterwards."""
    undo: list[tuple[int, bytes]] = []
    for _ in range(chance.choice((1, 1, 2, 3, 6))):
        start, size = chance.choice(target.spans)
        offset = start + chance.randrange(size)
        data = chance.choice(EXTREMES) if chance.random() < 0.5 else chance.randbytes(chance.choice((1, 1, 2, 4, 16)))
        if chance.random() < 0.3:
            data = bytes((target.read(offset, 1)[0] ^ 1 << chance.randrange(8),))
        before = target.read(offset, len(data))
        undo.append((offset, before))
        target.write(offset, data[: len(before)])
    try:
        yield
    finally:
        for offset, before in reversed(undo):
            target.write(offset, before)


def one(targets: dict[str, Target], kind: str, number: int) -> float:
    """Run one case; return its seconds."""
    started = time.monotonic()
    with mutated(targets[kind], random.Random(f"{kind} {number}")):
        try:
            targets[kind].use()
        except SourceError as error:  # what was given to build from cannot be used: the only answer besides a result
            assert kind != "drive", error
            assert error.message
    return time.monotonic() - started


@pytest.mark.parametrize("chunk", range(CHUNKS))
def test_mutated_inputs_give_a_result_or_a_clear_error(chunk: int, targets: dict[str, Target]) -> None:
    for number in range(chunk * CASES // CHUNKS, (chunk + 1) * CASES // CHUNKS):
        kind = KINDS[number % len(KINDS)]
        try:
            seconds = one(targets, kind, number)
        except Exception as error:  # noqa: BLE001 - whatever else comes is the failure looked for
            pytest.fail(f"one({kind!r}, {number}): {type(error).__name__}: {error}")
        assert seconds < LONGEST, f"one({kind!r}, {number}) took {seconds:.1f} s"
