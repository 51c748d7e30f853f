"""Measures composing NTFS: seconds and memory by the number of files; and how long a BIOS rehearsal takes.

    python bench/ntfs.py [--rounds 3]

Each size is composed in a process of its own: names ordered, indexes shaped, places given, regions described; then
every byte of the volume's own structures is made once, as streaming does it. Names are long, so that each has a short
one beside it.
"""

from __future__ import annotations

import argparse
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SIZES = (1_000, 10_000, 50_000, 100_000, 200_000)
VOLUME = 8 << 30


def compose(count: int) -> None:
    """Compose a tree of `count` files in folders of 100; print seconds of both steps and peak bytes."""
    from lucky_keystone.boot.records import NTFS_RECORD
    from lucky_keystone.content.contents import Zeros, stream
    from lucky_keystone.content.tree import File, Folder
    from lucky_keystone.demo.tidewell import MOMENT
    from lucky_keystone.volumes.ntfs.catalogue import catalogue
    from lucky_keystone.volumes.ntfs.compose import compose as compose_ntfs
    from lucky_keystone.volumes.ntfs.geometry import geometry
    from lucky_keystone.volumes.ntfs.layout import place

    root = Folder("", MOMENT)
    for number in range(count):
        name = f"drivers for pier {number // 100}"
        folder = root.entries.setdefault(name, Folder(name, MOMENT))
        assert isinstance(folder, Folder)
        file = f"driver package {number:06}.cab"
        folder.entries[file] = File(file, Zeros(number * 7 % 9000), MOMENT)
    started = time.perf_counter()
    shape = geometry(hidden=2048, total=VOLUME // 512, sector_size=512, cluster_size=4096)
    layout = place(catalogue(root, "BENCH", shape.record_size), shape)
    regions = compose_ntfs(
        layout, serial=1, boot_sector=NTFS_RECORD.first_sector, further_code=NTFS_RECORD.further_code
    )
    composed = time.perf_counter()
    for region in regions:
        for extent in region.extents if region.kind != "files" else ():
            for _ in stream(extent.content):
                pass
    print(composed - started, time.perf_counter() - composed, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)


def rehearse(rounds: int) -> None:
    """Time `rehearse` as a whole process on a small drive of each file system."""
    from lucky_keystone.demo.disc import write_disc
    from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer

    with tempfile.TemporaryDirectory() as name:
        disc = Path(name, "disc.iso")
        write_disc(disc, installer(hollow_size=4 << 20, hollow_count=1), LABEL, MOMENT, lambda *_: None)
        for file_system in ("fat32", "ntfs"):
            drive = Path(name, f"{file_system}.img")
            program = [sys.executable, "-m", "lucky_keystone"]
            command = [*program, "build", str(disc), "--onto", str(drive), "--file-system", file_system, "--json"]
            subprocess.run(command, check=True, capture_output=True)
            times = []
            for _ in range(rounds):
                began = time.perf_counter()
                subprocess.run([*program, "rehearse", str(drive), "--json"], check=True, capture_output=True)
                times.append(time.perf_counter() - began)
            print(f"rehearse, {file_system}: {statistics.median(times):.2f} s; claimed: 2 s at most")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--count", type=int, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.count:
        compose(given.count)
        return
    print(f"{'files':>8}{'composed s':>12}{'made s':>9}{'us a file':>11}{'peak MiB':>10}")
    for count in SIZES:
        results = []
        for _ in range(given.rounds):
            done = subprocess.run(
                [sys.executable, __file__, "--count", str(count)], capture_output=True, text=True, check=True
            )
            results.append(tuple(float(part) for part in done.stdout.split()))
        composed, made, peak = (statistics.median(column) for column in zip(*results, strict=True))
        print(f"{count:8,}{composed:12.2f}{made:9.2f}{(composed + made) / count * 1e6:11.1f}{int(peak) >> 20:10}")
    print("claimed for 200,000 files: 10 s and 400 MiB at most; cost of a file constant from 1,000 on")
    rehearse(given.rounds)


if __name__ == "__main__":
    main()
