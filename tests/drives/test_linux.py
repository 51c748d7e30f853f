"""Recorded descriptions of made-up machines drive what is listed, how it is named, and what is held back."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from lucky_keystone.drives.drive import Drive
from lucky_keystone.drives.guards import held_back
from lucky_keystone.drives.linux.find import LinuxFinder

PCI = "devices/pci0000:00/0000:00:14.0"
GIB = 1 << 30


@dataclass
class Computer:
    """Writes what a Linux kernel shows of a computer below a folder."""

    root: Path
    numbers: itertools.count[int] = field(default_factory=lambda: itertools.count(1))
    mounts: list[str] = field(default_factory=list)
    swaps: list[str] = field(default_factory=list)

    def put(self, path: str, text: object) -> None:
        place = self.root / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(f"{text}\n")

    def block(self, name: str, size: int, folder: str | None = None, **udev: str) -> str:
        """Make a block device; return its "major:minor"."""
        folder = folder or f"sys/block/{name}"
        number = f"8:{next(self.numbers)}"
        self.put(f"{folder}/size", size // 512)
        self.put(f"{folder}/dev", number)
        self.put(f"{folder}/ro", 0)
        self.put(f"{folder}/removable", 0)
        self.put(f"{folder}/queue/logical_block_size", 512)
        if udev:
            self.put(f"run/udev/data/b{number}", "\n".join(f"E:{key}={value}" for key, value in udev.items()))
        return number

    def disk(
        self, name: str, size: int, device: str, *, attributes: dict[str, object] | None = None, **udev: str
    ) -> str:
        """Make a disk behind the bus place `device`.

        `attributes` are files of the disk or, as device/…, of the device.
        """
        number = self.block(name, size, **udev)
        (self.root / "sys" / device).mkdir(parents=True, exist_ok=True)
        (self.root / "sys/block" / name / "device").symlink_to(self.root / "sys" / device)
        for key, value in (attributes or {}).items():
            self.put(f"sys/block/{name}/{key}", value)
        return number

    def stick(
        self,
        name: str,
        size: int,
        *,
        port: str = "2-1",
        serial: str = "",
        speed: int = 5000,
        version: str = "3.20",
        unit: int = 0,
    ) -> str:
        """Make a USB stick of one model."""
        place = f"{PCI}/usb{port[0]}/{port}"
        for key, value in {
            "idVendor": "1d6b",
            "product": "Gangway Pro",
            "serial": serial,
            "speed": speed,
            "version": version,
        }.items():
            if value:
                self.put(f"sys/{place}/{key}", value)
        device = f"{place}/{port}:1.0/host6/target6:0:0/6:0:0:{unit}"
        return self.disk(
            name, size, device, attributes={"removable": 1, "device/vendor": "Tidewell", "device/model": "Gangway Pro"}
        )

    def partition(self, disk: str, number: int, size: int, **udev: str) -> str:
        name = f"{disk}p{number}" if disk[-1].isdigit() else f"{disk}{number}"
        self.put(f"sys/block/{disk}/{name}/partition", number)
        return self.block(name, size, f"sys/block/{disk}/{name}", **udev)

    def mount(self, number: str, point: str, kind: str = "ext4", source: str = "/dev/x") -> None:
        self.mounts.append(f"36 35 {number} / {point} rw,relatime shared:1 - {kind} {source} rw")

    def holder(self, below: str, name: str, size: int, **attributes: object) -> str:
        """Make a mapped device or RAID upon the block device whose folder is `below`."""
        number = self.block(name, size)
        self.put(f"{below}/holders/{name}/x", "")
        for key, value in attributes.items():
            self.put(f"sys/block/{name}/{key.replace('__', '/')}", value)
        return number

    def host(self) -> LinuxFinder:
        self.put("proc/self/mountinfo", "\n".join(self.mounts))
        self.put(
            "proc/swaps",
            "Filename Type Size Used Priority\n" + "\n".join(f"{name} partition 1 0 -2" for name in self.swaps),
        )
        return LinuxFinder(self.root)


def nvme(computer: Computer) -> str:
    attributes = {"device/model": "Keelson NV", "device/serial": "KN77"}
    return computer.disk("nvme0n1", 256 * GIB, f"{PCI}/nvme/nvme0", attributes=attributes)


def laptop(computer: Computer) -> None:
    nvme(computer)
    computer.mount(computer.partition("nvme0n1", 1, GIB, ID_FS_TYPE="vfat"), "/boot/efi", "vfat")
    computer.mount(computer.partition("nvme0n1", 2, 200 * GIB), "/")
    computer.stick("sda", 64 * 10**9, serial="AA11")


def mounted_stick(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, serial="AA11")
    computer.mount(
        computer.partition("sda", 1, 60 * 10**9, ID_FS_TYPE="vfat", ID_FS_LABEL="CREW"), "/media/deck\\040two", "vfat"
    )


def encrypted_lvm(computer: Computer) -> None:
    """Partition, unlocked encryption, two LVM volumes: root and swap."""
    nvme(computer)
    computer.partition("nvme0n1", 3, 200 * GIB, ID_FS_TYPE="crypto_LUKS")
    computer.holder("sys/block/nvme0n1/nvme0n1p3", "dm-0", 200 * GIB, dm__uuid="CRYPT-LUKS2-77-luks", dm__name="luks")
    root = computer.holder("sys/block/dm-0", "dm-1", 100 * GIB, dm__uuid="LVM-abc", dm__name="ship-root")
    computer.holder("sys/block/dm-0", "dm-2", 8 * GIB, dm__uuid="LVM-abd", dm__name="ship-swap")
    computer.mount(root, "/")
    computer.swaps.append("/dev/dm-2")


def raid(computer: Computer) -> None:
    """A mirror of two external disks, assembled but not mounted."""
    for name, port in (("sda", "2-1"), ("sdb", "2-2")):
        computer.stick(name, 2 * 10**12, port=port, serial=f"R{name}")
        computer.partition(name, 1, 10**12, ID_FS_TYPE="linux_raid_member")
        computer.holder(f"sys/block/{name}/{name}1", "md127", 10**12)


def live_system(computer: Computer) -> None:
    """Started from a stick: a compressed image on it is the root's lower layer."""
    computer.stick("sda", 16 * 10**9, serial="LIVE")
    computer.mount(computer.partition("sda", 1, 15 * 10**9, ID_FS_TYPE="vfat"), "/run/live/medium", "vfat")
    image = computer.block("loop0", 2 * GIB)
    computer.put("sys/block/loop0/loop/backing_file", "/run/live/medium/live/system.squashfs")
    computer.mount(image, "/run/live/rootfs", "squashfs")
    computer.mount("0:25", "/", "overlay", "overlay")


def btrfs_by_source(computer: Computer) -> None:
    """btrfs shows a number of its own in mountinfo; only the source names the device."""
    computer.stick("sda", 64 * 10**9, serial="B")
    computer.partition("sda", 1, 60 * 10**9)
    computer.mount("0:41", "/srv/archive", "btrfs", "/dev/sda1")


def btrfs_second_device(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, serial="B")
    computer.put("sys/fs/btrfs/77/devices/sda/x", "")


def zfs(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, serial="Z")
    computer.partition("sda", 1, 60 * 10**9, ID_FS_TYPE="zfs_member")


def swap(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, serial="S")
    computer.partition("sda", 1, 8 * 10**9)
    computer.swaps.append("/dev/sda1")


def twins(computer: Computer) -> None:
    """Two sticks of one model without serial numbers."""
    computer.stick("sda", 64 * 10**9, port="2-1")
    computer.stick("sdb", 64 * 10**9, port="2-2")


def numbered_twins(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, port="2-1", serial="A1")
    computer.stick("sdb", 64 * 10**9, port="2-2", serial="A2")


def card_reader(computer: Computer) -> None:
    """Two slots with one serial number, a third one empty."""
    for unit, (name, size) in enumerate((("sda", 32 * 10**9), ("sdb", 32 * 10**9), ("sdc", 0))):
        computer.stick(name, size, serial="READER", unit=unit, speed=480, version="2.00")


def built_in_card_slot(computer: Computer) -> None:
    """A card in a slot of its own, and soldered storage beside it."""
    for name, size, kind in (("mmcblk0", 64 * 10**9, "SD"), ("mmcblk1", 32 * 10**9, "MMC")):
        attributes = {"device/type": kind, "device/name": "SHIP", "device/serial": name}
        computer.disk(name, size, f"{PCI}/mmc_host/{name}/{name}:0001", attributes=attributes)


def slow_port(computer: Computer) -> None:
    computer.stick("sda", 64 * 10**9, port="1-3", serial="AA11", speed=480, version="3.10")


def large_sectors(computer: Computer) -> None:
    """An external disk with sectors of 4096 bytes; sysfs tells sizes in 512 bytes all the same."""
    computer.stick("sda", 4 * 10**12, serial="K4")
    computer.put("sys/block/sda/queue/logical_block_size", 4096)
    computer.put("sys/block/sda/queue/physical_block_size", 4096)


def locked_card(computer: Computer) -> None:
    computer.stick("sda", 8 * 10**9, serial="L")
    computer.put("sys/block/sda/ro", 1)


def inner_sata(computer: Computer) -> None:
    """A disk that nothing uses, but built in: a second disk of a desktop, say."""
    attributes = {"device/vendor": "ATA", "device/model": "Keelson 256"}
    computer.disk(
        "sda", 256 * 10**9, f"{PCI}/ata3/host2/target2:0:0/2:0:0:0", attributes=attributes, ID_SERIAL_SHORT="KS9913"
    )


def loop_device(computer: Computer) -> None:
    computer.block("loop7", 100 << 20)
    computer.put("sys/block/loop7/loop/backing_file", "/srv/images/counter.img")
    computer.put("sys/block/loop7/device/x", "")


RAID_MEMBER = ["is part of the RAID md127", "carries a member of RAID"]
SYSTEM, BUILT_IN = "holds this computer's system", "is built into this computer"
TWIN = "cannot be told apart from another drive with the same model, serial and size"
UNLOCKED = ["carries an unlocked encrypted volume luks", "carries LVM volume ship-root", "carries LVM volume ship-swap"]
MACHINES: list[tuple[Callable[[Computer], None], dict[str, list[str]]]] = [
    (laptop, {"nvme0n1": [SYSTEM, BUILT_IN, "is in use: /boot/efi, /"], "sda": []}),
    (mounted_stick, {"sda": ["is in use: /media/deck two"]}),
    (encrypted_lvm, {"nvme0n1": [SYSTEM, BUILT_IN, "is in use: /", *UNLOCKED]}),
    (raid, {"sda": RAID_MEMBER, "sdb": RAID_MEMBER}),
    (live_system, {"sda": ["holds this computer's system", "is in use: /run/live/medium, /run/live/rootfs"],
                   "loop0": ["holds this computer's system", "is in use: /run/live/rootfs"]}),
    (btrfs_by_source, {"sda": ["is in use: /srv/archive"]}),
    (btrfs_second_device, {"sda": ["is in use: a btrfs volume"]}),
    (zfs, {"sda": ["carries a member of a ZFS pool"]}),
    (swap, {"sda": ["holds this computer's system"]}),
    (twins, {name: [TWIN] for name in ("sda", "sdb")}),
    (numbered_twins, {"sda": [], "sdb": []}),
    (card_reader, {"sda": [], "sdb": []}),
    (built_in_card_slot, {"mmcblk0": [], "mmcblk1": ["is built into this computer"]}),
    (slow_port, {"sda": []}),
    (large_sectors, {"sda": []}),
    (locked_card, {"sda": ["is read-only"]}),
    (inner_sata, {"sda": ["is built into this computer"]}),
    (loop_device, {"loop7": []}),
]  # fmt: skip


def drives_of(describe: Callable[[Computer], None], folder: Path) -> dict[str, Drive]:
    computer = Computer(folder)
    describe(computer)
    return {drive.path.name: drive for drive in computer.host().drives()}


@pytest.mark.parametrize(("describe", "expected"), MACHINES, ids=lambda value: getattr(value, "__name__", ""))
def test_what_is_listed_and_why_it_is_held_back(
    describe: Callable[[Computer], None], expected: dict[str, list[str]], tmp_path: Path
) -> None:
    drives = drives_of(describe, tmp_path)

    assert {name: list(held_back(drive, tuple(drives.values()))) for name, drive in drives.items()} == expected


def test_what_a_technician_compares(tmp_path: Path) -> None:
    stick = drives_of(slow_port, tmp_path / "a")["sda"]
    assert (stick.model, stick.serial, stick.bus, stick.removable) == ("Tidewell Gangway Pro", "AA11", "USB", True)
    assert stick.speed == "480 Mbit/s, a fast stick on a slow port"
    disk = drives_of(large_sectors, tmp_path / "b")["sda"]
    assert (disk.size, disk.sector_size, disk.physical_sector_size) == (4 * 10**12 // 512 * 512, 4096, 4096)
    mounted = drives_of(mounted_stick, tmp_path / "c")["sda"]
    assert mounted.volumes == ("FAT 'CREW' 55.9 GiB",)
    slots = drives_of(card_reader, tmp_path / "d")
    assert len({drive.tag for drive in slots.values()}) == 2
    assert drives_of(inner_sata, tmp_path / "e")["sda"].model == "Keelson 256"


def test_a_tag_survives_replugging_and_renumbering(tmp_path: Path) -> None:
    """The same stick in another port, found as another name, has its tag still."""
    first, second = Computer(tmp_path / "a"), Computer(tmp_path / "b")
    first.stick("sda", 64 * 10**9, port="2-1", serial="AA11")
    second.stick("sda", 32 * 10**9, port="2-1", serial="OTHER")
    second.stick("sdc", 64 * 10**9, port="2-4", serial="AA11")

    (before,) = first.host().drives()
    after = {drive.path.name: drive.tag for drive in second.host().drives()}
    assert after["sdc"] == before.tag != after["sda"]


def test_the_disk_below_a_source_is_found_through_lvm(tmp_path: Path) -> None:
    computer = Computer(tmp_path)
    encrypted_lvm(computer)
    number = (tmp_path / "sys/block/dm-1/dev").read_text().strip()

    assert computer.host().disks_holding(number, "") == {Path("/dev/nvme0n1")}
    assert computer.host().disks_holding("0:77", "/images/installer.iso") == {Path("/dev/nvme0n1")}, (
        "by its mount point"
    )
    assert computer.host().disks_holding("99:99", "") == frozenset()


def test_a_hostile_description_gives_no_traceback(tmp_path: Path) -> None:
    computer = Computer(tmp_path)
    laptop(computer)
    host = computer.host()
    computer.put("sys/block/sda/size", "many")
    computer.put("proc/self/mountinfo", "garbage\n36 35 8:1\n- - -\n" * 3)
    computer.put("run/udev/data/b8:1", "E:\nE:=\nX")
    computer.put("sys/block/nvme0n1/holders/nvme0n1/x", "")

    assert [drive.path.name for drive in host.drives()] == ["nvme0n1"]
