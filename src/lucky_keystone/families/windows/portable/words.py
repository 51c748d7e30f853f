"""What a plan says of a system that runs from a drive: its decisions, and what a technician should know."""

from __future__ import annotations

from ....common.units import shown_size
from ....tables.styles import STYLES
from ....volumes.ntfs.kind import NTFS
from ....wim.read import Edition
from ...choices import Choices
from ...family import Decision, DriveShape
from ..boot_programs import UEFI_PROGRAMS
from .system import System

_SENSIBLE = 64 * 10**9
"""Bytes."""
_SLOW_READING, _SLOW_WRITING = 60_000_000, 30_000_000
"""Bytes a second below which a system keeps its user waiting. Not proven here: a rule of thumb."""
_FALLBACK_LABEL = "PORTABLE"
_LIMITED = ("home", "starter", "core")
"""Words in names of editions that lack what only larger ones have."""


def label_of(edition: Edition) -> str:
    """Return a label from the edition's name."""
    cleaned = "".join(c for c in edition.name if c.isalnum() or c in "-_. ")[:32].strip(" .")
    return cleaned if cleaned and not NTFS.label_fault(cleaned) else _FALLBACK_LABEL


def decisions_of(
    system: System, choices: Choices, settled: Choices, reasons: dict[str, str], drive: DriveShape
) -> list[Decision]:
    """Return the decisions of a plan, in the order they are shown."""

    def decision(topic: str, value: str, reason: str, choice: str) -> Decision:
        return Decision(topic, value, reason, "you" if getattr(choices, choice) is not None else "tool", choice)

    edition = system.edition
    applied = sum(file.size for _, file in system.tree.files())
    words = [edition.architecture, f"build {edition.build}" if edition.build else "", shown_size(applied)]
    made = [
        decision("purpose", "portable: a Windows that runs from the drive", "as chosen", "purpose"),
        decision(
            "edition",
            f"{edition.index} {edition.name}",
            ", ".join(filter(None, words)) + (", the only one there" if choices.edition is None else ""),
            "edition",
        ),
        decision("table", STYLES[settled.table or "mbr"].shown, reasons.get("table", "as chosen"), "table"),
        decision("firmware", _FIRMWARE[settled.firmware or "both"], reasons.get("firmware", "as chosen"), "firmware"),
        Decision("method", "the edition's files, applied to NTFS", "a system runs from NTFS; firmware reads FAT32"),
        decision(
            "label",
            settled.label or "",
            "as chosen" if choices.label is not None else "from the edition's name",
            "label",
        ),
    ]
    if choices.loader_signing is not None:
        why = f"signed under the {choices.loader_signing} generation of certificates, from inside the edition"
        made.append(decision("UEFI loaders", UEFI_PROGRAMS[choices.loader_signing].folder, why, "loader_signing"))
    room = f"updates, the paging file and programs need room: {_SENSIBLE // 10**9} GB, as sold, or more is sensible"
    if drive.size is not None and drive.size < _SENSIBLE:
        room += f"; this drive has {shown_size(drive.size)}"
    made.append(Decision("room", f"{shown_size(applied)} applied", room))
    return made


def _speed(drive: DriveShape) -> Decision:
    if not drive.reading:
        return Decision(
            "speed", "that of the drive", "a system on a slow stick is slow: 'gauge' measures a drive beforehand"
        )
    measured = f"reads {drive.reading / 1e6:,.0f} MB/s"
    if drive.writing:
        measured += f", writes {drive.writing / 1e6:,.0f} MB/s"
    is_slow = drive.reading < _SLOW_READING or 0 < drive.writing < _SLOW_WRITING
    why = (
        "too slow: the system would keep its user waiting; use a faster drive" if is_slow else "fast enough to work on"
    )
    return Decision("speed", measured, f"by the shop's record of the last 'gauge'; {why}")


_FIRMWARE = {"both": "BIOS and UEFI", "bios": "BIOS", "uefi": "UEFI"}


def told(edition: Edition, drive: DriveShape) -> list[Decision]:
    """Say what a technician should know of such a system, whatever was chosen."""
    told = [
        Decision("first start", "takes long", "the system finds the machine's hardware, and may restart once or twice"),
        Decision(
            "activation", "not included", "a licence for this use, and activating it, are up to whoever uses the drive"
        ),
        _speed(drive),
    ]
    if any(word in edition.name.lower().split() or word in edition.edition_id.lower() for word in _LIMITED):
        why = "this edition cannot join a domain, encrypt its drive or be managed by policies; larger editions can"
        told.append(Decision("features", "those of the edition", why))
    return told
