"""What the release of a setup environment means for starting it, beside firmware: by its build number."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from ..common.errors import KeystoneError
from ..setup.folders import SETUP_IMAGES
from ..wim.read import Edition, InstallImage
from .bootable import Bootable

if TYPE_CHECKING:
    from ..content.contents import Seekable

_FIRST_WITH_SECURE_BOOT = 9200
"""Build from which on loaders are signed for Secure Boot, setup has drivers for USB 3, and 32-bit UEFI is served."""


def setup_build(drive: Bootable) -> int:
    """Return the build of the setup environment on a drive; 0 where there is none, or it does not say."""
    edition = _setup_environment(drive)
    return edition.build if edition else 0


def setup_architecture(drive: Bootable) -> str:
    """Return what the setup environment on a drive is made for; '' where there is none, or it does not say."""
    edition = _setup_environment(drive)
    return edition.architecture if edition else ""


def _setup_environment(drive: Bootable) -> Edition | None:
    for volume in drive.volumes:
        for path in SETUP_IMAGES:
            try:  # its head and its XML are all that is read
                file = volume.find(path)
                if file is None or file.faults or file.unseen:
                    continue
                editions = InstallImage(cast("Seekable", file.content), path).editions
            except KeystoneError:
                continue
            if editions:
                return editions[-1]
    return None


def is_before_secure_boot(build: int) -> bool:
    """Tell whether a release is of the generation that knows no Secure Boot."""
    return 0 < build < _FIRST_WITH_SECURE_BOOT


def older_release(build: int) -> str:
    """Say which machines such a release has trouble with, however it is started."""
    return f"setup of this release (build {build}) has no USB 3 drivers: use a USB 2 port"


def older_release_on_uefi(build: int) -> str:
    """The same of machines with UEFI."""
    return f"{older_release(build)}; it needs legacy video services (CSM) too"
