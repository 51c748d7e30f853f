"""Measures a batch of four drives on one slow source beside one drive from it: one pass serves all four.

    python bench/batch.py [FOLDER] [--rounds 3] [--rate 60]

The source is a disc in a simulated optical drive that gives so many MB/s, which is less than drives take. In turns: a
batch of one row, and of four, onto image files. Whole processes are timed. `machine` is timed as well.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
from pathlib import Path

from run import PROGRAM, run

from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-bench")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rate", type=int, default=60)
    given = parser.parse_args()
    bay = given.folder / "batch-bay"
    bay.mkdir(parents=True, exist_ok=True)
    disc = bay / "disc.iso"
    if not disc.exists():
        write_disc(disc, installer(hollow_size=16 << 20, hollow_count=60), LABEL, MOMENT, lambda *_: None)
    (bay / "bay.toml").write_text(
        f'[[optical]]\nfile = "disc.iso"\nmodel = "Quay"\n[optical.faults]\nbytes_per_second = {given.rate * 10**6}\n'
    )
    times: dict[int, list[float]] = {1: [], 4: []}
    for _ in range(given.rounds):
        for count, row in times.items():
            drives = [given.folder / f"batch-{number}.img" for number in range(count)]
            for drive in drives:
                drive.unlink(missing_ok=True)
            jobs = given.folder / "jobs.csv"
            jobs.write_text("drive,label\n" + "".join(f"{drive},CREW {n}\n" for n, drive in enumerate(drives)))
            words = ["build", str(disc), "--batch", str(jobs), "--bay", str(bay), "--yes", "--json"]
            row.append(run([*PROGRAM, *words])[0])
    for count, row in times.items():
        what = f"{disc.stat().st_size / 1e6:.0f} MB at {given.rate} MB/s"
        print(f"{what}, {count} drive(s): median {statistics.median(row):.2f} s")
    paired = [four / one for one, four in zip(times[1], times[4], strict=True)]
    print(
        f"four beside one: median {statistics.median(paired):.2f}; claimed: 1.15 at most where the source is the limit"
    )
    machine = [run([*PROGRAM, "machine", "--json"])[0] for _ in range(5)]
    print(f"machine: median {statistics.median(machine):.2f} s; claimed: 0.5 s at most")


if __name__ == "__main__":
    main()
