"""A Windows computer behind the seam that every host has."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from ...errors import DriveError, NoRights, NotYet, ProtectError
from ...record import RecordError
from ...units import shown_size
from ..drive import Drive, Hardware
from ..failures import doing, failure
from ..host import Handle, Span
from ..medium import OpenMedium
from ..optical import OpticalDrive
from ..sectors import SectorDevice
from . import records
from .records import (
    DiskExtent,
    DiskGeometryEx,
    PartitionInformationEx,
    StorageAccessAlignmentDescriptor,
    StorageDeviceDescriptor,
)
from .system import WindowsSystem

_MOST_DRIVES = 64
_ANSWER = 4096  # bytes; more than any of these answers has
_EXTERNAL = ("USB", "SD card", "FireWire", "disk image")
_DENIED, _SHARING, _WRITE_PROTECTED = 5, 32, 19
_RIGHTS = (
    "Open a terminal with 'Run as administrator' and run the same command there. Listing and planning need no rights."
)
_MEMBERS = {
    bytes.fromhex("8faf5ce780f6ee4cafa3b001e56efc2d"): "a storage pool",  # E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D
    bytes.fromhex("a0609baf3114624fbc683311714a69ad"): "a dynamic disk group",  # AF9B60A0-1431-4F62-BC68-3311714A69AD
}


@dataclass(frozen=True)
class _Volume:
    name: str
    disks: tuple[int, ...]
    points: tuple[str, ...]
    label: str
    kind: str
    size: int


class WindowsHost:
    """Answers every question from what the system says at that moment; keeps the volumes it has locked."""

    def __init__(self, system: WindowsSystem | None = None) -> None:
        if system is None:
            if sys.platform == "win32":
                from .system import RealWindows

                system = RealWindows()
            else:
                raise NotYet("This is not a Windows computer.")
        self._system = system
        self._locked: dict[str, tuple[int, _Volume]] = {}
        """Name to handle and what was described the volume before: a locked one tells nothing any more."""

    # -- finding -------------------------------------------------------------------------------------------------

    def drives(self) -> tuple[Drive, ...]:
        volumes = [self._volume(name) for name in self._system.volumes()]
        found = (self._drive(number, volumes) for number in range(_MOST_DRIVES))
        return tuple(drive for drive in found if drive is not None)

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        """None: on this system they are not listed; a disc is named by its device."""
        return ()

    def disks_below(self, path: Path) -> frozenset[Path]:
        """The drives of the volume that `path` lies on: the one with the longest mount point that it starts with."""
        text = str(path).upper()
        if text.startswith("\\\\.\\"):
            return frozenset({path})
        volumes = [self._volume(name) for name in self._system.volumes()]
        fitting = [
            (len(point), volume) for volume in volumes for point in volume.points if text.startswith(point.upper())
        ]
        return (
            frozenset(_path(number) for number in max(fitting, key=lambda pair: pair[0])[1].disks)
            if fitting
            else frozenset()
        )

    def _drive(self, number: int, volumes: Sequence[_Volume]) -> Drive | None:
        try:
            with self._asking(str(_path(number))) as handle:
                described = self._query(handle, 0)
                descriptor = StorageDeviceDescriptor.unpack(described)
                geometry = DiskGeometryEx.unpack(
                    self._system.control(handle, records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX, b"", _ANSWER)
                )
                read_only = not self._is_writable(handle)
                physical = self._physical_sector(handle, geometry.bytes_per_sector)
        except (OSError, RecordError):
            return None
        own = [volume for volume in volumes if number in volume.disks]
        system = self._system.windows_folder().upper()
        bus = records.BUSES.get(descriptor.bus_type, "not known")
        vendor, product = _text(described, descriptor.vendor_id_offset), _text(described, descriptor.product_id_offset)
        return Drive(
            path=_path(number),
            model=" ".join(word for word in (vendor, product) if word) or f"drive {number}",
            serial=_text(described, descriptor.serial_number_offset),
            size=geometry.disk_size,
            sector_size=geometry.bytes_per_sector,
            bus=bus,
            speed="",
            removable=bool(descriptor.removable_media),
            internal=bus not in _EXTERNAL and not descriptor.removable_media,
            holds_system=any(system.startswith(point.upper()) for volume in own for point in volume.points),
            read_only=read_only,
            mounts=tuple(point for volume in own if volume.name not in self._locked for point in volume.points),
            members=self._members(number),
            volumes=tuple(
                f"{v.kind or 'not known'} {repr(v.label) + ' ' if v.label else ''}{shown_size(v.size)}" for v in own
            ),
            physical_sector_size=physical,
        )

    def _volume(self, name: str) -> _Volume:
        if name in self._locked:
            return self._locked[name][1]
        disks: list[DiskExtent] = []
        with suppress(OSError, RecordError), self._asking(name) as handle:
            answer = self._system.control(handle, records.IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS, b"", _ANSWER)
            count = min(int.from_bytes(answer[:4], "little"), (len(answer) - records.FIRST_EXTENT) // DiskExtent.SIZE)
            disks = [
                DiskExtent.unpack(answer, records.FIRST_EXTENT + index * DiskExtent.SIZE) for index in range(count)
            ]
        label, kind = self._system.volume_texts(name)
        size = sum(extent.extent_length for extent in disks)
        return _Volume(
            name, tuple(e.disk_number for e in disks), tuple(self._system.mount_points(name)), label, kind, size
        )

    def _members(self, number: int) -> tuple[str, ...]:
        """Needs permission to read.

        Without it what the drive is a member of is unknown, and opening it fails anyway.
        """
        try:
            handle = self._system.open(str(_path(number)), read=True, write=False)
        except OSError:
            return ()
        try:
            answer = self._system.control(handle, records.IOCTL_DISK_GET_DRIVE_LAYOUT_EX, b"", 32 << 10)
        except OSError:
            return ()
        finally:
            self._system.close(handle)
        count = min(
            int.from_bytes(answer[4:8], "little"),
            (len(answer) - records.FIRST_PARTITION) // PartitionInformationEx.SIZE,
        )
        kinds = [
            PartitionInformationEx.unpack(answer, records.FIRST_PARTITION + index * PartitionInformationEx.SIZE)
            for index in range(max(count, 0))
        ]
        found = [_MEMBERS[part.kind] for part in kinds if part.partition_style == 1 and part.kind in _MEMBERS]
        found += ["a dynamic disk group" for part in kinds if part.partition_style == 0 and part.kind[0] == 0x42]
        return tuple(dict.fromkeys(f"carries a member of {member}" for member in found))

    def _query(self, handle: int, which: int) -> bytes:
        query = records.StoragePropertyQuery(property_id=which).pack()
        return self._system.control(handle, records.IOCTL_STORAGE_QUERY_PROPERTY, query, _ANSWER)

    def _physical_sector(self, handle: int, logical: int) -> int:
        try:
            return StorageAccessAlignmentDescriptor.unpack(self._query(handle, 6)).bytes_per_physical_sector or logical
        except (OSError, RecordError):  # older systems and some readers do not tell
            return logical

    def _is_writable(self, handle: int) -> bool:
        try:
            self._system.control(handle, records.IOCTL_DISK_IS_WRITABLE, b"", 0)
        except OSError as error:
            return getattr(error, "winerror", 0) != _WRITE_PROTECTED
        return True

    @contextmanager
    def _asking(self, path: str) -> Iterator[int]:
        handle = self._system.open(path, read=False, write=False)
        try:
            yield handle
        finally:
            self._system.close(handle)

    # -- opening and releasing -----------------------------------------------------------------------------------

    def open(self, drive: Drive, *, write: bool) -> Handle:
        if write:
            self._lock_volumes(drive)
        try:
            return WindowsDevice(drive, self, self._system, write=write)
        except BaseException:
            self.release_volumes()
            raise

    def unmount(self, drive: Drive) -> None:
        self._lock_volumes(drive)

    def _lock_volumes(self, drive: Drive) -> None:
        """Lock and dismount every volume of the drive: without that Windows refuses to have its sectors written."""
        for name in self._system.volumes():
            volume = self._volume(name)
            if name in self._locked or not any(_path(number) == drive.path for number in volume.disks):
                continue
            place = ", ".join(volume.points) or name
            try:
                handle = self._system.open(name, read=True, write=True)
                self._locked[name] = handle, volume
                self._system.control(handle, records.FSCTL_LOCK_VOLUME, b"", 0)
                self._system.control(handle, records.FSCTL_DISMOUNT_VOLUME, b"", 0)
            except OSError as error:
                opened = name in self._locked
                self.release_volumes()
                if getattr(error, "winerror", 0) == _DENIED and not opened:
                    raise NoRights(f"{place}: permission to lock it is denied.", advice=_RIGHTS) from error
                raise ProtectError(
                    f"{place} on drive {drive.tag} is in use by a program.",
                    advice="Close what is open on it, then try again.",
                ) from error

    def release_volumes(self) -> None:
        """Give every locked volume back to the system."""
        for handle, _ in self._locked.values():
            self._system.close(handle)
        self._locked.clear()

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        if not isinstance(handle, WindowsDevice):
            return ""
        return handle.read_table_again()

    def eject(self, drive: Drive) -> str:
        with doing(f"{drive.path}, opening to eject"):
            handle = self._system.open(str(drive.path), read=True, write=False)
        try:
            self._system.control(handle, records.IOCTL_STORAGE_EJECT_MEDIA, b"", 0)
        except OSError as error:
            raise DriveError(
                f"Drive {drive.tag} could not be ejected: {error.strerror}.",
                advice="Everything is on it: use the system's Safely Remove icon.",
            ) from error
        finally:
            self._system.close(handle)
        return "Safe to unplug."


class WindowsDevice(SectorDevice):
    """A whole drive, read and written past the system's cache, its volumes locked while it is written."""

    def __init__(self, drive: Drive, host: WindowsHost, system: WindowsSystem, *, write: bool) -> None:
        self._host, self._system = host, system
        try:
            self._handle = system.open(str(drive.path), read=True, write=write)
        except OSError as error:
            number = getattr(error, "winerror", 0)
            if number == _DENIED:
                raise NoRights(f"{drive.path}: permission denied.", advice=_RIGHTS) from error
            if number == _SHARING:
                raise ProtectError(
                    f"{drive.path} is in use by another program.", advice="Close that program."
                ) from error
            raise failure(error, f"{drive.path}, opening", advice="List the drives again.") from error
        try:
            with doing(f"{drive.path}, asking for its size"):
                geometry = DiskGeometryEx.unpack(
                    system.control(self._handle, records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX, b"", _ANSWER)
                )
        except BaseException:
            system.close(self._handle)
            raise
        super().__init__(f"{drive.tag} ({drive.path})", geometry.disk_size, geometry.bytes_per_sector)

    def identity(self) -> Hardware:
        """Ask the very handle for its number, and what the system says of that."""
        with doing(f"{self.place}, asking for its number"):
            answer = self._system.control(self._handle, records.IOCTL_STORAGE_GET_DEVICE_NUMBER, b"", _ANSWER)
        number = records.StorageDeviceNumber.unpack(answer).device_number
        drive = next((drive for drive in self._host.drives() if drive.path == _path(number)), None)
        if drive is None:
            raise ProtectError(f"{self.place} is no longer a drive of this computer.", advice="List the drives again.")
        return Hardware(drive.model, drive.serial, self.size, self.sector_size)

    def read_table_again(self) -> str:
        """Let Windows look at the new table."""
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
        return self._system.write(self._handle, data, offset)

    def _flush(self) -> None:
        self._system.flush(self._handle)

    def close(self) -> None:
        self._system.close(self._handle)
        self._host.release_volumes()


def _path(number: int) -> Path:
    return Path(f"\\\\.\\PhysicalDrive{number}")


def _text(answer: bytes, offset: int) -> str:
    """Return the text at `offset` of an answer, up to its zero byte.

    Some readers pad it with blanks or leave it out.
    """
    if not 0 < offset < len(answer):
        return ""
    return answer[offset:].split(b"\0", 1)[0].decode("ascii", "replace").strip()
