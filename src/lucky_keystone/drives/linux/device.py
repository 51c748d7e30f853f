"""A block device of Linux, opened past the cache, exclusively and locked."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import struct
from collections.abc import Sequence
from pathlib import Path

from ...common import positional
from ...common.errors import DriveError, NoRights, ProtectError
from ..drive import Drive, Hardware
from ..failures import doing, failure
from ..host import Span
from ..sectors import SectorDevice
from .find import LinuxFinder

# <linux/fs.h>, <linux/blkpg.h>, <linux/cdrom.h>, <linux/loop.h>
_BLKRRPART = 0x125F
_BLKFLSBUF = 0x1261
_BLKPG = 0x1269
_BLKSSZGET = 0x1268
_BLKGETSIZE64 = 0x8008_1272
_CDROMEJECT = 0x5309
_LOOP_CLR_FD = 0x4C01
_BLKPG_ADD_PARTITION, _BLKPG_DEL_PARTITION = 1, 2
_MOST_PARTITIONS = 16

_RIGHTS = (
    "Run the same command with sudo in front of it: opening a drive itself needs that. Listing and planning do not."
)


class LinuxDevice(SectorDevice):
    """An open block device. For writing, nobody else may hold it, mount it or look at it meanwhile."""

    def __init__(self, drive: Drive, finder: LinuxFinder, *, write: bool) -> None:
        self._finder = finder
        self._descriptor = _open(drive.path, write=write)
        try:
            with doing(f"{drive.path}, asking for its size"):
                size = struct.unpack("<Q", fcntl.ioctl(self._descriptor, _BLKGETSIZE64, bytes(8)))[0]
                sector = struct.unpack("<I", fcntl.ioctl(self._descriptor, _BLKSSZGET, bytes(4)))[0]
        except BaseException:
            os.close(self._descriptor)
            raise
        super().__init__(f"{drive.tag} ({drive.path})", size, sector)

    def identity(self) -> Hardware:
        """Look up what the kernel says of the device behind this handle, by its number and not by its name."""
        number = os.fstat(self._descriptor).st_rdev
        drive = self._finder.drive_numbered(f"{os.major(number)}:{os.minor(number)}")
        if drive is None:
            raise ProtectError(f"{self.place} is no longer a drive of this computer.", advice="List the drives again.")
        return Hardware(drive.model, drive.serial, self.size, self.sector_size)

    def _read_sectors(self, view: memoryview, offset: int) -> int:
        return positional.read_into(self._descriptor, view, offset)

    def _write_sectors(self, data: memoryview, offset: int) -> int:
        return positional.write(self._descriptor, data, offset)

    def _flush(self) -> None:
        os.fsync(self._descriptor)  # reaches through to the drive's own cache

    def close(self) -> None:
        os.close(self._descriptor)

    # -- after writing -------------------------------------------------------------------------------------------

    def read_table_again(self, partitions: Sequence[Span]) -> str:
        """Let the kernel parse the new table; where it has no parser for this device, tell it of each partition."""
        try:
            fcntl.ioctl(self._descriptor, _BLKRRPART)
            return "The system has read the new table."
        except OSError as error:
            if error.errno == errno.EBUSY:
                return "The system still holds the old table: unplug the drive and plug it in again."
        answer = 0
        for number in range(1, _MOST_PARTITIONS + 1):
            _partition(self._descriptor, _BLKPG_DEL_PARTITION, Span(number, 0, 0))
        for partition in partitions:
            answer += _partition(self._descriptor, _BLKPG_ADD_PARTITION, partition)
        if answer == len(partitions):
            named = f"{answer} partition{'s' if answer != 1 else ''}"
            return f"The system was told about {named} individually, because it cannot parse the table itself."
        return "The system cannot parse the table of this device; other computers can."


def _partition(descriptor: int, action: int, span: Span) -> bool:
    """<linux/blkpg.h>: struct blkpg_ioctl_arg with its struct blkpg_partition."""
    record = ctypes.create_string_buffer(struct.pack("<qqi64s64s4x", span.offset, span.size, span.number, b"", b""))
    argument = struct.pack("<iii4xQ", action, 0, len(record.raw) - 1, ctypes.addressof(record))
    try:
        fcntl.ioctl(descriptor, _BLKPG, argument)
    except OSError:
        return False
    return True


def _open(path: Path, *, write: bool) -> int:
    """Open the whole disk: O_EXCL on a block device refuses one that is mounted or held; the lock keeps udev away."""
    flags = (os.O_RDWR | os.O_EXCL) if write else os.O_RDONLY
    try:
        descriptor = os.open(path, flags | os.O_DIRECT | os.O_CLOEXEC)
    except PermissionError as error:
        raise NoRights(f"{path}: permission denied.", advice=_RIGHTS) from error
    except OSError as error:
        if error.errno == errno.EBUSY:
            raise ProtectError(
                f"{path} is in use by the system or another program.", advice="Unmount it, or add --unmount."
            ) from error
        if error.errno == errno.EROFS:
            raise ProtectError(
                f"{path} is read-only.", advice="Check for a write-protect switch on the stick or card."
            ) from error
        raise failure(error, f"{path}, opening", advice="List the drives again.") from error
    if write:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(descriptor)
            raise ProtectError(f"{path} is in use by another program.", advice="Wait until it has finished.") from error
    return descriptor


def release(drive: Drive, sys_block: Path) -> str:
    """Make a drive ready to be pulled out."""
    with doing(f"{drive.path}, opening to eject"):
        descriptor = os.open(drive.path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        fcntl.ioctl(descriptor, _BLKFLSBUF)
        if drive.bus == "loop":
            for number in range(1, _MOST_PARTITIONS + 1):  # those it was described one by one would stay behind
                _partition(descriptor, _BLKPG_DEL_PARTITION, Span(number, 0, 0))
            fcntl.ioctl(descriptor, _LOOP_CLR_FD)
            return "It is released: the loop device is free again."
        fcntl.ioctl(descriptor, _CDROMEJECT)
        return "Safe to unplug."
    except OSError:
        pass
    finally:
        os.close(descriptor)
    switch = sys_block / drive.path.name / "device/delete"
    try:
        switch.write_text("1")
    except OSError as error:
        raise DriveError(
            f"Drive {drive.tag} could not be ejected: {error.strerror}.",
            advice="Everything is on it: wait for its light, then pull it.",
        ) from error
    return "It is switched off: safe to unplug."
