"""One long answer read ahead of whoever needs its bytes, and asked for again from where it broke."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable

from .answers import Passing
from .blocks import BlockSums
from .patience import Patience
from .ranges import GRANULE, Ranges

_PIECE = 4 * GRANULE
_AHEAD = 16 << 20
"""Bytes that may wait to be taken."""
Admit = Callable[[int, bytes], None]
"""Called with every piece (offset, bytes) before it is given out; raises SourceError for one that is not right."""


class Stream:
    """The bytes of a file from one of them on, each given out once."""

    def __init__(
        self, ranges: Ranges, at: int, admit: Admit, patience: Patience, blocks: BlockSums | None = None
    ) -> None:
        """Read from byte `at`, where a granule begins, and a block where there are sums of `blocks`."""
        self._blocks, self._held = blocks, bytearray()
        self._ranges, self._admit, self._patience = ranges, admit, patience
        self.position = at
        """The byte that is given out next."""
        self.arrived = at
        """The byte that comes from the server next."""
        self._waiting: deque[memoryview] = deque()
        self._size = 0
        self._error: BaseException | None = None
        self._stopped = False
        self._changed = threading.Condition()
        self._taking = threading.Lock()
        threading.Thread(target=self._run, name="download", daemon=True).start()

    def take(self, offset: int, view: memoryview) -> bool:
        """Fill `view` from byte `offset`, passing over what comes before.

        False where that is gone already, or the stream was stopped. Raises SourceError.
        """
        with self._taking:
            if offset < self.position:
                return False
            while self.position < offset:
                piece = self._next(offset - self.position)
                if piece is None:
                    return False
                self.position += len(piece)
            done = 0
            while done < len(view):
                piece = self._next(len(view) - done)
                if piece is None:
                    return False
                view[done : done + len(piece)] = piece
                done += len(piece)
                self.position += len(piece)
            return True

    def stop(self) -> None:
        """End; whoever waits for bytes is told."""
        with self._changed:
            self._stopped = True
            self._waiting.clear()
            self._changed.notify_all()

    def _next(self, most: int) -> memoryview | None:
        """Return the next bytes, `most` at most; None after `stop`."""
        with self._changed:
            while not self._waiting:
                if self._stopped:
                    return None
                if self._error is not None:
                    raise self._error
                self._changed.wait()
            piece = self._waiting[0]
            if len(piece) > most:
                self._waiting[0] = piece[most:]
                piece = piece[:most]
            else:
                self._waiting.popleft()
            self._size -= len(piece)
            self._changed.notify_all()
            return piece

    # -- the thread that downloads -----------------------------------------------------------------------------------

    def _run(self) -> None:
        try:
            while self.arrived < self._ranges.size and not self._stopped:
                try:
                    self._connection()
                except Passing as passing:
                    self.arrived -= len(self._held)  # a block that broke off is asked for as a whole
                    self._held = bytearray()
                    if not self._stopped:
                        self._patience.wait(passing, self.arrived, f"{self.arrived:,} bytes were read")
        except BaseException as error:  # noqa: BLE001 - raised again in the thread that waits for bytes
            with self._changed:
                self._error = error
                self._changed.notify_all()

    def _connection(self) -> None:
        until = self._ranges.until(self.arrived)
        body = self._ranges.open(self.arrived, until)
        try:
            while (left := until - self.arrived) and not self._stopped:
                data = body.read(min(_PIECE - self.arrived % _PIECE, left))
                if len(data) < left:  # what is admitted ends where a granule does
                    data = data[: len(data) - (self.arrived + len(data)) % GRANULE]
                if not data:
                    raise Passing("the connection ended early")
                if self._blocks is None:
                    self._admit(self.arrived, data)
                    self._give(data)
                else:
                    self._hold(self._blocks, data)
        finally:
            body.close()

    def _hold(self, blocks: BlockSums, data: bytes) -> None:
        """Keep bytes back until their block is whole, and has its sum. Raises Passing for one that has not."""
        self._held += data
        self.arrived += len(data)
        if self.arrived % blocks.block_size and self.arrived < self._ranges.size:
            return
        whole, self._held = bytes(self._held), bytearray()
        start = self.arrived - len(whole)
        self.arrived = start
        if not blocks.is_right(start // blocks.block_size, whole):
            raise Passing(f"the bytes from {start:,} on do not have the sum that the catalogue names")
        for at in range(0, len(whole), _PIECE):
            piece = whole[at : at + _PIECE]
            self._admit(self.arrived, piece)
            self._give(piece)

    def _give(self, data: bytes) -> None:
        with self._changed:
            while self._size >= _AHEAD and not self._stopped:
                self._changed.wait()
            if not self._stopped:
                self._waiting.append(memoryview(data))
                self._size += len(data)
                self.arrived += len(data)
            self._changed.notify_all()
