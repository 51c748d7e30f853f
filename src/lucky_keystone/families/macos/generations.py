"""How the installers of each generation become drives: a table that reads like the field notes.

Everything derives from the source; what is listed here is only where to look, in order of preference, and what goes
where.
What the notes mark as not proven here is so in docs/not-proven-here.md too.
"""

from __future__ import annotations

from msgspec import Struct

from ...starting.boot_configuration import CACHED, COLLECTION, PRELINKED, T2_FILES, T2_FOLDERS

CORE = "System/Library/CoreServices"
LOADER = f"{CORE}/boot.efi"
MODELS = f"{CORE}/PlatformSupport.plist"
VERSION = f"{CORE}/SystemVersion.plist"
SILICON = "boot"
"""A folder in the root, as in the asset: what it has for the firmware of Apple silicon."""
BOOT_FILES = ".IABootFiles"
"""A folder in the root with copies of what the loader needs."""
MARKER = ".IAPhysicalMedia"
APP = "{app}"
"""Stands for the app's name, percent-encoded, in kernel flags."""
_IN_APP = f"file:///{APP}/Contents/SharedSupport"


class WantedFile(Struct, frozen=True):
    """A file that the drive's loader, or its firmware, reads."""

    path: str
    """Where it goes on the drive."""
    elsewhere: tuple[str, ...] = ()
    """Where else it may be found, in order."""
    needed: bool = True
    copied: bool = True
    """Whether a copy goes into BOOT_FILES."""


class Generation(Struct, frozen=True):
    """What a generation's installers hold, and what is made of it."""

    name: str
    image: str
    """The disk image in SharedSupport by which the generation is known."""
    inside: str
    """What is in that image and tells it from other generations' of the same name; '' where the name is enough."""
    kernels: tuple[str, ...] = ()
    """Where the kernel may be, in order; it goes to the same place on the drive."""
    flags: str = ""
    """The kernel flags, with the app's name left open."""
    base_on_drive: str = ""
    """Where the base image is copied to; '' where the loader reads it where it is."""
    sold: int = 8
    """GB of the smallest stick to buy."""


COMMON = (
    WantedFile(LOADER, ("usr/standalone/i386/boot.efi",)),
    WantedFile(f"{CORE}/bootbase.efi", needed=False),
    *(WantedFile(f"{folder}/{name}", needed=False) for folder in T2_FOLDERS for name in T2_FILES),
    WantedFile(MODELS, needed=False),
    WantedFile(VERSION, needed=False, copied=False),
)
"""What every drive but those of 10.7 and 10.8 is given, beside the kernel."""
WHOLE_VOLUME = Generation("10.7 and 10.8", "InstallESD.dmg", inside=LOADER)
"""The payload image is a volume that starts by itself: its contents are the drive."""
SYSTEM = Generation("a system's own volume", "", inside=LOADER)
"""No app: a base system's image by itself. Its volume is what the drive holds."""
CONTAINER = Generation(
    "10.9 to 10.12",
    "InstallESD.dmg",
    inside="BaseSystem.dmg",
    kernels=(PRELINKED, CACHED),
    flags=f"container-dmg={_IN_APP}/InstallESD.dmg root-dmg=file:///BaseSystem.dmg",
)
"""The base image lies within the payload image."""
BESIDE = Generation(
    "10.13 to 10.15",
    "BaseSystem.dmg",
    inside="",
    kernels=(PRELINKED,),
    flags=f"root-dmg={_IN_APP}/BaseSystem.dmg",
    sold=16,
)
"""The base image lies beside the payload image."""
ASSET = Generation(
    "11 and later",
    "SharedSupport.dmg",
    inside="",
    kernels=(COLLECTION, PRELINKED),
    flags="root-dmg=file:///BaseSystem/BaseSystem.dmg",
    base_on_drive="BaseSystem/BaseSystem.dmg",
    sold=16,
)
"""The base image lies in a zipped asset within the payload image, and is copied to the drive."""
GENERATIONS = (ASSET, BESIDE, WHOLE_VOLUME, CONTAINER)
"""In the order in which an app is compared with them."""
SOLD_FOR_NEWEST = (12, 32)
"""From this release on, sticks of this many GB."""
