"""The family: what a system that runs from the drive wishes of it.

The applied volume comes first: older systems see only the first partition of a removable drive. Behind it is a FAT32
volume with boot programs and stores from inside the edition, which firmware reads.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

import msgspec

from ....common.errors import UsageError
from ....common.units import shown_size
from ....content.tree import Folder
from ....setup.folders import SETUP_IMAGES
from ....sources.source import INSTALL_IMAGE, Source
from ....starting.bootable import Bootable, PlannedBootVolume, PlannedDrive
from ....tables.partition import Use
from ....volumes.fat32.kind import FAT32
from ....volumes.ntfs.kind import NTFS
from ...choices import Choices, TakenChoices, all_but
from ...facts import SourceFacts
from ...family import DriveNames, DriveShape, DriveWish, Family, Proposal, Question, VolumeWish
from ..facts import facts_of
from ..proposals import SIGNINGS
from .editions import all_images, chosen_edition, editions_of, word_for, words_of
from .marks import HIVE, marked, with_answers
from .start_volume import partition_name, start_volume
from .system import shape_of, system_of
from .words import decisions_of, label_of, told

_ALONE = "install-image"
"""The family of an image that is no installer: what it is, as long as no purpose is chosen."""
_SPARE = 96 << 20
"""Bytes that stay free on the system volume: boot programs are updated by the system that runs."""
_SYSTEM_LABEL = "LKEY START"


class WindowsPortable(Family):
    """Editions of an install image, in an installer or on its own."""

    name: ClassVar[str] = "windows-portable"
    shown: ClassVar[str] = "Windows that runs from the drive"
    purpose: ClassVar[str] = "portable"
    alone: ClassVar[str] = "to become a system that runs from the drive, and takes all of it"
    takes: ClassVar[TakenChoices] = all_but(
        {
            "part_size": "with --purpose portable nothing is split",
            "waive": "with --purpose portable no setup runs that would check the machine",
            "ask_edition": "with --purpose portable no setup runs that would ask",
        }
    )
    lacking: ClassVar[str] = "holds no install image (sources/install.wim, .esd or .swm)"
    without_purpose: ClassVar[str] = "install image without an installer around it"
    read_beside: ClassVar[frozenset[str]] = frozenset(("--answer-file",))

    def recognises(self, source: Source) -> bool:
        return source.packing is None and bool(all_images(source))

    def is_on(self, drive: Bootable) -> bool:
        """Tell whether a system lies on a drive, and no installer beside it on the same volume."""
        return any(
            volume.find(HIVE) is not None and not any(volume.find(path) for path in SETUP_IMAGES)
            for volume in drive.volumes
        )

    def facts(self, source: Source) -> SourceFacts:
        return replace(facts_of(source), family=_ALONE if source.form == INSTALL_IMAGE else self.name)

    def on_drive(self, source: Source) -> Folder:
        raise UsageError(
            "--against: a system that runs from the drive changes it, so a source says nothing about it.",
            advice="'check' alone compares the drive with its own manifest.",
        )

    def for_secure_boot(self) -> Sequence[Proposal]:
        return SIGNINGS

    def question(self, source: Source, choices: Choices) -> Question | None:
        there = [edition for _, edition in editions_of(source)]
        if choices.edition is not None or len(there) < 2:
            return None
        return Question(
            "Which edition is to run from the drive?",
            ("Edition", "Architecture", "Build", "Installed"),
            [(each.name, each.architecture, str(each.build or "unknown"), shown_size(each.size)) for each in there],
            [msgspec.structs.replace(choices, edition=word) for word in words_of(source)],
        )

    def refuse_update(self) -> None:
        raise UsageError(
            "--update: a system that ran from the drive has changed it, so what is on it is no longer what was built.",
            advice="Save what is needed from it, and build it from scratch, without --update.",
        )

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
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
            purpose=self.purpose,
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
                PlannedBootVolume(
                    v.kind, v.tree, v.active, table, named=partition_name(names, v.name) if names else None
                )
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
