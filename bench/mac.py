"""Measures drives for Macs, beside a plain copy of the same bytes in the same run.

    python bench/mac.py [FOLDER] [--gigabytes 3] [--rounds 3]

Times whole processes, the cache dropped before each: `build` from an app on disk and a plain copy of the app's bytes;
`build` from the app in a zlib-compressed disk image; `plan` of an app of 13 GB. Then a file read from an HFS+ and from
an APFS volume beside a plain read of the image, and composing HFS+ with up to 50,000 files, each count in a process of
its own.
"""

from __future__ import annotations

import argparse
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from run import COPY, PROGRAM, READ, Run, forget, leftovers, run, show

from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Zeros, stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.demo.apfs import ApfsPart, write_apfs
from lucky_keystone.demo.disk_image import Part, write_disk_image
from lucky_keystone.demo.mac import MOMENT, RELEASES, write_app
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.sources.folder import read_folder
from lucky_keystone.sources.image_volumes import READERS
from lucky_keystone.volumes.hfsplus.kind import HFSPLUS

COUNTS = (1_000, 10_000, 50_000)


def compose(count: int) -> None:
    """Compose `count` files in folders of 100, make every byte of the trees; print seconds of both and peak bytes."""
    root = Folder("", MOMENT)
    for number in range(count):
        name = f"posters of pier {number // 100}"
        folder = root.entries.setdefault(name, Folder(name, MOMENT))
        assert isinstance(folder, Folder)
        file = f"poster {number:06} of the studio.tiff"
        folder.entries[file] = File(file, Zeros(number * 7 % 9000), MOMENT)
    started = time.perf_counter()
    regions = HFSPLUS.draft(root, "BENCH", 4096, 512).settle(1 << 20, 8 << 30).regions(1)
    composed = time.perf_counter()
    for region in regions:
        for extent in region.extents if region.kind != "files" else ():
            for _ in stream(extent.content):
                pass
    print(composed - started, time.perf_counter() - composed, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)


def make_app(folder: Path, size: int, *, compressible: bool) -> Path:
    """Write an app that holds a file of `size` bytes of noise; half of a compressible one's bytes repeat."""
    app = write_app(folder, RELEASES["10.13"])
    with (app / "Contents/SharedSupport/Posters.pkg").open("wb") as out:
        for _ in range(size >> 20):
            out.write(os.urandom(1 << 19) + (os.urandom(1 << 6) * (1 << 13) if compressible else os.urandom(1 << 19)))
    return app


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    usual = Path(tempfile.gettempdir()) / "lucky-keystone-bench-mac"
    parser.add_argument("folder", nargs="?", type=Path, default=usual)
    parser.add_argument("--gigabytes", type=float, default=3.0)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", choices=("builds", "reading", "composing"))
    parser.add_argument("--compose", type=int, help=argparse.SUPPRESS)
    parser.add_argument("--read", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.compose:
        compose(given.compose)
        return
    if given.read:
        read_posters(given.read)
        return
    if given.only in (None, "builds"):
        measure_builds(given.folder, int(given.gigabytes * 1e9), given.rounds)
    if given.only in (None, "reading"):
        measure_reading(given.folder, int(given.gigabytes * 1e9), given.rounds)
    if given.only in (None, "composing"):
        measure_composing()


def make_sources(folder: Path, size: int) -> tuple[Path, Path, Path]:
    """Make what is not there yet: an app of `size` bytes, one of half of it in a disk image, and one of 13 GB."""
    plain, packed, large = (folder / name for name in ("plain", "packed", "large"))
    for place in (plain, packed, large):
        place.mkdir(parents=True, exist_ok=True)
    app, image, huge = plain / RELEASES["10.13"].app, packed / "app.dmg", large / RELEASES["10.13"].app
    if not app.exists():
        make_app(plain, size, compressible=False)
    if not image.exists():
        make_image(packed, image, size // 2)
    if not huge.exists():
        make_app(large, 0, compressible=False)
        os.truncate(huge / "Contents/SharedSupport/Posters.pkg", 13_000_000_000)
    return app, image, huge


def measure_builds(folder: Path, size: int, rounds: int) -> None:
    app, image, huge = make_sources(folder, size)
    target, copy = folder / "drive.img", folder / "copy.bin"
    payload = app / "Contents/SharedSupport/Posters.pkg"
    rows: dict[str, list[Run]] = {}

    def measure(name: str, command: list[str], remove: Path | None = None) -> None:
        if remove is not None:
            remove.unlink(missing_ok=True)
        forget(payload, image, target, copy)
        rows.setdefault(name, []).append(run(command))
        print(f"  {name}: {rows[name][-1].seconds:.2f} s, {rows[name][-1].peak >> 20} MiB", flush=True)

    def build(name: str, source: Path) -> None:
        command = [*PROGRAM, "build", str(source), "--onto", str(target), "--no-verify", "--yes", "--json"]
        measure(name, command, target)

    def plain_copy() -> None:
        measure("copy", [sys.executable, "-c", COPY, str(payload), str(copy), str(payload.stat().st_size)], copy)

    build("build", app)  # not counted: the disk's first touch of these places costs more on some machines
    plain_copy()
    rows.clear()
    for number in range(rounds):
        for step in (0, 1) if number % 2 else (1, 0):
            build("build", app) if step else plain_copy()
        build("from zlib", image)
        measure("plan 13 GB", [*PROGRAM, "plan", str(huge), "--json"])
    show(rows, size)
    ratios = [a.seconds / b.seconds for a, b in zip(rows["build"], rows["copy"], strict=True)]
    print(f"build / copy: median {statistics.median(ratios):.2f}; claimed: 1.10 at most")
    rate = size / 2 / statistics.median(each.seconds for each in rows["from zlib"]) / 1e6
    print(f"from zlib: {rate:.0f} MB/s of what comes out; claimed: 120 at least")
    print("claimed of the plan: 2 s and 150 MiB at most")
    left = [name for name in leftovers(folder) if name not in ("plain", "packed", "large")]
    print(f"temporary files made: {', '.join(left) or 'none'}")
    copy.unlink()
    target.unlink()


_VOLUMES = {"HFS+": "hfsplus", "APFS": "apfs"}


def read_posters(image: Path) -> None:
    """Read the one large file of a volume."""
    source = SourceFile(image)
    volume = READERS[image.suffix[1:]](source, 0, source.size)
    file = volume.find("posters.tiff")
    assert file is not None
    for _ in stream(file.content):
        pass


def measure_reading(folder: Path, size: int, rounds: int) -> None:
    """APFS lies in extents of 8 MiB with others between, HFS+ in one piece."""
    folder.mkdir(parents=True, exist_ok=True)
    noise = folder / "noise.bin"
    if not noise.exists():
        with noise.open("wb") as out:
            for _ in range(size >> 20):
                out.write(os.urandom(1 << 20))
    content = SourceFile(noise)
    root = Folder("", MOMENT, {"posters.tiff": File("posters.tiff", FileRange(content, 0, content.size), MOMENT)})
    write_apfs(folder / "volume.apfs", [ApfsPart("BENCH", root, copied=True, scattered=8 << 20)])
    planned = HFSPLUS.draft(root, "BENCH", 4096, 512).settle(0, size + (64 << 20) >> 20 << 20)
    (folder / "volume.hfsplus").unlink(missing_ok=True)
    with ImageFile.make(folder / "volume.hfsplus", planned.end) as target:
        stream_regions(planned.regions(1), target, silent)
    ratios: dict[str, list[float]] = {name: [] for name in _VOLUMES}
    peaks: dict[str, int] = {}
    for _ in range(rounds):
        for name, kind in _VOLUMES.items():
            image = folder / f"volume.{kind}"
            forget(image)
            plain, _, _ = run([sys.executable, "-c", READ, str(image), str(image), str(content.size)])
            forget(image)
            taken, peaks[name], _ = run([sys.executable, __file__, "--read", str(image)])
            ratios[name].append(taken / plain)
    for name, found in ratios.items():
        spread = f"{min(found):.2f} to {max(found):.2f}"
        print(f"{name}: read/plain read {statistics.median(found):.2f} ({spread}), peak {peaks[name] >> 20} MiB")
    print("claimed: 1.10 at most")
    for path in (noise, *(folder / f"volume.{kind}" for kind in _VOLUMES.values())):
        path.unlink()


def measure_composing() -> None:
    print(f"\n{'files':>8}{'composed s':>12}{'made s':>9}{'peak MiB':>10}")
    for count in COUNTS:
        command = [sys.executable, __file__, "--compose", str(count)]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        composed, made, peak = map(float, done.stdout.split())
        print(f"{count:8,}{composed:12.2f}{made:9.2f}{int(peak) >> 20:10}")
    print("claimed for 50,000 files: 5 s and 250 MiB at most")


def make_image(folder: Path, image: Path, size: int) -> None:
    """Put an app of `size` bytes, half of which shrink, into a zlib-compressed disk image."""
    app = make_app(folder, size, compressible=True)
    root = Folder("", MOMENT, {app.name: read_folder(app, [], as_unix=True)})
    root.entries[app.name].name = app.name
    scratch = folder / "scratch.img"
    planned = HFSPLUS.draft(root, "BENCH", 4096, 512).settle(0, size + (64 << 20) >> 20 << 20)
    with ImageFile.make(scratch, planned.end) as target:
        stream_regions(planned.regions(1), target, silent)
    content = SourceFile(scratch)
    write_disk_image(image, [Part("BENCH", FileRange(content, 0, content.size))], ["zlib"])
    scratch.unlink()


if __name__ == "__main__":
    main()
