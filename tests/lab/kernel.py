"""A guest that mounts a drive's first partition with a real kernel, and tells what it sees."""

from __future__ import annotations

import re
from pathlib import Path

from .guest import memory_files, run_guest

MODULES = ("virtio_blk", "fat", "vfat", "nls_cp437", "nls_ascii", "nls_utf8", "ntfs3", "cdrom", "hfsplus", "exfat")
OPTIONS = {"vfat": "utf8=1", "ntfs3": "iocharset=utf8", "hfsplus": "nls=utf8", "exfat": "iocharset=utf8"}
SCRIPT = r"""
echo "LAB BEGIN"
mount -t {driver} -o ro,{options} /dev/vda{partition} /mnt && cd /mnt && \
    find . -type f -exec sha256sum {{}} + ; cd /; umount /mnt
mount -t {driver} -o {options} /dev/vda{partition} /mnt && echo "ferry" > "/mnt/Deck log.txt" && mkdir /mnt/hold && \
    umount /mnt && echo "LAB WRITTEN"
dmesg | grep -i "fat\|ntfs\|hfs" | sed "s/^/LAB MESSAGE /"
echo "LAB END"
"""


def see(drive: Path, folder: Path, driver: str = "vfat", partition: int = 1) -> tuple[dict[str, str], list[str], bool]:
    """Start the guest with `drive`.

    Return ({path: SHA-256}, its messages on file systems, whether a file could be added).

    The drive is written to: two entries are added to its root.
    """
    script = SCRIPT.format(driver=driver, options=OPTIONS[driver], partition=partition)
    archive = memory_files(folder / "initramfs", MODULES, script)
    text = run_guest(folder, archive, "-machine", "q35", "-drive", f"if=virtio,format=raw,file={drive}")
    assert "LAB END" in text, text[-3000:]
    sums = {path: digest for digest, path in re.findall(r"^([0-9a-f]{64})  \./(.*)$", text, re.MULTILINE)}
    return sums, re.findall(r"^LAB MESSAGE (.*)$", text, re.MULTILINE), "LAB WRITTEN" in text
