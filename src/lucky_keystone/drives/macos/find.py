"""Finds the drives of a Mac from what diskutil and the I/O registry tell as property lists."""

from __future__ import annotations

import plistlib
import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property, partial
from pathlib import Path, PurePosixPath
from typing import Any
from xml.parsers.expat import ExpatError

from ...common.errors import DriveError
from ...common.units import shown_size
from ..drive import Drive
from .core_storage import partitions_below
from .system import MacSystem

_MEMBERS = {"Apple_RAID": "a RAID", "Apple_CoreStorage": "a CoreStorage volume group"}
_HIGH_SPEED = 480_000_000
_USB_3_ON_A_SLOW_PORT = 0x210
"""What devices of USB 3 call themselves where their port is of USB 2."""
_UNPRINTABLE = re.compile(
    rb"[\x00-\x08\x0b\x0c\x0e-\x1f]|&#(?:x0*(?:[0-8bcef]|1[0-9a-f])|0*(?:[0-8]|1[124-9]|2\d|3[01]));", re.IGNORECASE
)
"""Characters that XML has no place for, and that a device may have in its name all the same."""
_HIDDEN = ("EFI", "Apple_partition_map", "Apple_Free")


class MacFinder:
    """One look at a Mac's drives."""

    def __init__(self, system: MacSystem) -> None:
        self._system = system
        self._listed = _properties(system, "diskutil", "list", "-plist")
        self._whole = {entry["DeviceIdentifier"]: entry for entry in self._listed.get("AllDisksAndPartitions", [])}
        self._usb = dict(_usb_devices(_registry(system)))

    def drives(self) -> tuple[Drive, ...]:
        """Return the physical drives, and disk images that are attached as such."""
        found = (self._known(name, entry) for name, entry in self._whole.items() if "APFSPhysicalStores" not in entry)
        return tuple(drive for drive in found if drive is not None)

    def _known(self, name: str, entry: dict[str, Any]) -> Drive | None:
        """Return a drive; one of which something odd is said is held back, and costs no other one."""
        try:
            return self._drive(name, entry)
        except (TypeError, ValueError, KeyError, AttributeError):
            size = _number(entry, "Size")
            return _held_back(name, size) if size else None

    def disk_of(self, path: Path) -> frozenset[Path]:
        """Return the drives below a file, or a device node, as diskutil reports them."""
        try:
            answer = _properties(self._system, "diskutil", "info", "-plist", str(path))
        except DriveError:
            answer = self._volume_of(path)
        whole = str(answer.get("ParentWholeDisk", ""))
        physical = [(name, entry) for name, entry in self._whole.items() if "APFSPhysicalStores" not in entry]
        below = frozenset(_node(name) for name, entry in physical if whole in (name, *self._containers(entry)))
        return below | self._pooled(whole)

    def _volume_of(self, path: Path) -> dict[str, Any]:
        """Diskutil knows mount points, not files: ask for each folder above until one is."""
        for folder in path.resolve().parents:
            try:
                return _properties(self._system, "diskutil", "info", "-plist", str(folder))
            except DriveError:
                continue
        return {}

    def _pooled(self, whole: str) -> frozenset[Path]:
        """Return the disks that a volume of several lies on; where that is not told, all that have a part of one.

        Such a volume (CoreStorage's, a RAID's) is a whole disk of its own without a partition table; a container of
        APFS may lie on it in turn.
        """
        stores = self._whole.get(whole, {}).get("APFSPhysicalStores", [])
        names = [whole, *(str(store.get("DeviceIdentifier", "")) for store in stores)]
        volumes = [name for name in names if self._is_bare(name) and self._is_virtual(name)]
        if not volumes:
            return frozenset()
        with_part = {name: entry for name, entry in self._whole.items() if _members_of(entry)}
        found = [
            self._with_partitions(with_part, partitions_below(partial(_properties, self._system), name))
            for name in volumes
        ]
        known = found if all(found) else [frozenset(with_part)]
        return frozenset(_node(name) for names in known for name in names)

    @staticmethod
    def _with_partitions(disks: Mapping[str, dict[str, Any]], wanted: frozenset[str]) -> frozenset[str]:
        """Return the disks that have these partitions; none where one of them is on none of the disks."""
        owners = {
            part.get("DeviceIdentifier"): name for name, entry in disks.items() for part in entry.get("Partitions", [])
        }
        return frozenset(owners[part] for part in wanted) if wanted <= set(owners) else frozenset()

    def _is_bare(self, name: str) -> bool:
        entry = self._whole.get(name)
        return entry is not None and not entry.get("Partitions") and "APFSPhysicalStores" not in entry

    def _is_virtual(self, name: str) -> bool:
        try:
            answer = _properties(self._system, "diskutil", "info", "-plist", name)
        except DriveError:
            return True
        is_physical = answer.get("VirtualOrPhysical") == "Physical" or answer.get("BusProtocol") == "USB"
        return not is_physical

    @cached_property
    def _system_pool(self) -> frozenset[Path]:
        """The disks that the system may lie on, where it lies on a volume of several."""
        system = [name for name, entry in self._whole.items() if any(map(_is_system, _mounts(entry)))]
        return frozenset(node for name in system for node in self._pooled(name))

    def _drive(self, name: str, entry: dict[str, Any]) -> Drive | None:
        try:
            answer = _properties(self._system, "diskutil", "info", "-plist", name)
        except DriveError:  # it is listed with what is known, held back, and hides no other
            answer = {"Size": entry.get("Size", 0), "Writable": False}
        if not answer.get("TotalSize", answer.get("Size", 0)):
            return None
        usb = self._usb.get(name, {})
        volumes = list(self._volumes(entry))
        mounts = tuple(_mounts_of(volumes))
        bus = str(answer.get("BusProtocol") or "not known")
        return Drive(
            path=_node(name),
            nodes=(str(_node("r" + name)),),
            model=str(answer.get("MediaName") or answer.get("IORegistryEntryName") or name).strip(),
            serial=str(
                usb.get("USB Serial Number") or usb.get("kUSBSerialNumberString") or answer.get("DiskUUID") or ""
            ),
            size=int(answer.get("TotalSize", answer.get("Size", 0))),
            sector_size=int(answer.get("DeviceBlockSize", 512)),
            bus="disk image" if bus == "Disk Image" else "SD card" if bus == "Secure Digital" else bus,
            speed=_speed(usb),
            removable=bool(answer.get("RemovableMedia", answer.get("Removable", False))),
            internal=bool(answer.get("Internal", True)) and bus != "Secure Digital",
            holds_system=any(map(_is_system, mounts)) or _node(name) in self._system_pool,
            read_only=not answer.get("WritableMedia", answer.get("Writable", True)),
            mounts=mounts,
            members=tuple(dict.fromkeys(f"carries a member of {member}" for member in _members_of(entry))),
            volumes=tuple(
                _told(volume) for volume in volumes if volume.get("Content") not in _HIDDEN or volume.get("VolumeName")
            ),
        )

    def _containers(self, entry: dict[str, Any]) -> list[str]:
        """Return the names of the APFS containers whose stores are partitions of this disk."""
        parts = {part.get("DeviceIdentifier") for part in entry.get("Partitions", [])}
        return [
            name
            for name, other in self._whole.items()
            if any(store.get("DeviceIdentifier") in parts for store in other.get("APFSPhysicalStores", []))
        ]

    def _volumes(self, entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
        """Yield the volumes of a disk: its own if it has no table, its partitions', and those of its containers."""
        containers = self._containers(entry)
        if entry.get("VolumeName") or entry.get("MountPoint"):
            yield entry
        for part in entry.get("Partitions", []):
            if part.get("Content") != "Apple_APFS" or not containers:
                yield part
        for name in containers:
            yield from self._whole[name].get("APFSVolumes", [])


def _members_of(entry: dict[str, Any]) -> list[str]:
    """Return what the partitions of a disk are members of, in words."""
    return [_MEMBERS[part["Content"]] for part in entry.get("Partitions", []) if part.get("Content") in _MEMBERS]


def _mounts(entry: dict[str, Any]) -> Iterator[str]:
    """Yield where the volumes of a whole disk are mounted, as the list of disks tells it."""
    yield from _mounts_of([entry, *entry.get("Partitions", []), *entry.get("APFSVolumes", [])])


def _mounts_of(volumes: Iterable[Mapping[str, Any]]) -> Iterator[str]:
    for volume in volumes:
        if volume.get("MountPoint"):
            yield str(volume["MountPoint"])
        for snapshot in volume.get("MountedSnapshots", []):  # as systems since 11 start from one
            if snapshot.get("SnapshotMountPoint"):
                yield str(snapshot["SnapshotMountPoint"])


def _is_system(point: str) -> bool:
    return point == "/" or point.startswith("/System/Volumes/")


def _properties(system: MacSystem, *command: str) -> dict[str, Any]:
    try:
        answer = plistlib.loads(_readable(system.run(*command)))
    except (OSError, ValueError, ExpatError, plistlib.InvalidFileException) as error:
        raise DriveError(
            f"'{' '.join(command)}' returned nothing usable: {error}.", advice="Check that it runs on its own."
        ) from error
    return answer if isinstance(answer, dict) else {}


def _registry(system: MacSystem) -> list[dict[str, Any]]:
    """Return the USB devices of the I/O registry with everything below them; nothing when it is not available."""
    try:
        answer = plistlib.loads(_readable(system.run("ioreg", "-a", "-l", "-r", "-c", "IOUSBHostDevice")))
    except (OSError, ValueError, ExpatError, plistlib.InvalidFileException):
        return []
    return answer if isinstance(answer, list) else []


def _readable(answer: bytes) -> bytes:
    return answer if answer.startswith(b"bplist") else _UNPRINTABLE.sub(b"?", answer)


def _number(values: Mapping[str, Any], key: str) -> int:
    """Return a number of an answer, 0 where it is not one."""
    value = values.get(key, 0)
    return value if isinstance(value, int) else 0


def _held_back(name: str, size: int) -> Drive:
    """Return a disk of which no more is known than that it is there: it is listed, and never written."""
    return Drive(
        path=_node(name),
        model=name,
        serial="",
        size=size,
        sector_size=512,
        bus="not known",
        speed="",
        removable=False,
        internal=True,
        holds_system=False,
        read_only=True,
        mounts=(),
        volumes=("not known",),
    )


def _usb_devices(entries: list[dict[str, Any]]) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield (disk, its USB device) for every whole disk below a USB device, the nearest device counting."""

    def below(entry: dict[str, Any], device: dict[str, Any]) -> Iterator[tuple[str, dict[str, Any]]]:
        if entry.get("IOObjectClass", "").startswith("IOUSBHostDevice"):
            device = entry
        if entry.get("Whole") and "BSD Name" in entry:
            yield str(entry["BSD Name"]), device
        for child in entry.get("IORegistryEntryChildren", []):
            yield from below(child, device)

    for entry in entries:
        yield from below(entry, entry)


def _speed(usb: dict[str, Any]) -> str:
    rate = _number(usb, "UsbLinkSpeed")
    if not rate:
        return ""
    text = f"{rate // 10**9} Gbit/s" if rate >= 10**9 else f"{rate // 10**6} Mbit/s"
    is_slowed = rate <= _HIGH_SPEED and _number(usb, "bcdUSB") >= _USB_3_ON_A_SLOW_PORT
    return text + (", a fast stick on a slow port" if is_slowed else "")


def _told(volume: dict[str, Any]) -> str:
    kind = {"Apple_HFS": "HFS+", "DOS_FAT_32": "FAT32", "Windows_FAT_32": "FAT32", "Windows_NTFS": "NTFS or exFAT"}
    content = str(volume.get("Content") or "APFS")
    name = volume.get("VolumeName")
    return f"{kind.get(content, content)} {repr(name) + ' ' if name else ''}{shown_size(int(volume.get('Size', 0)))}"


def _node(name: str) -> Path:
    return Path(PurePosixPath("/dev") / name)
