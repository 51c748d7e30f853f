"""com.apple.Boot.plist: what a Mac's loader reads its orders from (field notes; the vendor documents only parts)."""

from __future__ import annotations

import plistlib
import xml.parsers.expat
from typing import Any
from urllib.parse import unquote

from msgspec import Struct

from ..common.errors import KeystoneError
from ..content.contents import SizedReadable

PATH = "Library/Preferences/SystemConfiguration/com.apple.Boot.plist"
FLAGS, CACHE = "Kernel Flags", "Kernel Cache"
_ROOT, _CONTAINER = "root-dmg=", "container-dmg="
_ADDRESS = "file:///"
_MOST = 1 << 20
PRELINKED = "System/Library/PrelinkedKernels/prelinkedkernel"
"""The kernel that loaders take where the configuration names none; later releases and earlier ones have others."""
COLLECTION = "System/Library/KernelCollections/BootKernelExtensions.kc"
CACHED = "System/Library/Caches/com.apple.kext.caches/Startup/kernelcache"
T2_FILES = ("immutablekernel", "BridgeVersion.bin")
"""What the firmware of Macs with a T2 chip looks for besides, each with what lies beside it under its stem."""
T2_FOLDERS = ("System/Library/CoreServices", "System/Library/PrelinkedKernels")
"""Where it may be."""


class BootConfiguration(Struct, frozen=True):
    """What a boot configuration names. Paths from the volume's root; '' of what it does not name."""

    flags: str
    kernel: str = ""
    base_image: str = ""
    """The base system's disk image: on the volume, or within the container."""
    container: str = ""
    """A disk image on the volume that holds the base image."""


def read_property_list(content: SizedReadable) -> Any:
    """Return what a property list holds, in XML or binary; None where it is not one, or absurdly large."""
    try:
        if content.size > _MOST:
            return None
        return plistlib.loads(content.read_at(0, content.size))
    except (KeystoneError, plistlib.InvalidFileException, xml.parsers.expat.ExpatError):
        return None
    except (ValueError, TypeError, LookupError, AttributeError, OverflowError, RecursionError, MemoryError):
        return None  # what the package ends in besides, given bytes that no one has thought of


def read_boot_configuration(content: SizedReadable) -> BootConfiguration | None:
    """Take a boot configuration apart; None where it is not a property list of that kind."""
    found = read_property_list(content)
    flags = found.get(FLAGS, "") if isinstance(found, dict) else None
    if not isinstance(flags, str):
        return None
    cache = found.get(CACHE, "")
    return BootConfiguration(
        flags,
        cache.strip("/") if isinstance(cache, str) else "",
        _named(flags, _ROOT),
        _named(flags, _CONTAINER),
    )


def _named(flags: str, key: str) -> str:
    """Return the path behind `key`, percent-decoded."""
    word = next((word.removeprefix(key) for word in flags.split() if word.startswith(key)), "")
    return unquote(word.removeprefix(_ADDRESS)) if word.startswith(_ADDRESS) else ""
