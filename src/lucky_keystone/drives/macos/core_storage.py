"""CoreStorage: which partitions a volume of it lies on, as diskutil reports its groups. Not proven here.

A logical volume belongs to a group, whose physical volumes are partitions. Where one answer is missing or odd, nothing
is returned, and whoever asks takes every disk with a part of any group for one of them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ...common.errors import DriveError

_GROUP = "MemberOfCoreStorageLogicalVolumeGroup"


def partitions_below(ask: Callable[..., Mapping[str, Any]], volume: str) -> frozenset[str]:
    """Return the partitions of the group that a volume, by its disk's name, is of; none where that is not certain.

    `ask` runs a program of the system that answers with a property list; it raises DriveError.
    """

    def about(name: str) -> Mapping[str, Any]:
        return ask("diskutil", "cs", "info", "-plist", name)

    try:
        group = str(about(volume)[_GROUP])
        listed = ask("diskutil", "cs", "list", "-plist")["CoreStorageLogicalVolumeGroups"]
        (found,) = [each for each in listed if each["CoreStorageUUID"] == group]
        told = [about(str(each["CoreStorageUUID"])) for each in found["CoreStoragePhysicalVolumes"]]
        if any(each[_GROUP] != group for each in told):
            return frozenset()
        return frozenset(str(each["DeviceIdentifier"]) for each in told)
    except (DriveError, ValueError, KeyError, TypeError):
        return frozenset()
