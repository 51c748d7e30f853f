"""Reads back what was written, from the medium, with hashing beside the reading."""

from __future__ import annotations

import queue
import threading
from collections.abc import Sequence

from ..common.progress import Progress
from ..content.buffers import aligned_buffer, digest_of
from .medium import Medium


def read_back(
    blocks: Sequence[tuple[int, int, bytes]], medium: Medium, progress: Progress, stage: str = "reading back"
) -> list[int]:
    """Read every (offset, size, hash) block from `medium`; return the indexes of those whose hash differs.

    Reading runs ahead in a thread of its own, so that hashing costs no time of the drive's.
    """
    filled: queue.Queue[tuple[int, memoryview] | BaseException] = queue.Queue(2)
    empty: queue.Queue[memoryview | None] = queue.Queue()
    for _ in range(3):
        empty.put(aligned_buffer())

    def run() -> None:
        try:
            for index, (offset, size, _) in enumerate(blocks):
                buffer = empty.get()
                if buffer is None:
                    return
                medium.readinto_at(offset, buffer[:size])
                filled.put((index, buffer))
        except BaseException as error:  # noqa: BLE001 - raised again in the caller's thread
            filled.put(error)

    thread = threading.Thread(target=run, name="reader", daemon=True)
    thread.start()
    whole, done, wrong = sum(size for _, size, _ in blocks), 0, []
    try:
        for _ in blocks:
            item = filled.get()
            if isinstance(item, BaseException):
                raise item
            index, buffer = item
            _, size, digest = blocks[index]
            if digest_of(buffer[:size]) != digest:
                wrong.append(index)
            empty.put(buffer)
            done += size
            progress(stage, done, whole)
    finally:
        empty.put(None)
        while thread.is_alive():
            try:
                filled.get(timeout=0.05)
            except queue.Empty:
                continue
    return wrong
