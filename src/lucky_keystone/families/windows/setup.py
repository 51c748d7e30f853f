"""The Windows setup family: an installer becomes a drive of one of the shapes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

import msgspec

from ...common.errors import Share, SourceError, UsageError
from ...common.remembering import remembered
from ...common.units import shown_size
from ...content.tree import Folder
from ...machine.facts import MachineFacts
from ...sources.source import Source
from ...starting.bootable import PlannedBootVolume, PlannedDrive
from ...tables.partition import Use
from ...tables.styles import STYLES
from ...volumes.fat32.kind import FAT32
from ...volumes.kind import ComposedKind
from ...volumes.kinds import COMPOSED
from ...wim.split import LARGEST_PART
from ..choices import Choices, TakenChoices, all_but
from ..facts import SourceFacts
from ..family import Decision, DriveShape, DriveWish, Family, Proposal, Supply, VolumeWish
from .both_architectures import architectures_of, with_architectures
from .contents import crossing_tree
from .facts import facts_of_windows, has_setup_environment, is_rescue
from .prepared import Prepared, prepared
from .proposals import SIGNINGS, waived_for
from .shapes import Shape, decide_shape
from .supplies import supplied

_STARTER_LABEL, _CROSSING_LABEL = "LKEY START", "LKEY CROSS"
_FALLBACK_LABEL = "INSTALLER"
_FIRMWARE = {"both": "BIOS and UEFI", "bios": "BIOS", "uefi": "UEFI"}
_FILE_SYSTEMS = {"fat32": "FAT32", "ntfs": "NTFS", "fat32+ntfs": "two partitions, NTFS and FAT32"}


class WindowsSetup(Family):
    """Windows installers with a setup environment of their own."""

    name: ClassVar[str] = "windows-setup"
    shown: ClassVar[str] = "Windows setup"
    takes: ClassVar[TakenChoices] = all_but(
        {
            "internal_disks": "it says what a system does that runs from the drive",
        },
        {
            "internal_disks": "Leave it out. It goes with --purpose portable.",
        },
    )
    read_beside: ClassVar[frozenset[str]] = frozenset(("--answer-file", "--drivers"))

    def recognises(self, source: Source) -> bool:
        return has_setup_environment(source)

    def facts(self, source: Source) -> SourceFacts:
        return facts_of_windows(source, self.name)

    def supplied(self, source: Source, path: str) -> Supply | None:
        return supplied(source, path)

    def for_secure_boot(self) -> Sequence[Proposal]:
        return SIGNINGS

    def for_shortfalls(self, source: Source, machines: Sequence[MachineFacts]) -> Sequence[Proposal]:
        return waived_for(self.facts(source), machines)

    def joined(self, source: Source) -> Source:
        """Other installers and rescue discs go onto its own volumes.

        Editions of the same architecture go into the install image, so that setup lists them all; installers for
        another one get a folder; setup environments become entries of the boot manager's list.
        """
        return _joined(source)

    def shares(self, source: Source, choices: Choices) -> Sequence[Share]:
        from .shares import shares_of

        return shares_of(source, choices)

    def on_drive(self, source: Source) -> Folder:
        if not any(is_rescue(each) for each in source.joined):
            return source.root
        from .menu import with_environments

        return with_environments(source)

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        if source.packing is not None:
            raise SourceError(
                f"{source.path} is a compressed Windows installer. Its image would not start if it were written "
                "as it is, and its files cannot be read one by one while it is compressed.",
                advice="Unpack it first and use the result.",
            )
        _check_choices(choices, drive.sector_size)
        made = prepared(source, choices)
        shape = decide_shape(made.root, choices, drive)
        first = _first_kind(shape.file_system)
        label = first.stored_label(choices.label or _label_from(source.label))
        is_split = first is FAT32
        settled = msgspec.structs.replace(
            choices,
            table=shape.table,
            firmware=shape.firmware,
            file_system=shape.file_system,
            purpose="install",
            label=label,
            part_size=(choices.part_size or LARGEST_PART) if is_split else None,
        )
        volumes = _volumes(shape, label, choices.cluster)
        seen = [
            PlannedBootVolume(v.kind, v.tree, v.active, shape.table, has_system_type=v.use is Use.FIRMWARE)
            for v in volumes
        ]
        return DriveWish(
            choices=settled,
            table=shape.table,
            volumes=volumes,
            decisions=_decisions(source, choices, settled, shape, made),
            splits=shape.splits,
            laid_over=made.laid_over,
            bootable=PlannedDrive(shape.table, drive.sector_size, seen),  # type: ignore[arg-type]
        )


@remembered  # what is made of it is kept with it
def _joined(source: Source) -> Source:
    mine = [each for each in source.further if has_setup_environment(each)]
    if not mine:
        return source
    installers = [each for each in mine if not is_rescue(each)]
    if is_rescue(source) and installers:
        raise UsageError(
            f"--with: {installers[0].path.name} is an installer, and {source.path.name} a rescue disc.",
            advice="Name the installer first, and the rescue disc with --with.",
        )
    own = architectures_of(source)
    others: dict[frozenset[str], Source] = {}
    for each in installers:
        if own.isdisjoint(architectures_of(each)):
            others.setdefault(architectures_of(each), each)
    joined = tuple(each for each in mine if each not in others.values())
    rest = tuple(each for each in source.further if each not in mine)
    made = with_architectures(source, tuple(others.values())) if others else source
    return msgspec.structs.replace(made, joined=joined, further=rest)


def _first_kind(file_system: str) -> ComposedKind:
    """Return the kind of the volume that holds everything."""
    return COMPOSED["fat32" if file_system == "fat32" else "ntfs"]


def _check_choices(choices: Choices, sector_size: int) -> None:
    """Raise UsageError for choices that do not go together, or that the volume's kind does not take."""
    if choices.table == "gpt" and choices.firmware in ("bios", "both"):
        raise UsageError(
            "--table gpt: BIOS machines cannot start a Windows installer from a GPT drive.",
            advice="Choose --table mbr, which starts in BIOS and UEFI machines alike, or --firmware uefi.",
        )
    kind = _first_kind(choices.file_system or "fat32")
    if choices.label is not None and (fault := kind.label_fault(choices.label)):
        raise UsageError(f"Label '{choices.label}' {fault}.", advice=f"Use {kind.label_rule}.")
    if choices.cluster is not None:
        kind.check_cluster(choices.cluster, sector_size)
    if choices.part_size is not None and kind is not FAT32:
        raise UsageError(
            "--part-size: nothing needs splitting on NTFS.", advice="Leave it out, or choose --file-system fat32."
        )
    if choices.part_size is not None and not 1 << 20 <= choices.part_size <= LARGEST_PART:
        raise UsageError(
            f"Parts of {choices.part_size} bytes are not allowed on FAT32.",
            advice=f"Choose from 1 MiB to {LARGEST_PART} bytes (4 GiB less one).",
        )


def _label_from(label: str) -> str:
    """Return a label that every kind can store, as near to the source's own as that allows."""
    cleaned = "".join(c if c.isascii() and (c.isalnum() or c in "-_ ") else "_" for c in label)[:11].strip()
    return cleaned.upper() if cleaned and not FAT32.label_fault(cleaned) else _FALLBACK_LABEL


def _volumes(shape: Shape, label: str, cluster: int | None) -> list[VolumeWish]:
    """The volume with everything comes first: systems older than 2017 show no other one of a removable drive.

    The mark (active, or in a GPT the legacy-boot attribute) is where the start begins: on a pair's FAT32 volume, which
    has every loader, BOOTMGR too; on the crossing's when it is for UEFI firmware alone. Firmware that goes by marks
    looks nowhere else, and BIOS machines start from the active partition.
    """
    first = _first_kind(shape.file_system)
    crossing_marked = shape.has_crossing and shape.firmware == "uefi"
    first_marked = shape.starter is None and not crossing_marked
    wishes = [
        VolumeWish(
            name="installer",
            kind=first,
            tree=shape.tree,
            label=label,
            cluster=cluster,
            takes_rest=True,
            use=first.use,
            active=first_marked,
        )
    ]
    if shape.starter is not None:
        wishes.append(
            VolumeWish(
                name="starter",
                kind=FAT32,
                tree=shape.starter,
                label=_STARTER_LABEL,
                use=FAT32.use,
                active=True,
                reason="firmware finds the loaders there",
                note="FAT32: loaders and the setup environment, for firmware",
            )
        )
    if shape.has_crossing:
        wishes.append(
            VolumeWish(
                name="crossing",
                kind=FAT32,
                tree=crossing_tree(shape.tree),
                label=_CROSSING_LABEL,
                use=Use.FIRMWARE,
                active=crossing_marked,
                reason="our UEFI helper, which reads NTFS and starts the loader there",
                note="FAT32: our UEFI helper",
            )
        )
    return wishes


def _decisions(source: Source, choices: Choices, settled: Choices, shape: Shape, ready: Prepared) -> list[Decision]:
    def decision(topic: str, value: str, reason: str, choice: str) -> Decision:
        return Decision(topic, value, reason, "you" if getattr(choices, choice) is not None else "tool", choice)

    made = [
        decision("table", STYLES[shape.table].shown, shape.reasons["table"], "table"),
        decision("firmware", _FIRMWARE[shape.firmware], shape.reasons["firmware"], "firmware"),
        decision("file system", _FILE_SYSTEMS[shape.file_system], shape.reasons["file system"], "file_system"),
    ]
    if source.image is not None:
        reason = "a Windows installer's disc image does not start when it is written to a drive as it is"
        made.append(Decision("method", "its files, copied to new volumes", reason))
    made += ready.decisions
    limit = settled.part_size or LARGEST_PART
    largest = " (FAT32's largest file)" if limit == LARGEST_PART else ""
    for split in shape.splits:
        parts = f"{len(split.parts)} part{'s' if len(split.parts) > 1 else ''}"
        reason = f"it has {shown_size(split.size)}; a part holds up to {shown_size(limit)}{largest}"
        made.append(decision("split", f"{split.path} in {parts}", reason, "part_size"))
    reason = "as chosen" if choices.label is not None else "from the source's own label"
    made.append(decision("label", settled.label or "", reason, "label"))
    return made
