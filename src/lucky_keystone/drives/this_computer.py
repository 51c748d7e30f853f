"""Chooses the host that this computer is."""

from __future__ import annotations

import sys

from ..common.errors import NotYet
from .host import Host


def this_host() -> Host:
    """Return the computer this runs on. Raises NotYet for a system whose drives are not known how to be found."""
    if sys.platform == "linux":
        from .linux.host import LinuxHost

        return LinuxHost()
    if sys.platform == "darwin":
        from .macos.host import MacHost

        return MacHost()
    if sys.platform == "win32":
        from .windows.host import WindowsHost

        return WindowsHost()
    raise NotYet(
        f"Attached drives are not found on {sys.platform}.", advice="Image files and bays (--bay FOLDER) work here."
    )
