"""Packages' archives: each file has its own bytes, whatever the archive says of numbers and links."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.content.ranges import FileRange, RangedFile
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.sources.cpio import read_cpio


def packed(*files: tuple[str, bytes, int, int]) -> bytes:
    """Return an archive of (name, bytes, number, links)."""
    out = b""
    for name, data, number, links in (*files, ("TRAILER!!!", b"", 0, 1)):
        fields = f"{1:06o}{number:06o}{0o100644:06o}{0:06o}{0:06o}{links:06o}{0:06o}{0:011o}"
        out += b"070707" + f"{fields}{len(name) + 1:06o}{len(data):011o}".encode() + name.encode() + b"\0" + data
    return out


@pytest.mark.parametrize(
    ("second", "links", "is_one"),
    [(b"one", 2, True), (b"two", 2, False), (b"one", 1, False), (b"two", 1, False), (b"longer", 2, False)],
)
def test_links_are_files_with_the_same_bytes(second: bytes, links: int, is_one: bool, tmp_path: Path) -> None:
    path = tmp_path / "Payload"
    path.write_bytes(packed(("one.txt", b"one", 7, links), ("two.txt", second, 7, links)))
    file: RangedFile = SourceFile(path)
    entries = read_cpio(file, "Payload").entries
    found = {name: FileRange.read_at(entry.content, 0, entry.size) for name, entry in entries.items()}  # type: ignore[union-attr, arg-type]
    assert found == {"one.txt": b"one", "two.txt": second}
    assert (entries["one.txt"].content is entries["two.txt"].content) == is_one  # type: ignore[union-attr]
