"""APFS: containers of our own and of another maker, read file by file beside two readers that share no code with ours.

Each of those has its weakness, which the case at hand leaves out: one returns the first block for a hole, one does not
find the bytes of copies.
"""

from __future__ import annotations

import random
import struct
import subprocess
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pyfsapfs
import pytest
from dissect.apfs import APFS

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Joined, Literal, Zeros, stream
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import DECMPFS, MOST_DEPTH, File, Folder, Special, UnixFacts
from lucky_keystone.demo.apfs import ApfsPart, sealed_block, write_apfs
from lucky_keystone.sources.apfs import ApfsInImage
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.apfs.records import CASE_INSENSITIVE, NORMALISING, SEALED
from lucky_keystone.volumes.volume import VolumeError

from ..helpers.judges import need
from ..helpers.trees import MOMENT, file, files_of, folder

BLOCK = 4096
FEATURES = {"case": CASE_INSENSITIVE, "form": NORMALISING, "bytes": 0, "sealed": CASE_INSENSITIVE | SEALED}
PACKED = b"fpmc" + struct.pack("<IQ", 3, 5000) + zlib.compress(b"poster" * 833 + b"po")


def studio(count: int = 300) -> Folder:
    """A tree with everything a volume can have."""
    chance = random.Random(count)
    shared = file("one", b"shared bytes " * 50)
    root = folder("", shared, folder("deep", folder("er", file("x", b"1"))))
    names = [f"Fähre {number:04}.txt" for number in range(count)]
    root.entries["many"] = folder("many", *(file(name, chance.randbytes(chance.randint(0, 9000))) for name in names))
    root.entries["deep"].entries["two"] = shared  # type: ignore[union-attr]
    root.entries["link"] = file(
        "link", "many/Fähre 0001.txt".encode(), Special(unix=UnixFacts(is_link=True, mode=0o755))
    )
    facts = UnixFacts(
        mode=0o640, finder_info=b"TEXTtdwl" + bytes(24), resource=Literal(b"R" * 100),
        attributes={"com.tidewell.small": b"small", "com.tidewell.large": chance.randbytes(9000)},
    )  # fmt: skip
    root.entries["facts"] = file("facts", b"x" * 70_000, Special(unix=facts))
    packed = UnixFacts(mode=0o600, flags=0x20, attributes={DECMPFS: PACKED})
    root.entries["packed"] = File("packed", Literal(b"poster" * 833 + b"po"), MOMENT, Special(unix=packed))
    return root


def holed() -> Folder:
    parts = Joined([Literal(b"a" * BLOCK), Zeros(40_960), Literal(b"b" * 5000)])
    return folder("", File("holes", parts, MOMENT), file("plain", b"p" * 9000))


def opened(path: Path) -> ApfsInImage:
    source = SourceFile(path)
    return ApfsInImage(source, 0, source.size)


@pytest.mark.parametrize("kind", FEATURES)
def test_what_was_written_is_read(kind: str, tmp_path: Path) -> None:
    path, tree = tmp_path / "studio.apfs", studio()
    old = studio(7) if kind != "sealed" else None
    parts = [
        ApfsPart("Preboot", folder("", file("a", b"1")), role=0x10),
        ApfsPart("Studio", tree, features=FEATURES[kind], copied=True, scattered=2 * BLOCK, snapshot=old),
        ApfsPart("Holes", holed(), features=FEATURES[kind]),
    ]
    write_apfs(path, parts)
    volumes = opened(path)
    assert [(each.label, each.role, each.is_sealed) for each in volumes.volumes][:2] == [
        *(("Preboot", "preboot", False), ("Studio", "", kind == "sealed"))
    ]
    found = volumes.tree()
    assert files_of(found) == files_of(tree)
    for name in ("facts", "link", "packed"):
        ours, theirs = found.entries[name], tree.entries[name]
        assert ours.modified == theirs.modified
        mine, its = ours.special.unix, theirs.special.unix
        assert (mine.mode, mine.is_link, mine.flags, mine.attributes) == (
            its.mode,
            its.is_link,
            its.flags,
            its.attributes,
        )
        assert mine.finder_info == its.finder_info
        assert b"".join(map(bytes, stream(mine.resource))) == b"".join(map(bytes, stream(its.resource)))
    assert found.find("one") is found.find("deep/two")
    holes = volumes.find("holes")
    assert holes is not None
    assert b"".join(map(bytes, stream(holes.content))) == files_of(holed())["holes"]
    # Names are compared as each kind of volume does.
    studios = volumes.volumes[1]
    decomposed, loud = "many/Fa\u0308hre 0003.txt", "MANY/FÄHRE 0003.TXT"
    assert (studios.find(decomposed) is not None) == (kind != "bytes")
    assert (studios.find(loud) is not None) == (kind in ("case", "sealed"))
    if old is not None:
        (snapshot,) = studios.snapshots()
        then = studios.at_snapshot(snapshot)
        kept = {entry.path: then.read_at_of(entry, 0, entry.size) for entry in then.walk() if not entry.is_folder}
        assert (snapshot.name, kept) == ("before", files_of(old))


def test_a_volume_that_is_mounted_from_a_snapshot_shows_that(tmp_path: Path) -> None:
    write_apfs(tmp_path / "a", [ApfsPart("Studio", studio(9), snapshot=studio(3), from_snapshot=True)])
    assert files_of(opened(tmp_path / "a").tree()) == files_of(studio(3))


def _by_libfsapfs(path: Path, number: int) -> dict[str, bytes]:
    container = pyfsapfs.container()
    container.open(str(path))
    found: dict[str, bytes] = {}

    def walk(entry: Any, above: str) -> None:
        for each in entry.sub_file_entries:
            kind, name = each.file_mode & 0o170000, above + each.name
            if kind == 0o040000:
                walk(each, name + "/")
            else:
                link = each.symbolic_link_target
                found[name] = link.encode() if kind == 0o120000 else each.read_buffer(each.size) if each.size else b""

    walk(container.get_volume(number).root_directory, "")
    return found


def _by_dissect(path: Path, number: int) -> dict[str, bytes]:
    found: dict[str, bytes] = {}

    def walk(folder: Any, above: str) -> None:
        for each in folder.iterdir():
            node, name = each.inode, above + each.name
            if node.is_dir():
                walk(node, name + "/")
            else:
                found[name] = node.readlink().encode() if node.is_symlink() else node.open().read()

    with path.open("rb") as stream_in:
        walk(APFS(stream_in).volumes[number].get("/"), "")
    return found


JUDGES: dict[str, tuple[Callable[[Path, int], dict[str, bytes]], bool, tuple[str, ...]]] = {
    "libfsapfs": (_by_libfsapfs, True, ("case", "form", "bytes")),
    "dissect": (_by_dissect, False, ("case", "form", "bytes", "sealed")),
}


@pytest.mark.parametrize(("judge", "kind"), [(judge, kind) for judge, case in JUDGES.items() for kind in case[2]])
def test_other_readers_agree(judge: str, kind: str, tmp_path: Path) -> None:
    read, copied, _ = JUDGES[judge]
    tree = studio()
    write_apfs(tmp_path / "a", [ApfsPart("Studio", tree, features=FEATURES[kind], copied=copied, scattered=BLOCK)])
    assert read(tmp_path / "a", 0) == files_of(opened(tmp_path / "a").tree()) == files_of(tree)


@pytest.mark.parametrize("size", [600, 2000])
def test_a_container_of_another_maker(size: int, tmp_path: Path) -> None:
    path = tmp_path / "made"
    with path.open("wb") as stream_out:
        stream_out.truncate(size << 20)
    subprocess.run([need("mkapfs"), "-L", "Poster Studio", path], check=True)
    subprocess.run([need("apfsck"), path], check=True)
    volumes = opened(path)
    assert (volumes.label, files_of(volumes.tree())) == ("Poster Studio", {})


# -- checkpoints -----------------------------------------------------------------------------------------------------


def _torn(data: bytearray, *blocks: int) -> bytearray:
    for block in blocks:
        data[block * BLOCK + 100] ^= 1
    return data


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    path = tmp_path_factory.mktemp("small") / "a"
    write_apfs(path, [ApfsPart("Studio", studio(40))])
    return path.read_bytes()


@pytest.mark.parametrize(
    ("what", "blocks", "newest"),
    [
        *(("nothing", (), 5), ("the copy in front", (0,), 5), ("the newest superblock", (4,), 4)),
        *(("its map", (3,), 4), ("an object that it names", (10,), 4), ("both superblocks", (2, 4), 0)),
    ],
)
def test_the_newest_checkpoint_that_is_whole(
    what: str, blocks: tuple[int, ...], newest: int, small: bytes, tmp_path: Path
) -> None:
    """The older one has no volumes."""
    path = tmp_path / "a"
    path.write_bytes(_torn(bytearray(small), *blocks))
    if newest == 5:
        assert opened(path).label == "Studio", what
        return
    with pytest.raises(VolumeError, match="has no volumes" if newest else "None of its checkpoints is whole"):
        opened(path)


# -- what is refused -------------------------------------------------------------------------------------------------


def _changed(data: bytes, magic: bytes, at: int, value: bytes) -> bytes:
    """Return a container with bytes of the objects that begin with `magic` changed, their checksums made anew."""
    made = bytearray(data)
    for start in range(0, len(made), BLOCK):
        if made[start + 32 : start + 36] == magic:
            made[start + at : start + at + len(value)] = value
            made[start : start + BLOCK] = sealed_block(bytes(made[start : start + BLOCK]))
    return bytes(made)


@pytest.mark.parametrize(
    ("magic", "at", "value", "words"),
    [
        (b"NXSB", 36, struct.pack("<I", 8192), "blocks have 8,192 bytes"),
        (b"NXSB", 64, struct.pack("<Q", 0x102), "Fusion"),
        (b"NXSB", 1280, b"F" * 16, "Fusion"),
        (b"NXSB", 64, struct.pack("<Q", 1), "first, unpublished version"),
        (b"NXSB", 64, struct.pack("<Q", 0x802), r"unknown features \(800h\)"),
        (b"NXSB", 104, struct.pack("<I", 8 | 1 << 31), "lie scattered"),
        (b"APSB", 264, bytes(8), "'Studio' is encrypted"),
        (b"APSB", 56, struct.pack("<Q", 0x101), r"unknown features \(100h\)"),
    ],
)
def test_what_is_not_read_is_refused_by_name(
    magic: bytes, at: int, value: bytes, words: str, small: bytes, tmp_path: Path
) -> None:
    (tmp_path / "a.dmg").write_bytes(_changed(small, magic, at, value))
    with pytest.raises(SourceError, match=words) as refused:
        open_source(tmp_path / "a.dmg")
    assert "Mac" in (refused.value.advice or "")


def _nodes(data: bytes, level: int, subtype: int = 0xE) -> Iterator[int]:
    """Yield where the nodes of a kind of tree lie."""
    for start in range(0, len(data), BLOCK):
        kind, which = struct.unpack_from("<H2xI", data, start + 24)
        if kind in (2, 3) and which == subtype and struct.unpack_from("<H", data, start + 34)[0] == level:
            yield start


@pytest.mark.parametrize(
    ("what", "at", "value"),
    [
        ("another level", 34, struct.pack("<H", 3)),
        ("a table beyond the node", 42, struct.pack("<H", 0xFFF0)),
        ("more entries than the table has", 36, struct.pack("<I", 60_000)),
        ("a leaf's mark taken away", 32, struct.pack("<H", 0)),
        ("another number", 8, struct.pack("<Q", 77)),
        ("a wrong checksum", -1, b""),
    ],
)
def test_a_damaged_node_is_told(what: str, at: int, value: bytes, small: bytes, tmp_path: Path) -> None:
    data = bytearray(small)
    for start in _nodes(small, 0):
        if at < 0:
            data[start + 2000] ^= 0x40
            continue
        data[start + at : start + at + len(value)] = value
        data[start : start + BLOCK] = sealed_block(bytes(data[start : start + BLOCK]))
    (tmp_path / "a").write_bytes(data)
    try:
        volume = opened(tmp_path / "a")
        volume.tree()
        assert volume.damage, what
    except SourceError as error:
        assert error.message, what


@pytest.mark.parametrize("name", ["a/b", "a\0b", ".", ".."])
def test_names_that_are_none_are_refused(name: str, tmp_path: Path) -> None:
    root = folder("")
    root.entries[name] = file(name, b"x")
    write_apfs(tmp_path / "a", [ApfsPart("Studio", root)])
    volume = opened(tmp_path / "a")
    assert volume.tree().entries == {}
    assert "not a valid file name" in volume.damage[0] or "is invalid" in volume.damage[0]


def test_names_that_are_one_on_the_drive_are_refused(tmp_path: Path) -> None:
    root = folder("", file("F\u00e4hre", b"1"), file("Fa\u0308hre", b"2"))
    write_apfs(tmp_path / "a", [ApfsPart("Studio", root, features=0)])
    volume = opened(tmp_path / "a")
    assert (len(volume.tree().entries), "another entry of its folder has this name" in volume.damage[0]) == (1, True)


def test_folders_within_each_other_without_end(tmp_path: Path) -> None:
    root = here = folder("")
    for _ in range(MOST_DEPTH + 5):
        here.entries["a"] = folder("a")
        here = here.entries["a"]  # type: ignore[assignment]
    write_apfs(tmp_path / "a", [ApfsPart("Studio", root)])
    volume = opened(tmp_path / "a")
    assert (len(files_of(volume.tree())), "nested too deeply" in volume.damage[0]) == (0, True)
