r"""Names that Windows has for devices, drives and files: `\\.\PhysicalDrive2`, `E:`, `\\?\Volume{…}`.

Text alone, and so on every system. What a name stands for is asked of the system (`files`, `drives/windows`).
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

_DEVICE = "\\\\.\\"
_LETTER = re.compile(r"(?:\\\\[.?]\\)?([A-Za-z]):\\?$")
_VOLUME = re.compile(r"\\\\\?\\Volume\{[0-9a-fA-F-]{36}\}")

if TYPE_CHECKING:
    _Native = Path
else:
    _Native = type(Path())


class DevicePath(_Native):
    r"""A device's name as a path. It stays the text it is.

    Some versions of Python end such a path with a backslash, and then it names a folder that is not there.
    """

    __slots__ = ()

    def __str__(self) -> str:
        return super().__str__().rstrip("\\")

    def __fspath__(self) -> str:
        return str(self)

    @property
    def name(self) -> str:
        return str(self).rpartition("\\")[2]


def is_device_name(text: str) -> bool:
    r"""Tell whether `text` names a device: `\\.\PhysicalDrive2`, `\\.\CdRom0`, `\\.\E:`."""
    return text.replace("/", "\\").startswith(_DEVICE)


def letter_in(text: str) -> str:
    r"""Return the drive letter that `text` is (`E:` of `e:`, `E:\`, `\\.\E:`); '' for any other text."""
    found = _LETTER.match(text.replace("/", "\\"))
    return f"{found.group(1).upper()}:" if found else ""


def volume_in(final_path: str) -> str:
    r"""Return the volume that a final path begins with (`\\?\Volume{…}`); '' where it names none."""
    found = _VOLUME.match(final_path)
    return found.group() if found else ""


def share_in(final_path: str) -> tuple[str, str]:
    r"""Return server and share of a path on a server (`\\?\UNC\server\share\…`); ('', '') for any other."""
    text = re.sub(r"^\\\\\?\\UNC\\", r"\\\\", final_path, flags=re.IGNORECASE)
    parts = text.split("\\")
    if len(parts) < 4 or parts[:2] != ["", ""] or parts[2] in (".", "?"):
        return "", ""
    return parts[2], parts[3]


def extended(absolute: str) -> str:
    r"""Return an absolute path in the form that may have more than 260 characters: `\\?\C:\…`, `\\?\UNC\…`."""
    if absolute.startswith("\\\\?\\") or is_device_name(absolute):
        return absolute
    return f"\\\\?\\UNC{absolute[1:]}" if absolute.startswith("\\\\") else f"\\\\?\\{absolute}"


def native(text: str) -> Path:
    """Return a path for what a user typed; of a device one that stays its name."""
    return DevicePath(text) if is_device_name(text) else Path(text)
