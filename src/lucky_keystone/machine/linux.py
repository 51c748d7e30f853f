"""The facts of a computer that runs Linux, by what its kernel shows to everybody: /sys and /proc. Needs no rights."""

from __future__ import annotations

import re
from pathlib import Path

from .facts import Architecture, Flag, MachineFacts, SecureBoot, SecurityModule

_GLOBAL = "8be4df61-93ca-11d2-aa0d-00e098032b8c"
"""EFI_GLOBAL_VARIABLE (UEFI 2.10, 3.3)."""
_SECURITY = "d719b2cb-3d3a-4596-a3bc-dad00e67656f"
"""EFI_IMAGE_SECURITY_DATABASE (UEFI 2.10, 32.6.1): db and dbx."""
_ATTRIBUTES = 4
_ARCHITECTURES: dict[str, Architecture] = {"x86_64": "x64", "amd64": "x64", "aarch64": "arm64", "arm64": "arm64"}
_NOT_INTERNAL = ("loop", "ram", "zram", "sr", "dm-", "md", "nbd", "fd")
_SECTOR = 512


class LinuxMachine:
    """Looks below a root folder, which is '/' except in tests."""

    def __init__(self, root: Path = Path("/"), processor: str = "") -> None:
        self._root, self._processor = root, processor

    def facts(self) -> MachineFacts:
        """Return what the kernel says. What it does not say is left out."""
        efi = self._root / "sys/firmware/efi"
        by_uefi = efi.is_dir()
        cpu = self._text("proc/cpuinfo")
        architecture = _architecture(self._processor, cpu)
        width = self._text("sys/firmware/efi/fw_platform_size")
        flags = _flags(cpu)
        return MachineFacts(
            model=self._text("sys/class/dmi/id/product_name"),
            architecture=architecture,
            started_by="uefi" if by_uefi else "bios" if architecture in ("x64", "x86") else None,
            bios="yes" if not by_uefi and architecture in ("x64", "x86") else None,
            uefi="yes" if by_uefi else None,
            uefi_width=int(width) if width in ("32", "64") else None,  # type: ignore[arg-type]
            secure_boot=self._secure_boot() if by_uefi else None,
            security_module=self._security_module(),
            memory=_memory(self._text("proc/meminfo")),
            storage=self._storage(),
            processor=_named(cpu),
            popcnt=_flag("popcnt", flags),
            sse4_2=_flag("sse4_2", flags),
        )

    def database(self, name: str) -> bytes:
        """Return the signature lists of 'db' or 'dbx' as firmware keeps them; b"" where there are none to read."""
        data = self._bytes(f"sys/firmware/efi/efivars/{name}-{_SECURITY}")
        return data[_ATTRIBUTES:]

    def unknown(self) -> tuple[str, ...]:
        efi = self._root / "sys/firmware/efi"
        if not efi.is_dir() or any((efi / "efivars").glob("*")):
            return ()
        place = "/sys/firmware/efi/efivars"
        return (f"Secure Boot is not known: its variables are not mounted (mount -t efivarfs efivarfs {place}).",)

    def _secure_boot(self) -> SecureBoot | None:
        """UEFI 2.10, 3.3: SecureBoot and SetupMode are one byte each, behind the attributes that Linux puts there."""
        on, setup = (self._bytes(f"sys/firmware/efi/efivars/{name}-{_GLOBAL}") for name in ("SecureBoot", "SetupMode"))
        if len(on) <= _ATTRIBUTES:
            return "none" if any((self._root / "sys/firmware/efi/efivars").glob("*")) else None
        if len(setup) > _ATTRIBUTES and setup[_ATTRIBUTES]:
            return "setup mode"
        return "on" if on[_ATTRIBUTES] else "off"

    def _security_module(self) -> SecurityModule | None:
        modules = self._root / "sys/class/tpm"
        if not modules.is_dir():
            return None  # a kernel without the driver shows nothing either
        versions = {self._text(f"sys/class/tpm/{each.name}/tpm_version_major") for each in modules.iterdir()}
        return "2.0" if "2" in versions else "1.2" if "1" in versions else None if versions else "none"

    def _storage(self) -> int | None:
        sizes = []
        for disk in sorted((self._root / "sys/block").glob("*")):
            if disk.name.startswith(_NOT_INTERNAL) or "/usb" in str(disk.resolve()):
                continue
            removable, size = (self._text(f"sys/block/{disk.name}/{name}") for name in ("removable", "size"))
            if removable == "0" and size.isdecimal():
                sizes.append(int(size) * _SECTOR)
        return max(sizes, default=None)

    def _text(self, path: str) -> str:
        return self._bytes(path).decode("utf-8", "replace").strip()

    def _bytes(self, path: str) -> bytes:
        try:
            return (self._root / path).read_bytes()
        except OSError:
            return b""


def _architecture(machine: str, cpu: str) -> Architecture | None:
    """Return what the processor is made for: a 32-bit system may run on one of 64 bits."""
    known = _ARCHITECTURES.get(machine.lower())
    if known is not None:
        return known
    if re.fullmatch(r"i[3-6]86", machine.lower()):
        return "x64" if "lm" in _flags(cpu) else "x86"
    return None


def _flags(cpu: str) -> frozenset[str]:
    found = re.search(r"^flags\s*:\s*(.*)$", cpu, re.MULTILINE)
    return frozenset(found.group(1).split()) if found else frozenset()


def _flag(name: str, flags: frozenset[str]) -> Flag | None:
    """ARM processors have other flags, and no such requirement."""
    return None if not flags else "yes" if name in flags else "no"


def _named(cpu: str) -> str:
    found = re.search(r"^model name\s*:\s*(.*)$", cpu, re.MULTILINE)
    return found.group(1).strip() if found else ""


def _memory(text: str) -> int | None:
    found = re.search(r"^MemTotal:\s*(\d+) kB", text, re.MULTILINE)
    return int(found.group(1)) << 10 if found else None
