"""What Windows and macOS put onto every volume that they mount: nobody's files."""

from __future__ import annotations

_AT_ROOT = ("SYSTEM VOLUME INFORMATION", "$RECYCLE.BIN", ".SPOTLIGHT-V100", ".FSEVENTSD", ".TRASHES")


def is_housekeeping(path: str) -> bool:
    """Tell whether a path of a volume is a system's own, rather than somebody's file."""
    first, _, _ = path.upper().partition("/")
    name = path.rpartition("/")[2]
    return first in _AT_ROOT or name.upper() == ".DS_STORE" or name.startswith("._")
