"""Bytes at any offset over a device that takes whole sectors at whole sectors only."""

from __future__ import annotations

import mmap
from contextlib import AbstractContextManager
from typing import Self

from ..common.errors import DriveGone
from ..common.later import np
from ..content.contents import BLOCK
from .failures import doing

_PIECE = 1 << 20


class SectorDevice:
    """Base of the devices of every system. A subclass moves whole sectors; this class does the rest.

    `place` names the drive in messages. Reading may start and end anywhere, writing must be of whole sectors: a part
    of one would have to be read first, and then it would not be we who decide what the drive holds.
    """

    def __init__(self, place: str, size: int, sector_size: int) -> None:
        self.place, self.size, self.sector_size = place, size, sector_size
        self._bounce = memoryview(mmap.mmap(-1, _PIECE))  # starts at a page of memory, as direct reading wants it
        self._zeros = memoryview(mmap.mmap(-1, BLOCK))

    # -- what a system supplies ----------------------------------------------------------------------------------

    def _read_sectors(self, view: memoryview, offset: int) -> int:
        """Read whole sectors into `view`, which starts at a page of memory; return the bytes that came."""
        raise NotImplementedError

    def _write_sectors(self, data: memoryview, offset: int) -> int:
        """Write whole sectors; return the bytes taken."""
        raise NotImplementedError

    def _flush(self) -> None:
        raise NotImplementedError

    def forget_cache(self) -> None:
        """Nothing to do where reading never meets a cache."""

    def close(self) -> None:
        raise NotImplementedError

    # -- reading -------------------------------------------------------------------------------------------------

    def readinto_at(self, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`."""
        sector = self.sector_size
        done = 0
        while done < len(view):
            at = offset + done
            start = at // sector * sector
            whole = (len(view) - done) // sector * sector
            if start == at and whole and _starts_at_page(view[done:]):
                done += self._read(view[done : done + whole], at)
                continue
            end = min(-(-(offset + len(view)) // sector) * sector, start + _PIECE)
            got = self._read(self._bounce[: end - start], start)
            piece = self._bounce[at - start : min(got, offset + len(view) - start)]
            view[done : done + len(piece)] = piece
            done += len(piece)

    def _read(self, view: memoryview, offset: int) -> int:
        with self._doing("reading", offset):
            got = self._read_sectors(view, offset) if offset < self.size else 0
        if got <= 0:
            raise DriveGone(
                f"{self.place}: nothing can be read from byte {offset} on.", advice="Plug the drive in again."
            )
        return got

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes."""
        buffer = bytearray(size)
        self.readinto_at(offset, memoryview(buffer))
        return bytes(buffer)

    # -- writing -------------------------------------------------------------------------------------------------

    def write_at(self, offset: int, data: memoryview) -> None:
        """Write all of `data`: whole sectors, within the drive."""
        if offset % self.sector_size or len(data) % self.sector_size or offset + len(data) > self.size:
            raise AssertionError(
                f"write of {len(data)} bytes at {offset} on {self.size} in sectors of {self.sector_size}"
            )
        while data:
            piece = data
            if not _starts_at_page(data):
                piece = self._bounce[: min(len(data), _PIECE)]
                piece[:] = data[: len(piece)]
            with self._doing("writing", offset):
                done = self._write_sectors(piece, offset)
            if done <= 0:
                raise DriveGone(f"{self.place}: takes nothing at byte {offset}.", advice="Plug the drive in again.")
            data, offset = data[done:], offset + done

    def write_zeros(self, offset: int, size: int) -> None:
        """Make bytes zero by writing them."""
        piece = len(self._zeros)
        for at in range(offset, offset + size, piece):
            self.write_at(at, self._zeros[: min(piece, offset + size - at)])

    def flush(self) -> None:
        """Return when everything written is on the medium."""
        with self._doing("flushing", 0):
            self._flush()

    def _doing(self, what: str, offset: int) -> AbstractContextManager[None]:
        return doing(f"{self.place}, {what} at byte {offset}")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _starts_at_page(view: memoryview) -> bool:
    """True when the buffer lies where direct reading and writing want it."""
    return int(np.frombuffer(view, np.uint8).ctypes.data) % mmap.PAGESIZE == 0
