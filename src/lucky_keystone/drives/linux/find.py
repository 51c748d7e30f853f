"""Finds the drives of a Linux computer from the kernel's own description (sysfs, mounts, swaps) and udev's database.

Nothing is opened but text files, so no rights are needed. `root` comes before every path: the tests give recorded
descriptions of other machines there. What depends on a drive is followed upwards: partitions, RAID, LVM, encryption,
and loop devices whose file lies on one of its volumes.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path, PurePosixPath

from msgspec import Struct, field

from ...common.units import shown_size
from ...content.discs import DiscState, disc_state
from ..drive import Drive
from ..optical import OpticalDrive

_NOT_DRIVES = ("ram", "zram", "dm-", "md", "sr", "fd", "nbd")
_SYSTEM_MOUNTS = ("/", "/boot", "/boot/efi", "/efi", "/usr", "/var", "/home", "/nix", "/ostree", "/sysroot")
_LIVE_MOUNTS = ("/run/live", "/run/initramfs", "/lib/live", "/cdrom", "/run/overlay", "/run/rootfsbase", "/isodevice")
_MEMBERS = {"linux_raid_member": "RAID", "LVM2_member": "LVM", "zfs_member": "a ZFS pool", "crypto_LUKS": ""}
_FILE_SYSTEMS = {"vfat": "FAT", "ntfs": "NTFS", "exfat": "exFAT", "crypto_LUKS": "encrypted", "": "not known"}


class _Mount(Struct):
    device: str  # "major:minor"
    point: str
    source: str  # "/dev/sda2"; the only link to the device for some file systems


class _Block(Struct):
    """A disk, partition or mapped device as sysfs shows it."""

    name: str
    path: Path
    udev: dict[str, str] = field(default_factory=dict)

    def text(self, name: str) -> str:
        return _text(self.path / name)

    def number(self, name: str) -> int:
        value = self.text(name)
        return int(value) if value.isdigit() else 0


class LinuxFinder:
    """One computer's description, read once when it is first asked for."""

    def __init__(self, root: Path = Path("/")) -> None:
        self._root = root

    def drives(self) -> tuple[Drive, ...]:
        """Return every drive with a medium, in the kernel's order."""
        return tuple(drive for drive, _ in self._found())

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        """Return every optical drive, with a disc or without."""
        found: list[OpticalDrive] = []
        for path in sorted((self._root / "sys/block").glob("sr*")):
            block = self._block(path.name, path)
            device, size = Path("/dev") / path.name, 512 * block.number("size")
            state = disc_state(device) if self._root == Path("/") else DiscState.UNKNOWN
            size = 0 if state in (DiscState.NONE, DiscState.OPEN) else size  # of no disc the kernel keeps the last size
            found.append(OpticalDrive(device, self._model(block, None), state, size))
        return tuple(found)

    def _found(self) -> Iterator[tuple[Drive, list[_Block]]]:
        """Yield each drive with everything built upon it, itself first."""
        for path in sorted((self._root / "sys/block").glob("*")):
            if path.name.startswith(_NOT_DRIVES):
                continue
            block = self._block(path.name, path)
            if block.number("size"):
                yield self._drive(block), list(self._dependents(block))

    def disks_holding(self, device: str, path: str) -> frozenset[Path]:
        """Return the drives below a file or device: `device` is its "major:minor", `path` where it lies.

        Several for a file on RAID or LVM over several disks. The mount point counts too: some file systems (btrfs)
        have device numbers that no block device has.
        """
        points = [mount.point for mount in self._mounts if path.startswith(mount.point.rstrip("/") + "/")]
        point = max(points, key=len, default="")
        return frozenset(
            drive.path
            for drive, blocks in self._found()
            if any(block.text("dev") == device or (point and point in self._mounted(block)) for block in blocks)
            or (path and blocks[0].text("loop/backing_file") == path)
        )

    def drive_numbered(self, device: str) -> Drive | None:
        """Return the drive that has this "major:minor" itself (not one of its partitions)."""
        return next((drive for drive, blocks in self._found() if blocks[0].text("dev") == device), None)

    # -- one drive -----------------------------------------------------------------------------------------------

    def _drive(self, disk: _Block) -> Drive:
        device = (disk.path / "device").resolve()
        usb = next((up for up in (device, *device.parents) if (up / "idVendor").exists()), None)
        bus = self._bus(disk, device, usb)
        dependents = list(self._dependents(disk))
        mounts = tuple(dict.fromkeys(point for block in dependents for point in self._mounted(block)))
        external = bus in ("USB", "SD card", "FireWire", "Thunderbolt", "loop")
        removable = disk.text("removable") == "1"
        return Drive(
            path=Path("/dev") / disk.name,
            model=self._model(disk, usb),
            serial=self._serial(disk, device, usb),
            size=disk.number("size") * 512,  # sysfs counts in 512 bytes whatever the sectors are
            sector_size=disk.number("queue/logical_block_size") or 512,
            bus=bus,
            speed=_speed(usb),
            removable=removable,
            internal=not external and not removable,
            holds_system=any(point in _SYSTEM_MOUNTS or point.startswith(_LIVE_MOUNTS) for point in mounts)
            or self._swaps(dependents),
            read_only=disk.text("ro") == "1",
            mounts=mounts,
            uses=tuple(dict.fromkeys(use for block in dependents for use in self._uses(block, disk))),
            members=tuple(dict.fromkeys(member for block in dependents for member in self._members(block))),
            volumes=tuple(self._volume(partition) for partition in self._partitions(disk)) or self._whole(disk),
            physical_sector_size=disk.number("queue/physical_block_size") or 512,
        )

    def _bus(self, disk: _Block, device: Path, usb: Path | None) -> str:
        if disk.name.startswith("loop"):
            return "loop"
        if disk.name.startswith("mmcblk"):  # soldered storage calls itself MMC, cards SD
            return "SD card" if _text(device / "type") == "SD" else "MMC"
        place = device.as_posix()
        for sign, name in (("/nvme", "NVMe"), ("/virtio", "VirtIO"), ("/fw", "FireWire"), ("/ata", "SATA")):
            if sign in place and usb is None:
                return name
        return "USB" if usb else disk.udev.get("ID_BUS", "").upper() or "not known"

    def _model(self, disk: _Block, usb: Path | None) -> str:
        if disk.name.startswith("loop"):
            return PurePosixPath(disk.text("loop/backing_file")).name or disk.name
        vendor, model = disk.text("device/vendor"), disk.text("device/model") or disk.text("device/name")
        if vendor.startswith("0x") or vendor == "ATA":  # a number, or what every SATA disk says
            vendor = ""
        answer = " ".join(word for word in (vendor, model) if word)
        product = _text(usb / "product") if usb else ""
        return answer or product or disk.udev.get("ID_MODEL", "").replace("_", " ") or disk.name

    def _serial(self, disk: _Block, device: Path, usb: Path | None) -> str:
        if disk.name.startswith("loop"):
            return disk.text("loop/backing_file")
        serial = disk.udev.get("ID_SERIAL_SHORT") or disk.text("device/serial") or disk.text("serial")
        serial = serial or (_text(usb / "serial") if usb else "") or disk.text("device/wwid")
        unit = device.name.rsplit(":", 1)[-1]  # a reader with several slots has one serial for all of them
        return f"{serial} unit {unit}" if serial and usb and unit.isdigit() and unit != "0" else serial

    # -- what depends on it --------------------------------------------------------------------------------------

    def _block(self, name: str, path: Path) -> _Block:
        number = _text(path / "dev")
        lines = _text(self._root / "run/udev/data" / f"b{number}").splitlines() if number else []
        pairs = (line[2:].split("=", 1) for line in lines if line.startswith("E:") and "=" in line)
        return _Block(name, path, dict(pairs))

    def _partitions(self, disk: _Block) -> list[_Block]:
        found = (path.parent for path in disk.path.glob("*/partition"))
        return sorted((self._block(path.name, path) for path in found), key=lambda block: block.number("partition"))

    def _dependents(self, disk: _Block) -> Iterator[_Block]:
        """Yield the disk, its partitions, and everything built upon them."""
        waiting, seen = [disk], set[str]()
        while waiting:
            block = waiting.pop(0)
            if block.name in seen:
                continue
            seen.add(block.name)
            yield block
            waiting += self._partitions(block)
            holders = (self._root / "sys/block" / path.name for path in sorted((block.path / "holders").glob("*")))
            waiting += [self._block(path.name, path) for path in holders]
            points = self._mounted(block)
            waiting += [loop for loop, point in self._loops if point in points]
            waiting += [loop for loop in self._attached if self._lies_on(loop, block)]

    @cached_property
    def _attached(self) -> list[_Block]:
        """Loop devices that have a file or a disk behind them."""
        found = (self._block(path.name, path) for path in sorted((self._root / "sys/block").glob("loop*")))
        return [block for block in found if block.text("loop/backing_file")]

    def _lies_on(self, loop: _Block, block: _Block) -> bool:
        """Tell whether a loop device has a block device, or the file of another loop device, behind it."""
        behind, other = loop.text("loop/backing_file"), block.text("loop/backing_file")
        return behind == f"/dev/{block.name}" or bool(other and _is_same_file(behind, other))

    @cached_property
    def _loops(self) -> list[tuple[_Block, str]]:
        """Loop devices with the mount point their file lies below."""
        found = []
        for block in self._attached:
            file = block.text("loop/backing_file")
            points = [mount.point for mount in self._mounts if file.startswith(mount.point.rstrip("/") + "/")]
            if points:
                found.append((block, max(points, key=len)))
        return found

    @cached_property
    def _mounts(self) -> list[_Mount]:
        """/proc/self/mountinfo (proc(5)): fields 3 and 5, and the source behind the dash."""
        mounts = []
        for line in _text(self._root / "proc/self/mountinfo").splitlines():
            words = line.split(" ")
            if len(words) < 10 or "-" not in words:
                continue
            source = words[words.index("-") + 2] if words.index("-") + 2 < len(words) else ""
            mounts.append(_Mount(words[2], _unescaped(words[4]), _unescaped(source)))
        return mounts

    def _mounted(self, block: _Block) -> list[str]:
        number, names = block.text("dev"), {f"/dev/{block.name}", f"/dev/mapper/{block.text('dm/name')}"}
        btrfs = {path.parent.parent.name for path in (self._root / "sys/fs/btrfs").glob(f"*/devices/{block.name}")}
        points = [mount.point for mount in self._mounts if mount.device == number or mount.source in names]
        if btrfs and not points:  # a further device of a file system that is mounted by its first one
            points = ["a btrfs volume"]
        return points

    def _swaps(self, blocks: list[_Block]) -> bool:
        names = {line.split()[0] for line in _text(self._root / "proc/swaps").splitlines()[1:] if line.split()}
        return any(f"/dev/{block.name}" in names for block in blocks)

    def _uses(self, block: _Block, disk: _Block) -> Iterator[str]:
        kind = block.text("dm/uuid").split("-", 1)[0]
        if block.name.startswith("md"):
            yield f"is part of the RAID {block.name}"
        elif kind in ("LVM", "CRYPT") and block.name != disk.name:
            yield f"carries {'LVM' if kind == 'LVM' else 'an unlocked encrypted'} volume {block.text('dm/name')}"
        elif block.name.startswith("dm-"):
            yield f"is used by {block.text('dm/name') or block.name}"

    def _members(self, block: _Block) -> Iterator[str]:
        member = _MEMBERS.get(block.udev.get("ID_FS_TYPE", ""))
        if member:
            yield f"carries a member of {member}"

    def _volume(self, block: _Block) -> str:
        kind, label = block.udev.get("ID_FS_TYPE", ""), block.udev.get("ID_FS_LABEL", "")
        size = shown_size(block.number("size") * 512)
        return f"{_FILE_SYSTEMS.get(kind, kind)} {repr(label) + ' ' if label else ''}{size}"

    def _whole(self, disk: _Block) -> tuple[str, ...]:
        return (self._volume(disk) + " without a table",) if disk.udev.get("ID_FS_TYPE") else ()


def _is_same_file(one: str, other: str) -> bool:
    """Tell whether two paths name the same file: by name, or where both can be looked at by device and number."""
    if one == other:
        return True
    try:
        return os.path.samestat(Path(one).stat(), Path(other).stat())
    except OSError:
        return False


def _speed(usb: Path | None) -> str:
    """The link's speed, and a hint when the stick could do more than its port."""
    if usb is None:
        return ""
    speed, version = _text(usb / "speed"), _text(usb / "version")
    rate = {"12": "12 Mbit/s", "480": "480 Mbit/s", "5000": "5 Gbit/s", "10000": "10 Gbit/s", "20000": "20 Gbit/s"}.get(
        speed, ""
    )
    # 2.10 is what devices of USB 3 call themselves where their port is of USB 2.
    slow = speed in ("12", "480") and version.strip() >= "2.1"
    return rate + (", a fast stick on a slow port" if slow else "")


def _text(path: Path) -> str:
    try:
        return path.read_text("utf-8", "replace").strip().strip("\0")
    except OSError:
        return ""


def _unescaped(text: str) -> str:
    """Undo the octal escapes of mountinfo (proc(5)): blank, tab, line feed, backslash."""
    for code, character in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
        text = text.replace(code, character)
    return text
