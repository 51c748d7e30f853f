"""CoreStorage: which partitions a volume of it lies on, as diskutil reports its groups. Not proven here.

A logical volume belongs to a group, whose physical volumes are partitions. Where one answer is missing or odd, nothing
is returned, and whoever asks takes every disk with a part of any group for one of them.
"""

from __future__ import annotations

import plistlib
from collections.abc import Mapping
from typing import Any
from xml.parsers.expat import ExpatError

from .system import MacSystem

_GROUP = "MemberOfCoreStorageLogicalVolumeGroup"


def partitions_below(system: MacSystem, volume: str) -> frozenset[str]:
    """Return the partitions of the group that a volume, by its disk's name, is of; none where that is not certain."""
    try:
        group = str(_told(system, "info", volume)[_GROUP])
        listed = _told(system, "list")["CoreStorageLogicalVolumeGroups"]
        (found,) = [each for each in listed if each["CoreStorageUUID"] == group]
        members = [str(each["CoreStorageUUID"]) for each in found["CoreStoragePhysicalVolumes"]]
        told = [_told(system, "info", member) for member in members]
        if not members or any(each[_GROUP] != group for each in told):
            return frozenset()
        return frozenset(str(each["DeviceIdentifier"]) for each in told)
    except (OSError, ValueError, KeyError, TypeError, ExpatError, plistlib.InvalidFileException):
        return frozenset()


def _told(system: MacSystem, order: str, *about: str) -> Mapping[str, Any]:
    answer = plistlib.loads(system.run("diskutil", "cs", order, "-plist", *about))
    if not isinstance(answer, dict):
        raise TypeError(order)
    return answer
