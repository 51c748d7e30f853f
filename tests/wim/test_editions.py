"""Editions as trees, from images packed in every way: against what was planned, and against another reader."""

from __future__ import annotations

import hashlib
import random
import struct
import subprocess
from pathlib import Path

import numpy as np
import pytest

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.wim.edition import _FIELDS
from lucky_keystone.wim.packed import METHODS, unpacked
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.records import HEADER_XPRESS, DirectoryEntry, ResourceHeader
from lucky_keystone.wim.split import divide
from lucky_keystone.wim.whole import WholeImage, verified

from ..helpers.amount import sample_of
from ..helpers.install_images import Item, install_image, parse_of
from ..helpers.judges import need
from ..helpers.packers import pack_xpress
from ..helpers.program import run, run_json

WAYS = [
    ("none", 0),
    ("xpress", 4096),
    ("xpress", 8192),
    ("xpress", 32768),
    ("xpress", 65536),
    ("lzx", 32768),
    ("lzms", 32768),
]
SOLID = [("xpress", 65536), ("lzx", 32768), ("lzms", 1 << 17)]


def tree(seed: int = 1) -> dict[str, Item]:
    """Deep folders, hard links, streams, short names, a link, names of all kinds, files of awkward sizes."""
    chance = random.Random(seed)
    text = b"The 7:40 to Fairwater leaves from berth three. " * 2000
    code = bytes(chance.choice(b"\xe8\0\0\x01\x90\xff\x25") for _ in range(70_001))
    loader = Item(text[:40_000] + code[:9], link=7, attributes=0x20)
    system = {
        "winload.efi": loader,
        "Überfahrt 東京.txt": Item(b"ferry"),
        "empty.txt": Item(b""),
        "noise.bin": Item(chance.randbytes(100_003)),
        "code.dll": Item(code, short="CODE~1.DLL"),
        "streamed.txt": Item(text[:3000], streams={"Zone": b"[ZoneTransfer]", "more": text[:5000]}),
        "link": Item(b"reparse data", attributes=0x420, link=0xA000000C),
    }
    deep = {"a": Item(None, {"b": Item(None, {"c.txt": Item(text)})})}
    return {
        "Windows": Item(
            None, {"System32": Item(None, system), "Boot": Item(None, {"same.efi": loader})}, security=b"\1\0\4" * 7
        ),
        "Users": Item(None, deep),
        "one byte": Item(b"x", security=b"another descriptor"),
        "nothing": Item(None),
    }


def flat(items: dict[str, Item], prefix: str = "") -> dict[str, Item]:
    found = {}
    for name, item in items.items():
        found[prefix + name] = item
        found.update(flat(dict(item.below), f"{prefix}{name}/"))
    return found


def opened(data: bytes) -> WholeImage:
    return WholeImage([InstallImage(Literal(data), "install.wim")])


@pytest.mark.parametrize(
    ("method", "chunk", "solid"),
    [*((*way, False) for way in sample_of(WAYS, WAYS[:-1])), *((*way, True) for way in SOLID)],
)
def test_trees_and_bytes(method: str, chunk: int, solid: bool, tmp_path: Path) -> None:
    """As planned; and the archiver, which shares nothing with either side, takes out the same."""
    planned, image = flat(tree()), opened(data := install_image([tree()], method, chunk, solid=solid))
    edition = image.tree(image.editions[0])
    found = dict(edition.walk())
    assert set(found) == set(planned)
    for path, item in planned.items():
        entry = found[path]
        assert entry.is_folder == (item.data is None)
        assert (entry.short_name, entry.link) == (item.short, item.link)
        assert [each.name for each in entry.streams] == list(item.streams)
        assert edition.security_of(entry) == (item.security or None)
        if item.data is not None:
            content = image.content(entry, path)
            assert verified(content, hashlib.sha1(item.data).digest(), path) == item.data
            assert image.size_of(entry) == len(item.data)
            if len(item.data) > 50_000:  # any range, across chunks
                assert content.read_at(32_760, 40) == item.data[32_760:32_800]
    assert edition.find("WINDOWS\\system32/Code.DLL") == found["Windows/System32/code.dll"]
    assert edition.find("Windows/none") is None
    assert {path for path, _ in edition.matching("*.EFI")} == {
        "Windows/System32/winload.efi",
        "Windows/Boot/same.efi",
    }
    assert [path for path, _ in edition.matching("windows/boot/*")] == ["Windows/Boot/same.efi"]
    (tmp_path / "install.wim").write_bytes(data)
    judge = [need("7z"), "x", "-y", f"-o{tmp_path / 'out'}", tmp_path / "install.wim"]
    subprocess.run(judge, capture_output=True, check=False)
    compared = 0
    for path, item in planned.items():
        if item.data is not None and not item.attributes & 0x400 and not item.streams:
            assert (tmp_path / "out" / path).read_bytes() == item.data, path
            compared += 1
    assert compared >= 8


def test_the_fast_form_of_an_entry_is_the_declared_one() -> None:
    entry = DirectoryEntry(
        length=104,
        attributes=32,
        security=5,
        children=99,
        created=1,
        accessed=2,
        written=3,
        sha1=bytes(range(20)),
        hard_link=8,
        streams=2,
        short_length=4,
        name_length=6,
    )
    fields = _FIELDS.unpack(entry.pack())
    assert _FIELDS.size == DirectoryEntry.SIZE
    assert fields == (104, 32, 5, 99, 1, 2, 3, bytes(range(20)), 0, 8, 2, 4, 6)


def test_parts_are_one_image(tmp_path: Path) -> None:
    ballast = {f"ballast {n}": Item(random.Random(n).randbytes(700_000)) for n in range(4)}
    (tmp_path / "install.wim").write_bytes(install_image([tree(), tree(2), ballast], "xpress"))
    file = SourceFile(tmp_path / "install.wim")
    parts = divide(InstallImage(FileRange(file, 0, file.size), "install.wim"), 1 << 20)
    assert len(parts) > 2
    for number, part in enumerate(parts, 1):
        with (tmp_path / f"install{number if number > 1 else ''}.swm").open("wb") as out:
            for piece in stream(part.content):
                out.write(piece)
    run("inspect", tmp_path / "install.swm", "--edition", "2", "--take", "Windows", "--into", tmp_path / "out")
    for path, item in flat(tree(2)).items():
        if path.startswith("Windows/") and item.data is not None and not item.attributes & 0x400:
            assert (tmp_path / "out" / path).read_bytes() == item.data
    (tmp_path / "install2.swm").unlink()
    told = run("inspect", tmp_path / "install.swm", "--edition", "1", "--list", code=4).stderr
    assert "install2.swm is missing" in told


def test_the_command(tmp_path: Path) -> None:
    """Numbers, names and parts of names; listings; what is taken is verified, and replaces nothing."""
    image = tmp_path / "install.wim"
    image.write_bytes(data := install_image([tree(), tree(2)], "xpress"))
    listed = run_json("inspect", image, "--edition", "crew 2", "--list")
    assert {entry["path"] for entry in listed["entries"]} == set(flat(tree()))
    assert "winload.efi" in run("inspect", image, "--edition", "1", "--matching", "*.efi").stdout
    into = tmp_path / "out"
    line = ["inspect", image, "--edition", "1", "--take", "windows/system32/WINLOAD.efi", "--into", into]
    assert "SHA-1 verified" in run(*line).stdout
    assert (into / "winload.efi").read_bytes() == flat(tree())["Windows/System32/winload.efi"].data
    assert "exists already" in run(*line, code=3).stderr
    assert "has no 'Windows/none'" in run(*line[:5], "Windows/none", "--into", into, code=2).stderr
    assert "has no edition 'Bridge'" in run("inspect", image, "--edition", "Bridge", "--list", code=2).stderr
    assert "--take goes with --into" in run(*line[:6], code=2).stderr
    assert "cannot be combined" in run(*line, "--list", code=2).stderr
    assert "do not go with --edition" in run(*line, "--verify-source", code=2).stderr
    # A flipped bit in a stored chunk: found by the SHA-1, and nothing is left of the file.
    noise = flat(tree())["Windows/System32/noise.bin"].data
    assert noise is not None
    at = data.index(noise[:64]) + 10
    image.write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
    told = run(
        "inspect", image, "--edition", "1", "--take", "Windows/System32/noise.bin", "--into", into, code=4
    ).stderr
    assert "do not match their SHA-1" in told
    assert sorted(path.name for path in into.iterdir()) == ["winload.efi"]


@pytest.mark.posix  # an embedded interpreter does not read PYTHONPATH
def test_without_the_fast_form(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where its package is missing or broken everything works, and says why it takes long."""
    (tmp_path / "wasmtime.py").write_text("raise ImportError")
    image = tmp_path / "install.wim"
    image.write_bytes(install_image([tree()], "lzx"))
    line = ["inspect", image, "--take", "Users/a/b/c.txt", "--into"]
    assert "plain Python" not in run(*line, tmp_path / "fast").stderr
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    assert "wasmtime is not installed" in run(*line, tmp_path / "plain").stderr
    taken = [(tmp_path / form / "c.txt").read_bytes() for form in ("fast", "plain")]
    assert taken == [flat(tree())["Users/a/b/c.txt"].data] * 2


def test_hostile_metadata() -> None:
    """Lying lengths, loops, names that climb: an error that names the place, or a tree; never more."""
    chance = random.Random(5)
    data = bytearray(install_image([tree()], "none"))
    table = struct.unpack_from("<QQ", data, 48)
    rows = [struct.unpack_from("<QQQ", data, table[1] + 50 * n) for n in range((table[0] & 0xFFFFFF) // 50)]
    size, start, _ = next(row for row in rows if row[0] >> 56 & 2)
    size &= 0xFFFFFF
    failed = 0
    for _ in range(1500):
        mutated = bytearray(data)
        for _ in range(chance.randint(1, 3)):
            at = start + chance.randrange(size)
            mutated[at] = chance.choice([0, 255, chance.randrange(256)])
        row = next(n for n in range(len(rows)) if rows[n][1] == start)
        digest = hashlib.sha1(mutated[start : start + size]).digest()
        mutated[table[1] + 50 * row + 30 : table[1] + 50 * row + 50] = digest
        image = opened(bytes(mutated))
        try:
            assert sum(1 for _ in image.tree(image.editions[0]).walk()) < 10_000
        except KeystoneError as error:
            failed += 1
            assert "install.wim" in error.message
    assert failed > 100


def test_empty_folders_may_share_their_end() -> None:
    """Some writers store one end for all of them; a folder with entries that appears twice is a loop."""
    image = opened(install_image([{"a": Item(None, {}), "b": Item(None, {}), "c": Item(b"c")}], "none"))
    edition = image.tree(image.editions[0])
    one, other = (entry.children for _, entry in edition.walk() if entry.is_folder)
    edition._data = edition._data.replace(other.to_bytes(8, "little"), one.to_bytes(8, "little"))
    assert [path for path, _ in edition.walk()] == ["a", "b", "c"]


def test_a_resource_beyond_4_gib_has_a_wide_chunk_table() -> None:
    """131,072 equal chunks, made where they are read, and one of five bytes that did not shrink."""
    size, chunk, piece = (4 << 30) + 5, 32768, bytes(range(64)) * 512
    stored, count = pack_xpress(parse_of(piece), random.Random(8), marked=True), size // chunk
    table = (np.arange(1, count + 1, dtype="<u8") * len(stored)).tobytes()

    class Image:
        size = len(table) + count * len(stored) + 5

        def read_at(self, offset: int, length: int) -> bytes:
            if offset + length <= len(table):
                return table[offset : offset + length]
            number, at = divmod(offset - len(table), len(stored))
            whole = stored * min(count - number, length // len(stored) + 2) + piece[:5]
            return whole[at : at + length]

    image = Image()
    row = ResourceHeader(stored_size=image.size, flags=4, offset=0, original_size=size)
    method = next(each for each in METHODS if each.flag == HEADER_XPRESS)
    content = unpacked(image, row, method, chunk, "large")  # type: ignore[arg-type]
    assert content.read_at(size - 100, 100) == piece[-95:] + piece[:5]
    assert content.read_at((1 << 32) - 40_000, 40_005) == (piece + piece)[-40_000:] + piece[:5]
    assert content.read_at(77 * chunk + 9, 3 * chunk) == (piece * 4)[9 : 9 + 3 * chunk]
