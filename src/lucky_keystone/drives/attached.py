"""The drives attached to this computer, whatever its system."""

from __future__ import annotations

import sys

from ..errors import NotYet
from .drive import Drive


def attached() -> tuple[Drive, ...]:
    """Return the attached drives. Raises NotYet on a system they cannot be found on."""
    if sys.platform != "linux":
        raise NotYet("Attached drives are found on Linux only so far.", advice="Image files and bays (--bay FOLDER) work here.")
    from .linux import LinuxHost

    return LinuxHost().drives()
