"""Which reader of facts this computer needs. A further system is a module and a line here."""

from __future__ import annotations

import platform
import sys

from ..errors import NotYet
from .linux import LinuxMachine


def this_machine() -> LinuxMachine:
    """Return what reads the facts of this computer. Raises NotYet where nothing does."""
    if not sys.platform.startswith("linux"):
        raise NotYet(
            "The facts of this computer are read on Linux only, so far.",
            advice="Write them by hand: 'lucky-keystone machine --blank' prints a file to fill in.",
        )
    return LinuxMachine(processor=platform.machine())
