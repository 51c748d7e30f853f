"""The crossing's NTFS code in a user-space build with the compiler's sanitizers.

The same files as our reader, and hostile volumes.
"""

from __future__ import annotations

import random
import shutil
import subprocess
import zlib
from pathlib import Path

import pytest

from ..helpers.amount import part_of
from ..helpers.ntfs import ferry, write_volume
from ..helpers.trees import file, files_of, folder

CROSSING = Path(__file__).parents[2] / "firmware" / "crossing"
CASES = part_of(8000)
EXTREMES = [b"\0" * 4, b"\xff" * 4, b"\x01\0\0\0", b"\xff\xff\xff\x7f", b"\0\0\0\x80", b"\xff" * 8]


@pytest.fixture(scope="module")
def walk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    compiler = shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        pytest.skip("no C compiler is installed")
    program = tmp_path_factory.mktemp("crossing") / "walk"
    options = [
        "-std=c11",
        "-O1",
        "-g",
        "-Wall",
        "-Wextra",
        "-Werror",
        "-fsanitize=address,undefined",
        "-fno-sanitize-recover=all",
    ]
    subprocess.run([compiler, *options, "-o", program, CROSSING / "walk.c", CROSSING / "ntfs.c"], check=True)
    return program


@pytest.mark.parametrize("cluster_size", [512, 4096, 65536])
def test_it_reads_what_was_composed(cluster_size: int, walk: Path, tmp_path: Path) -> None:
    """Streams, holes, many names, several levels of index; every path found again by its name, too."""
    path, tree = tmp_path / "volume.img", ferry()
    few = tree.entries["many"]
    few.entries = dict(list(few.entries.items())[:1500])  # type: ignore[union-attr]
    write_volume(tree, path, cluster_size=cluster_size, size=200 << 20)
    done = subprocess.run([walk, path], capture_output=True, check=True)
    told = {}
    for line in done.stdout.decode().splitlines():
        crc, size, name = line.split(" ", 2)
        told[name] = (int(size), int(crc, 16))
    assert told == {name: (len(data), zlib.crc32(data)) for name, data in files_of(tree).items()}


def test_hostile_volumes_end_in_a_result_or_an_error(walk: Path, tmp_path: Path) -> None:
    """Mutated volumes, 1 to 6 places each; a sanitizer's complaint or a hang ends the program otherwise."""
    path = tmp_path / "volume.img"
    names = folder("names", *(file(f"a longer name {number}", b"x" * number) for number in range(90)))
    write_volume(folder("", file("a", b"a" * 9000), names), path, cluster_size=512, size=1800 << 10)
    data = bytearray(path.read_bytes())
    used = [at for at in range(0, len(data), 512) if any(data[at : at + 512]) and data[at : at + 4] != b"\xff" * 4]
    chance = random.Random(20261123)
    program = subprocess.Popen([walk, "--many"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert program.stdin is not None
    assert program.stdout is not None
    for _ in range(CASES):
        undo = []
        for _ in range(chance.choice((1, 1, 2, 3, 6))):
            at = chance.choice(used) + chance.randrange(504)
            piece = chance.choice(EXTREMES) if chance.random() < 0.5 else chance.randbytes(chance.choice((1, 1, 2, 4)))
            undo.append((at, bytes(data[at : at + len(piece)])))
            data[at : at + len(piece)] = piece
        program.stdin.write(len(data).to_bytes(4, "little"))
        program.stdin.write(data)
        for at, piece in reversed(undo):
            data[at : at + len(piece)] = piece
    out, complaint = program.communicate(timeout=1200)
    assert program.returncode == 0, complaint.decode()[-3000:]
    whole, total = map(int, out.decode().split(" of "))
    assert total == CASES
    assert 0 < whole < total
