"""The sum of an image, taken beside everything else in a thread of its own: it is the slowest step of all."""

from __future__ import annotations

import hashlib
import os
import queue
import threading
from collections.abc import Callable
from pathlib import Path

from ..common.errors import SourceError, naming
from ..common.progress import Progress

_WAITING = 64
"""Pieces that may wait to be counted."""
_PIECE = 1 << 20


def file_sum(path: Path, progress: Progress, method: str = "sha256") -> str:
    """Return the SHA-256, or another sum, of a whole file. Raises SourceError where it cannot be read."""
    digest, done = hashlib.new(method, usedforsecurity=False), 0
    with naming(str(path), SourceError), path.open("rb") as stream:
        size = os.fstat(stream.fileno()).st_size
        while piece := stream.read(_PIECE):
            digest.update(piece)
            done += len(piece)
            progress("proving the image", done, max(size, done))
    return digest.hexdigest()


class Summing:
    """SHA-256 of bytes in order; whoever keeps them gets them too."""

    def __init__(self, keep: Callable[[bytes], None] | None = None) -> None:
        self._keep = keep
        self._sum = hashlib.sha256()
        self._queue: queue.Queue[bytes | None] = queue.Queue(_WAITING)
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
