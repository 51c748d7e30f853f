"""HFS+ volumes: literal bytes, names, independent readers, hard links, compressed files, and hostile bytes."""

from __future__ import annotations

import random
import struct
import unicodedata
import zlib
from pathlib import Path

import lzfse
import pyfshfs
import pytest
import pytsk3
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError, UsageError
from lucky_keystone.content.contents import Literal
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import Folder, Special, UnixFacts
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.sources.opening import open_source
from lucky_keystone.volumes.hfsplus.kind import HFSPLUS
from lucky_keystone.volumes.hfsplus.names import folded_key, stored_name
from lucky_keystone.volumes.hfsplus.read import HfsPlusVolume
from lucky_keystone.volumes.volume import VolumeError

from ..helpers.hfsplus import as_stored, studio, with_facts, write_volume
from ..helpers.trees import file, files_of, folder, trees


def ours(path: Path) -> dict[str, bytes]:
    with ImageFile(path) as image:
        volume = HFSPLUS.open(image, 0, image.size)
        found = list(volume.walk())
        assert [(entry.path, entry.faults) for entry in found if entry.faults] == []
        return {entry.path: b"".join(volume.pieces(entry)) for entry in found if not entry.is_folder}


def sleuth(path: Path) -> dict[str, bytes]:
    """The same through an independent reader, hard links followed. It gives up on files with an attribute in a fork."""
    system = pytsk3.FS_Info(pytsk3.Img_Info(str(path)))
    found: dict[str, bytes] = {}
    waiting = [("", system.open_dir("/"))]
    while waiting:
        prefix, directory = waiting.pop()
        for entry in directory:
            name = entry.info.name.name.decode()
            if name in (".", "..") or name.startswith(("$", "^^^^")) or name == "large attribute":
                continue
            if entry.info.meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                waiting.append((f"{prefix}{name}/", entry.as_directory()))
            else:
                size = entry.info.meta.size
                found[prefix + name] = entry.read_random(0, size) if size else b""
    return found


Facts = tuple[bytes, int, str, bytes, dict[str, bytes]]


def second(path: Path) -> dict[str, Facts]:
    """Bytes, mode, where links lead, resource fork and attributes, through another one. It composes names."""
    volume = pyfshfs.volume()
    volume.open(str(path))
    found: dict[str, Facts] = {}
    waiting = [("", volume.get_root_directory())]
    while waiting:
        prefix, directory = waiting.pop()
        for entry in directory.sub_file_entries:
            name = prefix + entry.name
            if entry.file_mode & 0o170000 == 0o040000:
                waiting.append((name + "/", entry))
            fork = entry.get_resource_fork() if entry.has_resource_fork() else None
            is_link = entry.file_mode & 0o170000 == 0o120000
            found[name] = (
                entry.read_buffer_at_offset(entry.size, 0) if entry.size and not is_link else b"",
                entry.file_mode,
                entry.symbolic_link_target if is_link else "",
                fork.read_buffer_at_offset(fork.size, 0) if fork else b"",
                {a.name: a.read_buffer_at_offset(a.size, 0) for a in entry.extended_attributes},
            )
    return found


# -- literal bytes ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("sector", "cluster"), [(512, 4096), (512, 512), (4096, 4096), (4096, 65536)])
def test_headers_and_what_is_blessed(sector: int, cluster: int, tmp_path: Path) -> None:
    """TN1150, "Volume Header": byte 1024, and 1024 before the end, whatever the sector."""
    path, size = tmp_path / "volume.img", 8 << 20
    core = folder("CoreServices", with_facts("boot.efi", b"loader"))
    root = folder("", file("a", b"a"), folder("System", folder("Library", core)))
    root.special = Special(unix=UnixFacts(starts_with="System/Library/CoreServices/boot.efi"))
    write_volume(root, path, size=size, cluster=cluster, sector=sector)
    data = path.read_bytes()
    header = data[1024:1536]
    assert header[:16] == b"H+\0\x04\0\0\x01\0" + b"10.0" + bytes(4)  # version 4, unmounted; no journal
    assert header == data[size - 1024 : size - 512]
    files, folders, block, total, free = struct.unpack(">5I", header[32:52])
    assert (files, folders, block, total) == (2, 3, cluster, size // cluster)
    # Numbers are given in the order of the tree from 16 on: a, System, Library, CoreServices, boot.efi.
    assert struct.unpack(">6IQ", header[80:112]) == (19, 20, 0, 0, 0, 19, 0x0926_1403_2026_0314)
    start, count = struct.unpack(">2I", header[112 + 16 : 112 + 24])
    bits = data[start * cluster :][: -(-total // 8)]
    assert sum(byte.bit_count() for byte in bits) == total - free
    assert bits[0] & 0x80
    assert bits[(total - 1) // 8] >> (7 - (total - 1) % 8) & 1
    assert count == -(-total // (8 * cluster))


@pytest.mark.parametrize(
    ("name", "stored"),
    [
        ("é", "0065 0301"),
        ("ồ", "006F 0302 0300"),
        ("한", "1112 1161 11AB"),
        ("\u2126\u212b\uf900", "2126 212B F900"),  # kept, though Unicode takes them apart
        ("q\u0307\u0323", "0071 0323 0307"),  # marks in canonical order
        ("a:b", "0061 002F 0062"),
        ("🚢", "D83D DEA2"),
    ],
)
def test_names_as_they_are_stored(name: str, stored: str) -> None:
    assert stored_name(name).hex(" ", 2).upper() == stored


def test_names_are_compared_as_tn1150_says() -> None:
    def key(name: str) -> bytes:
        return folded_key(stored_name(name))

    assert key("ÅLESUND") == key("ålesund")
    assert key("ΔЖ\u0531") == key("δж\u0561")
    assert key("a\u200cb") == key("ab")  # ignorable
    assert key("Straße") != key("STRASSE")
    assert key("a") < key("B") < key("\0")


def test_a_name_twice_and_one_too_long_are_refused() -> None:
    for tree in (folder("", file("é"), file("e\u0301")), folder("", file("é" * 128))):
        with pytest.raises(SourceError, match="cannot hold"):
            HFSPLUS.draft(tree, "x", 4096, 512)
    with pytest.raises(UsageError, match="powers of two"):
        HFSPLUS.draft(folder(""), "x", 3000, 512)


# -- independent readers ---------------------------------------------------------------------------------------------


def test_two_readers_see_the_same(tmp_path: Path) -> None:
    path = tmp_path / "volume.img"
    tree = studio(20_000)
    write_volume(tree, path, size=128 << 20)
    wanted = as_stored(files_of(tree))
    assert ours(path) == wanted
    assert sleuth(path) == {name: data for name, data in wanted.items() if name != "large attribute"}
    found = second(path)

    def nfc(text: str) -> str:
        return unicodedata.normalize("NFC", text)

    composed = {nfc(name): facts for name, facts in found.items()}
    for name, entry in tree.walk():
        data, mode, target, resource, attributes = composed[nfc(name)]
        unix = entry.special.unix
        usual = 0o040755 if isinstance(entry, Folder) else 0o120755 if unix.is_link else 0o100644
        assert mode == (usual if unix.mode is None else 0o100000 | unix.mode), name
        assert attributes == dict(unix.attributes)
        if not isinstance(entry, Folder) and not unix.is_link and "name" not in name:
            assert data == entry.content.data  # type: ignore[attr-defined]
        if unix.is_link:
            assert target == "folder/deep"
        if unix.resource.size:
            assert resource == unix.resource.data  # type: ignore[attr-defined]


def test_names_that_differ_in_case_only_make_an_hfsx_volume(tmp_path: Path) -> None:
    path = tmp_path / "volume.img"
    tree = folder("", file("Case", b"1"), file("case", b"22"), folder("Other", file("x", b"y")))
    write_volume(tree, path)
    assert path.read_bytes()[1024:1028] == b"HX\0\x05"
    assert ours(path) == sleuth(path) == files_of(tree)
    assert {name: facts[0] for name, facts in second(path).items() if facts[0]} == files_of(tree)
    # Systems keep a count of folders there, and say so (hfs_format.h: bit 4, in the last field of a folder's record).
    assert _record_of(path, "")[2:4] == b"\0\x10"
    assert _record_of(path, "")[84:] == (1).to_bytes(4, "big")


def _record_of(path: Path, name: str) -> bytes:
    """Return the catalog's record of a file or folder."""
    source = SourceFile(path)
    volume = HfsPlusVolume(FileRange(source, 0, source.size), 0, source.size)
    entry = volume.find(name) if name else volume.root()
    assert entry is not None
    return entry.record.pack()


def test_an_access_control_list_is_announced(tmp_path: Path) -> None:
    listed = Special(unix=UnixFacts(attributes={"com.apple.system.Security": b"\x01\x2c\xc1\x6d" + bytes(40)}))
    plain = Special(unix=UnixFacts(attributes={"org.tidewell.berth": b"3"}))
    write_volume(folder("", file("listed", b"1", listed), file("plain", b"2", plain)), tmp_path / "a.img")
    assert [_record_of(tmp_path / "a.img", name)[3] & 0b1100 for name in ("listed", "plain")] == [0b1100, 0b0100]


def test_a_damaged_file_costs_no_other_one(tmp_path: Path) -> None:
    """A fork that reaches beyond the volume: the others of an image are read, and it is named."""
    path = tmp_path / "a.img"
    write_volume(folder("", *(file(f"poster {number}", b"p" * 9000) for number in range(9))), path)
    record = _record_of(path, "poster 4")
    data = path.read_bytes()
    assert data.count(record) == 1
    path.write_bytes(data.replace(record, record[:104] + b"\x7f\xff\xff\xff" + record[108:]))
    source = open_source(path)
    assert sorted(source.root.entries) == [f"poster {number}" for number in range(9) if number != 4]
    assert [words for words in source.damage if "poster 4" in words and "block" in words]


@given(trees(), st.sampled_from([512, 4096]))
@settings(max_examples=30, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
def test_random_trees(tmp_path: Path, tree: Folder, cluster: int) -> None:
    path = tmp_path / "volume.img"
    write_volume(tree, path, size=4 << 20, cluster=cluster)
    assert ours(path) == as_stored(files_of(tree))


# -- what only reading meets -----------------------------------------------------------------------------------------


def _packed(method: str, data: bytes) -> tuple[int, bytes, bytes]:
    """Return type, bytes behind the attribute's head, and resource fork, as a Mac would keep `data`."""
    pieces = [data[at : at + 65536] for at in range(0, len(data), 65536)]
    if method == "zlib inline":
        return 3, zlib.compress(data), b""
    if method == "raw inline":
        return 3, b"\xff" + data, b""
    if method == "zlib":
        chunks = [zlib.compress(piece) for piece in pieces]
        at, table = 4 + 8 * len(chunks), struct.pack("<I", len(chunks))
        for chunk in chunks:
            table, at = table + struct.pack("<2I", at, len(chunk)), at + len(chunk)
        body = table + b"".join(chunks)
        return (
            4,
            b"",
            struct.pack(">4I", 0x100, 0x104 + len(body), 4 + len(body), 50).ljust(0x100, b"\0")
            + (len(body).to_bytes(4, "big") + body + bytes(50)),
        )
    if method == "LZVN":  # the first stored behind its mark; the others literals, 16 to an opcode, and the end mark
        coded = [b"".join(b"\xe0\x00" + piece[at : at + 16] for at in range(0, len(piece), 16)) for piece in pieces]
        chunks = [b"\x06" + pieces[0], *(code + b"\x06" + bytes(7) for code in coded[1:])]
    else:
        chunks = [lzfse.compress(piece) for piece in pieces]
    ends = [4 * (len(chunks) + 1)]
    for chunk in chunks:
        ends.append(ends[-1] + len(chunk))
    return (8 if method == "LZVN" else 12), b"", struct.pack(f"<{len(ends)}I", *ends) + b"".join(chunks)


@pytest.mark.parametrize("method", ["zlib inline", "raw inline", "zlib", "LZVN", "LZFSE"])
def test_compressed_files_are_read_and_kept_as_they_are(method: str, tmp_path: Path) -> None:
    data = random.Random(4).randbytes(1024) * (3 if "inline" in method else 200)
    kind, inline, fork = _packed(method, data)
    head = b"fpmc" + struct.pack("<IQ", kind, len(data))
    facts = {"flags": 0x20, "attributes": {"com.apple.decmpfs": head + inline}, "resource": Literal(fork)}
    path = tmp_path / "volume.img"
    write_volume(folder("", with_facts("packed", data, **facts)), path)
    with ImageFile(path) as image:
        volume = HFSPLUS.open(image, 0, image.size)
        entry = volume.find("packed")
        assert entry is not None
        assert (entry.data.size, entry.resource.size, entry.size) == (0, len(fork), len(data))
        assert b"".join(volume.pieces(entry)) == data
        assert volume.read_at_of(entry, len(data) // 2, 1000) == data[len(data) // 2 :][:1000]
        assert volume.read_fork(entry.resource, 0, len(fork)) == fork


def test_a_file_in_many_pieces_is_followed_through_the_extents_overflow_file(tmp_path: Path) -> None:
    """Cut into 12 extents by hand: eight in its record, four in a leaf of the other tree."""
    path = tmp_path / "volume.img"
    data = random.Random(5).randbytes(12 * 4096 - 7)
    planned = write_volume(folder("", file("pieces", data), file("hole", bytes(64 << 10))), path)
    image = bytearray(path.read_bytes())
    first, _ = planned.layout.places[16, b""]  # type: ignore[attr-defined]
    record = image.index(struct.pack(">QIIII", len(data), 0, 12, first, 12))
    # The same blocks, listed one by one in another order on the drive: the last first.
    blocks = [first + 11 - number for number in range(12)]
    body = image[first * 4096 : (first + 12) * 4096]
    for number, block in enumerate(blocks):
        image[block * 4096 : (block + 1) * 4096] = body[number * 4096 : (number + 1) * 4096]
    pairs = [struct.pack(">2I", block, 1) for block in blocks]
    image[record + 16 : record + 80] = b"".join(pairs[:8])
    extents, _ = planned.layout.own[3]  # type: ignore[attr-defined]
    tree = extents * 4096
    key = struct.pack(">HBBII", 10, 0, 0, 16, 8)
    leaf = struct.pack(">IIbBHH", 0, 0, -1, 1, 1, 0) + key + b"".join(pairs[8:]).ljust(64, b"\0")
    node = leaf.ljust(4092, b"\0") + struct.pack(">2H", len(leaf), 14)
    hole, _ = planned.layout.places[17, b""]  # type: ignore[attr-defined]
    image[hole * 4096 : (hole + 1) * 4096] = image[tree : tree + 4096]  # the tree moves into the other file's place
    image[(hole + 1) * 4096 : (hole + 2) * 4096] = node
    image[hole * 4096 + 14 : hole * 4096 + 14 + 30] = struct.pack(">HIIIIHHII", 1, 1, 1, 1, 1, 4096, 10, 2, 0)
    image[1024 + 192 : 1024 + 192 + 24] = struct.pack(">QIIII", 8192, 0, 2, hole, 2)
    path.write_bytes(image)
    with ImageFile(path) as drive:
        volume = HFSPLUS.open(drive, 0, drive.size)
        entry = volume.find("pieces")
        assert entry is not None
        assert len(entry.runs) == 12
        assert b"".join(volume.pieces(entry)) == data
    assert sleuth(path)["pieces"] == data


@pytest.mark.parametrize("seed", range(6))
def test_hostile_bytes_end_in_words(seed: int, tmp_path: Path) -> None:
    path, chance = tmp_path / "volume.img", random.Random(seed)
    planned = write_volume(studio(200), path)
    clean = path.read_bytes()
    spans = [(1024, 512)]
    spans += [(first * 4096, count * 4096) for first, count in planned.layout.own.values()]  # type: ignore[attr-defined]
    for _ in range(40):
        image = bytearray(clean)
        for _ in range(chance.choice((1, 2, 6))):
            start, size = chance.choice(spans)
            at = start + chance.randrange(min(size, 16384))
            image[at : at + 4] = chance.choice((chance.randbytes(4), b"\xff" * 4, bytes(4)))
        path.write_bytes(image)
        with ImageFile(path) as drive:
            try:
                volume = HfsPlusVolume(drive, 0, drive.size)
                volume.label()
                for entry in volume.walk(budget=20_000):
                    if not entry.is_folder and not entry.faults:
                        sum(len(piece) for piece in volume.pieces(entry))
            except VolumeError:
                pass
