"""Measures a drive of three sources, beside a plain copy of the same bytes in the same run.

    python bench/combined.py [FOLDER] [--gigabytes 3] [--rounds 5]

Two releases whose install images share half of their bytes, and a rescue disc: one list of editions, and one of setup
environments. Times whole processes, the cache dropped before each; the copy is of as many bytes as the drive's files
have. Processor seconds are those of the whole process.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import resource
import statistics
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from run import COPY, PROGRAM, forget, leftovers, run

from lucky_keystone.content.contents import Content, stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.demo.install_image import DemoEdition, Resource, install_image, small_resource
from lucky_keystone.demo.rescue import boot_programs

_PIECES = 8
_VERSIONS = {"newer": (11, 2, 30110, 41), "older": (11, 1, 28000, 7), "rescue": (11, 2, 30110, 41)}


def noise(path: Path, size: int) -> Resource:
    """Write a file of noise, where it is not there yet; return it as a resource."""
    if not path.exists():
        with path.open("wb") as out:
            for _ in range(size >> 20):
                out.write(os.urandom(1 << 20))
    with path.open("rb") as held:
        sha1 = hashlib.file_digest(held, "sha1").digest()
    return Resource(FileRange(SourceFile(path), 0, path.stat().st_size), sha1)


def write(place: Path, content: Content) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    with place.open("wb") as out:
        for piece in stream(content):
            out.write(piece)


def disc(folder: Path, name: str, editions: Sequence[DemoEdition], environment: Sequence[tuple[str, Resource]]) -> Path:
    """Write a source as a folder; without editions it is a rescue disc."""
    made, version = folder / name, _VERSIONS[name]
    facts = {"architecture": 9, "version": version, "language": "en-GB"}
    started = DemoEdition("Setup", "Setup", [*boot_programs(), *environment])
    write(made / "sources/boot.wim", install_image([started], boot_index=1, **facts))  # type: ignore[arg-type]
    for path, size in (("boot/boot.sdi", 3 << 20), ("bootmgr", 300_000), ("efi/boot/bootx64.efi", 2_000_000)):
        (made / path).parent.mkdir(parents=True, exist_ok=True)
        (made / path).write_bytes(os.urandom(size))
    if editions:
        (made / "setup.exe").write_bytes(os.urandom(90_000))
        write(made / "sources/install.wim", install_image(editions, **facts))  # type: ignore[arg-type]
    return made


def make_sources(folder: Path, size: int) -> list[Path]:
    places = [folder / name for name in _VERSIONS]
    if all((place / "sources/boot.wim").exists() for place in places):
        return places
    folder.mkdir(parents=True, exist_ok=True)
    pieces = [(f"piece {n}.bin", noise(folder / f"piece{n}.bin", size // _PIECES)) for n in range(_PIECES)]
    small = [("setup.exe", small_resource(os.urandom(40_000_000)))]
    disc(folder, "newer", [DemoEdition("Crew", "Crew", pieces[:4]), DemoEdition("Bridge", "Bridge", pieces[:5])], small)
    disc(folder, "older", [DemoEdition("Counter", "Counter", pieces[3:7])], small)
    disc(folder, "rescue", [], [*small, pieces[7]])
    for number in range(_PIECES):
        (folder / f"piece{number}.bin").unlink()
    return places


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    usual = Path(tempfile.gettempdir()) / "lucky-keystone-bench-combined"
    parser.add_argument("folder", nargs="?", type=Path, default=usual)
    parser.add_argument("--gigabytes", type=float, default=3.0)
    parser.add_argument("--rounds", type=int, default=5)
    given = parser.parse_args()
    newer, older, rescue = make_sources(given.folder, int(given.gigabytes * 1e9))
    target, copy, plain = (given.folder / name for name in ("drive.img", "copy.bin", "plain.bin"))
    command = [*PROGRAM, "build", str(newer), "--with", str(older), "--with", str(rescue), "--onto", str(target)]
    command += ["--no-verify", "--yes", "--json"]
    rows: dict[str, list[tuple[float, int, float]]] = {}

    def measure(name: str, words: list[str], remove: Path) -> None:
        remove.unlink(missing_ok=True)
        inside = [path for place in (newer, older, rescue) for path in place.rglob("*") if path.is_file()]
        forget(*inside, target, copy, plain)
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        seconds, peak, _ = run(words)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
        rows.setdefault(name, []).append((seconds, peak, used))
        print(f"  {name}: {seconds:.2f} s, {peak >> 20} MiB, {used:.1f} s of processors", flush=True)

    measure("build", command, target)  # not counted: it says how many bytes there are
    size = target.stat().st_blocks * 512
    if not plain.exists() or plain.stat().st_size != size:
        with plain.open("wb") as out:
            for _ in range(size >> 20):
                out.write(os.urandom(1 << 20))
            out.write(bytes(size & 0xFFFFF))
    copying = [sys.executable, "-c", COPY, str(plain), str(copy), str(size)]
    rows.clear()
    for number in range(given.rounds):
        for step in (0, 1) if number % 2 else (1, 0):
            measure("build", command, target) if step else measure("copy", copying, copy)
    ratios = sorted(a[0] / b[0] for a, b in zip(rows["build"], rows["copy"], strict=True))
    whole = sum(path.stat().st_size for place in (newer, older, rescue) for path in place.rglob("*") if path.is_file())
    print(f"sources {whole / 1e9:.2f} GB, drive {size / 1e9:.2f} GB: what both releases have is stored once")
    print(f"build / copy: median {statistics.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}); claimed: 1.0")
    print(f"peak {max(row[1] for row in rows['build']) >> 20} MiB; claimed: 150")
    names = ("newer", "older", "rescue", "plain.bin", "copy.bin", "drive.img")
    print(f"temporary files made: {', '.join(n for n in leftovers(given.folder) if n not in names) or 'none'}")


if __name__ == "__main__":
    main()
