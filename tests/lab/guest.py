"""A guest: a real Linux kernel from the distribution's archive, and files in memory with what it is to do.

The kernel comes from the distribution's archive: `run-tests` unpacks it below .lab-kernel/.
"""

from __future__ import annotations

import lzma
import os
import re
import subprocess
import sys
from collections.abc import Collection, Sequence
from pathlib import Path

import pytest

import lucky_keystone

from ..helpers.judges import need

KERNEL = Path(__file__).parents[2] / ".lab-kernel"
LIMIT = 3600
"""Seconds. It only catches hanging."""
_BEGIN = r"""#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for module in {modules}; do insmod /modules/$module.ko 2>/dev/null; done
"""


def kernel() -> Path:
    """Return the kernel's image; skip the test where there is none."""
    image = next(KERNEL.glob("boot/vmlinuz-*"), None)
    if image is None:
        pytest.skip("no kernel below .lab-kernel/ (run-tests puts one there)")
    return image


def memory_files(root: Path, modules: Sequence[str], script: str, files: Collection[Path] = ()) -> Path:
    """Make the archive of files that a guest has: busybox, kernel modules, a script, and files of this computer."""
    busybox = Path(need("busybox"))
    for name in ("bin", "proc", "sys", "dev", "mnt", "modules", "tmp"):
        (root / name).mkdir(parents=True)
    (root / "bin" / "busybox").write_bytes(busybox.read_bytes())
    (root / "bin" / "busybox").chmod(0o755)
    for module in modules:
        packed = next(KERNEL.glob(f"lib/modules/*/kernel/**/{module}.ko.xz"))
        (root / "modules" / f"{module}.ko").write_bytes(lzma.decompress(packed.read_bytes()))
    for file in files:
        place = root / str(file).lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(file.read_bytes())
        place.chmod(0o755)
    (root / "init").write_text(_BEGIN.format(modules=" ".join(modules)) + script + "poweroff -f\n")
    (root / "init").chmod(0o755)
    names = "\n".join(str(path.relative_to(root)) for path in sorted(root.rglob("*")))
    archive = root.with_suffix(".cpio")
    with archive.open("wb") as stream:
        subprocess.run(
            [need("cpio"), "-o", "-H", "newc", "--quiet"], cwd=root, input=os.fsencode(names), stdout=stream, check=True
        )
    return archive


def run_guest(folder: Path, archive: Path, *hardware: object, memory: int = 512) -> str:
    """Run a guest until it switches itself off; return what it said."""
    console = folder / "console.txt"
    command = [need("qemu-system-x86_64"), "-accel", "tcg", "-m", str(memory), "-display", "none", "-no-reboot"]
    command += ["-nic", "none", "-monitor", "none", "-serial", f"file:{console}", "-kernel", kernel()]
    command += ["-initrd", archive, "-append", "console=ttyS0 quiet loglevel=3 panic=-1", *hardware]
    subprocess.run(list(map(str, command)), timeout=LIMIT, check=False, capture_output=True)
    return console.read_text("utf-8", "replace").replace("\r", "") if console.exists() else ""


def program_files(*arguments: str) -> tuple[list[Path], str]:
    """Return the files that the program needs for a command, libraries too, and what starts it in a guest."""
    trace = (
        "import atexit, runpy, sys\n"
        "def tell():\n"
        "    for each in list(sys.modules.values()):\n"
        "        for name in ('__file__', '__cached__'):\n"
        "            print('FILE', getattr(each, name, None) or '')\n"
        "atexit.register(tell)\n"
        "runpy.run_module('lucky_keystone', run_name='__main__')\n"
    )
    told = subprocess.run([sys.executable, "-c", trace, *arguments], check=True, capture_output=True, text=True).stdout
    found = {Path(path) for path in re.findall(r"^FILE (.+)$", told, re.MULTILINE)}
    python = Path(sys._base_executable).resolve()  # type: ignore[attr-defined]
    found |= {python, Path(lucky_keystone.__file__).with_name("__main__.py")}
    files = {path for path in found if path.is_file()}
    for path in [path for path in files if path == python or path.suffix == ".so"]:
        listed = subprocess.run(["ldd", path], check=False, capture_output=True, text=True).stdout
        files |= {Path(library) for library in re.findall(r"(?:=> |^\s+)(/\S+)", listed, re.MULTILINE)}
    places = ":".join(path for path in sys.path if path)
    return sorted(files), f"env PYTHONDONTWRITEBYTECODE=1 PYTHONPATH={places} {python} -m lucky_keystone"
