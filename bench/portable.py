"""Measures applying an edition to a drive, beside a plain copy of the same bytes in the same run.

    python bench/portable.py [FOLDER] [--gigabytes 5] [--entries 100000] [--rounds 3]

Two images are made: an uncompressed one of incompressible files, and one that is packed with LZX (by the tests' own
packer, from this computer's programs and texts; a few MiB of them many times over, with something of its own in each
file). In turns: a plain copy of the uncompressed image with a flush, `build --purpose portable` without reading back,
`plan`; then the same build from the LZX image, whose bound is its decoder. Of a build the writing is also told alone:
what comes before and after it takes as long for any size, but longer the more entries there are. Whole processes are
timed; peak memory is the operating system's own figure for each.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import statistics
import struct
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
sys.path.insert(0, str(Path(__file__).parent))

from run import COPY, PROGRAM, Run, forget, run, show
from tests.helpers.install_images import Item
from tests.helpers.systems import system
from unpacking import pack, sample

from lucky_keystone.wim.records import HEADER_LZX

CHUNK, FOLDER, MOMENT = 32768, 500, 133_800_000_000_000_000


class Image:
    """An install image that is written while it is made; only its tables are in memory."""

    def __init__(self, path: Path, packed: bool) -> None:
        self._stream, self._at, self._rows, self._packed = path.open("wb"), 208, bytearray(), packed
        self._stream.write(bytes(208))

    def add(self, stored: bytes, size: int, sha1: bytes, flags: int = 0) -> None:
        self._stream.write(stored)
        self._rows += struct.pack("<QQQHI", len(stored) | flags << 56, self._at, size, 1, 1) + sha1
        self._at += len(stored)

    def end(self, metadata: bytes) -> None:
        self.add(metadata, len(metadata), hashlib.sha1(metadata).digest(), 2)
        xml = (
            '\ufeff<WIM><IMAGE INDEX="1"><NAME>Tidewell Bench</NAME><WINDOWS><ARCH>9</ARCH></WINDOWS></IMAGE></WIM>'
        ).encode("utf-16-le")
        self._stream.write(self._rows + xml)
        flags = 0x40002 if self._packed else 0
        head = struct.pack("<8sIIII16sHHI", b"MSWIM", 208, 0x10D00, flags, CHUNK if flags else 0, bytes(16), 1, 1, 1)
        head += struct.pack("<QQQ", len(self._rows) | 2 << 56, self._at, len(self._rows))
        head += struct.pack("<QQQ", len(xml) | 2 << 56, self._at + len(self._rows), len(xml))
        self._stream.seek(0)
        self._stream.write(head)
        self._stream.close()


def entry(name: str, sha1: bytes, children: int = 0, is_folder: bool = False) -> bytes:
    stored = name.encode("utf-16-le")
    fields = (0x10 if is_folder else 0x20, 0xFFFFFFFF, children, MOMENT, MOMENT, MOMENT, sha1, 0, 0, 0, 0, len(stored))
    length = 102 + len(stored) + 2 + 7 & ~7
    return (struct.pack("<QIIQ16xQQQ20sIQHHH", length, *fields) + stored).ljust(length, b"\0")


def metadata(root: dict[str, object]) -> bytes:
    """Return the folder tree: folders are dicts, files their SHA-1."""
    out = bytearray(struct.pack("<II", 8, 0) + entry("", bytes(20), is_folder=True).ljust(104, b"\0")[:104] + bytes(8))
    waiting: list[tuple[int, dict[str, object]]] = [(8 + 16, root)]
    while waiting:
        place, below = waiting.pop()
        out[place : place + 8] = len(out).to_bytes(8, "little")
        for name, item in below.items():
            if isinstance(item, dict):
                waiting.append((len(out) + 16, item))
                out += entry(name, bytes(20), is_folder=True)
            else:
                assert isinstance(item, bytes)
                out += entry(name, item)
        out += bytes(8)
    return bytes(out)


def make_image(path: Path, size: int, count: int, packed: bool) -> None:
    """Write an image with a small system, and `count` files of `size` bytes in all."""
    image = Image(path, packed)
    root: dict[str, dict[str, object]] = {}

    def add_raw(data: bytes) -> bytes:
        sha1 = hashlib.sha1(data).digest()
        image.add(data, len(data), sha1)
        return sha1

    def copied(tree: dict[str, Item]) -> dict[str, object]:
        return {
            name: copied(dict(item.below)) if item.data is None else add_raw(item.data) if item.data else bytes(20)
            for name, item in tree.items()
        }

    root |= copied(system())  # type: ignore[arg-type]
    pieces = _pieces() if packed else []
    mean = size // count
    for number in range(count):
        folder = root.setdefault(f"component {number // FOLDER:03}", {})
        length = mean * (number % 19 + 1) // 10
        if number % 5000 == 0:
            length += 40 << 20 if size > 2 << 30 else 0
        folder[f"harbour part {number:06}.dll"] = (
            _packed_file(image, pieces, number, length) if packed else add_raw(os.urandom(max(length, 1)))
        )
    image.end(metadata({**root}))


def _pieces() -> list[tuple[bytes, bytes]]:
    """Return chunks, as they are and packed."""
    data = sample(4 << 20)
    plain = [data[at : at + CHUNK] for at in range(0, len(data), CHUNK)]
    return list(zip(plain, pack(data, HEADER_LZX), strict=True))


def _packed_file(image: Image, pieces: list[tuple[bytes, bytes]], number: int, length: int) -> bytes:
    chosen = [pieces[(number * 7 + n) % len(pieces)] for n in range(length // CHUNK)]
    own = number.to_bytes(8, "little") * 8
    data = b"".join(plain for plain, _ in chosen) + own
    stored = [small for _, small in chosen] + [own]
    starts, at = [], 0
    for each in stored[:-1]:
        at += len(each)
        starts.append(at)
    sha1 = hashlib.sha1(data).digest()
    image.add(struct.pack(f"<{len(starts)}I", *starts) + b"".join(stored), len(data), sha1, 4)
    return sha1


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-bench")
    parser.add_argument("--gigabytes", type=float, default=5.0)
    parser.add_argument("--entries", type=int, default=100_000)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    images = {name: given.folder / f"{name}.wim" for name in ("plain", "lzx")}
    for name, path in images.items():
        if not path.exists():
            make_image(path, int(given.gigabytes * 1e9), given.entries, name == "lzx")
    target, copy = given.folder / "drive.img", given.folder / "copy.bin"
    rows: dict[str, list[Run]] = {}

    def measure(name: str, command: list[str], remove: Path | None = None) -> None:
        if remove is not None:
            remove.unlink(missing_ok=True)
        forget(*images.values(), target, copy)
        said = given.folder / "said.json"
        rows.setdefault(name, []).append(run(command, said))
        print(f"  {name}: {rows[name][-1].seconds:.2f} s, {rows[name][-1].peak >> 20} MiB", flush=True)
        if name.startswith("build"):
            seconds = json.loads(said.read_text())["result"]["writing_seconds"]
            rows.setdefault(f"{name}, writing", []).append(Run(seconds, 0, 0.0))
        said.unlink()

    def build(name: str) -> Callable[[], None]:
        command = [*PROGRAM, "build", str(images[name]), "--purpose", "portable", "--onto", str(target)]
        return lambda: measure(f"build {name}", [*command, "--no-verify", "--yes", "--json"], target)

    def plain_copy() -> None:
        size = images["plain"].stat().st_size
        measure("copy", [sys.executable, "-c", COPY, str(images["plain"]), str(copy), str(size)], copy)

    build("plain")()  # not counted: the disk's first touch of these places costs more on some machines
    plain_copy()
    rows.clear()
    for number in range(given.rounds):
        for step in (build("plain"), plain_copy) if number % 2 else (plain_copy, build("plain")):
            step()
        build("lzx")()
        measure("plan", [*PROGRAM, "plan", str(images["lzx"]), "--purpose", "portable", "--json"])
    show(rows, given.gigabytes * 1e9)
    for name, limit in (("build plain, writing", "; claimed: 1.15 at most"), ("build plain", "")):
        ratios = [a.seconds / b.seconds for a, b in zip(rows[name], rows["copy"], strict=True)]
        each = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        print(f"{name} / copy: median {statistics.median(ratios):.2f} ({each}){limit}")
    seconds = statistics.median(each.seconds for each in rows["build lzx, writing"])
    print(f"LZX: {given.gigabytes * 1000 / seconds:.0f} MB/s of what comes out, on {os.cpu_count()} processors")
    print("claimed: memory 400 MiB, planning 5 s at most")
    copy.unlink()
    target.unlink()


if __name__ == "__main__":
    main()
