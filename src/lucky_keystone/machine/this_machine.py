"""Which reader of facts this computer needs. A further system is a module and a line here."""

from __future__ import annotations

import platform
import sys

from ..common.errors import NotYet
from .reader import MachineReader


def this_machine() -> MachineReader:
    """Return what reads the facts of this computer. Raises NotYet where nothing does."""
    if sys.platform == "linux":
        from .linux import LinuxMachine

        return LinuxMachine(processor=platform.machine())
    if sys.platform == "darwin":
        from ..drives.macos.host import MacHost
        from ..drives.macos.system import RealMac
        from .macos import MacMachine

        return MacMachine(RealMac(), MacHost().drives)
    if sys.platform == "win32":
        from ..drives.windows.host import WindowsHost
        from .windows import WindowsMachine
        from .windows_system import RealWindowsFirmware

        return WindowsMachine(RealWindowsFirmware(), WindowsHost().drives)
    raise NotYet(
        f"The facts of a computer are not read on {sys.platform}.",
        advice="Write them by hand: 'lucky-keystone machine --blank' prints a file to fill in.",
    )
