"""Mutates sources, images and drives: a result or one clear error, no other exception, no endless loop.

A case is wholly given by its kind, seed and number. CI takes a fixed sample; large counts are runs by hand:

    python -m tests.fuzz.mutate --kinds "raw" --seed 1 --count 50000
"""

from __future__ import annotations

import argparse
import random
import time
import traceback
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from lucky_keystone.common.errors import SourceError, UsageError

from .fetching_targets import fetching_targets
from .mac_targets import mac_targets
from .mending_targets import mending_targets
from .setup_targets import setup_targets
from .shop_targets import shop_targets
from .targets import Target, make_targets, shows_bytes

KINDS = (
    *("udf", "joliet", "rock ridge", "install image", "drive", "gpt drive", "ntfs drive", "exfat drive", "raw drive"),
    *("mac disk image", "mac zip", "mac package", "mac payload", "mac asset", "apfs", "sealed apfs", "studio drive"),
    *("xpress image", "lzx image", "lzms image", "xpress solid image", "lzx solid image", "lzms solid image"),
    *("combined image", "combined solid image", "applied edition", "hive", "boot store"),
    *("edition", "signature lists", "answer file", "driver package"),
    *("catalogue", "catalogue json", "releases", "words", "chunk list", "journal", "record of the store", "answers"),
    *("machine file", "presets", "batch", "record"),
    *("manifest drive", "progress drive", "bay", "plan"),
    *("mended fat32 drive", "mended gpt drive", "mended ntfs drive", "mended studio drive"),
    *("raw mbr", "raw gpt", "raw fat12", "raw fat16", "raw gz", "raw bz2", "raw xz", "raw zst", "raw zip"),
)
LONGEST = 120.0  # seconds for one case, which only catch hanging: a good one takes some milliseconds
EXTREMES = [
    b"\0" * 4,
    b"\xff" * 4,
    b"\x01\0\0\0",
    b"\xff\xff\xff\x7f",
    b"\0\0\0\x80",
    b"\xff" * 8,
    b"\xff" * 7 + b"\x7f",
]


def all_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in `folder`."""
    made = make_targets(folder) | mac_targets(folder / "mac") | setup_targets(folder / "setup")
    made |= shop_targets(folder / "shop")
    made |= mending_targets(folder / "mended", folder / "udf.iso", next((folder / "mac/apps").glob("*.app")))
    return made | fetching_targets(folder / "net")


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


def one(targets: dict[str, Target], kind: str, number: int, seed: int = 0) -> tuple[float, str]:
    """Run one case; return its seconds and how it ended."""
    started = time.monotonic()
    with mutated(targets[kind], random.Random(f"{kind} {number} {seed}")):
        try:
            targets[kind].use()
            end = "result"
        except (SourceError, UsageError) as error:  # what was given cannot be used: the only answer besides a result
            assert not kind.endswith("drive"), error  # a check always has a result
            assert error.message
            assert not shows_bytes(error.message), error
            end = "error"
    return time.monotonic() - started, end


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kinds", default="", help="only kinds that begin with this")
    parser.add_argument("--count", type=int, default=50_000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    kinds = [kind for kind in KINDS if kind.startswith(given.kinds)]
    ends: Counter[tuple[str, str]] = Counter()
    longest = 0.0
    with TemporaryDirectory() as folder:
        targets = all_targets(Path(folder))
        for number in range(given.count):
            kind = kinds[number % len(kinds)]
            try:
                seconds, end = one(targets, kind, number, given.seed)
            except Exception:  # noqa: BLE001 - whatever else comes is the failure looked for
                print(f"one({kind!r}, {number}, {given.seed})")
                traceback.print_exc()
                seconds, end = 0.0, "FAILED"
            ends[kind, end] += 1
            longest = max(longest, seconds)
    for (kind, end), count in sorted(ends.items()):
        print(f"{kind}: {count:,} {end}")
    print(f"{given.count:,} cases, the longest {longest:.2f} s")


if __name__ == "__main__":
    main()
