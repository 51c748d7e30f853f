"""A disc in an optical drive of Windows, or a disk, as a source: its length asked for, its sectors read whole."""

from __future__ import annotations

import mmap
import os
import time
import zlib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from ...common.errors import NoRights
from ...common.os_errors import Trouble, trouble
from ...content.discs import DiscState, no_disc
from ...content.source_file import DEVICE_TRYING, Seen, SourceFile, Trying
from . import records
from .find import ANSWER, disc_size, disc_state
from .records import DiskGeometryEx
from .system import WindowsSystem

_DISC_SECTOR = 2048
_PIECE = 1 << 20
_SPIN_UP = (0.5, 1.0, 1.5, 2.0)
"""Seconds between looks at a drive that is not ready: one that is empty says the same as one that spins up."""


class WindowsDisc(SourceFile):
    """Read at any offset, through whole sectors in a buffer that begins at a page."""

    def __init__(self, path: Path, system: WindowsSystem, sleep: Callable[[float], None] = time.sleep) -> None:
        """Raises SourceError where there is no disc, NoRights for a disk that this user may not read."""
        self._system, self._sleep = system, sleep
        self._sector = _DISC_SECTOR
        self._bounce = memoryview(mmap.mmap(-1, _PIECE))
        super().__init__(path)
        self.trying = Trying(DEVICE_TRYING.tries, DEVICE_TRYING.pause if sleep is time.sleep else 0.0)

    def _examine(self, facts: os.stat_result | None) -> tuple[bool, Seen, int]:
        self._wait()
        try:
            size = disc_size(self._system, self.path)
        except OSError as error:
            if trouble(error) is Trouble.NO_MEDIUM:
                raise no_disc(self.path) from error
            if trouble(error) is Trouble.DENIED:
                raise NoRights(
                    f"{self.path}: permission to read it is denied.",
                    advice="Open a terminal with 'Run as administrator' and run the same command there.",
                ) from error
            raise
        return True, Seen(-1, zlib.crc32(str(self.path).upper().encode()), size, 0), size

    def _wait(self) -> None:
        """Return when there is a disc. Raises SourceError where none is."""
        for pause in (*_SPIN_UP, None):
            handle = self._system.open(str(self.path), read=False, write=False)
            try:
                state = disc_state(self._system, handle)
                with suppress(OSError):
                    answer = self._system.control(handle, records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX, b"", ANSWER)
                    self._sector = DiskGeometryEx.unpack(answer).bytes_per_sector or _DISC_SECTOR
            finally:
                self._system.close(handle)
            if state is not DiscState.NONE:
                return
            if pause is not None:
                self._sleep(pause)
        raise no_disc(self.path)

    def _open(self) -> int:
        return self._system.open(str(self.path), read=True, write=False)

    def _close(self, descriptor: int) -> None:
        self._system.close(descriptor)

    def _seen_now(self, descriptor: int) -> Seen:
        return self._seen

    def _read(self, descriptor: int, view: memoryview, offset: int) -> int:
        start = offset // self._sector * self._sector
        end = min(-(-(offset + len(view)) // self._sector) * self._sector, start + _PIECE)
        got = self._system.read(descriptor, self._bounce[: end - start], start)
        piece = self._bounce[offset - start : min(got, offset - start + len(view))]
        view[: len(piece)] = piece
        return len(piece)
