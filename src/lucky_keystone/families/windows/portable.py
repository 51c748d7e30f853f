"""A Windows that runs from the drive itself: one edition of an install image, applied, with what starts it.

The applied volume comes first: older systems see only the first partition of a removable drive. Behind it is a FAT32
volume with boot programs and stores from inside the edition, which firmware reads.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from typing import ClassVar
from uuid import UUID, uuid5

import msgspec

from ...content import Awaited
from ...errors import SourceError, UsageError
from ...hive.store import PartitionName, WantedStore, make_store
from ...sources.diskimage import DiskImage
from ...sources.source import INSTALL_IMAGE, Source
from ...starting.bootable import PlannedBootVolume, PlannedDrive
from ...tables.mbr import MOST_SECTORS
from ...tables.partition import Use
from ...tables.styles import STYLES
from ...tree import File, Folder
from ...units import shown_size
from ...volumes.fat32.kind import FAT32
from ...volumes.ntfs.attributes import filetime
from ...volumes.ntfs.kind import NTFS
from ...wim.applied import applied_tree
from ...wim.read import Edition
from ...wim.resources import Resources
from ...wim.whole import WholeImage
from ..choices import Choices, given, option
from ..facts import SourceFacts
from ..family import Decision, DriveNames, DriveShape, DriveWish, PartitionPlace, VolumeWish
from .boot_files import STORES, UEFI_PROGRAMS, BootFiles, bios_files, has_bios, uefi_architecture, uefi_files
from .facts import facts_of
from .install_image import images_of
from .marks import marked, with_answers

_ALONE = "install-image"
"""The family of an image that is no installer: what it is, as long as no purpose is chosen."""
_TIMEOUT = 5
_SPARE = 96 << 20
"""Bytes that stay free on the system volume: boot programs are updated by the system that runs."""
_SENSIBLE = 64 * 10**9
_SLOW_READING, _SLOW_WRITING = 60_000_000, 30_000_000
"""Bytes a second below which a system is no pleasure. Not proven here: a rule of thumb."""
_SYSTEM_LABEL = "LKEY START"
_FALLBACK_LABEL = "PORTABLE"
_OTHERS = {
    "part_size": "nothing is split",
    "waive": "no setup runs that would check the machine",
    "ask_edition": "no setup runs that would ask",
}
_LIMITED = ("home", "starter", "core")
"""Words in names of editions that lack what only larger ones have."""


@dataclass(frozen=True)
class _System:
    """An edition that is to be applied."""

    image: WholeImage
    edition: Edition
    tree: Folder
    architecture: str
    """Of its UEFI loader; '' for none."""
    has_bios: bool


class WindowsPortable:
    """Editions of an install image, in an installer or on its own."""

    name: ClassVar[str] = "windows-portable"
    shown: ClassVar[str] = "Windows that runs from the drive"
    purpose: ClassVar[str] = "portable"
    alone: ClassVar[str] = "to become a system that runs from the drive, and takes all of it"
    read_beside: ClassVar[frozenset[str]] = frozenset(("--answer-file",))

    def recognises(self, source: Source) -> bool:
        return source.packing is None and bool(_images(source))

    def facts(self, source: Source) -> SourceFacts:
        return replace(facts_of(source), family=_ALONE if source.form == INSTALL_IMAGE else self.name)

    def on_drive(self, source: Source) -> Folder:
        raise UsageError(
            "--against: a system that runs from the drive changes it, so a source says nothing about it.",
            advice="'check' alone compares the drive with its own manifest.",
        )

    def disk_images(self, source: Source) -> Sequence[DiskImage]:
        return (source.disk_image,) if source.disk_image else ()

    def refuse_update(self) -> None:
        raise UsageError(
            "--update: a system that ran from the drive has changed it, so what is on it is no longer what was built.",
            advice="Save what is needed from it, and build it from scratch, without --update.",
        )

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        _check_choices(source, choices)
        image, edition = chosen_edition(source, choices.edition)
        system = _system(image, edition)
        table, firmware, reasons = _shape(system, choices, drive)
        made = marked(system.tree, choices.internal_disks or "offline", chosen=choices.internal_disks is not None)
        root, decisions = made.root, list(made.decisions)
        if source.answer_file is not None:
            answered = with_answers(root, source.answer_file, edition.architecture)
            root = answered.root
            decisions += answered.decisions
        start = _start_volume(system, firmware, choices.loader_signing)
        label = choices.label or _label(edition)
        settled = msgspec.structs.replace(
            choices,
            purpose=self.purpose,
            edition=_word_for(source, edition),
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
        named: list[PartitionName] = []
        seen = [
            PlannedBootVolume(v.kind, v.tree, v.active, table, named=partial(_nth, named, n))
            for n, v in enumerate(volumes)
        ]

        def settled_names(names: DriveNames) -> None:
            named[:] = [partition_name(names, volume.name) for volume in volumes]
            start.settle(names)

        return DriveWish(
            choices=settled,
            table=table,
            volumes=volumes,
            decisions=[*_decisions(system, choices, settled, reasons, drive), *decisions, *_told(edition, drive)],
            bootable=PlannedDrive(table, drive.sector_size, seen),  # type: ignore[arg-type]
            settle=settled_names,
        )


def _nth(names: Sequence[PartitionName], number: int) -> PartitionName | None:
    return names[number] if names else None


@lru_cache(maxsize=4)
def _images(source: Source) -> tuple[WholeImage, ...]:
    return tuple(images_of(source))


def editions_of(source: Source) -> list[tuple[WholeImage, Edition]]:
    """Return all editions of all install images of a source."""
    return [(image, edition) for image in _images(source) for edition in image.editions]


def chosen_edition(source: Source, wanted: str | None) -> tuple[WholeImage, Edition]:
    """Return the edition that is meant, by number, name or a part of it. Raises UsageError with a list."""
    there = editions_of(source)
    if not there:
        raise SourceError(f"{source.path}: its install image lists no editions.", advice="Get the image again.")
    listed = ", ".join(f"{edition.index} {edition.name}" for _, edition in there)
    if wanted is None:
        if len(there) == 1:
            return there[0]
        raise UsageError(
            f"--edition is missing: {source.path.name} holds {len(there)} editions.", advice=f"There are: {listed}."
        )
    lower = wanted.lower()
    exact = [each for each in there if wanted == str(each[1].index) or lower == each[1].name.lower()]
    found = exact or [each for each in there if lower and lower in each[1].name.lower()]
    if len(found) != 1:
        why = "has no edition" if not found else "has several editions that fit"
        raise UsageError(f"{source.path.name} {why} '{wanted}'.", advice=f"There are: {listed}.")
    return found[0]


def _word_for(source: Source, edition: Edition) -> str:
    """Return what names an edition in a plan: its number, or its name where another image has the same number."""
    same = sum(other.index == edition.index for _, other in editions_of(source))
    return str(edition.index) if same == 1 else edition.name


@lru_cache(maxsize=2)
def _system_of(image: WholeImage, index: int) -> _System:
    edition = next(each for each in image.editions if each.index == index)
    tree = applied_tree(Resources(image), image.tree(edition))
    return _System(image, edition, tree, uefi_architecture(tree), has_bios(tree))


def _system(image: WholeImage, edition: Edition) -> _System:
    system = _system_of(image, edition.index)
    if not system.architecture and not system.has_bios:
        raise SourceError(
            f"Edition {edition.index} ({edition.name}) has no boot programs in Windows/Boot, or no winload in "
            "Windows/System32.",
            advice="It is not a system that can be started; choose another edition.",
        )
    return system


def _check_choices(source: Source, choices: Choices) -> None:
    for name, why in _OTHERS.items():
        if name in given(choices):
            raise UsageError(f"{option(name)}: with --purpose portable {why}.", advice="Leave it out.")
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


def _shape(system: _System, choices: Choices, drive: DriveShape) -> tuple[str, str, dict[str, str]]:
    """Return table and firmware, and why."""
    reasons: dict[str, str] = {}
    bios = system.has_bios and drive.sector_size == 512
    if choices.firmware == "bios" and not bios:
        why = "the edition has no boot programs for BIOS machines"
        if drive.sector_size != 512:
            why = f"BIOS firmware reads sectors of 512 bytes only, this drive has {drive.sector_size}"
        raise UsageError(f"--firmware bios: {why}.", advice="Choose --firmware uefi.")
    if choices.firmware == "uefi" and not system.architecture:
        raise UsageError(
            "--firmware uefi: the edition has no boot programs for UEFI machines.", advice="Choose --firmware bios."
        )
    firmware = choices.firmware
    able = "both" if bios and system.architecture else "bios" if bios else "uefi"
    if choices.firmware == "both" and able != "both":
        raise UsageError(
            f"--firmware both: the edition starts on {able.upper()} machines only.", advice=f"Choose --firmware {able}."
        )
    beyond = (drive.size or 0) // drive.sector_size - MOST_SECTORS
    table = choices.table
    if table is None:
        to_gpt = beyond > 0 and (firmware or able) == "uefi"
        table = "gpt" if to_gpt else "mbr"
        reasons["table"] = "both BIOS and UEFI machines start from it"
        if to_gpt:
            reasons["table"] = f"an MBR would leave {shown_size(beyond * drive.sector_size)} of this drive unused"
        elif able != "both":
            reasons["table"] = f"{able.upper()} machines start from it"
    if firmware is None:
        firmware = "uefi" if table == "gpt" else able
        reasons["firmware"] = "one drive serves old and new machines"
        if table == "gpt":
            reasons["firmware"] = "BIOS machines cannot start Windows from a GPT drive"
        elif able != "both":
            reasons["firmware"] = "the edition has boot programs for no other"
    if table == "gpt" and not system.architecture:
        raise UsageError("--table gpt: the edition starts on BIOS machines only.", advice="Choose --table mbr.")
    return table, firmware, reasons


@dataclass(frozen=True)
class _Start:
    """The system volume: its tree, and what gives its stores their bytes once the drive has names."""

    tree: Folder
    settle: Callable[[DriveNames], None]


def _start_volume(system: _System, firmware: str, signing: str | None) -> _Start:
    edition, root = system.edition, system.tree
    tree = Folder("", root.modified)
    stores: list[tuple[Awaited, Callable[[DriveNames], bytes]]] = []

    def add(path: str, file: File) -> None:
        nonlocal tree
        tree = tree.replaced(path, file)

    def add_store(kind: str, files: BootFiles) -> None:
        def made(names: DriveNames) -> bytes:
            return make_store(_store(names, kind, files, edition, filetime(root.modified)))

        content = Awaited(len(made(_NAMELESS)))  # it has the same length whatever it names
        stores.append((content, made))
        add(STORES[kind], File("BCD", content, root.modified))

    for kind in ("bios", "uefi"):
        if firmware not in (kind, "both"):
            continue
        if kind == "bios":
            files = bios_files(root, edition.languages)
        else:
            files = uefi_files(root, system.architecture, edition.languages, signing)
        for path, file in files.files:
            add(path, file)
        add_store(kind, files)

    def settle(names: DriveNames) -> None:
        for content, made in stores:
            content.settle(made(names))

    return _Start(tree, settle)


def _store(names: DriveNames, kind: str, files: BootFiles, edition: Edition, time: int) -> WantedStore:
    return WantedStore(
        firmware=kind,
        loader=names.guid("boot loader GUID"),
        resume=names.guid("boot resume GUID"),
        description=edition.name or "Windows",
        language=files.language,
        timeout=_TIMEOUT,
        system=partition_name(names, "system"),
        start=partition_name(names, "start"),
        has_resume=files.has_resume,
        has_memory_test=files.has_memory_test,
        time=time,
    )


_NOWHERE = PartitionPlace(0, UUID(int=0))
_NAMELESS = DriveNames(
    "mbr", 0, UUID(int=0), {"system": _NOWHERE, "start": _NOWHERE}, lambda purpose: uuid5(UUID(int=0), purpose)
)


def partition_name(names: DriveNames, volume: str) -> PartitionName:
    """Return how a boot store names a volume's partition."""
    place = names.partitions[volume]
    if names.table == "gpt":
        return PartitionName(disk=names.disk, partition=place.guid)
    return PartitionName(signature=names.signature, first_byte=place.first_byte)


def _label(edition: Edition) -> str:
    """Return a label from the edition's name."""
    cleaned = "".join(c for c in edition.name if c.isalnum() or c in "-_. ")[:32].strip(" .")
    return cleaned if cleaned and not NTFS.label_fault(cleaned) else _FALLBACK_LABEL


def _decisions(
    system: _System, choices: Choices, settled: Choices, reasons: dict[str, str], drive: DriveShape
) -> list[Decision]:
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


def _told(edition: Edition, drive: DriveShape) -> list[Decision]:
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
