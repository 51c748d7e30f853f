"""A guest with a real Linux kernel and a busybox that mounts a drive's first partition and tells what it sees.

The kernel comes from the distribution's archive: `run-tests` unpacks it below .lab-kernel/.
"""

from __future__ import annotations

import lzma
import os
import re
import subprocess
from pathlib import Path

import pytest

from ..helpers.judges import need

KERNEL = Path(__file__).parents[2] / ".lab-kernel"
MODULES = ("virtio_blk", "fat", "vfat", "nls_cp437", "nls_ascii", "nls_utf8", "ntfs3", "cdrom", "hfsplus")
OPTIONS = {"vfat": "utf8=1", "ntfs3": "iocharset=utf8", "hfsplus": "nls=utf8"}
INIT = r"""#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for module in {modules}; do insmod /modules/$module.ko 2>/dev/null; done
echo "LAB BEGIN"
mount -t {driver} -o ro,{options} /dev/vda{partition} /mnt && cd /mnt && \
    find . -type f -exec sha256sum {{}} + ; cd /; umount /mnt
mount -t {driver} -o {options} /dev/vda{partition} /mnt && echo "ferry" > "/mnt/Deck log.txt" && mkdir /mnt/hold && \
    umount /mnt && echo "LAB WRITTEN"
dmesg | grep -i "fat\|ntfs\|hfs" | sed "s/^/LAB MESSAGE /"
echo "LAB END"
poweroff -f
"""


def see(
    drive: Path, folder: Path, driver: str = "vfat", partition: int = 1, seconds: int = 3600
) -> tuple[dict[str, str], list[str], bool]:
    """Start the guest with `drive`.

    Return ({path: SHA-256}, its messages on file systems, whether a file could be added).

    The drive is written to: two entries are added to its root.
    """
    emulator, busybox = need("qemu-system-x86_64"), Path(need("busybox"))
    image = next(KERNEL.glob("boot/vmlinuz-*"), None)
    if image is None:
        pytest.skip("no kernel below .lab-kernel/ (run-tests puts one there)")
    initramfs = _initramfs(folder / "initramfs", busybox, driver, partition)
    console = folder / "console.txt"
    subprocess.run(
        [
            *(
                emulator,
                "-machine",
                "q35",
                "-accel",
                "tcg",
                "-m",
                "512",
                "-display",
                "none",
                "-no-reboot",
                "-nic",
                "none",
            ),
            *("-monitor", "none", "-serial", f"file:{console}", "-kernel", str(image), "-initrd", str(initramfs)),
            *("-append", "console=ttyS0 quiet loglevel=3 panic=-1", "-drive", f"if=virtio,format=raw,file={drive}"),
        ],
        timeout=seconds,
        check=False,
        capture_output=True,
    )
    text = console.read_text("utf-8", "replace").replace("\r", "")
    assert "LAB END" in text, text[-3000:]
    sums = {path: digest for digest, path in re.findall(r"^([0-9a-f]{64})  \./(.*)$", text, re.MULTILINE)}
    return sums, re.findall(r"^LAB MESSAGE (.*)$", text, re.MULTILINE), "LAB WRITTEN" in text


def _initramfs(root: Path, busybox: Path, driver: str, partition: int) -> Path:
    for name in ("bin", "proc", "sys", "dev", "mnt", "modules"):
        (root / name).mkdir(parents=True)
    (root / "bin" / "busybox").write_bytes(busybox.read_bytes())
    (root / "bin" / "busybox").chmod(0o755)
    for module in MODULES:
        packed = next(KERNEL.glob(f"lib/modules/*/kernel/**/{module}.ko.xz"))
        (root / "modules" / f"{module}.ko").write_bytes(lzma.decompress(packed.read_bytes()))
    (root / "init").write_text(
        INIT.format(modules=" ".join(MODULES), driver=driver, options=OPTIONS[driver], partition=partition)
    )
    (root / "init").chmod(0o755)
    names = "\n".join(str(path.relative_to(root)) for path in sorted(root.rglob("*")))
    archive = root.with_suffix(".cpio")
    with archive.open("wb") as stream:
        subprocess.run(
            [need("cpio"), "-o", "-H", "newc", "--quiet"], cwd=root, input=os.fsencode(names), stdout=stream, check=True
        )
    return archive
