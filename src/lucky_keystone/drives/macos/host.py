"""A Mac behind the seam that every host has."""

from __future__ import annotations

import errno
import re
import struct
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from ...common.errors import DriveError, NoRights, ProtectError
from ...common.notes import note
from ..drive import Drive, Hardware
from ..failures import doing, failure
from ..host import Handle, Span
from ..medium import OpenMedium
from ..optical import OpticalDrive
from ..sectors import SectorDevice
from .find import MacFinder
from .system import DKIOCGETBLOCKCOUNT, DKIOCGETBLOCKSIZE, DKIOCSYNCHRONIZECACHE, MacSystem, RealMac

_RIGHTS = (
    "Run the same command with sudo in front of it; if that is not enough, allow the terminal 'Full Disk Access' "
    "in the system settings under Privacy & Security."
)


_PAUSES = (0.3, 0.7, 1.5, 3.0)
"""Seconds between attempts to unmount."""
_HOLDER = re.compile(r"dissented by (?:PID|process) (\d+)(?: \(([^)]+)\))?")
_NO_SUCH_ORDER = (errno.ENOTSUP, errno.ENOTTY, errno.EOPNOTSUPP)
"""What bridges answer that do not know an order."""


class MacHost:
    """Answers every question from what the system says at that moment."""

    def __init__(self, system: MacSystem | None = None) -> None:
        self._system = system or RealMac()

    def drives(self) -> tuple[Drive, ...]:
        return MacFinder(self._system).drives()

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        """None: on this system they are not listed; a disc is named by its device."""
        return ()

    def disc(self, path: Path) -> None:
        """Discs are read as the files that their devices are."""

    def disks_below(self, path: Path) -> frozenset[Path]:
        return MacFinder(self._system).disk_of(path)

    def open(self, drive: Drive, *, write: bool) -> Handle:
        return MacDevice(drive, self._system, write=write)

    def unmount(self, drive: Drive) -> None:
        """Unmount the whole disk; nothing is forced. Who looks at a new volume holds it for a moment."""
        for pause in (*_PAUSES, 0.0):
            try:
                self._system.run("diskutil", "unmountDisk", str(drive.path))
            except OSError as error:
                if pause:
                    time.sleep(pause)
                    continue
                holder = _HOLDER.search(error.strerror or "")
                who = f"{holder[2] or 'a program'} (process {holder[1]}) has it in use" if holder else error.strerror
                raise ProtectError(
                    f"Drive {drive.tag} could not be unmounted: {who}.",
                    advice="Close what is open on it, then try again.",
                ) from error
            return

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        return "The system looks at the new table when the drive is closed."

    def eject(self, drive: Drive) -> str:
        try:
            self._system.run("diskutil", "eject", str(drive.path))
        except OSError as error:
            raise DriveError(
                f"Drive {drive.tag} could not be ejected: {error.strerror}.", advice="Eject it in the Finder."
            ) from error
        return "Safe to unplug."


class MacDevice(SectorDevice):
    """A raw disk node: reading and writing pass by the system's cache."""

    def __init__(self, drive: Drive, system: MacSystem, *, write: bool) -> None:
        self._system, self._told = system, False
        raw = drive.path.with_name("r" + drive.path.name)
        try:
            self._descriptor = system.open(raw, write=write)
        except OSError as error:
            if error.errno in (errno.EACCES, errno.EPERM):
                raise NoRights(f"{raw}: permission denied.", advice=_RIGHTS) from error
            if error.errno in (errno.EBUSY, errno.EAGAIN):
                raise ProtectError(
                    f"{raw} is in use by the system or another program.", advice="Unmount it, or add --unmount."
                ) from error
            raise failure(error, f"{raw}, opening", advice="List the drives again.") from error
        try:
            with doing(f"{raw}, asking for its size"):
                sector = struct.unpack("<I", system.control(self._descriptor, DKIOCGETBLOCKSIZE, 4))[0]
                count = struct.unpack("<Q", system.control(self._descriptor, DKIOCGETBLOCKCOUNT, 8))[0]
        except BaseException:
            system.close(self._descriptor)
            raise
        super().__init__(f"{drive.tag} ({raw})", sector * count, sector)

    def identity(self) -> Hardware:
        """Look for the drive whose node has this handle's number."""
        number = self._system.node_number(self._descriptor)
        for drive in MacFinder(self._system).drives():
            with suppress(OSError):
                if self._system.node_number(drive.path.with_name("r" + drive.path.name)) == number:
                    return Hardware(drive.model, drive.serial, self.size, self.sector_size)
        raise ProtectError(f"{self.place} is no longer a drive of this computer.", advice="List the drives again.")

    def _read_sectors(self, view: memoryview, offset: int) -> int:
        return self._system.read_into(self._descriptor, view, offset)

    def _write_sectors(self, data: memoryview, offset: int) -> int:
        return self._system.write(self._descriptor, data, offset)

    def _flush(self) -> None:
        try:
            self._system.control(self._descriptor, DKIOCSYNCHRONIZECACHE, 0)
        except OSError as error:
            if error.errno not in _NO_SUCH_ORDER:
                raise
            if not self._told:  # it is still read back, past the cache of the system
                note(f"{self.place} cannot be told to flush its cache: eject it before you unplug it.")
            self._told = True

    def close(self) -> None:
        self._system.close(self._descriptor)
