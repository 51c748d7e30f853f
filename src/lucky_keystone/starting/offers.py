"""What a machine lists on its own screen when it is started from a drive, entry by entry."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import PurePosixPath

from msgspec.structs import replace

from ..common.errors import KeystoneError
from .bootable import Bootable, BootVolume
from .outlook import Outlook
from .stores import systems_in

_LABEL = ".disk_label.contentDetails"
_LONGEST = 400


def with_offers(drive: Bootable, rows: Sequence[Outlook]) -> tuple[Outlook, ...]:
    """Return the rows of a forecast with what the boot manager lists, where it lists several; of a Mac its volumes."""
    listed = {firmware: _listed(drive, firmware) for firmware in ("bios", "uefi")}
    labels = tuple(label for volume in drive.volumes if (label := _label(volume)))
    made = []
    for row in rows:
        offers = labels if row.kind == "mac" else listed[row.kind]
        made.append(replace(row, offers=offers) if offers and row.verdict != "will not start" else row)
    return tuple(made)


def _listed(drive: Bootable, firmware: str) -> tuple[str, ...]:
    """Return the entries of the store that firmware's boot manager reads, the default first named as it is listed."""
    for volume in drive.volumes:
        try:
            systems = sorted(systems_in(volume, firmware), key=lambda system: system.place)
        except KeystoneError:
            continue
        if len(systems) > 1:
            return tuple(system.description for system in systems)
    return ()


def _label(volume: BootVolume) -> str:
    """Return what the picker of a Mac shows of a volume; '' where nothing on it says so."""
    loader = volume.names_loader
    file = volume.find(str(PurePosixPath(loader).parent / _LABEL)) if loader else None
    if file is None or file.faults or file.unseen or not 0 < file.size <= _LONGEST:
        return ""
    try:
        return file.content.read_at(0, file.size).decode("utf-8", "replace")
    except KeystoneError:
        return ""
