"""A made-up Mac's recorded answers: finding, guards, unmounting, raw reading and writing, and ejecting."""

from __future__ import annotations

import errno
import plistlib
import struct
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from lucky_keystone.common import notes
from lucky_keystone.common.errors import DriveError, NoRights, ProtectError
from lucky_keystone.doing import targets
from lucky_keystone.drives.guards import Guard, held_back
from lucky_keystone.drives.macos.host import MacHost
from lucky_keystone.drives.macos.system import DKIOCGETBLOCKCOUNT, DKIOCGETBLOCKSIZE, DKIOCSYNCHRONIZECACHE
from lucky_keystone.drives.opening import open_confirmed

pytestmark = pytest.mark.posix  # its device nodes are
GB = 10**9


def part(name: str, content: str, size: int, volume: str = "", point: str = "") -> dict[str, Any]:
    told: dict[str, Any] = {"DeviceIdentifier": name, "Content": content, "Size": size}
    return told | ({"VolumeName": volume} if volume else {}) | ({"MountPoint": point} if point else {})


def disk(name: str, size: int, content: str, *parts: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"DeviceIdentifier": name, "Size": size, "Content": content, "Partitions": list(parts), **more}


LISTED = [
    disk(
        "disk0",
        500 * GB,
        "GUID_partition_scheme",
        part("disk0s1", "EFI", GB // 5, "EFI"),
        part("disk0s2", "Apple_APFS", 499 * GB),
    ),
    disk(
        "disk1",
        499 * GB,
        "",
        APFSPhysicalStores=[{"DeviceIdentifier": "disk0s2"}],
        APFSVolumes=[
            part("disk1s1", "", 200 * GB, "Studio", "/System/Volumes/Data"),
            part("disk1s2", "", 20 * GB, "System", "/"),
        ],
    ),
    disk(
        "disk4",
        32 * GB,
        "FDisk_partition_scheme",
        part("disk4s1", "DOS_FAT_32", 32 * GB, "POSTERS", "/Volumes/POSTERS"),
    ),
    disk("disk5", 4000 * GB, "GUID_partition_scheme", part("disk5s1", "Apple_RAID", 4000 * GB)),
    disk("disk6", 64 * GB, ""),
    disk("disk7", 0, ""),
]
INFO: dict[str, dict[str, Any]] = {
    "disk0": {
        "MediaName": "APPLE SSD",
        "TotalSize": 500 * GB,
        "DeviceBlockSize": 4096,
        "Internal": True,
        "BusProtocol": "Apple Fabric",
    },
    "disk4": {
        "MediaName": "Gangway Pro",
        "TotalSize": 32 * GB,
        "Internal": False,
        "RemovableMedia": True,
        "BusProtocol": "USB",
    },
    "disk5": {"MediaName": "Harbour Archive", "TotalSize": 4000 * GB, "Internal": False, "BusProtocol": "Thunderbolt"},
    "disk6": {
        "MediaName": "SDXC Reader",
        "TotalSize": 64 * GB,
        "Internal": True,
        "RemovableMedia": True,
        "BusProtocol": "Secure Digital",
    }
    | {"WritableMedia": False},
    "disk7": {"MediaName": "Empty Reader", "TotalSize": 0, "Internal": False, "BusProtocol": "USB"},
    "disk1": {"MediaName": "Studio", "TotalSize": 499 * GB, "VirtualOrPhysical": "Virtual"},
    "disk2": {"MediaName": "Pool", "TotalSize": 499 * GB, "VirtualOrPhysical": "Virtual"},
    "/": {"ParentWholeDisk": "disk1"},
    "/Volumes/POSTERS": {"ParentWholeDisk": "disk4"},
}
GROUP = "MemberOfCoreStorageLogicalVolumeGroup"
REGISTRY = [
    {
        "IOObjectClass": "IOUSBHostDevice",
        "UsbLinkSpeed": 480_000_000,
        "bcdUSB": 0x0320,
        "USB Serial Number": "GP-77",
        "IORegistryEntryChildren": [
            {"IOObjectClass": "IOMedia", "IORegistryEntryChildren": [{"Whole": True, "BSD Name": "disk4"}]}
        ],
    }
]


@dataclass
class Mac:
    """Answers as diskutil, ioreg and the disk nodes do; the node of disk4 is a file."""

    file: Path
    busy: bool = False
    denied: bool = False
    log: list[str] = field(default_factory=list)
    swapped: bool = False
    flush_fails: int = 0
    said: str = "Volume POSTERS on disk4s1 failed to unmount: dissented by process 77"
    listed: list[dict[str, Any]] = field(default_factory=lambda: plistlib.loads(plistlib.dumps(LISTED)))
    groups: dict[tuple[str, ...], dict[str, Any]] = field(default_factory=dict)
    """What is said of CoreStorage, by the order and what it is about."""

    def run(self, *command: str) -> bytes:
        if command[:2] == ("diskutil", "cs"):
            order, _, *about = command[2:]
            if (order, *about) not in self.groups:
                raise OSError(0, "Could not find what was asked for")
            return self.spoils(plistlib.dumps(self.groups[order, *about]))
        if command[:2] == ("diskutil", "list"):
            return plistlib.dumps({"AllDisksAndPartitions": self.listed})
        if command[0] == "ioreg":
            return self.spoils(plistlib.dumps(REGISTRY))
        if command[:2] == ("diskutil", "info"):
            if command[3] not in INFO:
                raise OSError(0, "Could not find disk")
            return self.spoils(plistlib.dumps(INFO[command[3]]))
        self.log.append(" ".join(command[1:]))
        if self.busy:
            raise OSError(0, self.said)
        self.listed[2]["Partitions"][0].pop("MountPoint", None)
        return b""

    def spoils(self, answer: bytes) -> bytes:
        return answer

    def open(self, path: Path, *, write: bool) -> int:
        if self.denied:
            raise PermissionError(errno.EACCES, "Permission denied")
        self.log.append(f"open {path}{' to write' if write else ''}")
        self.stream = self.file.open("r+b", buffering=0)
        return self.stream.fileno()

    def control(self, descriptor: int, request: int, size: int) -> bytes:
        if request == DKIOCSYNCHRONIZECACHE:
            if self.flush_fails:
                raise OSError(self.flush_fails, "no such order")
            self.log.append("synchronize")
            return b""
        return {DKIOCGETBLOCKSIZE: struct.pack("<I", 512), DKIOCGETBLOCKCOUNT: struct.pack("<Q", 32 * GB // 512)}[
            request
        ]

    def node_number(self, place: int | Path) -> int:
        return (0x0E01 if self.swapped else 0x0E04) if isinstance(place, int) else 0x0E00 + int(place.name[-1])

    def read_into(self, descriptor: int, view: memoryview, offset: int) -> int:
        self.stream.seek(offset)
        return self.stream.readinto(view)

    def write(self, descriptor: int, data: memoryview, offset: int) -> int:
        self.stream.seek(offset)
        return self.stream.write(data)

    def close(self, descriptor: int) -> None:
        self.log.append("close")
        self.stream.close()


@pytest.fixture
def mac(tmp_path: Path) -> Mac:
    file = tmp_path / "rdisk4"
    file.write_bytes(bytes(1 << 20))
    return Mac(file)


def test_drives_are_found_and_held_back_as_they_are(mac: Mac) -> None:
    host = MacHost(mac)
    told = {drive.model: drive for drive in host.drives()}
    assert {model: held_back(drive) for model, drive in told.items()} == {
        "APPLE SSD": (
            "holds this computer's system",
            "is built into this computer",
            "is in use: /System/Volumes/Data, /",
        ),
        "Gangway Pro": ("is in use: /Volumes/POSTERS",),
        "Harbour Archive": ("carries a member of a RAID",),
        "SDXC Reader": ("is read-only",),
    }
    stick = told["Gangway Pro"]
    assert (stick.serial, stick.speed) == ("GP-77", "480 Mbit/s, a fast stick on a slow port")
    assert stick.volumes == ("FAT32 'POSTERS' 29.8 GiB",)
    assert host.disks_below(Path("/Users/studio/Install.app")) == {Path("/dev/disk0")}
    assert host.disks_below(Path("/Volumes/POSTERS/installer.iso")) == {Path("/dev/disk4")}


@pytest.mark.parametrize("on_top", ["a volume of its own", "a container"])
def test_what_a_system_on_several_disks_lies_on_is_never_written(mac: Mac, on_top: str) -> None:
    """Where it is not told which disks a volume group lies on, every one with a part of such a group may be it."""
    mac.listed[0]["Partitions"][1]["Content"] = "Apple_CoreStorage"
    if on_top == "a container":
        mac.listed[1]["APFSPhysicalStores"] = [{"DeviceIdentifier": "disk2"}]
        mac.listed.append(part("disk2", "", 499 * GB))
    else:
        mac.listed[1] = part("disk1", "Apple_HFS", 499 * GB, "Studio", "/")
    host = MacHost(mac)
    told = {drive.model: drive for drive in host.drives()}
    assert [told["APPLE SSD"].holds_system, told["Gangway Pro"].holds_system] == [True, False]
    assert Path("/dev/disk0") in host.disks_below(Path("/Users/studio/Install.app"))
    with pytest.raises(ProtectError, match="holds this computer's system"):
        open_confirmed(host, told["APPLE SSD"], lifted={Guard.INTERNAL, Guard.MEMBER}, sources=[])


@pytest.mark.parametrize("odd", ["", "list", "member", "group", "partition", "nothing"])
def test_a_volume_group_is_followed_to_its_own_disks(odd: str, mac: Mac) -> None:
    """Where all of it is told the other group's disk stays free of this guard; else none of them does."""
    mac.listed[0]["Partitions"][1]["Content"] = "Apple_CoreStorage"
    mac.listed[1] = part("disk1", "Apple_HFS", 499 * GB, "Studio", "/")
    archive = next(each for each in mac.listed if each["DeviceIdentifier"] == "disk5")
    archive["Partitions"][0]["Content"] = "Apple_CoreStorage"
    own = mac.listed[0]["Partitions"][1]["DeviceIdentifier"]
    groups = [
        {"CoreStorageUUID": "A", "CoreStoragePhysicalVolumes": [{"CoreStorageUUID": "PV-A"}]},
        {"CoreStorageUUID": "B", "CoreStoragePhysicalVolumes": [{"CoreStorageUUID": "PV-B"}]},
    ]
    mac.groups = {
        ("info", "disk1"): {GROUP: "A" if odd != "group" else "C"},
        ("list",): {"CoreStorageLogicalVolumeGroups": groups if odd != "list" else "A"},
        ("info", "PV-A"): {GROUP: "A" if odd != "member" else "B", "DeviceIdentifier": own},
    }
    if odd == "partition":
        mac.groups["info", "PV-A"]["DeviceIdentifier"] = "disk77s2"
    if odd == "nothing":
        mac.groups = {}
    told = {drive.path.name: drive.holds_system for drive in MacHost(mac).drives()}
    assert (told["disk0"], told["disk5"]) == (True, bool(odd))


def test_the_whole_disk_is_unmounted_and_its_raw_node_written(mac: Mac) -> None:
    host = MacHost(mac)
    stick = next(drive for drive in host.drives() if drive.serial == "GP-77")
    handle = open_confirmed(host, stick, lifted={Guard.IN_USE}, sources=[Path("/Users/studio/x.iso")])
    handle.write_at(512, memoryview(b"poster".ljust(512)))
    handle.flush()
    assert handle.read_at(510, 8) == b"\0\0poster"
    handle.close()
    assert mac.log == ["unmountDisk /dev/disk4", "open /dev/rdisk4 to write", "synchronize", "close"]
    assert "Safe to unplug" in host.eject(stick)


def test_a_raw_node_is_the_same_drive(mac: Mac, monkeypatch: pytest.MonkeyPatch) -> None:
    host = MacHost(mac)
    monkeypatch.setattr(targets, "host_of", lambda _bay: host)
    monkeypatch.setattr(targets, "_is_device", lambda *_: True)
    chosen = [targets.choose(name, None, None) for name in ("/dev/disk4", "/dev/rdisk4")]
    assert [each.drive.path for each in chosen if each.drive] == [Path("/dev/disk4")] * 2


@pytest.mark.parametrize("code", [errno.ENOTSUP, errno.ENOTTY])
def test_a_bridge_that_knows_no_flush_is_told_and_no_failure(
    code: int, mac: Mac, monkeypatch: pytest.MonkeyPatch
) -> None:
    said: list[str] = []
    monkeypatch.setattr(notes, "_shows", [said.append])
    mac.flush_fails = code
    stick = next(drive for drive in MacHost(mac).drives() if drive.serial == "GP-77")
    handle = open_confirmed(MacHost(mac), stick, lifted={Guard.IN_USE})
    handle.flush()
    handle.flush()
    handle.close()
    assert [("cannot be told to flush" in words) for words in said] == [True]
    mac.flush_fails = errno.EIO
    handle = open_confirmed(MacHost(mac), stick, lifted={Guard.IN_USE})
    with pytest.raises(DriveError):
        handle.flush()
    handle.close()


def test_unmounting_is_tried_again_and_says_who_holds_it(mac: Mac, monkeypatch: pytest.MonkeyPatch) -> None:
    pauses: list[float] = []
    monkeypatch.setattr(time, "sleep", lambda pause: (pauses.append(pause), setattr(mac, "busy", len(pauses) < 2)))
    mac.busy = True
    stick = next(drive for drive in MacHost(mac).drives() if drive.serial == "GP-77")
    MacHost(mac).unmount(stick)
    assert len(pauses) == 2
    mac.said = (
        "Unmount of disk4 failed: at least one volume could not be unmounted Unmount was dissented by PID 77 (/bin/x)"
    )
    monkeypatch.setattr(time, "sleep", lambda _: None)
    mac.busy = True
    with pytest.raises(ProtectError, match=r"/bin/x \(process 77\) has it in use"):
        MacHost(mac).unmount(stick)


@pytest.mark.parametrize("odd", ["control character", "vanished", "text for a size", "no name"])
def test_one_odd_disk_never_costs_the_list(odd: str, mac: Mac, monkeypatch: pytest.MonkeyPatch) -> None:
    told = dict(INFO)
    if odd == "control character":
        monkeypatch.setattr(
            mac, "spoils", lambda answer: answer.replace(b"GP-77", b"GP-7\x01&#3;").replace(b"Gangway", b"Gang\x02ay")
        )
    elif odd == "vanished":
        del told["disk6"]
    elif odd == "text for a size":
        told["disk6"] = told["disk6"] | {"TotalSize": "64 GB"}
    else:
        told["disk6"] = {"MediaName": {"odd": 1}, "TotalSize": 64 * GB, "DeviceBlockSize": []}
    monkeypatch.setattr("tests.drives.test_macos.INFO", told)
    drives = {drive.path.name: drive for drive in MacHost(mac).drives()}
    assert {"disk0", "disk4", "disk5", "disk6"} <= set(drives)
    everything = tuple(drives.values())
    if odd == "control character":
        assert (drives["disk4"].serial, drives["disk4"].model) == ("GP-7??", "Gang?ay Pro")
    else:
        assert held_back(drives["disk6"], everything)
    assert not held_back(drives["disk4"], everything) or drives["disk4"].mounts


@pytest.mark.parametrize(("version", "slow"), [(0x0200, False), (0x0210, True), (0x0320, True)])
def test_a_fast_stick_on_a_slow_port(version: int, slow: bool, mac: Mac, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tests.drives.test_macos.REGISTRY", [REGISTRY[0] | {"bcdUSB": version}])
    stick = next(drive for drive in MacHost(mac).drives() if drive.path.name == "disk4")
    assert stick.speed == "480 Mbit/s" + (", a fast stick on a slow port" if slow else "")


@pytest.mark.parametrize(
    ("trouble", "kind", "told"),
    [
        ({"busy": True}, ProtectError, r"could not be unmounted: a program \(process 77\) has it in use"),
        ({"denied": True}, NoRights, "denied"),
        ({"swapped": True}, ProtectError, "no longer a drive of this computer"),
    ],
)
def test_what_is_busy_denied_or_swapped_is_not_written(
    mac: Mac, trouble: dict[str, bool], kind: type[Exception], told: str
) -> None:
    host = MacHost(mac)
    stick = next(drive for drive in host.drives() if drive.serial == "GP-77")
    for name, value in trouble.items():
        setattr(mac, name, value)
    with pytest.raises(kind, match=told):
        open_confirmed(host, stick, lifted={Guard.IN_USE})
    assert mac.file.read_bytes() == bytes(1 << 20)
