"""Measures unpacking of install images, beside a plain copy of the same bytes in the same run.

    python bench/unpacking.py [FOLDER] [--megabytes 192] [--rounds 3]

The image is packed by the tests' own packers from this computer's programs and texts, a few MiB of them, once and many
times over. First the unpackers by themselves on one core, and the plain form; then an edition's files through
resources, on all cores; then whole processes: a listing of 100,000 files and one file taken from an image of 5 GB.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.helpers.install_images import Item, install_image, parse_of
from tests.helpers.lzms_packer import pack_lzms, translate_x86
from tests.helpers.packers import pack_lzx, pack_xpress, translate_calls

from lucky_keystone.content.contents import stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.wim.packed import METHODS, PackedResource, chunks_of
from lucky_keystone.wim.packing import fast
from lucky_keystone.wim.records import HEADER_LZMS, HEADER_LZX, HEADER_XPRESS, ResourceHeader

CHUNKS = {HEADER_XPRESS: 32768, HEADER_LZX: 32768, HEADER_LZMS: 1 << 20}
PROGRAM = [sys.executable, "-m", "lucky_keystone"]


def sample(size: int) -> bytes:
    """Return bytes of programs and texts, half each."""
    program = Path(sys.executable).resolve().read_bytes()
    texts = b"".join(path.read_bytes() for path in sorted(Path(os.__file__).parent.glob("*.py")))
    half = size // 2
    return (program * (half // len(program) + 1))[:half] + texts[:half]


def pack(data: bytes, kind: int) -> list[bytes]:
    """Return the chunks' stored bytes."""
    chance, made, chunk = random.Random(1), [], CHUNKS[kind]
    for at in range(0, len(data), chunk):
        piece = data[at : at + chunk]
        if kind == HEADER_LZMS:
            translated = translate_x86(piece)
            small = pack_lzms(parse_of(translated), len(piece), chance)
        elif kind == HEADER_XPRESS:
            small = pack_xpress(parse_of(piece), chance, marked=True)
        else:
            translated = translate_calls(piece)
            small = pack_lzx(parse_of(translated), translated, chance, chunk, kinds=(1, 2))
        made.append(small if len(small) < len(piece) else piece)
    return made


def median(rounds: int, work: Callable[[], object]) -> float:
    """Return the median of seconds."""
    taken = []
    for _ in range(rounds):
        started = time.perf_counter()
        work()
        taken.append(time.perf_counter() - started)
    return statistics.median(taken)


def drain(content: FileRange) -> None:
    for _ in stream(content):
        pass


def measure(name: str, kind: int, data: bytes, folder: Path, megabytes: int, rounds: int) -> None:
    chunks, chunk = pack(data, kind), CHUNKS[kind]
    method, run = next(each for each in METHODS if each.flag == kind), 1 << 20
    count = run // chunk
    runs = []
    for at in range(0, len(chunks), count):
        part = chunks[at : at + count]
        runs.append((b"".join(part), np.cumsum([0, *map(len, part)]), min(run, len(data) - at * chunk)))

    def one_core() -> None:
        for stored, starts, total in runs:
            assert fast.unpack_run(method.fast, stored, starts, chunk, total)

    sample = list(enumerate(chunks))[:: max(len(chunks) * chunk // (1 << 19), 1)]

    def plain() -> None:
        for at, stored in sample:
            if len(stored) < min(chunk, len(data) - at * chunk):
                method.decode(stored, min(chunk, len(data) - at * chunk), chunk)

    one_core()
    seconds = median(rounds, one_core)
    slow = median(1, plain) / len(sample) / chunk
    print(f"{name}: packed to {sum(map(len, chunks)) / len(data):.0%}", end="; ")
    print(f"one core {len(data) / seconds / 1e6:,.0f} MB/s, plain Python {1 / slow / 1e6:,.2f} MB/s", end="; ")

    times = max(megabytes * 1_000_000 // len(data), 1)
    packed_file, copy = folder / f"{name}.packed", folder / f"{name}.plain"
    starts = np.cumsum([len(stored) for stored in chunks * times])[:-1].astype("<u4")
    with packed_file.open("wb") as out:
        out.write(starts.tobytes())
        for _ in range(times):
            out.write(b"".join(chunks))
    copy.write_bytes(data * times)
    file = SourceFile(packed_file)
    row = ResourceHeader(stored_size=file.size, flags=4, offset=0, original_size=len(data) * times)
    packed = FileRange(file, 0, file.size)
    resource_ = PackedResource(packed, row.original_size, lambda: chunks_of(packed, row, method, chunk, name), name)
    whole = SourceFile(copy)
    unpack, read = [], []
    for _ in range(rounds):
        unpack.append(median(1, lambda: drain(FileRange(resource_, 0, row.original_size))))
        read.append(median(1, lambda: drain(FileRange(whole, 0, whole.size))))
    through, plain_copy = (whole.size / statistics.median(seconds) / 1e6 for seconds in (unpack, read))
    print(f"through a resource, {os.cpu_count()} cores {through:,.0f} MB/s", end="; ")
    print(f"plain reading of the same bytes {plain_copy:,.0f} MB/s")


_MEASURED = """
import resource, subprocess, sys
subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, file=sys.stderr)
"""


def command(*words: object) -> tuple[float, int]:
    """Return seconds and peak memory, in bytes, of a command line."""
    started = time.perf_counter()
    # A small process in between: a child's peak begins with that of the one it was forked from.
    line = [sys.executable, "-c", _MEASURED, *PROGRAM, *map(str, words)]
    done = subprocess.run(line, check=True, capture_output=True, text=True)
    return time.perf_counter() - started, int(done.stderr.split()[-1]) * 1024


def show(what: str, found: list[tuple[float, int]]) -> None:
    seconds, peak = statistics.median(s for s, _ in found), max(m for _, m in found)
    print(f"{what}: {seconds:.2f} s, peak {peak >> 20} MiB")


def listing(folder: Path, rounds: int) -> None:
    files = {
        f"landing {n}": Item(None, {f"berth {n} {m:03}.dll": Item(b"%d %d" % (n, m)) for m in range(100)})
        for n in range(1000)
    }
    image = folder / "many.wim"
    image.write_bytes(install_image([files], "xpress"))
    line = ["inspect", image, "--edition", "1", "--list"]
    show("listing 100,000 files", [command(*line, "--json") for _ in range(rounds)])


def taking(folder: Path, data: bytes, rounds: int) -> None:
    """5 GB of other files' bytes lie between the header and the file; they are a hole here, and are not read."""
    image, gap, wanted = folder / "large.wim", 5_000_000_000, data[: 1 << 20]
    small = bytearray(install_image([{"winload.efi": Item(wanted)}], "lzx"))
    size, rows = struct.unpack_from("<QQ", small, 48)
    places = [rows + 50 * n + 8 for n in range((size & 0xFFFFFF) // 50)]
    for at in (*places, 56, 80, 104, 132):  # every row's place, and those in the header, move with what they name
        if (before := struct.unpack_from("<Q", small, at)[0]) >= 208:
            struct.pack_into("<Q", small, at, before + gap)
    with image.open("wb") as out:
        out.write(small[:208])
        out.seek(208 + gap)
        out.write(small[208:])
    found = []
    for number in range(rounds):
        into = folder / f"out{number}"
        found.append(command("inspect", image, "--take", "winload.efi", "--into", into))
        assert (into / "winload.efi").read_bytes() == wanted
    show("one file of 1 MiB from an image of 5 GB", found)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path)
    parser.add_argument("--megabytes", type=int, default=192)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    data = sample(4 << 20)
    with tempfile.TemporaryDirectory(dir=given.folder) as name:
        folder = Path(name)
        for method, kind in (("XPRESS", HEADER_XPRESS), ("LZX", HEADER_LZX), ("LZMS", HEADER_LZMS)):
            measure(method, kind, data, folder, given.megabytes, given.rounds)
        listing(folder, given.rounds)
        taking(folder, data, given.rounds)
    print(f"peak of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB")


if __name__ == "__main__":
    main()
