"""Our boot code in a volume, around the volume's own parameter block."""

from __future__ import annotations

from ...boot.records import BootRecord
from ...checking.report import Finding
from ..remedy import Change, Order, Remedy

_JUMP = 3
"""Bytes in front of the maker's name and the parameter block, on FAT (fatgen103, BS_jmpBoot) as on NTFS."""


def code_changes(finding: Finding, record: BootRecord, offset: int, copy: int | None) -> Remedy:
    """Return what puts our code into the volume at byte `offset`, whose boot sector has a copy at byte `copy`.

    Bytes from 3 to where code begins stay: the parameter block is the volume's own.
    """
    first = record.first_sector
    further = Change(offset + record.further_offset, record.further_code, Order.COPIES, "further boot code")
    changes = [further]
    for place, order, name in (
        (copy, Order.COPIES, "the boot sector's copy"),
        (offset, Order.FIRSTS, "the boot sector"),
    ):
        if place is not None:
            changes += [
                Change(place, first[:_JUMP], order, f"boot code in {name}"),
                Change(place + record.code_from, record.code_of(first), order, f"boot code in {name}"),
                Change(place + 510, first[510:512], order, f"boot code in {name}"),
            ]
    what = "Boot code is written into the volume's boot sector; its parameter block stays."
    return Remedy(finding, what, "", tuple(changes))
