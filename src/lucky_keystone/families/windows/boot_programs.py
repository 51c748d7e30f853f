"""Where a system, in an install image, keeps the boot programs that are copied from it. Not proven here."""

from __future__ import annotations

from msgspec import Struct

_BOOT = "Windows/Boot"
RESOURCES = f"{_BOOT}/Resources"


class Programs(Struct, frozen=True):
    """The boot programs of one firmware, and of UEFI's of one generation of certificates."""

    folder: str
    loader: str
    """Path of what is started first."""
    fonts: str = f"{_BOOT}/Fonts"
    suffix: str = ""
    """What the names of the files bear there and not on a drive."""

    def program(self, name: str) -> str:
        """Return the path of another UEFI program beside the loader."""
        return f"{self.folder}/{name}{self.suffix}.efi"


BIOS_PROGRAMS = Programs(f"{_BOOT}/PCAT", f"{_BOOT}/PCAT/bootmgr")
UEFI_PROGRAMS = {
    "2011": Programs(f"{_BOOT}/EFI", f"{_BOOT}/EFI/bootmgfw.efi"),
    "2023": Programs(f"{_BOOT}/EFI_EX", f"{_BOOT}/EFI_EX/bootmgfw_EX.efi", f"{_BOOT}/Fonts_EX", "_EX"),
}
"""By the generation of certificates that the loaders are signed under."""
