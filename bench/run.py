"""Measures what is claimed of speed and memory, beside a plain copy of the same bytes in the same run.

    python bench/run.py [FOLDER] [--gigabytes 5] [--rounds 4] [--integrity] [--choices "--file-system ntfs --table gpt"]

Makes an incompressible source with 1,000 files, then times, each with the data dropped from the cache: a plain
copy with a flush, `build` without reading back and with it, an update of what is there already, a plain read, `check`,
`plan` and `--help`. Whole processes are timed; peak memory and the processor's seconds are the operating system's own
figures for each.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

from lucky_keystone.content.contents import Literal
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.install_image import DemoEdition, Resource, install_image, small_resource
from lucky_keystone.demo.tidewell import LABEL, MOMENT, VERSION, installer

PROGRAM = [sys.executable, "-m", "lucky_keystone"]
COPY = """
import os, sys
source, target, size = os.open(sys.argv[1], os.O_RDONLY), os.open(sys.argv[2], os.O_RDWR | os.O_CREAT), int(sys.argv[3])
buffer, done = memoryview(bytearray(4 << 20)), 0
while done < size:
    got = os.preadv(source, [buffer[: min(len(buffer), size - done)]], done)
    os.pwrite(target, buffer[:got], done)
    done += got
os.fsync(target)
"""
READ = COPY.replace("    os.pwrite(target, buffer[:got], done)\n", "").replace("os.fsync(target)\n", "")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-bench")
    parser.add_argument("--gigabytes", type=float, default=5.0)
    parser.add_argument("--rounds", type=int, default=4)
    parser.add_argument(
        "--integrity",
        action="store_true",
        help="the install image has an integrity table, so that its parts get SHA-1 sums",
    )
    parser.add_argument("--choices", default="", help="choices for `build` and `plan`, in one text")
    given = parser.parse_args()
    choices = given.choices.split()
    given.folder.mkdir(parents=True, exist_ok=True)
    disc = given.folder / ("summed.iso" if given.integrity else "source.iso")
    if not disc.exists():
        make_source(disc, int(given.gigabytes * 1e9), integrity=given.integrity)
    target, copy = given.folder / "drive.img", given.folder / "copy.bin"
    rows: dict[str, list[Run]] = {}

    def measure(name: str, command: list[str], remove: Path | None = None) -> None:
        if remove is not None:
            remove.unlink(missing_ok=True)
        forget(disc, target, copy)
        rows.setdefault(name, []).append(run(command))
        print(f"  {name}: {rows[name][-1].seconds:.2f} s, {rows[name][-1].peak >> 20} MiB", flush=True)

    words = ["build", str(disc), "--onto", str(target), "--yes", "--json", *choices]

    def build() -> None:
        measure("build", [*PROGRAM, *words, "--no-verify"], target)

    def plain_copy() -> None:
        measure("copy", [sys.executable, "-c", COPY, str(disc), str(copy), str(disc.stat().st_size)], copy)

    build()  # not counted: the disk's first touch of these places costs more on some machines
    plain_copy()
    rows.clear()
    for number in range(given.rounds):
        for step in (build, plain_copy) if number % 2 else (plain_copy, build):
            step()
        measure("build, proven", [*PROGRAM, *words], target)
        measure("update, unchanged", [*PROGRAM, *words, "--update"])
        measure("check", [*PROGRAM, "check", str(target), "--json"])
        measure("read", [sys.executable, "-c", READ, str(target), str(copy), str(target.stat().st_size)])
        measure("plan", [*PROGRAM, "plan", str(disc), "--json", *choices])
        measure("help", [*PROGRAM, "--help"])
        measure("build --help", [*PROGRAM, "build", "--help"])
    show(rows, disc.stat().st_size)
    for one, other, limit in (("build", "copy", 1.10), ("check", "read", 1.20)):
        ratios = [a.seconds / b.seconds for a, b in zip(rows[one], rows[other], strict=True)]
        each = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        print(f"{one} / {other}: median {statistics.median(ratios):.2f} ({each}); claimed: {limit:.2f} at most")
    print("temporary files made: none" if not leftovers(given.folder) else f"left behind: {leftovers(given.folder)}")
    copy.unlink()
    target.unlink()


def make_source(disc: Path, size: int, *, integrity: bool) -> None:
    """A Tidewell disc whose install image and 1,000 files are incompressible, `size` bytes in all."""
    noise = disc.with_name("noise.bin")
    with noise.open("wb") as stream:
        for _ in range(size >> 20):
            stream.write(os.urandom(1 << 20))
    file = SourceFile(noise)
    root: Folder = installer(hollow_count=0, files=0)
    small = [(f"support/noise/{n:04}.bin", n * 1_000_003 % 700_000 + 1) for n in range(1000)]
    folder = Folder("noise", MOMENT)
    support = root.find_folder("support")
    assert support is not None
    support.entries["noise"] = folder
    offset = 0
    for path, length in small:
        if offset + length > size // 2:
            break
        name = path.rsplit("/", 1)[1]
        folder.entries[name] = File(name, FileRange(file, offset, length), MOMENT)
        offset += length
    resources, step = [], 60_000_000
    while offset < file.size:
        length = min(step, file.size - offset)
        content = FileRange(file, offset, length)
        resources.append((f"{offset}.dat", Resource(content, offset.to_bytes(20, "big"))))
        offset += length
    image = install_image(
        [DemoEdition("Tidewell Bench", "Bench", [("a", small_resource(b"a")), *resources])],
        architecture=9,
        version=VERSION,
        language="en-GB",
        integrity=integrity,
    )
    sources = root.find_folder("sources")
    assert sources is not None
    sources.entries["install.wim"] = File("install.wim", image, MOMENT)
    sources.entries["note.txt"] = File("note.txt", Literal(b"for measuring\r\n"), MOMENT)
    write_disc(disc, root, LABEL, MOMENT, lambda *_: None)
    noise.unlink()


def forget(*paths: Path) -> None:
    """Drop what the system's cache holds of the data, so that every run reads from and writes to the disk."""
    os.sync()
    for path in paths:
        if path.exists() and hasattr(os, "posix_fadvise"):
            with path.open("rb") as stream:
                os.posix_fadvise(stream.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


LAUNCH = """
import os, sys, time
started = time.monotonic()
output = [(os.POSIX_SPAWN_OPEN, 1, sys.argv[1], os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)]
_, status, usage = os.wait4(os.posix_spawn(sys.argv[2], sys.argv[2:], os.environ, file_actions=output), 0)
print(time.monotonic() - started, usage.ru_maxrss * 1024, usage.ru_utime + usage.ru_stime)
sys.exit(os.waitstatus_to_exitcode(status))
"""


class Run(NamedTuple):
    """What a command took."""

    seconds: float
    peak: int
    """Bytes of memory at the most."""
    processor: float
    """Seconds of the processor, in the program and in the system for it."""


def run(command: list[str], output: Path | str = os.devnull, *, code: int = 0) -> Run:
    """Return what a command takes that must end with `code`; what it prints goes to `output`.

    Started from a small process: a child's peak memory is never less than its parent's at the moment it was made.
    """
    done = subprocess.run(
        [sys.executable, "-S", "-c", LAUNCH, str(output), *command], capture_output=True, text=True, check=False
    )
    if done.returncode != code:
        sys.exit(f"failed: {' '.join(command)}\n{done.stderr}")
    seconds, peak, processor = done.stdout.split()
    return Run(float(seconds), int(peak), float(processor))


def show(rows: dict[str, list[Run]], size: int) -> None:
    """Print each command's median, its spread, its memory, and the processor's seconds for a GB of `size` bytes."""
    print(f"\n{'':20}{'median s':>10}{'from':>8}{'to':>8}{'peak MiB':>10}{'CPU s/GB':>10}")
    for name, results in rows.items():
        times = [each.seconds for each in results]
        peak = max(each.peak for each in results) >> 20
        per_gb = statistics.median(each.processor for each in results) / size * 1e9
        print(f"{name:20}{statistics.median(times):10.2f}{min(times):8.2f}{max(times):8.2f}{peak:10}{per_gb:10.2f}")


def leftovers(folder: Path) -> list[str]:
    return [
        path.name for path in folder.iterdir() if path.name not in ("source.iso", "summed.iso", "drive.img", "copy.bin")
    ]


if __name__ == "__main__":
    main()
