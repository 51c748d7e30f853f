"""Reading and writing at an offset: threads share a descriptor, and nothing comes between."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from lucky_keystone.common import positional
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source

from .helpers.drives import build_drive

Call = Callable[[int, memoryview, int], int]
PIECE, COUNT = 4096, 64


def hurry(path: Path) -> None:
    """Write a file's pieces and read them back, from eight threads over one descriptor."""
    descriptor = os.open(path, positional.READ_WRITE | os.O_CREAT)

    def write(number: int) -> None:
        piece = memoryview(bytes([number]) * PIECE)
        assert positional.write(descriptor, piece, number * PIECE) == PIECE

    def read(number: int) -> None:
        view = memoryview(bytearray(PIECE))
        assert positional.read_into(descriptor, view, number * PIECE) == PIECE
        assert view == bytes([number]) * PIECE

    try:
        with ThreadPoolExecutor(8) as threads:
            list(threads.map(write, range(COUNT)))
            list(threads.map(read, [*range(COUNT)] * 4))
    finally:
        os.close(descriptor)


def yielding(monkeypatch: pytest.MonkeyPatch) -> None:
    """Let every seek give way to the other threads before whatever follows it."""
    seek = os.lseek

    def slow(descriptor: int, offset: int, whence: int) -> int:
        found = seek(descriptor, offset, whence)
        time.sleep(0.0005)
        return found

    monkeypatch.setattr(os, "lseek", slow)


def two_halves(monkeypatch: pytest.MonkeyPatch) -> None:
    """Read and write as a system without calls at an offset would: seek, and then go."""

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        os.lseek(descriptor, offset, os.SEEK_SET)
        data = os.read(descriptor, len(view))
        view[: len(data)] = data
        return len(data)

    def write(descriptor: int, data: memoryview, offset: int) -> int:
        os.lseek(descriptor, offset, os.SEEK_SET)
        return os.write(descriptor, data)

    monkeypatch.setattr(positional, "read_into", read_into)
    monkeypatch.setattr(positional, "write", write)


def test_threads_that_share_a_descriptor_do_not_disturb_each_other(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    yielding(monkeypatch)
    hurry(tmp_path / "one call")
    two_halves(monkeypatch)
    with pytest.raises(AssertionError):  # what this test is there for
        hurry(tmp_path / "two halves")


def test_a_source_is_read_beside_its_pass_without_harm(
    disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A drive is built while another thread reads the same open source, as drives that were too slow do."""
    yielding(monkeypatch)
    source = open_source(disc)
    file = source.files[0]
    descriptor = file.acquire()
    stop = threading.Event()

    def disturb() -> None:
        view = memoryview(bytearray(1 << 20))
        while not stop.is_set():
            positional.read_into(descriptor, view, 0)

    thread = threading.Thread(target=disturb)
    thread.start()
    try:
        built = build_drive(source, tmp_path / "counter.img", Choices())
    finally:
        stop.set()
        thread.join()
        file.release(descriptor)
    (tmp_path / "again").mkdir()
    again = build_drive(open_source(disc), tmp_path / "again" / "counter.img", Choices())
    assert built.path.read_bytes() == again.path.read_bytes()
