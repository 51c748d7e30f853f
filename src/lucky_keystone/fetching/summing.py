"""The sum of an image, taken beside everything else in a thread of its own: it is the slowest step of all."""

from __future__ import annotations

import hashlib
import os
import queue
import threading
from collections.abc import Callable, Iterable
from contextlib import closing
from pathlib import Path

from ..common.errors import SourceError, naming
from ..common.progress import Progress

_WAITING = 64
"""Pieces that may wait to be counted."""
_SOON = 8
"""The same where a disk is read, which is quicker than counting."""
PIECE = 1 << 20


def file_sum(path: Path, progress: Progress, method: str = "sha256") -> str:
    """Return the SHA-256, or another sum, of a whole file. Raises SourceError where it cannot be read."""
    with naming(str(path), SourceError), path.open("rb") as stream:
        size = os.fstat(stream.fileno()).st_size
        return sum_of_pieces(iter(lambda: stream.read(PIECE), b""), size, progress, "proving the image", method)


def sum_of_pieces(
    pieces: Iterable[bytes | memoryview], size: int, progress: Progress, stage: str, method: str = "sha256"
) -> str:
    """Return the sum of pieces that are read while earlier ones are counted. `size` and `stage` are for `progress`."""
    done = 0
    with closing(Summing(method=method, waiting=_SOON)) as summing:
        for piece in pieces:
            summing.update(bytes(piece))
            done += len(piece)
            progress(stage, done, max(size, done))
        return summing.hexdigest()


class Summing:
    """A sum of bytes in order, taken in a thread of its own; whoever keeps them gets them too."""

    def __init__(
        self, keep: Callable[[bytes], None] | None = None, *, method: str = "sha256", waiting: int = _WAITING
    ) -> None:
        self._keep = keep
        self._sum = hashlib.new(method, usedforsecurity=False)
        self._queue: queue.Queue[bytes | None] = queue.Queue(waiting)
        self._error: BaseException | None = None
        self._thread: threading.Thread | None = None

    def update(self, data: bytes) -> None:
        """Count the next bytes. Raises what keeping earlier ones ended in."""
        if self._error is not None:
            raise self._error
        if self._thread is None:
            self._thread = threading.Thread(target=self._run, name="sum", daemon=True)
            self._thread.start()
        self._queue.put(data)

    def hexdigest(self) -> str:
        """Return the sum of all bytes so far. Raises what keeping them ended in."""
        self._queue.join()
        if self._error is not None:
            raise self._error
        return self._sum.hexdigest()

    def close(self) -> None:
        """End the thread."""
        if self._thread is not None:
            self._queue.put(None)
            self._thread = None

    def _run(self) -> None:
        while (data := self._queue.get()) is not None:
            try:
                if self._error is None:
                    self._sum.update(data)
                    if self._keep is not None:
                        self._keep(data)
            except BaseException as error:  # noqa: BLE001 - raised again for whoever counts
                self._error = error
            finally:
                self._queue.task_done()
        self._queue.task_done()
