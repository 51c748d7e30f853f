"""Kills mendings of the installed program at random moments: never less on the drive, and the next one finishes.

CI takes a few; large counts are runs by hand:

    python -m tests.mending.kills --seed 1 --count 200
"""

from __future__ import annotations

import argparse
import os
import random
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from ..helpers.drives import MemoryDrive, extract, small_disc
from ..helpers.hand_made import CASES, START, make_drives, with_user_files
from ..helpers.judges import read_by_others

NAMES = ("install image cut off", "lost loader, and UEFI alone", "first FAT zeroed", "NTFS, foreign code")
_BAY = """[[drive]]
file = "stick.img"
model = "Mudlark Mini"
serial = "MM-1"
[drive.faults]
bytes_per_second = 9000000
"""


def kill_some(name: str, count: int, chance: random.Random, drives: dict[str, bytes], files: Path, folder: Path) -> int:
    """Kill `count` mendings of a drive; return how many of them had begun to write.

    Raises AssertionError when a file is lost, or when the drive is not what an uninterrupted mending makes of it.
    """
    (folder / "bay.toml").write_text(_BAY)
    stick = folder / "stick.img"
    broken = bytes(CASES[name].drive(drives, files).data)
    stick.write_bytes(broken)
    whole = read_by_others(MemoryDrive.of(stick), START)
    program = [sys.executable, "-m", "lucky_keystone"]
    listed = subprocess.run([*program, "drives", "--bay", folder, "--json"], capture_output=True, text=True, check=True)
    tag = listed.stdout.partition('"tag": "')[2][:4]
    command = [*program, "mend", tag, "--bay", str(folder), "--from", str(files), "--yes", "--json"]
    environment = os.environ | {"LUCKY_KEYSTONE_JOURNALS": str(folder / "journals"), "LUCKY_KEYSTONE_LOG": "off"}

    def start() -> subprocess.Popen[bytes]:
        return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, env=environment)

    began = time.monotonic()
    with start() as child:
        assert child.wait() in (0, 1)
    longest, mended = time.monotonic() - began, stick.read_bytes()
    kept = {path for path, data in whole.items() if read_by_others(MemoryDrive.of(stick), START).get(path) == data}
    kills = written = 0
    while kills < count:
        stick.write_bytes(broken)
        with start() as child:
            time.sleep(longest * (0.3 + 0.7 * chance.random()))
            child.kill()
            _, complaint = child.communicate()
        assert child.returncode in (0, 1, -9), complaint.decode()
        if child.returncode != -9:
            continue
        kills += 1
        written += stick.read_bytes() != broken
        now = read_by_others(MemoryDrive.of(stick), START)
        assert [path for path in kept if now.get(path) != whole[path]] == [], f"{name}: lost after {kills} kills"
        with start() as child:
            assert child.wait() in (0, 1), child.stderr.read().decode() if child.stderr else ""
        assert stick.read_bytes() == mended, f"{name}: another drive after {kills} kills"
    return written


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=200)
    given = parser.parse_args()
    with TemporaryDirectory() as place:
        folder = Path(place)
        files = with_user_files(extract(small_disc(folder / "disc.iso"), folder / "files"))
        drives = make_drives(folder, files)
        for name in NAMES:
            (folder / name).mkdir()
            count = -(-given.count // len(NAMES))
            written = kill_some(name, count, random.Random(f"{name} {given.seed}"), drives, files, folder / name)
            print(f"{name}: {count} kills, {written} of them while writing; all finished afterwards", flush=True)


if __name__ == "__main__":
    main()
