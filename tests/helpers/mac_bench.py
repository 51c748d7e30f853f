"""A model of a Mac's disks: property lists of the shape that its system gives, raw nodes that take whole sectors only.

The stick is a file; what is true of the node's end, of flushing, of holders and of disks that go away is decided here.
"""

from __future__ import annotations

import errno
import os
import plistlib
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lucky_keystone.drives.macos.system import DKIOCGETBLOCKCOUNT, DKIOCGETBLOCKSIZE, DKIOCSYNCHRONIZECACHE

GB = 10**9
STICK, ARCHIVE = "disk4", "disk6"


def _part(name: str, content: str, size: int, **more: Any) -> dict[str, Any]:
    return {"DeviceIdentifier": name, "Content": content, "Size": size, **more}


def _disk(name: str, size: int, content: str = "GUID_partition_scheme", **more: Any) -> dict[str, Any]:
    return {"DeviceIdentifier": name, "Size": size, "Content": content, **more}


@dataclass
class MacBench:
    """Answers as diskutil, ioreg and the nodes do."""

    folder: Path
    size: int = 64 << 20
    """Bytes of the stick."""
    sector: int = 512
    busy: int = 0
    """How often unmounting is refused."""
    gone_after: int = -1
    """Bytes that the stick takes before it is pulled out; -1: never."""
    flush: int = 0
    """What flushing fails with."""
    info_fails: frozenset[str] = frozenset()
    log: list[str] = field(default_factory=list)
    written: int = 0
    _open: dict[int, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        with (self.folder / STICK).open("wb") as out:
            out.truncate(self.size)

    @property
    def stick(self) -> Path:
        return self.folder / STICK

    def listed(self) -> list[dict[str, Any]]:
        """A system on a snapshot of a container, a second one, a stick, a drive with APFS, a pool of two disks."""
        snapshot = {"SnapshotBSD": "disk3s1s1", "SnapshotMountPoint": "/", "SnapshotName": "com.tidewell.os.update"}
        mounted = {} if "unmounted" in " ".join(self.log[-3:]) else {"MountPoint": "/Volumes/POSTERS"}
        stick = _part("disk4s1", "DOS_FAT_32", self.size - (1 << 20), VolumeName="POSTERS", **mounted)
        return [
            _disk("disk0", 500 * GB, Partitions=[
                _part("disk0s1", "Apple_APFS_ISC", GB // 2), _part("disk0s2", "Apple_APFS", 494 * GB),
            ]),
            _disk("disk1", GB // 2, "", APFSPhysicalStores=[{"DeviceIdentifier": "disk0s1"}], APFSVolumes=[
                _part("disk1s1", "", 1 << 20, VolumeName="iSCPreboot"),
            ]),
            _disk("disk3", 494 * GB, "", APFSPhysicalStores=[{"DeviceIdentifier": "disk0s2"}], APFSVolumes=[
                _part("disk3s1", "", 9 * GB, VolumeName="Tidewell HD", MountedSnapshots=[snapshot]),
                _part("disk3s2", "", 9 * GB, VolumeName="Preboot", MountPoint="/System/Volumes/Preboot"),
                _part("disk3s5", "", 99 * GB, VolumeName="Data", MountPoint="/System/Volumes/Data"),
            ]),
            _disk(STICK, self.size, "FDisk_partition_scheme", Partitions=[stick]),
            _disk("disk5", 2000 * GB, Partitions=[_part("disk5s2", "Apple_CoreStorage", 2000 * GB)]),
            _disk(ARCHIVE, 128 * GB, Partitions=[_part("disk6s2", "Apple_APFS", 127 * GB)]),
            _disk("disk7", 127 * GB, "", APFSPhysicalStores=[{"DeviceIdentifier": "disk6s2"}], APFSVolumes=[
                _part("disk7s1", "", GB, VolumeName="Archive", MountPoint="/Volumes/Archive"),
            ]),
            _disk("disk8", 4000 * GB, Partitions=[_part("disk8s2", "Apple_RAID", 4000 * GB)]),
        ]  # fmt: skip

    def run(self, *command: str) -> bytes:
        if command[:2] == ("diskutil", "list"):
            return plistlib.dumps({"AllDisksAndPartitions": self.listed()})
        if command[0] == "ioreg":
            child = {"IOObjectClass": "IOMedia", "Whole": True, "BSD Name": STICK}
            device = {"IOObjectClass": "IOUSBHostDevice", "UsbLinkSpeed": 5 * GB, "bcdUSB": 0x0320}
            return plistlib.dumps([device | {"USB Serial Number": "GP-77", "IORegistryEntryChildren": [child]}])
        if command[:2] == ("diskutil", "info"):
            return plistlib.dumps(self._info(command[3]))
        if command[:2] == ("diskutil", "cs"):
            raise OSError(0, "No CoreStorage logical volume groups found")
        self.log.append(" ".join(command[1:]))
        if self.busy:
            self.busy -= 1
            raise OSError(0, f"Unmount of {STICK} failed Unmount was dissented by PID 345 (/usr/libexec/indexer)")
        if command[1] == "unmountDisk":
            self.log.append("unmounted")
        return b""

    def _info(self, name: str) -> dict[str, Any]:
        if name in self.info_fails:
            raise OSError(0, f"Could not find disk: {name}")
        whole = {each["DeviceIdentifier"]: each for each in self.listed()}
        if name.startswith("/") and not name.startswith("/dev/"):
            if name in ("/", "/Users", "/private", str(self.folder)):
                return {"ParentWholeDisk": "disk3"}
            raise OSError(0, f"Could not find disk: {name}")
        name = Path(name).name
        if name not in whole:
            raise OSError(0, f"Could not find disk: {name}")
        is_outside = name in (STICK, ARCHIVE, "disk8")
        return {
            "MediaName": {"disk0": "Built-in SSD", STICK: "Gangway Pro", ARCHIVE: "Harbour Archive"}.get(name, name),
            "TotalSize": whole[name]["Size"],
            "DeviceBlockSize": self.sector if name == STICK else 512,
            "Internal": not is_outside,
            "RemovableMedia": name == STICK,
            "BusProtocol": "USB" if is_outside else "Apple Fabric",
            "VirtualOrPhysical": "Virtual" if "APFSPhysicalStores" in whole[name] else "Physical",
            "WritableMedia": True,
        }

    # -- nodes -------------------------------------------------------------------------------------------------------

    def open(self, path: Path, *, write: bool) -> int:
        assert path.parent == Path("/dev")
        assert path.name == f"r{STICK}", f"{path} must never be opened"
        self.log.append(f"open {path}{' to write' if write else ''}")
        descriptor = os.open(self.stick, os.O_RDWR if write else os.O_RDONLY)
        self._open[descriptor] = path.name
        return descriptor

    def control(self, descriptor: int, request: int, size: int) -> bytes:
        if request == DKIOCSYNCHRONIZECACHE:
            if self.flush:
                raise OSError(self.flush, os.strerror(self.flush))
            self.log.append("synchronize")
            return b""
        count = self.size // self.sector
        return {DKIOCGETBLOCKSIZE: struct.pack("<I", self.sector), DKIOCGETBLOCKCOUNT: struct.pack("<Q", count)}[
            request
        ]

    def node_number(self, place: int | Path) -> int:
        name = self._open[place] if isinstance(place, int) else place.name
        return 0x0100_0000 + int(name.rpartition("k")[2])

    def _refuse_parts(self, size: int, offset: int) -> None:
        if size % self.sector or offset % self.sector:
            raise OSError(errno.EINVAL, "Invalid argument")  # as a raw node does
        if 0 <= self.gone_after <= self.written:
            raise OSError(errno.ENXIO, "Device not configured")

    def read_into(self, descriptor: int, view: memoryview, offset: int) -> int:
        self._refuse_parts(len(view), offset)
        return os.preadv(descriptor, [view], offset)

    def write(self, descriptor: int, data: memoryview, offset: int) -> int:
        self._refuse_parts(len(data), offset)
        self.written += len(data)
        return os.pwrite(descriptor, data, offset)

    def close(self, descriptor: int) -> None:
        self._open.pop(descriptor)
        os.close(descriptor)
        self.log.append("close")
