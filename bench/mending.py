"""Measures mending beside the check of the same drive: what it reads and writes beyond that is to take 5 s at most.

    python bench/mending.py [FOLDER] [--size 64GB] [--rounds 3]

A drive of the whole size is built from the demo's disc for each file system, and spoilt: no boot code in sector 0 and
in the volume, no active mark; on FAT32 a second FAT that differs too. In turns: `check` (which finds no manifest, so it
reads the structure) and `mend --yes`, each with the data dropped from the cache. Whole processes are timed.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
from pathlib import Path

from run import PROGRAM, Run, forget, run

from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer

START = 1 << 20


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-bench")
    parser.add_argument("--size", default="64GB")
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    disc = given.folder / "mending.iso"
    if not disc.exists():
        write_disc(disc, installer(), LABEL, MOMENT, lambda *_: None)
    for kind, choices in (("fat32", []), ("ntfs", ["--firmware", "bios"])):
        drive = given.folder / f"mending-{kind}.img"
        drive.unlink(missing_ok=True)
        run([*PROGRAM, "build", str(disc), "--onto", str(drive), "--size", given.size, "--file-system", kind, *choices,
             "--no-verify", "--yes", "--json"])  # fmt: skip
        rows: dict[str, list[Run]] = {"check": [], "mend": []}
        for _ in range(given.rounds):
            spoil(drive, kind)
            forget(drive)
            rows["check"].append(run([*PROGRAM, "check", str(drive), "--json"], code=1))
            forget(drive)
            rows["mend"].append(run([*PROGRAM, "mend", str(drive), "--yes", "--json"]))
        for name, row in rows.items():
            seconds, peak = statistics.median(each.seconds for each in row), max(each.peak for each in row)
            print(f"{kind} {name}: median {seconds:.2f} s, peak {peak >> 20} MiB")
        beyond = [mend.seconds - check.seconds for check, mend in zip(rows["check"], rows["mend"], strict=True)]
        print(f"{kind}: mend less check, median {statistics.median(beyond):.2f} s; claimed: 5 s at most", flush=True)
        drive.unlink()


def spoil(path: Path, kind: str) -> None:
    """Take away what a start needs, and the manifest."""
    with path.open("r+b") as drive:
        drive.write(bytes(440))
        drive.seek(446)
        drive.write(b"\0")
        drive.seek(512)
        drive.write(bytes(START - 512))
        drive.seek(START)
        head = drive.read(512)
        sectors = (0, 6) if kind == "fat32" else (0,)
        for sector in sectors:
            drive.seek(START + sector * 512 + 90)
            drive.write(bytes(420))
        if kind == "fat32":
            reserved, size = int.from_bytes(head[14:16], "little"), int.from_bytes(head[36:40], "little")
            drive.seek(START + 512 * (reserved + size) + 4000)
            drive.write(b"\xaa" * 20_000)


if __name__ == "__main__":
    main()
