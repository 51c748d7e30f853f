"""Images of chosen editions: every tree and content as in the original, each content once, whoever reads them."""

from __future__ import annotations

import hashlib
import subprocess
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path

import pytest
from dissect.archive.wim import WIM
from hypothesis import given, settings
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Content, Literal, stream
from lucky_keystone.wim.combining import Wanted, combined, with_sums
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.records import SOLID_RESOURCE
from lucky_keystone.wim.split import divide
from lucky_keystone.wim.whole import WholeImage, verified

from ..helpers.install_images import Item, install_image
from ..helpers.judges import need
from ..helpers.program import run, run_json

Tree = dict[str, Item]


def noise(name: object, size: int = 3000) -> bytes:
    return hashlib.shake_128(f"{name}".encode()).digest(size) + b"the 7:40 to Fairwater " * 60


def tree(*names: object, shared: int = 3) -> Tree:
    """Files of its own, some that other trees have as well, and one with a stream."""
    files = {f"own {name}.dll": Item(noise(name)) for name in names}
    files |= {f"shared {n}.dll": Item(noise(f"shared {n}")) for n in range(shared)}
    return {"Windows": Item(None, {**files, "s.dat": Item(b"main", streams={"more": noise("more", 40)})})}


def opened(data: bytes, name: str = "install.wim") -> WholeImage:
    return WholeImage([InstallImage(Literal(data), name)])


def bytes_of(content: Content) -> bytes:
    return b"".join(bytes(piece) for piece in stream(content, 65_537))


def sums_of(image: WholeImage, number: int) -> dict[str, tuple[object, ...]]:
    """Return everything that an edition holds: facts of each entry, and the proven bytes' SHA-1, streams too."""
    held = image.tree(image.editions[number])
    found: dict[str, tuple[object, ...]] = {}
    for path, entry in held.walk():
        streams = {each.name: verified(image.content_by(each.sha1, path), each.sha1, path) for each in entry.streams}
        data = b"" if entry.is_folder or entry.is_empty else verified(image.content(entry, path), entry.sha1, path)
        found[path] = (entry.attributes, entry.written, entry.short_name, held.security_of(entry), data, streams)
    return found


def each_once(image: InstallImage) -> bool:
    rows = [bytes(row["sha1"]) for row in image.resources if int(row["original_size"]) != SOLID_RESOURCE]
    is_tree = [int(row["size_and_flags"]) >> 56 & 2 for row in image.resources]
    return max(Counter(sha1 for sha1, tree in zip(rows, is_tree, strict=False) if not tree).values()) == 1


@settings(max_examples=20, deadline=None)
@given(
    st.lists(st.lists(st.integers(0, 9), max_size=4, unique=True), min_size=1, max_size=3),
    st.lists(st.lists(st.integers(0, 9), max_size=4, unique=True), min_size=1, max_size=2),
    st.data(),
)
def test_any_editions_of_two_images(first: list[list[int]], second: list[list[int]], data: st.DataObject) -> None:
    images = [
        opened(install_image([tree(*names) for names in trees], "none", name=name))
        for trees, name in ((first, "Crew"), (second, "Studio"))
    ]
    kept = [
        data.draw(st.lists(st.sampled_from(range(len(image.editions))), min_size=1, unique=True)) for image in images
    ]
    made = combined(
        [Wanted(image, [image.editions[n] for n in numbers]) for image, numbers in zip(images, kept, strict=True)],
        "combined.wim",
    )
    whole = opened(bytes_of(with_sums(made)))
    whole.first.verify_integrity(lambda _done, _all: None)
    wanted = [(image, n) for image, numbers in zip(images, kept, strict=True) for n in numbers]
    assert [edition.name for edition in whole.editions] == [image.editions[n].name for image, n in wanted]
    assert [edition.index for edition in whole.editions] == list(range(1, len(wanted) + 1))
    for number, (image, n) in enumerate(wanted):
        assert sums_of(whole, number) == sums_of(image, n)
    assert each_once(whole.first)


PACKED = [("none", False), ("xpress", False), ("lzx", False), ("lzms", True), ("xpress", True)]


@pytest.mark.parametrize(("method", "solid"), PACKED)
def test_another_archiver_finds_every_edition(method: str, solid: bool, tmp_path: Path) -> None:
    trees: Sequence[Sequence[Tree]] = [[tree(1, 2), tree(2, 3), tree(4)], [tree(4, 5), tree(6, shared=1)]]
    images = [
        opened(install_image(each, method, solid=solid, name=name, build=build))
        for each, name, build in zip(trees, ("Crew", "Crew"), (22000, 26100), strict=True)
    ]
    first, second = images
    kept = [Wanted(first, [first.editions[2], first.editions[0]]), Wanted(second, [second.editions[1]])]
    made = combined(kept, "combined.wim")
    (tmp_path / "combined.wim").write_bytes(bytes_of(with_sums(made)))
    judge = [need("7z"), "x", "-y", f"-o{tmp_path / 'out'}", tmp_path / "combined.wim"]
    said = subprocess.run(judge, check=True, capture_output=True, text=True).stdout
    assert "WARNING" not in said
    for number, wanted in enumerate((trees[0][2], trees[0][0], trees[1][1]), 1):
        _compare(tmp_path / "out" / str(number), wanted)
    assert each_once(made)
    whole = opened((tmp_path / "combined.wim").read_bytes())
    assert [sums_of(whole, n) for n in range(3)] == [sums_of(first, 2), sums_of(first, 0), sums_of(second, 1)]
    # What nobody needs is left out; of solid resources all that anything lies in stays.
    assert whole.first.content.size < first.first.content.size + second.first.content.size
    if method in ("none", "xpress") and not solid:  # what this reader knows
        with (tmp_path / "combined.wim").open("rb") as file:
            assert len(list(WIM(file).images())) == 3


def _compare(folder: Path, wanted: Mapping[str, Item]) -> None:
    for name, item in wanted.items():
        if item.data is None:
            _compare(folder / name, item.below)
        else:
            assert (folder / name).read_bytes() == item.data


def test_editions_of_one_name_are_told_apart() -> None:
    older = opened(install_image([tree(1)], "none", build=22000))
    newer = opened(install_image([tree(1)], "none", build=26100))
    made = combined([Wanted(newer, newer.editions), Wanted(older, older.editions)], "x")
    assert [each.name for each in made.editions] == ["Tidewell Crew 1 (6.1.26100.0)", "Tidewell Crew 1 (6.1.22000.0)"]
    assert len(made.resources) == len(newer.first.resources) + 1  # only the second tree is new
    twice = combined([Wanted(older, older.editions), Wanted(older, older.editions)], "x")
    assert len({each.name for each in twice.editions}) == 2


def test_what_is_packed_in_different_ways_is_refused() -> None:
    lzx, xpress = (opened(install_image([tree(1)], method), f"{method}.wim") for method in ("lzx", "xpress"))
    plain = opened(install_image([tree(1)], "none"))
    with pytest.raises(SourceError, match=r"xpress\.wim is packed as XPRESS in chunks of 32,768 bytes, and lzx"):
        combined([Wanted(lzx, lzx.editions), Wanted(xpress, xpress.editions)], "x")
    chunks = opened(install_image([tree(1)], "lzx", 65536), "large.wim")
    with pytest.raises(SourceError, match="one packing"):
        combined([Wanted(lzx, lzx.editions), Wanted(chunks, chunks.editions)], "x")
    assert len(combined([Wanted(plain, plain.editions), Wanted(lzx, lzx.editions)], "x").editions) == 2


def test_a_combined_image_is_divided_like_any_other() -> None:
    first = opened(install_image([tree(*range(20)), tree(30)], "none"))
    second = opened(install_image([tree(*range(400, 420))], "none", name="Studio"))
    made = combined([Wanted(first, first.editions), Wanted(second, second.editions)], "install.wim")
    whole = WholeImage(
        [InstallImage(Literal(bytes_of(part.content)), f"{part.number}") for part in divide(made, 1 << 20)]
    )
    for number, (image, n) in enumerate([(first, 0), (first, 1), (second, 0)]):
        assert sums_of(whole, number) == sums_of(image, n)


def test_a_damaged_image_is_refused() -> None:
    data = bytearray(install_image([tree(1, 2)], "none"))
    image = opened(bytes(data))
    table = image.first.resources
    at = image.first.header.lookup_table
    start = int.from_bytes(at[8:16], "little")
    victim = next(n for n, row in enumerate(table) if not int(row["size_and_flags"]) >> 56 & 2)
    data[start + 50 * victim + 30] ^= 0xFF
    broken = opened(bytes(data))
    with pytest.raises(SourceError, match="1 contents of its editions are in no part of it"):
        combined([Wanted(broken, broken.editions)], "x")


def test_split_keeps_the_editions_that_are_wanted(tmp_path: Path) -> None:
    trees = [
        {"Windows": Item(None, {f"own {n}.dll": Item(bytes((n,)) * 3000), "s.dll": Item(b"s" * 900)})}
        for n in (1, 2, 3)
    ]
    image = tmp_path / "install.wim"
    image.write_bytes(install_image(trees, "lzx"))
    done = run_json("split", image, "--into", tmp_path / "one", "--edition", "3", "--edition", "tidewell crew 1")
    assert [part["resources"] for part in done["parts"]] == [3 + 2]
    parts = opened(Path(done["parts"][0]["path"]).read_bytes())
    assert [edition.name for edition in parts.editions] == ["Tidewell Crew 1", "Tidewell Crew 3"]
    held = [{path for path, entry in parts.tree(edition).walk() if not entry.is_folder} for edition in parts.editions]
    assert held == [{f"Windows/own {n}.dll", "Windows/s.dll"} for n in (1, 3)]
    told = run("split", image, "--into", tmp_path / "none", "--edition", "Studio", code=2).stderr
    assert "has no edition 'Studio'" in told
    assert "1 Tidewell Crew 1, 2 Tidewell Crew 2" in told
    assert not (tmp_path / "none").exists()
