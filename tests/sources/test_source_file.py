"""Files of sources: what is read again, and how, where a disc fails."""

from __future__ import annotations

import errno
import random
from pathlib import Path

import pytest

from lucky_keystone.common import positional
from lucky_keystone.common.errors import SourceError
from lucky_keystone.content import source_file as module
from lucky_keystone.content.source_file import SourceFile, Trying

SECTOR, PAGE = 2048, 4096


@pytest.mark.posix  # elsewhere there is no way around the pages of a system
def test_a_last_sector_that_shares_its_page_with_a_bad_one_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disc with an odd number of sectors: the system's cache reads whole pages, and the run-out cannot be read."""
    data = random.Random(12).randbytes(1001 * SECTOR)
    path = tmp_path / "disc"
    path.write_bytes(data + bytes(151 * SECTOR))
    through_the_cache, bad = positional.read_into, 1001 * SECTOR

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        if -(-(offset + len(view)) // PAGE) * PAGE > bad:
            raise OSError(errno.EIO, "Input/output error")
        return through_the_cache(descriptor, view, offset)

    alone = positional.read_alone

    def read_alone(path: Path, view: memoryview, offset: int, sector: int) -> int | None:
        if offset // sector * sector >= bad:
            raise OSError(errno.EIO, "Input/output error")
        return alone(path, view, offset, sector)

    monkeypatch.setattr(positional, "read_into", read_into)
    monkeypatch.setattr(positional, "read_alone", read_alone)
    monkeypatch.setattr(module, "read_gently", lambda _: None)
    file = SourceFile(path)
    file.is_device, file._is_cached, file.trying = True, True, Trying(3, 0.0)
    descriptor = file.acquire()
    view = memoryview(bytearray(len(data)))
    file.readinto_at(descriptor, 0, view)
    assert view == data
    with pytest.raises(SourceError, match=f"cannot be read at byte {bad:,}"):
        file.readinto_at(descriptor, 0, memoryview(bytearray(len(data) + 1)))
    file.release(descriptor)
