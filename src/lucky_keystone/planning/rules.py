"""The rules: facts, choices and a drive become a plan, each decision with its reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from ..errors import ProtectError, SourceError, UsageError
from ..extents import MIB, align_up
from ..families.choices import Choices, check_choices
from ..families.windows.contents import crossing_tree, divided, starter_tree
from ..families.windows.shapes import Shape, decide_shape
from ..manifest.room import manifest_offset, manifest_room
from ..sources.source import Source
from ..starting.forecast import forecast
from ..tree import Folder
from ..units import exact_size, shown_size
from ..volumes.fat32.names import label_fault
from ..wim.split import LARGEST_PART
from .plan import Area, Decision, DriveShape, Plan, SplitImage
from .volumes import (
    SHOWN,
    Draft,
    FileSystem,
    PlannedVolume,
    Role,
    StandingVolume,
    default_cluster_size,
    draft,
    settle_again,
)

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

_MOST_SECTORS = 1 << 32  # what an MBR can say, and a FAT32 volume as well
_MOST_HOLES = 48  # each ends a region of the manifest, which has room for 64
_STARTER_LABEL, _CROSSING_LABEL = "LKEY START", "LKEY CROSS"


def make_plan(
    source: Source,
    choices: Choices,
    drive: DriveShape,
    standing: Sequence[StandingVolume] = (),
    trusted: Sequence[Certificate] = (),
) -> Plan:
    """Decide everything that is not chosen. Raises UsageError, NotYet or SourceError when no drive can be built.

    With `standing` volumes the drive is to be updated: they stay, and so does what did not change on them. `trusted`
    are the
    certificates of the machine it is to start, for the forecast.
    """
    check_choices(choices, drive.sector_size)
    if source.facts.family != "windows-setup":
        raise SourceError(
            f"{source.path} is not an installer that is known here: it has no sources/boot.wim.",
            advice="Give the installer's disc image, or the folder that holds its 'sources' folder.",
        )
    shape = decide_shape(source, choices, drive)
    part_size = choices.part_size or LARGEST_PART
    tree, splits = divided(source, part_size) if shape.file_system == "fat32" else (source.root, ())
    label = choices.label or _label_from(source.label)
    label = label.upper() if shape.file_system == "fat32" else label
    use = choices.use or ("whole" if drive.size is not None else "needed")
    trees = _trees(source, tree, label, shape)
    measured = (
        _update(trees, choices, drive, shape, standing) if standing else _measure(trees, choices, drive, shape, use)
    )
    settled = msgspec.structs.replace(
        choices,
        table=shape.table,
        firmware=shape.firmware,
        file_system=shape.file_system,
        purpose="install",
        label=label,
        cluster=measured.volumes[0].geometry.cluster_size,
        part_size=part_size if shape.file_system == "fat32" else None,
        use=use,
        identity=choices.identity or drive.name,
    )
    if not settled.identity:
        raise UsageError("The identity word is empty.", advice="Choose one with --identity WORD.")
    return Plan(
        source=source,
        choices=settled,
        drive=DriveShape(drive.name, measured.drive_size, drive.sector_size),
        decisions=tuple(_decisions(choices, settled, source, splits, shape, measured)),
        areas=tuple(_areas(measured, drive.sector_size, shape.table)),
        needed=measured.needed,
        unused=measured.drive_size - measured.end,
        free=measured.volumes[0].free,
        forecast=forecast(source, drive.sector_size, shape, trusted),
        splits=splits,
        volumes=measured.volumes,
        manifest_room=measured.manifest_room,
    )


def _label_from(label: str) -> str:
    cleaned = "".join(c if c.isascii() and (c.isalnum() or c in "-_ ") else "_" for c in label)[:11].strip()
    return cleaned.upper() if cleaned and not label_fault(cleaned) else "INSTALLER"


def _trees(source: Source, tree: Folder, label: str, shape: Shape) -> list[tuple[Role, Folder, str]]:
    """Return role, tree and label of each volume, in the order they lie on the drive.

    Systems of before 2017 show only the first partition of a removable drive: the one with everything.
    """
    found: list[tuple[Role, Folder, str]] = [("installer", tree, label)]
    if shape.is_pair:
        found.append(("starter", starter_tree(source.root), _STARTER_LABEL))
    elif shape.has_crossing:
        found.append(("crossing", crossing_tree(source), _CROSSING_LABEL))
    return found


# -- measures --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Measured:
    volumes: tuple[PlannedVolume, ...]
    manifest_room: int
    drive_size: int
    needed: int

    @property
    def start(self) -> int:
        return self.volumes[0].start

    @property
    def end(self) -> int:
        return self.volumes[-1].end


def _measure(
    trees: Sequence[tuple[Role, Folder, str]], choices: Choices, drive: DriveShape, shape: Shape, use: str
) -> _Measured:
    sector = drive.sector_size
    behind = 0 if shape.table == "mbr" else MIB  # a GPT's backup, with the last partition's end still at a whole MiB
    available = None if drive.size is None else _reach(drive.size, sector, shape) - behind
    content = sum(file.size for _, file in trees[0][1].files())
    basis = content if available is None or use == "needed" else available
    cluster = choices.cluster or default_cluster_size(shape.first, basis, sector)
    role, tree, label = trees[0]
    drafts = [draft(role, shape.first, tree, label, cluster, sector)]
    for role, tree, label in trees[1:]:  # as small as can be: smaller clusters make a smaller FAT32 volume
        size = sum(file.size for _, file in tree.files())
        drafts.append(draft(role, "fat32", tree, label, default_cluster_size("fat32", size, sector), sector))
    known = available if use == "whole" else None
    room = manifest_room(
        (one.hashed(known if not number else None) for number, one in enumerate(drafts)),
        sum(one.told() for one in drafts),
        sector,
    )
    start = align_up(manifest_offset(shape.table, sector) + room, MIB)
    ends = _ends(drafts, start)
    needed = ends[-1] + behind
    if available is not None:
        if ends[-1] > available:
            raise SourceError(
                f"The source does not fit: {exact_size(needed)} are needed, {drive.name} has {exact_size(drive.size or 0)}.",
                advice="Use a larger drive.",
            )
        if use == "whole":  # the first volume takes what is left
            ends = _ends(drafts, start, ends[0] + available // MIB * MIB - ends[-1])
    starts = [start, *ends[:-1]]
    volumes = tuple(one.settle(first, end) for one, first, end in zip(drafts, starts, ends, strict=True))
    return _Measured(volumes, room, needed if drive.size is None else drive.size, needed)


def _reach(size: int, sector: int, shape: Shape) -> int:
    """Bytes of the drive that partitions can reach: an MBR and a FAT32 volume count sectors in 32 bits."""
    limited = shape.table == "mbr" or shape.file_system == "fat32"
    return (min(size // sector, _MOST_SECTORS) if limited else size // sector) * sector


def _ends(drafts: Sequence[Draft], start: int, first_end: int | None = None) -> list[int]:
    """Return where each volume ends when all but the first are as small as can be, and the first too unless it is given."""
    ends: list[int] = []
    for one in drafts:
        end = first_end if first_end is not None and not ends else one.smallest_end(ends[-1] if ends else start)
        ends.append(end)
    return ends


def _update(
    trees: Sequence[tuple[Role, Folder, str]],
    choices: Choices,
    drive: DriveShape,
    shape: Shape,
    standing: Sequence[StandingVolume],
) -> _Measured:
    """Lay the trees out on the volumes that stand. Raises UsageError or SourceError where that cannot be."""
    advice = "Build anew, without --update."
    if choices.cluster not in (None, standing[0].geometry.cluster_size) or choices.use is not None:
        raise UsageError("An update keeps the volume as it is: its size and clusters cannot be chosen.", advice=advice)
    kinds: list[FileSystem] = [shape.first, *("fat32" for _ in trees[1:])]  # type: ignore[list-item]
    if [volume.file_system for volume in standing] != kinds:
        has = " and ".join(SHOWN[volume.file_system] for volume in standing)
        raise UsageError(
            f"The drive has {has}; this would be {' and '.join(SHOWN[kind] for kind in kinds)}.", advice=advice
        )
    volumes = tuple(
        settle_again(role, tree, label, volume) for (role, tree, label), volume in zip(trees, standing, strict=True)
    )
    if sum(volume.scattered for volume in volumes) > _MOST_HOLES:
        raise SourceError("The files would lie too scattered on the drive.", advice=advice)
    assert drive.size is not None
    told = sum(volume.told for volume in volumes)
    room = manifest_room((volume.hashed for volume in volumes), told, drive.sector_size)
    if manifest_offset(shape.table, drive.sector_size) + room > volumes[0].start:
        raise SourceError("The room in front of the volume is too small for the new manifest.", advice=advice)
    return _Measured(volumes, room, drive.size, volumes[-1].used_end)


def _areas(measured: _Measured, sector: int, table: str) -> list[Area]:
    manifest = manifest_offset(table, sector)
    manifest_end = manifest + measured.manifest_room
    record = "MBR record and partition table" if table == "mbr" else "protective record"
    areas = [
        Area("seal", 0, sector, f"{record}; written last"),
        Area("GPT", sector, manifest - sector, "header and entries"),
        Area("manifest", manifest, measured.manifest_room, "hashes of everything written"),
        Area("kept clear", manifest_end, measured.start - manifest_end, "so that the partition starts at a whole MiB"),
        *measured.volumes[0].areas(),
    ]
    for volume in measured.volumes[1:]:
        note = (
            "FAT32: loaders and the setup environment, for firmware"
            if volume.role == "starter"
            else "FAT32: our UEFI helper"
        )
        areas.append(Area(volume.role, volume.start, volume.size, note))
    if measured.drive_size > measured.end:
        note = "outside the partitions" if len(measured.volumes) > 1 else "outside the partition"
        note += "" if table == "mbr" else "; the GPT's backup at its very end"
        areas.append(Area("not used", measured.end, measured.drive_size - measured.end, note))
    return [area for area in areas if area.size > 0]


# -- reasons ---------------------------------------------------------------------------------------------------------


_TABLES = {"mbr": "MBR", "gpt": "GPT"}
_FIRMWARE = {"both": "BIOS and UEFI", "bios": "BIOS", "uefi": "UEFI"}
_FILE_SYSTEMS = {"fat32": "FAT32", "ntfs": "NTFS", "fat32+ntfs": "pair: NTFS and FAT32"}


def _decisions(
    choices: Choices,
    settled: Choices,
    source: Source,
    splits: tuple[SplitImage, ...],
    shape: Shape,
    measured: _Measured,
) -> list[Decision]:
    made = [
        Decision("table", _TABLES[shape.table], shape.reasons["table"], choices.table is not None),
        Decision("firmware", _FIRMWARE[shape.firmware], shape.reasons["firmware"], choices.firmware is not None),
        Decision(
            "file system",
            _FILE_SYSTEMS[shape.file_system],
            shape.reasons["file system"],
            choices.file_system is not None,
        ),
    ]
    for split in splits:
        parts = f"{len(split.parts)} parts" if len(split.parts) > 1 else "1 part"
        limit = settled.part_size or LARGEST_PART
        made.append(
            Decision(
                "split",
                f"{split.path} in {parts}",
                f"it has {shown_size(split.size)}; a part holds up to {shown_size(limit)}"
                + (" (FAT32's largest file)" if limit == LARGEST_PART else ""),
                choices.part_size is not None,
            )
        )
    made += _partitions(choices, settled, shape, measured)
    made += [
        Decision(
            "cluster size",
            shown_size(measured.volumes[0].geometry.cluster_size),
            "usual for a volume of this size" if choices.cluster is None else "as chosen",
            choices.cluster is not None,
        ),
        Decision(
            "label",
            settled.label or "",
            "from the source's own label" if choices.label is None else "as chosen",
            choices.label is not None,
        ),
        Decision(
            "identity",
            settled.identity or "",
            "serial number and disk signature derive from it",
            choices.identity is not None,
        ),
    ]
    if source.added:
        names = ", ".join(str(path) for path in source.added)
        made.append(Decision("added", names, "laid over the source", True))
    return made


def _partitions(choices: Choices, settled: Choices, shape: Shape, measured: _Measured) -> list[Decision]:
    whole = (
        "the whole drive, so that what is left stays usable"
        if settled.use == "whole"
        else "as small as the source allows"
    )
    if settled.use == "whole" and measured.drive_size - measured.end > 64 * MIB:
        describes = "an MBR" if shape.table == "mbr" else "a FAT32 volume"
        whole += f"; {shown_size(measured.drive_size - measured.end)} lie beyond what {describes} can describe"
    volumes = measured.volumes
    kind = ("type 0Ch" if shape.file_system == "fat32" else "type 07h") if shape.table == "mbr" else "basic data"
    first = f"active, {kind}" if shape.table == "mbr" else kind
    if len(volumes) == 1:
        return [Decision("partition", f"one, {first}, {shown_size(volumes[0].size)}", whole, choices.use is not None)]
    made = [Decision("partition 1", f"NTFS, {first}, {shown_size(volumes[0].size)}", whole, choices.use is not None)]
    second = volumes[1]
    kind = {
        "mbr": {"starter": "type 0Ch", "crossing": "type EFh"},
        "gpt": {"starter": "basic data", "crossing": "basic data, no letter"},
    }[shape.table][second.role]
    why = (
        "firmware finds the loaders there"
        if second.role == "starter"
        else "our UEFI helper, which reads NTFS and starts the loader there"
    )
    made.append(Decision("partition 2", f"FAT32, {kind}, {shown_size(second.size)}", why, False))
    return made


def refuse_source_as_target(source: Source, target_path: Path) -> None:
    """Raise ProtectError when the target is the source itself, or a file in a folder that is built from."""
    target = target_path.resolve()
    for path in (source.path.resolve(), *(folder.resolve() for folder in source.added)):
        if target == path or path in target.parents:
            raise ProtectError(
                f"{target_path} is the source itself or lies in it.", advice="Choose another drive or image file."
            )
