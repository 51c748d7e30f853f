"""A Linux computer behind the seam that every host has."""

from __future__ import annotations

import ctypes
import errno
import os
from collections.abc import Sequence
from pathlib import Path

from ...common.errors import DriveError, NoRights, ProtectError
from ..drive import Drive
from ..host import Handle, Span
from ..medium import OpenMedium
from ..optical import OpticalDrive
from .device import LinuxDevice, release
from .find import LinuxFinder


class LinuxHost:
    """Answers every question from what the kernel says at that moment."""

    def __init__(self, root: Path = Path("/")) -> None:
        self._root = root

    def drives(self) -> tuple[Drive, ...]:
        return LinuxFinder(self._root).drives()

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        return LinuxFinder(self._root).optical_drives()

    def disc(self, path: Path) -> None:
        """Discs are read as the files that their devices are."""

    def disks_below(self, path: Path) -> frozenset[Path]:
        try:
            found = path.resolve().stat()
        except OSError:
            return frozenset()
        number = found.st_rdev if path.is_block_device() else found.st_dev
        return LinuxFinder(self._root).disks_holding(f"{os.major(number)}:{os.minor(number)}", str(path.resolve()))

    def open(self, drive: Drive, *, write: bool) -> Handle:
        return LinuxDevice(drive, LinuxFinder(self._root), write=write)

    def unmount(self, drive: Drive) -> None:
        """umount2(2) for every mount point, the innermost first."""
        call = ctypes.CDLL(None, use_errno=True).umount2
        for point in sorted(drive.mounts, key=len, reverse=True):
            if call(os.fsencode(point), 0) == 0:
                continue
            number = ctypes.get_errno()
            if number == errno.EPERM:
                raise NoRights(
                    f"{point}: permission to unmount it is denied.",
                    advice="Run the same command with sudo in front of it.",
                )
            if number == errno.EBUSY:
                raise ProtectError(
                    f"{point} is in use by a program, so drive {drive.tag} cannot be unmounted.",
                    advice="Close what is open there (files, terminals, file managers), then try again.",
                )
            raise DriveError(f"{point} could not be unmounted: {os.strerror(number)}.", advice="Unmount it by hand.")

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        return handle.read_table_again(partitions) if isinstance(handle, LinuxDevice) else ""

    def eject(self, drive: Drive) -> str:
        return release(drive, self._root / "sys/block")
