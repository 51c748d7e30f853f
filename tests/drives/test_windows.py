"""Recorded answers of a made-up Windows bench drive finding, guards, locking, aligned writing and ejecting."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from lucky_keystone.drives.guards import Guard, held_back
from lucky_keystone.drives.opening import open_confirmed
from lucky_keystone.drives.windows import records
from lucky_keystone.drives.windows.host import WindowsHost
from lucky_keystone.errors import DriveGone, NoRights, ProtectError, Transient

GB = 10**9
POOL = bytes.fromhex("8faf5ce780f6ee4cafa3b001e56efc2d")


def winerror(number: int) -> OSError:
    error = OSError(number, f"error {number}")
    error.winerror = number  # type: ignore[attr-defined]
    return error


def descriptor(vendor: str, product: str, serial: str, bus: int, removable: bool) -> bytes:
    """STORAGE_DEVICE_DESCRIPTOR with its texts behind it, as readers and sticks answer: padded with blanks."""
    texts, offsets = b"", []
    for text in (vendor, product, serial):
        offsets.append(36 + len(texts) if text else 0)
        texts += f"{text} ".encode() + b"\0" if text else b""
    head = struct.pack("<IIBBBB", 36, 36 + len(texts), 0, 0, removable, 0)
    return head + struct.pack("<IIIIII", offsets[0], offsets[1], 0, offsets[2], bus, 0) + texts


@dataclass
class Disk:
    number: int
    described: bytes
    size: int
    sector: int = 512
    writable: bool = True
    partition_types: tuple[bytes, ...] = ()


@dataclass
class Bench:
    """Answers as the control calls of winioctl.h do. Handles are numbers; what was done is noted."""

    disks: list[Disk]
    volume_list: dict[str, tuple[list[tuple[int, int]], list[str], str, str]]
    busy: set[str] = field(default_factory=set)
    administrator: bool = True
    data: dict[tuple[int, int], bytes] = field(default_factory=dict)
    log: list[str] = field(default_factory=list)
    handles: dict[int, str] = field(default_factory=dict)
    written: set[int] = field(default_factory=set)
    """Handles that were opened for writing."""
    read_error: int = 0

    def disk(self, path: str) -> Disk:
        found = next((disk for disk in self.disks if path == rf"\\.\PhysicalDrive{disk.number}"), None)
        if found is None:
            raise winerror(2)
        return found

    def open(self, path: str, *, read: bool, write: bool) -> int:
        if path not in self.volume_list:
            self.disk(path)
        if (read or write) and not self.administrator:
            raise winerror(5)
        number = len(self.handles) + 100
        self.handles[number] = path
        if write:
            self.written.add(number)
            self.log.append(f"open {path}")
        return number

    def close(self, handle: int) -> None:
        if handle in self.written:
            self.log.append(f"close {self.handles[handle]}")

    def control(self, handle: int, code: int, data: bytes, size: int) -> bytes:
        path = self.handles[handle]
        if path in self.volume_list:
            return self.control_volume(path, code)
        disk = self.disk(path)
        if code == records.IOCTL_STORAGE_QUERY_PROPERTY:
            if data[0] == 6:
                if disk.sector == 512:
                    raise winerror(1)
                return struct.pack("<IIIIIII", 28, 28, 0, 0, disk.sector, 4096, 0)
            return disk.described
        if code == records.IOCTL_DISK_GET_DRIVE_GEOMETRY_EX:
            return struct.pack("<QIIIIQ", 1, 12, 255, 63, disk.sector, disk.size) + bytes(8)
        if code == records.IOCTL_DISK_IS_WRITABLE and not disk.writable:
            raise winerror(19)
        if code == records.IOCTL_STORAGE_GET_DEVICE_NUMBER:
            return struct.pack("<III", 7, disk.number, 0)
        if code == records.IOCTL_DISK_GET_DRIVE_LAYOUT_EX:
            entries = b"".join(
                struct.pack("<IIQQI4x", 1, 0, 1 << 20, 1 << 30, 1) + kind + bytes(96) for kind in disk.partition_types
            )
            return struct.pack("<II", 1, len(disk.partition_types)).ljust(48, b"\0") + entries
        if code == records.IOCTL_DISK_UPDATE_PROPERTIES:
            self.log.append("update properties")
        return b""

    def control_volume(self, path: str, code: int) -> bytes:
        if code == records.IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS:
            extents = self.volume_list[path][0]
            return struct.pack("<II", len(extents), 0) + b"".join(
                struct.pack("<IIQQ", n, 0, 1 << 20, size) for n, size in extents
            )
        if code == records.FSCTL_LOCK_VOLUME and path in self.busy:
            raise winerror(5)
        self.log.append({records.FSCTL_LOCK_VOLUME: "lock", records.FSCTL_DISMOUNT_VOLUME: "dismount"}[code])
        return b""

    def read(self, handle: int, view: memoryview, offset: int) -> int:
        if self.read_error:
            raise winerror(self.read_error)
        assert (
            offset % self.disk(self.handles[handle]).sector == len(view) % self.disk(self.handles[handle]).sector == 0
        )
        view[:] = self.data.get((offset, len(view)), bytes(len(view)))
        return len(view)

    def write(self, handle: int, data: memoryview, offset: int) -> int:
        assert "dismount" in self.log or not self.volume_list
        self.data[offset, len(data)] = bytes(data)
        return len(data)

    def flush(self, handle: int) -> None:
        self.log.append("flush")

    def volumes(self) -> list[str]:
        return list(self.volume_list)

    def mount_points(self, volume: str) -> list[str]:
        return self.volume_list[volume][1]

    def volume_texts(self, volume: str) -> tuple[str, str]:
        return self.volume_list[volume][2], self.volume_list[volume][3]

    def windows_folder(self) -> str:
        return r"C:\WINDOWS"


@pytest.fixture
def bench() -> Bench:
    return Bench(
        [
            Disk(0, descriptor("", "Keelson 512", "KS-1", 17, False), 512 * GB),
            Disk(1, descriptor("Tidewell", "Gangway Pro", "GP-2", 7, True), 16 * GB),
            Disk(2, descriptor("Tidewell", "Harbour Archive", "HA-3", 7, False), 4000 * GB, 4096),
            Disk(4, descriptor("Mudlark", "Card Reader", "", 12, True), 32 * GB, writable=False),
            Disk(5, descriptor("", "Quay Disk", "Q-5", 11, False), 2000 * GB, partition_types=(POOL,)),
        ],
        {
            r"\\?\Volume{1}": ([(0, 500 * GB)], ["C:\\"], "System", "NTFS"),
            r"\\?\Volume{2}": ([(1, 16 * GB)], ["E:\\", r"C:\Mounted\Stick" + "\\"], "TIMETABLES", "FAT32"),
            r"\\?\Volume{3}": ([(2, 2000 * GB), (5, 2000 * GB)], [], "Both", "NTFS"),
        },
    )


def test_drives_are_found_and_held_back_as_they_are(bench: Bench) -> None:
    host = WindowsHost(bench)
    told = {drive.model: drive for drive in host.drives()}
    assert {model: held_back(drive) for model, drive in told.items()} == {
        "Keelson 512": ("holds this computer's system", "is built into this computer", "is in use: C:\\"),
        "Tidewell Gangway Pro": ("is in use: E:\\, C:\\Mounted\\Stick\\",),
        "Tidewell Harbour Archive": (),
        "Mudlark Card Reader": ("is read-only",),
        "Quay Disk": ("is built into this computer", "carries a member of a storage pool"),
    }
    stick, archive = told["Tidewell Gangway Pro"], told["Tidewell Harbour Archive"]
    assert (stick.serial, stick.size, stick.bus, stick.volumes) == (
        "GP-2",
        16 * GB,
        "USB",
        ("FAT32 'TIMETABLES' 14.9 GiB",),
    )
    assert (archive.sector_size, archive.physical_sector_size) == (4096, 4096)
    assert host.disks_below(Path(r"C:\images\installer.iso")) == {Path(r"\\.\PhysicalDrive0")}
    assert host.disks_below(Path(r"C:\Mounted\Stick\installer.iso")) == {Path(r"\\.\PhysicalDrive1")}
    bench.administrator = False
    assert {drive.model for drive in host.drives()} == set(told), "listing needed rights"


def test_volumes_are_locked_before_and_released_after_writing(bench: Bench) -> None:
    host = WindowsHost(bench)
    stick = next(drive for drive in host.drives() if drive.serial == "GP-2")
    with pytest.raises(ProtectError, match="in use: E:"):
        open_confirmed(host, stick)
    handle = open_confirmed(host, stick, lifted={Guard.IN_USE}, sources=[Path(r"C:\installer.iso")])
    assert bench.log == [r"open \\?\Volume{2}", "lock", "dismount", r"open \\.\PhysicalDrive1"]
    handle.write_at(1 << 20, memoryview(b"x" * 512))
    assert handle.read_at(1 << 20, 100) == b"x" * 100
    handle.flush()
    assert host.tell_of_table(handle, []) == "The system has read the new table."
    handle.close()
    assert bench.log[-3:] == ["update properties", r"close \\.\PhysicalDrive1", r"close \\?\Volume{2}"]
    assert "Safe to unplug" in host.eject(stick)


@pytest.mark.parametrize(
    ("spoil", "kind", "told"),
    [
        (lambda bench: bench.busy.add(r"\\?\Volume{2}"), ProtectError, "E:.* in use by a program"),
        (lambda bench: setattr(bench, "administrator", False), NoRights, "denied"),
    ],
)
def test_what_cannot_be_locked_is_not_written(bench: Bench, spoil, kind: type[Exception], told: str) -> None:
    host = WindowsHost(bench)
    stick = next(drive for drive in host.drives() if drive.serial == "GP-2")
    spoil(bench)
    with pytest.raises(kind, match=told) as raised:
        open_confirmed(host, stick, lifted={Guard.IN_USE})
    if kind is NoRights:
        assert "Run as administrator" in raised.value.advice  # type: ignore[attr-defined]
    assert sum(step.startswith("open") for step in bench.log) == sum(step.startswith("close") for step in bench.log)
    assert not bench.data


def test_windows_errors_are_told_apart(bench: Bench) -> None:
    host = WindowsHost(bench)
    handle = host.open(next(drive for drive in host.drives() if drive.serial == "HA-3"), write=False)
    for number, kind in ((1117, Transient), (1167, DriveGone), (23, Transient)):
        bench.read_error = number
        with pytest.raises(kind, match=r"PhysicalDrive2\), reading at byte 0"):
            handle.read_at(0, 10)


def test_damaged_answers_leave_a_drive_out_instead_of_guessing(bench: Bench) -> None:
    for cut in range(0, 60, 7):
        bench.disks[1].described = descriptor("Tidewell", "Gangway Pro", "GP-2", 7, True)[:cut]
        for drive in WindowsHost(bench).drives():
            assert drive.model != "Gangway Pro" or cut >= 36
