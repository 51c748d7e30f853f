"""Contents, trees and regions by themselves: what whole drives rely on, found wrong in a second."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import example, given
from hypothesis import strategies as st

from lucky_keystone.building.stream import Pace
from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.buffers import aligned_buffer, digest_of, is_zero
from lucky_keystone.content.contents import Generated, Joined, Literal, Zeros, stream
from lucky_keystone.content.extents import Extent, align_up
from lucky_keystone.content.ranges import FileRange, tail
from lucky_keystone.content.regions import TRAITS, RegionKind, region
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.volumes.placing import WantedPlace, keep_places

from .helpers.trees import file, files_of, folder


def parts_of(data: bytes, cuts: list[int], source: FileRange) -> Joined:
    """Cut `data` into contents of every kind, in turn."""
    edges = [0, *sorted(cut % (len(data) + 1) for cut in cuts), len(data)]
    made = []
    for number, (start, end) in enumerate(zip(edges, edges[1:], strict=False)):
        piece = data[start:end]
        if not any(piece):
            made.append(Zeros(len(piece)))
        elif number % 2:
            made.append(FileRange(source.file, start, end - start))
        else:
            made.append(Literal(piece))
    return Joined(made)


@given(
    data=st.binary(min_size=1, max_size=300).map(lambda data: data + bytes(40) + data),
    cuts=st.lists(st.integers(0, 700), max_size=9),
    spans=st.lists(st.tuples(st.integers(0, 700), st.integers(0, 700)), max_size=9),
    block=st.integers(1, 97),
)
def test_joined_contents_read_alike_front_to_back_at_any_offset_and_without_a_front(
    data: bytes, cuts: list[int], spans: list[tuple[int, int]], block: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    path = tmp_path_factory.mktemp("content") / "data"
    path.write_bytes(data)
    whole = FileRange(SourceFile(path), 0, len(data))
    joined = parts_of(data, cuts, whole)
    assert b"".join(bytes(piece) for piece in stream(joined, block)) == data
    for first, second in spans:
        start, end = sorted((first % (len(data) + 1), second % (len(data) + 1)))
        assert joined.read_at(start, end - start) == data[start:end]
        for content in (whole, joined):
            rest = tail(content, start)
            assert (rest.size, b"".join(bytes(piece) for piece in stream(rest, block))) == (
                len(data) - start,
                data[start:],
            )
    with pytest.raises(SourceError):
        joined.read_at(1, len(data))


@given(st.integers(0, 900), st.lists(st.integers(0, 899), max_size=2))
@example(71, [70])
def test_zeros_are_told_from_what_is_nearly_zero(size: int, ones: list[int]) -> None:
    data = bytearray(size)
    for place in ones:
        data[place:place] = b"\1"
    view = memoryview(data)
    assert is_zero(view) == (not any(data))
    assert digest_of(view) == blake3(data).digest()


@pytest.mark.skipif(not hasattr(os, "SEEK_DATA"), reason="nothing tells holes here")
def test_holes_are_read_as_what_they_are_beside_the_cache(tmp_path: Path) -> None:
    """Between stored places, to an end that is no whole page; nothing is read of another file under the same name."""
    path, pieces = tmp_path / "sparse", {0: b"front", (9 << 20) + 77: b"middle", (30 << 20) + 5: b"end"}
    with path.open("wb") as stream:
        for at, piece in pieces.items():
            stream.seek(at)
            stream.write(piece)
    expected = path.read_bytes()
    source, buffer = SourceFile(path), aligned_buffer()
    descriptor = source.acquire()
    for start in range(0, len(expected), len(buffer)):
        view = buffer[: min(len(buffer), len(expected) - start)]
        view[:1] = b"x"
        source.readinto_at(descriptor, start, view)
        assert view == expected[start : start + len(view)]
    path.rename(tmp_path / "moved")
    path.write_bytes(b"x" * len(expected))
    source.readinto_at(descriptor, 16 << 20, buffer)
    assert not any(buffer)


def test_a_drive_is_flushed_as_often_as_it_costs_little() -> None:
    pace = Pace(100.0)
    assert [pace.is_due(now) for now in (100.4, 100.5, 100.9, 101.0)] == [False, True, False, True]
    for took, pause in ((0.01, 0.5), (0.2, 2.0), (30.0, 5.0), (0.0, 0.5)):
        pace.flushed(took)
        assert [pace.is_due(101.0 + pause - 0.01), pace.is_due(101.0 + pause)] == [False, True]
        pace = Pace(101.0)


def test_what_ends_early_is_told_of(tmp_path: Path) -> None:
    (tmp_path / "short").write_bytes(b"ferry")
    for content in (Generated(9, lambda: iter([b"ferry"])), FileRange(SourceFile(tmp_path / "short"), 0, 9)):
        with pytest.raises(SourceError, match=r"early|ends at byte 5; 4 more"):
            list(stream(content))


def test_trees_are_found_and_merged_without_regard_to_case() -> None:
    below = folder(
        "", folder("EFI", folder("Boot", file("bootx64.efi", b"old"), file("fonts.bin", b"f"))), file("a", b"1")
    )
    over = folder("", folder("efi", folder("BOOT", file("BOOTX64.EFI", b"new"))), folder("A", file("b", b"2")))
    merged = below.merged(over)
    assert files_of(merged) == {"EFI/Boot/fonts.bin": b"f", "EFI/Boot/BOOTX64.EFI": b"new", "A/b": b"2"}
    assert merged.find_file("efi/boot/Bootx64.efi") is not None
    assert merged.find("efi/boot/bootx64.efi/x") is None
    assert files_of(below)["EFI/Boot/bootx64.efi"] == b"old", "what was merged is left alone"
    assert merged.folder_count == 3


def test_a_region_has_no_gaps_and_every_kind_its_words() -> None:
    with pytest.raises(AssertionError, match="files: extent ends at 4, the next starts at 5"):
        region(RegionKind.FILES, [Extent(0, Literal(b"pier")), Extent(5, Literal(b"x"))])
    assert TRAITS.keys() == set(RegionKind)


@given(st.data())
def test_files_keep_their_places_and_never_share_clusters(data: st.DataObject) -> None:
    sizes = data.draw(st.lists(st.integers(0, 9), max_size=12))
    old = data.draw(st.lists(st.integers(2, 60), min_size=len(sizes), max_size=len(sizes)))
    wanted = [WantedPlace(f"f{number}", size * 512, size) for number, size in enumerate(sizes)]
    places = {
        f"F{number}": (cluster, size * 512) for number, (cluster, size) in enumerate(zip(old, sizes, strict=True))
    }
    placed = keep_places(wanted, places, 2, 400, 512)
    taken = sorted((cluster, file.count) for cluster, file in zip(placed.clusters, wanted, strict=True) if file.count)
    assert all(first + count <= following for (first, count), (following, _) in zip(taken, taken[1:], strict=False))
    used = {cluster + step for cluster, count in taken for step in range(count)}
    free = {first + step for first, count in placed.holes for step in range(count)}
    assert used | free == set(range(2, placed.next_free)) or not used
    assert not used & free
    assert align_up(7, 4) == 8
