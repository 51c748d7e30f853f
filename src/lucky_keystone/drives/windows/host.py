"""A Windows computer behind the seam that every host has."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from ...common.errors import DriveError, NotYet, ProtectError
from ...content.source_file import SourceFile
from ...winapi.names import DevicePath, is_device_name, letter_in
from ..drive import Drive
from ..failures import doing
from ..host import Handle, Span
from ..medium import OpenMedium
from ..optical import OpticalDrive
from . import records
from .device import WindowsDevice
from .disc import WindowsDisc
from .find import WindowsFinder, path_of
from .locks import VolumeLocks
from .system import WindowsSystem


class WindowsHost:
    """Answers every question from what the system says at that moment; keeps the volumes it has locked."""

    def __init__(self, system: WindowsSystem | None = None, sleep: Callable[[float], None] = time.sleep) -> None:
        if system is None:
            if sys.platform == "win32":
                from .system import RealWindows

                system = RealWindows()
            else:
                raise NotYet("This is not a Windows computer.")
        self._system, self._sleep = system, sleep
        self._locks: list[VolumeLocks] = []
        """Of the drives that are open for writing."""

    @property
    def _finder(self) -> WindowsFinder:
        kept = {name: volume for locks in self._locks for name, volume in locks.volumes.items()}
        return WindowsFinder(self._system, kept)

    def drives(self) -> tuple[Drive, ...]:
        return self._finder.drives()

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        return tuple(self._finder.optical_drives())

    def disc(self, path: Path) -> SourceFile | None:
        r"""Return what reads a disc, named by its letter or its device, or a disk (\\.\PhysicalDrive2)."""
        text = str(path).rstrip("\\") if is_device_name(str(path)) else str(path)
        letter = letter_in(text)
        device = DevicePath(f"\\\\.\\{letter}") if letter else DevicePath(text) if is_device_name(text) else None
        if device is None:
            return None
        finder = self._finder
        is_optical = False
        with suppress(OSError), finder.asking(device) as handle:
            is_optical = finder.is_optical(handle)
        # A letter without a disc is a folder like any other.
        return WindowsDisc(device, self._system, self._sleep) if is_optical or not letter else None

    def disks_below(self, path: Path) -> frozenset[Path]:
        return frozenset(path_of(number) for number in self._finder.disks_below(path))

    def open(self, drive: Drive, *, write: bool) -> Handle:
        locks = VolumeLocks(self._system, self._sleep)
        if write:
            locks.lock(drive)
            self._locks = [each for each in self._locks if each.volumes] + [locks]
        try:
            return WindowsDevice(drive, locks, self._system, write=write)
        except BaseException:
            locks.release()
            raise

    def unmount(self, drive: Drive) -> None:
        """Dismount the volumes; opening the drive does that too, and keeps them locked."""
        locks = VolumeLocks(self._system, self._sleep)
        locks.lock(drive)
        locks.release()

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        return handle.look_at_table() if isinstance(handle, WindowsDevice) else ""

    def eject(self, drive: Drive) -> str:
        """Lock and dismount what is on the drive, and eject it: only then may it be pulled out at any moment."""
        locks = VolumeLocks(self._system, self._sleep)
        advice = "Everything is on it: use the system's Safely Remove icon before you unplug it."
        try:
            locks.lock(drive)
            self._eject(drive)
        except ProtectError as error:
            raise DriveError(f"Drive {drive.tag} could not be ejected: {error.message}", advice=advice) from error
        except OSError as error:
            raise DriveError(
                f"Drive {drive.tag} could not be ejected: {error.strerror or error}.", advice=advice
            ) from error
        finally:
            locks.release()
        return "Safe to unplug."

    def _eject(self, drive: Drive) -> None:
        """Raises OSError, DriveError."""
        with doing(f"{drive.path}, opening to eject"):
            handle = self._system.open(str(drive.path), read=True, write=False)
        try:
            with suppress(OSError):  # of what is not locked in this way
                self._system.control(handle, records.IOCTL_STORAGE_MEDIA_REMOVAL, b"\0", 0)
            self._system.control(handle, records.IOCTL_STORAGE_EJECT_MEDIA, b"", 0)
        finally:
            self._system.close(handle)
