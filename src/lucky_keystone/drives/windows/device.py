"""A whole drive of Windows, opened past the system's cache, its volumes locked while it is written."""

from __future__ import annotations

from contextlib import suppress

from ...common.errors import NoRights, ProtectError
from ...common.os_errors import Trouble, trouble
from ..drive import Drive, Hardware
from ..failures import doing, failure
from ..sectors import SectorDevice
from . import records
from .find import ANSWER, WindowsFinder, path_of
from .locks import RIGHTS, VolumeLocks
from .records import DiskGeometryEx
from .system import WindowsSystem

_SIGNATURE = slice(510, 512)
"""Where a master boot record ends with 55 AA."""


class WindowsDevice(SectorDevice):
    """An open drive. Whoever clears or writes its table has Windows told of it, whatever else fails."""

    def __init__(self, drive: Drive, locks: VolumeLocks, system: WindowsSystem, *, write: bool) -> None:
        self._locks, self._system = locks, system
        self._claim: int | None = None
        self._table_is_gone = self._is_to_look = False
        try:
            self._claim = system.claim(f"{drive.model}|{drive.serial}|{drive.size}") if write else None
            self._handle = system.open(str(drive.path), read=True, write=write)
        except OSError as error:
            self._give_up_claim()
            if trouble(error) is Trouble.DENIED:
                raise NoRights(f"{drive.path}: permission denied.", advice=RIGHTS) from error
            if trouble(error) is Trouble.IN_USE:
                raise ProtectError(
                    f"{drive.path} is in use by another program.", advice="Close that program, or wait for its end."
                ) from error
            raise failure(error, f"{drive.path}, opening", advice="List the drives again.") from error
        try:
            with doing(f"{drive.path}, asking for its size"):
                geometry = DiskGeometryEx.unpack(
                    system.control(self._handle, records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX, b"", ANSWER)
                )
        except BaseException:
            system.close(self._handle)
            self._give_up_claim()
            raise
        super().__init__(f"{drive.tag} ({drive.path})", geometry.disk_size, geometry.bytes_per_sector)

    def identity(self) -> Hardware:
        """Ask the very handle for its number, and what the system says of that."""
        with doing(f"{self.place}, asking for its number"):
            answer = self._system.control(self._handle, records.IOCTL_STORAGE_GET_DEVICE_NUMBER, b"", ANSWER)
        path = path_of(records.StorageDeviceNumber.unpack(answer).device_number)
        drives = WindowsFinder(self._system, self._locks.volumes).drives()
        drive = next((drive for drive in drives if drive.path == path), None)
        if drive is None:
            raise ProtectError(f"{self.place} is no longer a drive of this computer.", advice="List the drives again.")
        return Hardware(drive.model, drive.serial, self.size, self.sector_size)

    def look_at_table(self) -> str:
        """Let Windows look at the table; return in words what came of it."""
        self._table_is_gone = self._is_to_look = False
        try:
            self._system.control(self._handle, records.IOCTL_DISK_UPDATE_PROPERTIES, b"", 0)
        except OSError as error:
            return (
                f"The system did not look at the new table ({error.strerror}): unplug the drive and plug it in again."
            )
        return "The system has read the new table."

    def _read_sectors(self, view: memoryview, offset: int) -> int:
        return self._system.read(self._handle, view, offset)

    def _write_sectors(self, data: memoryview, offset: int) -> int:
        if offset < self.sector_size:
            # Windows keeps to the table it knows: volumes that are no more would be mounted and written to.
            # Of a table that is gone it hears at once, of a new one when all that belongs to it is there.
            self._is_to_look, self._table_is_gone = True, bytes(data[_SIGNATURE]) != b"\x55\xaa"
        return self._system.write(self._handle, data, offset)

    def _flush(self) -> None:
        self._system.flush(self._handle)
        if self._table_is_gone:
            self.look_at_table()

    def close(self) -> None:
        """Close the drive, and give its volumes back."""
        try:
            if self._is_to_look:
                with suppress(OSError):
                    self.look_at_table()
        finally:
            self._system.close(self._handle)
            self._give_up_claim()
            self._locks.release()

    def _give_up_claim(self) -> None:
        if self._claim is not None:
            self._system.close(self._claim)
            self._claim = None
