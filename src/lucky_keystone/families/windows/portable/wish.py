"""What a system that runs from the drive wishes of it.

The applied volume comes first: older systems see only the first partition of a removable drive. Behind it is a FAT32
volume with boot programs and stores from inside the edition, which firmware reads.
"""

from __future__ import annotations

import msgspec

from ....common.errors import UsageError
from ....sources.source import Source
from ....starting.bootable import PlannedBootVolume, PlannedDrive
from ....tables.partition import Use
from ....volumes.fat32.kind import FAT32
from ....volumes.ntfs.kind import NTFS
from ...choices import Choices
from ...family import DriveNames, DriveShape, DriveWish, VolumeWish
from .editions import chosen_edition, word_for
from .marks import marked, with_answers
from .start_volume import partition_name, start_volume
from .system import shape_of, system_of
from .words import decisions_of, label_of, told

_SPARE = 96 << 20
"""Bytes that stay free on the system volume: boot programs are updated by the system that runs."""
_SYSTEM_LABEL = "LKEY START"


def wish(source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
    """Return what the edition that is chosen wishes of a drive; see `Family.wish`."""
    _check_choices(source, choices)
    image, edition = chosen_edition(source, choices.edition)
    system = system_of(image, edition)
    table, firmware, reasons = shape_of(system, choices, drive)
    made = marked(system.tree, choices.internal_disks or "offline", chosen=choices.internal_disks is not None)
    root, decisions = made.root, list(made.decisions)
    if source.answer_file is not None:
        answered = with_answers(root, source.answer_file, edition.architecture)
        root = answered.root
        decisions += answered.decisions
    start = start_volume(system, firmware, choices.loader_signing)
    label = choices.label or label_of(edition)
    settled = msgspec.structs.replace(
        choices,
        edition=word_for(source, image, edition),
        table=table,
        firmware=firmware,
        file_system="fat32+ntfs",
        internal_disks=choices.internal_disks or "offline",
        label=label,
    )
    volumes = [
        VolumeWish(
            name="system",
            kind=NTFS,
            tree=root,
            label=label,
            cluster=choices.cluster,
            takes_rest=True,
            use=NTFS.use,
        ),
        VolumeWish(
            name="start",
            kind=FAT32,
            tree=start.tree,
            label=_SYSTEM_LABEL,
            spare=_SPARE,
            use=FAT32.use if table == "mbr" else Use.EFI_SYSTEM,
            active=True,
            reason="firmware reads it: boot programs from inside the edition, and stores that name this drive",
            note="FAT32: boot programs and stores",
        ),
    ]

    def seen(names: DriveNames | None) -> PlannedDrive:
        found = [
            PlannedBootVolume(v.kind, v.tree, v.active, table, named=partition_name(names, v.name) if names else None)
            for v in volumes
        ]
        return PlannedDrive(table, drive.sector_size, found)  # type: ignore[arg-type]

    def settle(names: DriveNames) -> PlannedDrive:
        start.settle(names)
        return seen(names)

    return DriveWish(
        choices=settled,
        table=table,
        volumes=volumes,
        decisions=[*decisions_of(system, choices, settled, reasons, drive), *decisions, *told(edition, drive)],
        bootable=seen(None),
        settle=settle,
    )


def _check_choices(source: Source, choices: Choices) -> None:
    if choices.file_system not in (None, "fat32+ntfs"):
        raise UsageError(
            f"--file-system {choices.file_system}: a system runs from NTFS, and firmware starts from FAT32.",
            advice="Leave it out: --purpose portable makes both.",
        )
    if choices.table == "gpt" and choices.firmware in ("bios", "both"):
        raise UsageError(
            "--table gpt: BIOS machines cannot start Windows from a GPT drive.",
            advice="Choose --table mbr, which starts in BIOS and UEFI machines alike, or --firmware uefi.",
        )
    if choices.label is not None and (fault := NTFS.label_fault(choices.label)):
        raise UsageError(f"Label '{choices.label}' {fault}.", advice=f"Use {NTFS.label_rule}.")
    if source.added:
        raise UsageError(
            "--add: files are added to an installer, not to a system that runs from the drive.",
            advice="Leave it out, and copy the files onto the finished drive.",
        )
