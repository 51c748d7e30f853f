"""A model of what Windows' kernel does with disks, volumes and locks, behind the calls that the program makes.

    python -m tests.windows.kernel BENCH.json drives        (here, and under the Windows interpreter of a lane)

A bench is a folder: disks are files in it, `bench.json` says what they are and what is wrong with them. Volumes come of
the table, which is *cached* until somebody asks to have it read again; they are mounted by what their boot sector
says now. Each refusal is noted in `log.txt`, and what is left at the end of a process: handles, locks.
"""

from __future__ import annotations

import _thread
import contextlib
import json
import os
import re
import struct
import sys
import time
import uuid
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

NOT_FOUND, PATH_NOT_FOUND, DENIED, INVALID_FUNCTION, WRITE_PROTECT, NOT_READY = 2, 3, 5, 1, 19, 21
SHARING, INVALID_PARAMETER, INVALID_NAME, GONE = 32, 87, 123, 1167
POOL = uuid.UUID("e75caf8f-f680-4cee-afa3-b001e56efc2d").bytes_le
BASIC = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7").bytes_le
SYSTEM_LETTER = "C:\\"


def winerror(number: int) -> OSError:
    # As ctypes makes it: the C runtime's number is often a misleading one.
    errno_of = {2: 2, 3: 2, 5: 13, 19: 13, 21: 13, 23: 13, 27: 13, 32: 13, 112: 28}
    error = OSError(errno_of.get(number, 22), f"error {number} of Windows")
    error.winerror = number  # type: ignore[attr-defined]
    return error


@dataclass
class Handle:
    path: str
    disk: dict[str, Any] | None
    volume: str | None
    read: bool
    write: bool
    is_locked: bool = False


@dataclass
class Kernel:
    """Behind `drives.windows.system.WindowsSystem`."""

    folder: Path
    handles: dict[int, Handle] = field(default_factory=dict)
    bench: dict[str, Any] = field(default_factory=dict)
    written: int = 0
    """Bytes, in this process."""

    def __post_init__(self) -> None:
        self.bench = json.loads((self.folder / "bench.json").read_text("utf-8"))
        self.bench.setdefault("administrator", True)
        for disk in self.bench["disks"]:
            if "known" not in disk:
                self._read_table(disk)
        self._save()

    # -- what is where -------------------------------------------------------------------------------------------

    def _save(self) -> None:
        (self.folder / "bench.json").write_text(json.dumps(self.bench, indent=1), "utf-8")

    def log(self, line: str) -> None:
        with (self.folder / "log.txt").open("a", encoding="utf-8") as out:
            out.write(line + "\n")

    def _file(self, disk: dict[str, Any]) -> Path:
        return self.folder / disk["file"]

    def _bytes(self, disk: dict[str, Any], offset: int, size: int) -> bytes:
        with self._file(disk).open("rb") as stream:
            stream.seek(offset)
            return stream.read(size)

    def _read_table(self, disk: dict[str, Any]) -> None:
        """Forget the volumes that were known, and make those that the table names."""
        sector = disk.get("sector", 512)
        disk["known"] = spans = []
        head = self._bytes(disk, 0, 512)
        if disk.get("offline") or disk.get("pool"):
            return
        if head[510:512] != b"\x55\xaa":
            if disk.get("removable"):  # the whole medium is a volume then
                spans.append([0, disk["size"]])
            return
        if _file_system(head):
            spans.append([0, disk["size"]])
            return
        for at in range(446, 510, 16):
            kind, first, count = head[at + 4], *struct.unpack_from("<II", head, at + 8)
            if kind == 0xEE:
                gpt = self._bytes(disk, sector, 92)
                if gpt[:8] == b"EFI PART":
                    table = self._bytes(disk, struct.unpack_from("<Q", gpt, 72)[0] * sector, 128 * 128)
                    for entry in range(0, len(table), 128):
                        if any(table[entry : entry + 16]):
                            start, end = struct.unpack_from("<QQ", table, entry + 32)
                            spans.append([start * sector, (end - start + 1) * sector])
                return
            if kind and count:
                spans.append([first * sector, count * sector])

    def _volumes(self) -> dict[str, tuple[dict[str, Any], int, int]]:
        found = {}
        for disk in self.bench["disks"]:
            if disk.get("is_gone"):
                continue
            for offset, size in disk["known"]:
                name = uuid.uuid5(uuid.NAMESPACE_OID, f"{disk['number']} {offset}")
                found[f"\\\\?\\Volume{{{name}}}"] = disk, offset, size
        for letter in self.bench.get("optical", {}):
            found[f"\\\\?\\Volume{{{uuid.uuid5(uuid.NAMESPACE_OID, letter)}}}"] = {"optical": letter}, 0, 0
        return found

    def mounted(self) -> list[tuple[int, str]]:
        """Return (disk, file system) of every volume that shows one to the running system."""
        found = [
            (disk["number"], _file_system(self._bytes(disk, offset, 512)))
            for disk, offset, _ in self._volumes().values()
            if "optical" not in disk
        ]
        return [pair for pair in found if pair[1]]

    def _disk(self, number: int) -> dict[str, Any] | None:
        return next((d for d in self.bench["disks"] if d["number"] == number and not d.get("is_gone")), None)

    # -- the seam ------------------------------------------------------------------------------------------------

    def open(self, path: str, *, read: bool, write: bool) -> int:
        disk = volume = None
        if path.startswith("\\\\.\\PhysicalDrive"):
            digits = path.removeprefix("\\\\.\\PhysicalDrive")
            disk = self._disk(int(digits)) if digits.isdecimal() else None
            if disk is None:
                raise winerror(PATH_NOT_FOUND if not digits.isdecimal() else NOT_FOUND)
        elif path.startswith("\\\\?\\GLOBALROOT\\Device\\HarddiskVolume"):
            disk = self._disk(int(path.rpartition("e")[2]))
            volume = next((n for n, (d, _, _) in self._volumes().items() if d is disk), None)
        elif path.startswith("\\\\.\\") and path[4:].upper() in self.bench.get("optical", {}):
            disk = {"optical": path[4:].upper()}
        else:
            if path not in self._volumes():
                raise winerror(NOT_FOUND)
            volume, disk = path, self._volumes()[path][0]
        if (read or write) and not self.bench["administrator"] and "optical" not in (disk or {}):
            raise winerror(DENIED)
        number = 100 + max(self.handles, default=0)
        self.handles[number] = Handle(path, disk, volume, read, write)
        return number

    def close(self, handle: int) -> None:
        del self.handles[handle]

    def control(self, handle: int, code: int, data: bytes, size: int) -> bytes:
        opened = self.handles[handle]
        disk = opened.disk or {}
        if disk.get("is_gone"):
            raise winerror(GONE)
        if "optical" in disk:
            return self._optical(disk["optical"], code, opened)
        if opened.volume is not None:
            return self._volume_control(opened, code)
        if disk.get("odd") and code in (0x2D1400, 0x70050):
            raise winerror(INVALID_FUNCTION)
        match code:
            case 0x2D1400:
                if data[0] == 6:
                    raise winerror(INVALID_FUNCTION)
                return _descriptor(disk)[: disk.get("tells")]
            case 0x700A0:
                return struct.pack("<QIIIIQ", 1, 12, 255, 63, disk.get("sector", 512), disk["size"]) + bytes(8)
            case 0x70024:
                if disk.get("read_only"):
                    raise winerror(WRITE_PROTECT)
                return b""
            case 0x2D1080:
                return struct.pack("<III", 7, disk["number"], 0)
            case 0x7405C:
                return struct.pack("<Q", disk["size"])
            case 0x70050:
                kinds = [POOL] if disk.get("pool") else [BASIC for _ in disk["known"]]
                parts = b"".join(
                    struct.pack("<IIQQI4x", 1, 0, 1 << 20, 1 << 30, 1) + kind + bytes(96) for kind in kinds
                )
                return struct.pack("<II", 1, len(kinds)).ljust(48, b"\0") + parts
            case 0x70140:
                self._read_table(disk)
                self._save()
                self.log(f"table of {disk['number']} read: {len(disk['known'])} volumes")
                return b""
            case 0x2D4804:
                return b""
            case 0x2D4808:
                if not disk.get("removable"):
                    raise winerror(INVALID_FUNCTION)
                disk["is_gone"] = True
                self._save()
                self.log(f"ejected {disk['number']}")
                return b""
        raise winerror(INVALID_FUNCTION)

    def _volume_control(self, opened: Handle, code: int) -> bytes:
        disk, offset, size = self._volumes()[opened.volume]  # type: ignore[index]
        match code:
            case 0x560000:
                return struct.pack("<IIIIQQ", 1, 0, disk["number"], 0, offset, size)
            case 0x2D1080:
                return struct.pack("<III", 7, disk["number"], 1)
            case 0x90018:
                if disk.get("busy", 0) > 0:
                    disk["busy"] -= 1
                    self._save()
                    raise winerror(DENIED)
                opened.is_locked = True
                return b""
            case 0x90020:
                if not opened.is_locked and disk.get("busy", 0):
                    raise winerror(DENIED)
                return b""
        raise winerror(INVALID_FUNCTION)

    def _optical(self, letter: str, code: int, opened: Handle) -> bytes:
        disc = self.bench["optical"][letter]
        match code:
            case 0x2D1080:
                return struct.pack("<III", 2, 0, 0xFFFF_FFFF)
            case 0x2D1400:
                return _descriptor({"vendor": "Paddle", "product": "Wheel DVD", "removable": True, "bus": 11})
            case 0x2D0800 | 0x7405C | 0x700A0:
                if disc is None:
                    raise winerror(NOT_READY)
                size = Path(disc).stat().st_size
                if code == 0x7405C:
                    return struct.pack("<Q", size)
                return struct.pack("<QIIIIQ", 1, 11, 1, 1, 2048, size) if code == 0x700A0 else b""
        raise winerror(INVALID_FUNCTION)

    def read(self, handle: int, view: memoryview, offset: int) -> int:
        _, disk = self._checked(handle, view, offset)
        for at, size, number in disk.get("bad_reads", []):
            if offset < at + size and at < offset + len(view):
                raise winerror(number)
        if "optical" in disk:
            for at, size, number in self.bench.get("bad_disc", []):
                if offset < at + size and at < offset + len(view):
                    raise winerror(number)
            with Path(self.bench["optical"][disk["optical"]]).open("rb") as stream:
                stream.seek(offset)
                return stream.readinto(view)
        data = self._bytes(disk, offset, len(view))
        view[: len(data)] = data
        return len(data)

    def write(self, handle: int, data: memoryview, offset: int) -> int:
        opened, disk = self._checked(handle, data, offset)
        if not opened.write:
            raise winerror(DENIED)
        if disk.get("read_only"):
            raise winerror(WRITE_PROTECT)
        for name, (other, start, size) in self._volumes().items():
            if other is not disk or not (offset < start + size and start < offset + len(data)):
                continue
            if any(each.volume == name and each.is_locked for each in self.handles.values()):
                continue
            if _file_system(self._bytes(disk, start, 512)):
                self.log(f"refused: write of {len(data)} at {offset} into a mounted volume of {disk['number']}")
                raise winerror(DENIED)
        for at, size, number in disk.get("bad_writes", []):
            if offset < at + size and at < offset + len(data):
                raise winerror(number)
        self.written += len(data)
        if disk.get("removed_after", self.written) < self.written:
            disk["is_gone"] = True
            self._save()
            raise winerror(GONE)
        if disk.get("interrupted_after", self.written) < self.written:
            disk.pop("interrupted_after")
            _thread.interrupt_main()
            time.sleep(1)  # the work would be done before anybody looked
        with self._file(disk).open("r+b") as stream:
            stream.seek(offset)
            stream.write(data)
        return len(data)

    def _checked(self, handle: int, view: memoryview, offset: int) -> tuple[Handle, dict[str, Any]]:
        opened = self.handles[handle]
        disk = opened.disk or {}
        if disk.get("is_gone"):
            raise winerror(GONE)
        sector = 2048 if "optical" in disk else disk.get("sector", 512)
        import ctypes

        address = ctypes.addressof(ctypes.c_char.from_buffer(view)) if not view.readonly else 0
        if offset % sector or len(view) % sector or address % 512:
            self.log(f"refused: unaligned {len(view)} at {offset}")
            raise winerror(INVALID_PARAMETER)
        return opened, disk

    def flush(self, handle: int) -> None:
        disk = self.handles[handle].disk or {}
        if disk.get("is_gone"):
            raise winerror(GONE)
        if "no_flush_after" in disk and self.written > disk["no_flush_after"]:
            raise winerror(1117)

    def volumes(self) -> list[str]:
        return list(self._volumes())

    def mount_points(self, volume: str) -> list[str]:
        disk = self._volumes()[volume][0]
        if "optical" in disk:
            return [f"{disk['optical']}\\"]
        first = next(name for name, (other, _, _) in self._volumes().items() if other is disk)
        return [f"{disk['letter']}\\"] if disk.get("letter") and volume == first else []

    def volume_texts(self, volume: str) -> tuple[str, str]:
        disk, offset, _ = self._volumes()[volume]
        if "optical" in disk:
            return "DISC", "UDF"
        head = self._bytes(disk, offset, 512)
        kind = _file_system(head)
        label = head[71:82].decode("ascii", "replace").strip() if kind == "FAT32" else ""
        return label, kind

    def final_path(self, path: str) -> str:
        text = _really(path).replace("/", "\\")
        for prefix, place in self.bench.get("places", {}).items():
            if text.lower().startswith(prefix.replace("/", "\\").lower()):
                if place == "unknown":
                    raise winerror(DENIED)
                if place.startswith("\\\\"):
                    return place
                disk = next(d for d in self.bench["disks"] if d.get("letter") == place)
                break
        else:
            disk = next((d for d in self.bench["disks"] if text[:2].upper() == d.get("letter")), None)
            if disk is None:
                disk = next(d for d in self.bench["disks"] if d.get("letter") == SYSTEM_LETTER[:2])
        name = next(name for name, (other, _, _) in self._volumes().items() if other is disk)
        return f"{name}\\x"

    def windows_folder(self) -> str:
        return f"{SYSTEM_LETTER}WINDOWS"

    def system_files(self) -> list[str]:
        return list(self.bench.get("system_files", []))

    def system_partition(self) -> str:
        number = self.bench.get("started_from")
        return f"\\Device\\HarddiskVolume{number}" if number is not None else ""

    def is_this_computer(self, server: str) -> bool:
        return server.lower() in ("localhost", "127.0.0.1", "bench")

    def claim(self, name: str) -> int:
        place = self.folder / f"claim-{uuid.uuid5(uuid.NAMESPACE_OID, name)}"
        try:
            os.close(os.open(place, os.O_CREAT | os.O_EXCL))
        except OSError:
            raise winerror(SHARING) from None
        number = 100 + max(self.handles, default=0)
        self.handles[number] = _Claim(str(place), None, None, read=False, write=False)
        return number

    def users(self, handle: int) -> list[str]:
        return list(self.bench.get("users", []))


class Firmware:
    """What Windows says of the machine, behind `machine.windows.WindowsFirmware`."""

    def __init__(self, bench: dict[str, Any]) -> None:
        self._facts = bench.get("machine", {})
        self._is_administrator = bench["administrator"]

    def firmware_type(self) -> int:
        return 2 if self._facts.get("uefi", True) else 1

    def variable(self, name: str, guid: str) -> bytes | None:
        if not self._is_administrator:
            raise PermissionError(1314, name)
        found = self._facts.get("variables", {}).get(name)
        return bytes.fromhex(found) if found is not None else None

    def registry(self, path: str, name: str) -> str | int | None:
        return {"UEFISecureBootEnabled": 1, "SystemProductName": "Skiff 14 ", **self._facts.get("registry", {})}.get(
            name
        )

    def architecture(self) -> int:
        return self._facts.get("architecture", 9)

    def has_feature(self, number: int) -> bool:
        return True

    def memory(self) -> int:
        return self._facts.get("memory", 8 << 30)

    def security_module(self) -> int | None:
        return self._facts.get("tpm", 2)


class _Claim(Handle):
    def __del__(self) -> None:
        with contextlib.suppress(OSError):
            Path(self.path).unlink()


def _file_system(head: bytes) -> str:
    if len(head) < 512 or head[510:512] != b"\x55\xaa":
        return ""
    if head[3:11] == b"NTFS    ":
        return "NTFS"
    return "FAT32" if head[82:87] == b"FAT32" else "FAT" if head[54:57] == b"FAT" else ""


def _descriptor(disk: dict[str, Any]) -> bytes:
    """STORAGE_DEVICE_DESCRIPTOR with its texts behind it, padded with blanks as sticks do it; cut where it is bad."""
    texts, offsets = b"", []
    for name in ("vendor", "product", "serial"):
        text = disk.get(name, "")
        offsets.append(36 + len(texts) if text else 0)
        texts += f"{text} ".encode() + b"\0" if text else b""
    head = struct.pack("<IIBBBB", 36, 36 + len(texts), 0, 0, bool(disk.get("removable")), 0)
    return head + struct.pack("<IIIIII", offsets[0], offsets[1], 0, offsets[2], disk.get("bus", 7), 0) + texts


def make_bench(folder: Path, disks: list[dict[str, Any]], **facts: Any) -> Path:
    """Make a bench; each disk has a file of its size, and beside those given there is the one with the system."""
    folder.mkdir(parents=True, exist_ok=True)
    system = {
        "number": 0,
        "size": 1 << 30,
        "vendor": "Keelson",
        "product": "256",
        "serial": "K1",
        "bus": 17,
        "letter": "C:",
    }
    with (folder / "disk0").open("wb") as stream:
        stream.truncate(1 << 30)
        head = bytearray(512)
        head[446 + 4] = 7
        struct.pack_into("<II", head, 446 + 8, 2048, 1 << 20)
        head[510:] = b"\x55\xaa"
        stream.write(head)
        stream.seek(1 << 20)
        stream.write(b"\xeb\x52\x90NTFS    ".ljust(510, b"\0") + b"\x55\xaa")
    for disk in (all_disks := [system, *disks]):
        disk["file"] = f"disk{disk['number']}"
        if not (folder / disk["file"]).exists():
            with (folder / disk["file"]).open("wb") as stream:
                stream.truncate(disk["size"])
    (folder / "bench.json").write_text(json.dumps({"disks": all_disks, **facts}, indent=1), "utf-8")
    return folder


def _really(path: str) -> str:
    """Return where a file of this computer lies, as its system says; what is the bench's alone stays as it is."""
    if not Path(path).exists():
        return path
    if os.name != "nt":
        return os.path.realpath(path)
    from lucky_keystone.winapi import files

    # Volumes of this Wine have their letter for a name.
    return re.sub(r"^\\\\\?\\Volume\{[0-]+(..)\}", lambda found: f"{chr(int(found[1], 16))}:", files.final_path(path))


def main(arguments: list[str]) -> int:
    """Run the program on a bench; a last line in log.txt says what was left.

    '-' as the only argument: command lines come from standard input as JSON, one bench after the other.
    """
    from lucky_keystone.cli import main as program
    from lucky_keystone.cli import streams
    from lucky_keystone.doing import targets
    from lucky_keystone.drives import retrying
    from lucky_keystone.drives.windows.host import WindowsHost
    from lucky_keystone.machine import this_machine
    from lucky_keystone.machine.windows import WindowsMachine

    retrying.Retrying.__init__.__kwdefaults__["pauses"] = (0.0, 0.0, 0.0)
    streams.prepare_streams()
    if arguments != ["-"]:
        kernel = Kernel(Path(arguments[0]))
        host = WindowsHost(kernel, sleep=lambda _: None)
        targets.this_host = lambda: host
        this_machine.this_machine = lambda: WindowsMachine(Firmware(kernel.bench), host.drives)
        code = program.main(arguments[1:])
        kernel.log(f"left: {len(kernel.handles)} handles; mounted: {kernel.mounted()}")
        return code
    return max(main(words) for words in json.loads(sys.stdin.buffer.read()))


if __name__ == "__main__":
    if not __package__:
        sys.path.insert(0, str(Path(__file__).parents[2]))
    sys.exit(main(sys.argv[1:]))
