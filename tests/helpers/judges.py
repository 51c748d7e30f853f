"""Judges that share no code with ours: outside tools and readers."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest
import pytsk3

from lucky_keystone.content.contents import SizedReadable
from lucky_keystone.volumes.fat32.geometry import Geometry
from lucky_keystone.volumes.ntfs.read import NtfsVolume

from .drives import MemoryDrive


def need(tool: str) -> str:
    """Return the path of an outside tool, or skip the test naming it."""
    path = shutil.which(tool)
    if path is None:
        pytest.skip(f"{tool} is not installed")
    return path


def theirs(path: Path, shape: Geometry) -> dict[str, bytes]:
    """The same through an independent reader."""
    system = pytsk3.FS_Info(pytsk3.Img_Info(str(path)), offset=shape.hidden * shape.sector_size)
    found: dict[str, bytes] = {}
    waiting = [("", system.open_dir("/"))]
    while waiting:
        prefix, directory = waiting.pop()
        for entry in directory:
            name = entry.info.name.name.decode()
            if name in (".", "..") or name.startswith("$") or entry.info.meta is None or "(Volume Label" in name:
                continue
            if entry.info.meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                waiting.append((f"{prefix}{name}/", entry.as_directory()))
            else:
                size = entry.info.meta.size
                found[prefix + name] = entry.read_random(0, size) if size else b""
    return found


_LARGEST = 64 << 20
"""Bytes of a file that is read: a forged size says anything."""


class _Drive(pytsk3.Img_Info):
    """A drive in memory, for the independent reader."""

    def __init__(self, drive: SizedReadable) -> None:
        self._drive = drive
        super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

    def close(self) -> None:
        pass

    def read(self, offset: int, size: int) -> bytes:
        return self._drive.read_at(offset, min(size, self._drive.size - offset))

    def get_size(self) -> int:
        return self._drive.size


def read_by_others(drive: SizedReadable, offset: int) -> dict[str, bytes]:
    """Return every file that an independent reader can read to its end in the volume at byte `offset` of a drive."""
    found: dict[str, bytes] = {}
    try:
        system = pytsk3.FS_Info(_Drive(drive), offset=offset)
        waiting, seen = [("", system.open_dir("/"))], set[int]()
    except OSError:
        return found
    while waiting:
        prefix, directory = waiting.pop()
        for entry in directory:
            name = entry.info.name.name.decode("utf-8", "replace")
            meta = entry.info.meta
            if name in (".", "..") or name.startswith("$") or meta is None or "(Volume Label" in name:
                continue
            if not int(entry.info.name.flags) & int(pytsk3.TSK_FS_NAME_FLAG_ALLOC) or meta.addr in seen:
                continue
            try:
                if meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                    seen.add(meta.addr)
                    waiting.append((f"{prefix}{name}/", entry.as_directory()))
                elif meta.type == pytsk3.TSK_FS_META_TYPE_REG:
                    whole = entry.read_random(0, meta.size) if 0 < meta.size <= _LARGEST else b""
                    if len(whole) == meta.size:
                        found[prefix + name] = whole
            except OSError:
                continue  # what it cannot read counts as lost
    return found


def assert_checker_is_silent(path: Path, shape: Geometry, folder_: Path) -> None:
    alone = folder_ / "volume.img"
    with path.open("rb") as source, alone.open("wb") as out:
        source.seek(shape.hidden * shape.sector_size)
        out.write(source.read())
    done = subprocess.run([need("fsck.fat"), "-n", "-v", alone], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert "differ" not in done.stdout, done.stdout


def mounted(drive: MemoryDrive, folder: Path, *commands: list[str]) -> None:
    """Let the system's NTFS driver use the first volume of a drive."""
    volume = NtfsVolume(drive, 1 << 20, drive.size - (1 << 20))
    size = (volume.boot.total_sectors + 1) * 512
    alone, mount = folder / "volume.img", folder / "mount"
    mount.mkdir(exist_ok=True)
    alone.write_bytes(drive.data[1 << 20 : (1 << 20) + size])
    done = subprocess.run([need("ntfs-3g"), alone, mount], capture_output=True, check=False)
    if done.returncode:
        pytest.skip("nothing can be mounted here")
    try:
        for command in commands:
            subprocess.run(command, cwd=mount, check=True)
    finally:
        subprocess.run(["umount", mount], check=True)
    drive.data[1 << 20 : (1 << 20) + size] = alone.read_bytes()
