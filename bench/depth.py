"""Measures whether a drive takes more when it is written to, or gives more when it is read, several blocks at a time.

    python bench/depth.py [FOLDER] [--gigabytes 1.5]

The program moves one block of 4 MiB at a time, past the system's cache, and fills the next one meanwhile. This says
whether larger blocks or more of them under way would be quicker where FOLDER lies: on a stick, say.
"""

from __future__ import annotations

import argparse
import mmap
import os
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import product
from pathlib import Path
from queue import Empty, SimpleQueue


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()))
    parser.add_argument("--gigabytes", type=float, default=1.5)
    given = parser.parse_args()
    print(f"{'block':>8}{'at a time':>12}{'written MB/s':>16}{'read MB/s':>12}")
    for size, depth in product((1 << 20, 4 << 20, 16 << 20), (1, 2, 4)):
        with tempfile.NamedTemporaryFile(dir=given.folder) as made:
            file = os.open(made.name, os.O_RDWR | os.O_DIRECT)
            count = int(given.gigabytes * 1e9) // size
            os.ftruncate(file, count * size)  # as a drive is, it has its size before it is written
            written, read = (moved(file, size, count, depth, writing=writing) for writing in (True, False))
            os.close(file)
        print(f"{size >> 20:4} MiB{depth:12}{written:16.0f}{read:12.0f}", flush=True)


def moved(file: int, size: int, count: int, depth: int, *, writing: bool) -> float:
    """Write or read `count` blocks of `size` bytes, `depth` at a time; return MB per second, the flush included."""
    waiting: SimpleQueue[int] = SimpleQueue()
    for number in range(count):
        waiting.put(number)

    def work(buffer: memoryview) -> None:
        while True:
            try:
                offset = waiting.get_nowait() * size
            except Empty:
                return
            done = os.pwrite(file, buffer, offset) if writing else os.preadv(file, [buffer], offset)
            assert done == size

    buffers = [memoryview(mmap.mmap(-1, size)) for _ in range(depth)]
    for buffer in buffers:
        buffer[:] = os.urandom(size)
    started = time.monotonic()
    with ThreadPoolExecutor(depth) as pool:
        list(pool.map(work, buffers))
    if writing:
        os.fdatasync(file)
    return count * size / 1e6 / (time.monotonic() - started)


if __name__ == "__main__":
    main()
