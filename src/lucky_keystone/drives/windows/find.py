"""Makes drives of what Windows says of its disks and volumes, and places files on them.

What one disk does not answer is left out, or taken as not known; it never hides the others.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from ...common.errors import ProtectError
from ...common.os_errors import Trouble, trouble
from ...common.record import RecordError
from ...common.units import shown_size
from ...content.discs import DiscState
from ...winapi.errors import FILE_NOT_FOUND, PATH_NOT_FOUND, WRITE_PROTECT
from ...winapi.names import DevicePath, is_device_name, letter_in, share_in, volume_in
from ..drive import Drive
from ..optical import OpticalDrive
from . import records
from .records import (
    DiskExtent,
    DiskGeometryEx,
    PartitionInformationEx,
    StorageAccessAlignmentDescriptor,
    StorageDeviceDescriptor,
    StorageDeviceNumber,
)
from .system import WindowsSystem

ANSWER = 4096  # bytes; more than any of these answers has
_LAYOUT = 32 << 10  # bytes; 224 partitions
_MOST_DRIVES = 128
_UNKNOWN = "not known"
_STORAGE_SPACE = 16
_EXTERNAL = ("USB", "SD card", "FireWire", "disk image", "MMC")
_POOL = "a storage pool"
_MEMBERS = {
    bytes.fromhex("8faf5ce780f6ee4cafa3b001e56efc2d"): _POOL,  # E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D
    bytes.fromhex("a0609baf3114624fbc683311714a69ad"): "a dynamic disk group",  # AF9B60A0-1431-4F62-BC68-3311714A69AD
}
_DYNAMIC = 0x42
_ROOT = "\\\\?\\GLOBALROOT"
"""In front of a name of the kernel's own (\\Device\\HarddiskVolume1) it makes one that can be opened."""


class Volume(Struct, frozen=True):
    r"""A volume of this computer; `name` is \\?\Volume{…}."""

    name: str
    disks: tuple[int, ...]
    """Numbers of the drives it lies on; empty where that is not known."""
    points: tuple[str, ...]
    """Letters and folders it is reached by."""
    label: str
    kind: str
    size: int
    is_optical: bool = False

    @property
    def shown(self) -> str:
        """File system, label, size and letter, in words."""
        label = f"'{self.label}' " if self.label else ""
        letters = ", ".join(point.rstrip("\\") for point in self.points)
        return f"{self.kind or _UNKNOWN} {label}{shown_size(self.size)}" + (f" ({letters})" if letters else "")


class WindowsFinder:
    """One listing: what the system says at this moment."""

    def __init__(self, system: WindowsSystem, kept: Mapping[str, Volume] | None = None) -> None:
        """`kept` are volumes as they were before they were locked: of a locked one the system says nothing more."""
        self._system, self._kept = system, kept or {}

    # -- drives --------------------------------------------------------------------------------------------------

    def drives(self) -> tuple[Drive, ...]:
        volumes, with_system = self.volumes(), self._with_system()
        found = {number: drive for number in range(_MOST_DRIVES) if (drive := self._drive(number, volumes)) is not None}
        # Whoever runs pools keeps its data on drives that no volume leads to.
        runs_pools = any(drive.bus == records.BUSES[_STORAGE_SPACE] for drive in found.values())
        return tuple(
            _judged(drive, holds_system=self._holds_system(number, drive, with_system), runs_pools=runs_pools)
            for number, drive in found.items()
        )

    def _drive(self, number: int, volumes: Sequence[Volume]) -> Drive | None:
        try:
            with self.asking(path_of(number)) as handle:
                geometry = DiskGeometryEx.unpack(
                    self._system.control(handle, records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX, b"", ANSWER)
                )
                descriptor, described = self._described(handle)
                writable, members = self._is_writable(handle), self._members(handle)
                physical = self._physical_sector(handle, geometry.bytes_per_sector)
        except (OSError, RecordError):  # it is not there, or nothing is in the card reader
            return None
        if geometry.bytes_per_sector not in (512, 4096) or not geometry.disk_size:
            return None
        own = [volume for volume in volumes if number in volume.disks]
        bus = records.BUSES.get(descriptor.bus_type, _UNKNOWN) if descriptor else _UNKNOWN
        removable = bool(descriptor and descriptor.removable_media)
        vendor, product, serial = (
            (
                _text(described, descriptor.vendor_id_offset),
                _text(described, descriptor.product_id_offset),
                _text(described, descriptor.serial_number_offset),
            )
            if descriptor
            else ("", "", "")
        )
        return Drive(
            path=path_of(number),
            model=" ".join(word for word in (vendor, product) if word) or f"drive {number}",
            serial=serial,
            size=geometry.disk_size,
            sector_size=geometry.bytes_per_sector,
            bus=bus,
            speed="",
            removable=removable,
            internal=bus not in _EXTERNAL and not removable,
            holds_system=False,
            read_only=not writable,
            mounts=(),  # a letter does not mean that anybody uses it: whether something is in use, the lock says
            members=members,
            volumes=tuple(volume.shown for volume in own),
            physical_sector_size=physical,
            letters=tuple(point for volume in own for point in volume.points),
        )

    def _described(self, handle: int) -> tuple[StorageDeviceDescriptor | None, bytes]:
        try:
            answer = self._query(handle, 0)
            return StorageDeviceDescriptor.unpack(answer), answer
        except (OSError, RecordError):
            return None, b""

    def _members(self, handle: int) -> tuple[str, ...]:
        try:
            answer = self._system.control(handle, records.IOCTL_DISK_GET_DRIVE_LAYOUT_EX, b"", _LAYOUT)
            count = min(
                int.from_bytes(answer[4:8], "little"),
                (len(answer) - records.FIRST_PARTITION) // PartitionInformationEx.SIZE,
            )
            kinds = [
                PartitionInformationEx.unpack(answer, records.FIRST_PARTITION + index * PartitionInformationEx.SIZE)
                for index in range(max(count, 0))
            ]
        except (OSError, RecordError):
            return ()
        found = [_MEMBERS[part.kind] for part in kinds if part.partition_style == 1 and part.kind in _MEMBERS]
        found += ["a dynamic disk group" for part in kinds if part.partition_style == 0 and part.kind[0] == _DYNAMIC]
        return tuple(dict.fromkeys(f"carries a member of {member}" for member in found))

    def _query(self, handle: int, which: int) -> bytes:
        query = records.StoragePropertyQuery(property_id=which).pack()
        return self._system.control(handle, records.IOCTL_STORAGE_QUERY_PROPERTY, query, ANSWER)

    def _physical_sector(self, handle: int, logical: int) -> int:
        try:
            return StorageAccessAlignmentDescriptor.unpack(self._query(handle, 6)).bytes_per_physical_sector or logical
        except (OSError, RecordError):  # older systems and some readers do not tell
            return logical

    def _is_writable(self, handle: int) -> bool:
        try:
            self._system.control(handle, records.IOCTL_DISK_IS_WRITABLE, b"", 0)
        except OSError as error:
            return getattr(error, "winerror", 0) != WRITE_PROTECT
        return True

    @contextmanager
    def asking(self, path: str | Path) -> Iterator[int]:
        """Open a device to be asked only, which needs no rights."""
        handle = self._system.open(str(path), read=False, write=False)
        try:
            yield handle
        finally:
            self._system.close(handle)

    # -- volumes -------------------------------------------------------------------------------------------------

    def volumes(self) -> list[Volume]:
        """Return all volumes; those that do not answer have no disks."""
        return [self.volume(name) for name in self._system.volumes()]

    def volume(self, name: str) -> Volume:
        if name in self._kept:
            return self._kept[name]
        extents, is_optical = self._extents(name)
        points: tuple[str, ...] = ()
        label = kind = ""
        with suppress(OSError):
            points = tuple(self._system.mount_points(name))
        with suppress(OSError):
            label, kind = self._system.volume_texts(name)
        size = sum(extent.extent_length for extent in extents)
        return Volume(name, tuple(each.disk_number for each in extents), points, label, kind, size, is_optical)

    def _extents(self, name: str) -> tuple[list[DiskExtent], bool]:
        """Return where a volume lies, and whether it is a disc in an optical drive."""
        is_optical = False
        with suppress(OSError, RecordError), self.asking(name) as handle:
            is_optical = self.is_optical(handle)
            answer = self._system.control(handle, records.IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS, b"", ANSWER)
            count = min(int.from_bytes(answer[:4], "little"), (len(answer) - records.FIRST_EXTENT) // DiskExtent.SIZE)
            places = range(records.FIRST_EXTENT, records.FIRST_EXTENT + count * DiskExtent.SIZE, DiskExtent.SIZE)
            return ([] if is_optical else [DiskExtent.unpack(answer, place) for place in places]), is_optical
        return [], is_optical

    def is_optical(self, handle: int) -> bool:
        """Tell whether an open device is an optical drive."""
        try:
            answer = self._system.control(handle, records.IOCTL_STORAGE_GET_DEVICE_NUMBER, b"", ANSWER)
            return StorageDeviceNumber.unpack(answer).device_type == records.DEVICE_TYPE_CD_ROM
        except (OSError, RecordError):
            return False

    # -- what lies where -----------------------------------------------------------------------------------------

    def disks_below(self, path: Path) -> frozenset[int]:
        """Return the numbers of the drives that a file or device lies on; none for a disc, and for what is not there.

        Raises ProtectError where that cannot be found out: then every drive may be the one.
        """
        text = str(path).rstrip("\\") if is_device_name(str(path)) else str(path)
        if is_device_name(text) and not letter_in(text):
            with suppress(OSError, RecordError), self.asking(text) as handle:
                answer = self._system.control(handle, records.IOCTL_STORAGE_GET_DEVICE_NUMBER, b"", ANSWER)
                found = StorageDeviceNumber.unpack(answer)
                is_disc = found.device_type == records.DEVICE_TYPE_CD_ROM
                return frozenset(() if is_disc else (found.device_number,))
        if letter := letter_in(text):
            text = f"{letter}\\"
        try:
            final = self._system.final_path(text)
        except OSError as error:
            if getattr(error, "winerror", None) in (FILE_NOT_FOUND, PATH_NOT_FOUND):
                return frozenset()
            if trouble(error) is Trouble.NO_MEDIUM:
                return frozenset()
            raise _not_placed(path) from error
        disks = self._disks_of(final)
        if disks is None:
            raise _not_placed(path)
        return disks

    def _disks_of(self, final: str) -> frozenset[int] | None:
        """Return the drives below a final path; None where it is not known."""
        server, share = share_in(final)
        if server:
            if not self._system.is_this_computer(server):
                return frozenset()
            if not (len(share) == 2 and share[1] == "$"):  # another share may lead anywhere
                return None
            final = f"\\\\?\\{share[0]}:\\"
        name, volumes = volume_in(final), self.volumes()
        if name:
            found = next((volume for volume in volumes if volume.name.lower() == name.lower()), None)
        else:
            inside = final.removeprefix("\\\\?\\").upper()
            fitting = [(len(p), v) for v in volumes for p in v.points if inside.startswith(p.upper())]
            found = max(fitting, key=lambda pair: pair[0])[1] if fitting else None
        if found is None or not (found.disks or found.is_optical):
            return None
        return frozenset(found.disks)

    def _with_system(self) -> frozenset[int] | None:
        """Return the drives that the running system needs; None where its own folder cannot be placed.

        Its folder, its page files and dumps, and the partition that the computer was started from.
        """
        try:
            found = set(self.disks_below(Path(self._system.windows_folder())))
        except ProtectError:
            return None
        for file in self._system.system_files():
            with suppress(ProtectError):  # of a drive that is not attached now, say
                found |= self.disks_below(Path(file))
        if partition := self._system.system_partition():
            found |= {extent.disk_number for extent in self._extents(_ROOT + partition)[0]}
        return frozenset(found) or None

    def _holds_system(self, number: int, drive: Drive, with_system: frozenset[int] | None) -> bool:
        return number in with_system if with_system is not None else drive.internal

    # -- optical drives ------------------------------------------------------------------------------------------

    def optical_drives(self) -> Iterator[OpticalDrive]:
        """Yield the optical drives, each by its letter."""
        for volume in self.volumes():
            letters = [point for point in volume.points if letter_in(point)]
            if not volume.is_optical or not letters:
                continue
            path = DevicePath(f"\\\\.\\{letter_in(letters[0])}")
            model, state, size = "Optical drive", DiscState.UNKNOWN, 0
            with suppress(OSError, RecordError), self.asking(path) as handle:
                state = disc_state(self._system, handle)
                descriptor, described = self._described(handle)
                if descriptor is not None:
                    words = (descriptor.vendor_id_offset, descriptor.product_id_offset)
                    model = " ".join(filter(None, (_text(described, place) for place in words))) or model
            with suppress(OSError):
                size = disc_size(self._system, path)
            yield OpticalDrive(path, model, state, size)


def disc_state(system: WindowsSystem, handle: int) -> DiscState:
    """Return what an optical drive says of its disc."""
    try:
        system.control(handle, records.IOCTL_STORAGE_CHECK_VERIFY2, b"", 0)
    except OSError as error:
        return DiscState.NONE if trouble(error) is Trouble.NO_MEDIUM else DiscState.UNKNOWN
    return DiscState.DISC


def disc_size(system: WindowsSystem, path: Path) -> int:
    """Return the bytes of the disc or disk at a device. Raises OSError."""
    handle = system.open(str(path), read=True, write=False)
    try:
        return int.from_bytes(system.control(handle, records.IOCTL_DISK_GET_LENGTH_INFO, b"", 8), "little")
    finally:
        system.close(handle)


def path_of(number: int) -> DevicePath:
    """Return the device of the drive with this number."""
    return DevicePath(f"\\\\.\\PhysicalDrive{number}")


def _judged(drive: Drive, *, holds_system: bool, runs_pools: bool) -> Drive:
    in_use = tuple(f"{member}, and pools run on this computer" for member in drive.members if member.endswith(_POOL))
    return replace(drive, holds_system=holds_system, uses=in_use if runs_pools else ())


def _not_placed(path: Path) -> ProtectError:
    return ProtectError(
        f"On which drive {path} lies cannot be found out, so no drive is safe from being it.",
        advice="Copy it into a folder of a drive of this computer, and use that.",
    )


def _text(answer: bytes, offset: int) -> str:
    """Return the text at `offset` of an answer, up to its zero byte.

    Some readers pad it with blanks or leave it out.
    """
    if not 0 < offset < len(answer):
        return ""
    return answer[offset:].split(b"\0", 1)[0].decode("ascii", "replace").strip()
