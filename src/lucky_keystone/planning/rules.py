"""The rules: facts, choices and a drive become a plan, each decision with its reason."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from ..content import seekable
from ..errors import ProtectError, SourceError, UsageError
from ..extents import MIB, align_up
from ..sources.source import Source
from ..tree import File, Folder
from ..units import exact_size, shown_size
from ..volumes.fat32.compose import LARGEST_FILLED_HOLE, Layout, lay_out
from ..volumes.fat32.geometry import Geometry, default_cluster_size, geometry, smallest_total
from ..volumes.fat32.names import label_fault
from ..volumes.fat32.relayout import lay_out_again
from ..wim.read import InstallImage
from ..wim.split import LARGEST_PART, divide, part_names
from .choices import Choices, check_choices
from .forecast import forecast
from .plan import Area, Decision, DriveShape, Plan, SplitImage, StandingVolume
from .room import manifest_offset, manifest_room

_MOST_SECTORS = 1 << 32  # what an MBR can say, and a FAT32 volume as well
_MOST_HOLES = 48  # each ends a region of the manifest, which has room for 64


def make_plan(source: Source, choices: Choices, drive: DriveShape, standing: StandingVolume | None = None) -> Plan:
    """Decide everything that is not chosen. Raises UsageError, NotYet or SourceError when no drive can be built.

    With a `standing` volume the drive is to be updated: the volume stays, and so does what did not change on it.
    """
    check_choices(choices, drive.sector_size)
    if source.facts.family != "windows-setup":
        raise SourceError(
            f"{source.path} is not an installer that is known here: it has no sources/boot.wim.",
            advice="Give the installer's disc image, or the folder that holds its 'sources' folder.",
        )
    tree, splits = _divided(source, choices.part_size or LARGEST_PART)
    label = choices.label or _label_from(source.label)
    use = choices.use or ("whole" if drive.size is not None else "needed")
    table = choices.table or "mbr"
    if standing is None:
        measures = _measure(tree, label, choices.cluster, use, drive, table)
    else:
        measures = _measure_again(tree, label, choices, drive, standing)
    settled = msgspec.structs.replace(
        choices,
        table=table,
        firmware=choices.firmware or ("both" if table == "mbr" else "uefi"),
        file_system="fat32",
        purpose="install",
        label=label.upper(),
        cluster=measures.geometry.cluster_size,
        part_size=choices.part_size or LARGEST_PART,
        use=use,
        identity=choices.identity or drive.name,
    )
    if not settled.identity:
        raise UsageError("The identity word is empty.", advice="Choose one with --identity WORD.")
    final = DriveShape(drive.name, measures.drive_size, drive.sector_size)
    return Plan(
        source=source,
        choices=settled,
        drive=final,
        decisions=tuple(_decisions(choices, settled, source, splits, measures)),
        areas=tuple(_areas(measures)),
        needed=measures.needed,
        unused=measures.drive_size - measures.end,
        free=(measures.geometry.cluster_count - measures.layout.clusters_used) * measures.geometry.cluster_size,
        forecast=forecast(source.facts.loaders, drive.sector_size, table),
        splits=splits,
        tree=tree,
        layout=measures.layout,
        geometry=measures.geometry,
        manifest_room=measures.manifest_room,
    )


# -- contents --------------------------------------------------------------------------------------------------------


def _divided(source: Source, part_size: int) -> tuple[Folder, tuple[SplitImage, ...]]:
    """Return the source's tree with every install image beyond `part_size` replaced by its parts."""
    tree, splits = source.root, []
    for path, file in list(source.root.files()):
        folder, _, name = path.rpartition("/")
        is_install_image = name.lower().startswith("install.") and name.lower().endswith((".wim", ".esd"))
        if file.size <= (part_size if is_install_image else LARGEST_PART):
            continue
        if not is_install_image:
            raise SourceError(
                f"{path} has {file.size:,} bytes; FAT32 holds files of up to {LARGEST_PART:,}, and only install images can be split.",
                advice="Leave the file out of the source, or add it to the computer later.",
            )
        image = InstallImage(seekable(file.content), path)
        parts = divide(image, part_size)
        names = part_names(name, len(parts))
        for other in names:
            if tree.find(f"{folder}/{other}" if folder else other):
                raise SourceError(f"{path} has to be split, but {other} is there already.", advice="Remove one of the two.")
        new_files = [File(other, part.content, file.modified) for other, part in zip(names, parts, strict=True)]
        tree = _replaced(tree, path.split("/"), new_files)
        splits.append(SplitImage(path, file.size, tuple((new.name, new.size) for new in new_files)))
    return tree, tuple(splits)


def _replaced(folder: Folder, path: list[str], files: list[File]) -> Folder:
    """Return `folder` with the file at `path` replaced by `files`; what is not on the path is shared."""
    entries: dict[str, File | Folder] = {}
    for name, entry in folder.entries.items():
        if name != path[0]:
            entries[name] = entry
        elif isinstance(entry, Folder):
            entries[name] = _replaced(entry, path[1:], files)
        else:
            entries |= {file.name: file for file in files}
    return Folder(folder.name, folder.modified, entries)


def _label_from(label: str) -> str:
    cleaned = "".join(c if c.isascii() and (c.isalnum() or c in "-_ ") else "_" for c in label)[:11].strip()
    return cleaned.upper() if cleaned and not label_fault(cleaned) else "INSTALLER"


# -- measures --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Measures:
    layout: Layout
    geometry: Geometry
    manifest_room: int
    drive_size: int
    needed: int
    table: str = "mbr"

    @property
    def start(self) -> int:
        return self.geometry.hidden * self.geometry.sector_size

    @property
    def end(self) -> int:
        return self.start + self.geometry.total * self.geometry.sector_size


def _measure(tree: Folder, label: str, cluster: int | None, use: str, drive: DriveShape, table: str) -> _Measures:
    sector = drive.sector_size
    content = sum(file.size for _, file in tree.files())
    behind = 0 if table == "mbr" else MIB  # a GPT's backup, with the partition's end still at a whole MiB
    available = None if drive.size is None else min(drive.size // sector, _MOST_SECTORS) * sector - behind
    basis = content if available is None or use == "needed" else available
    cluster_size = cluster or default_cluster_size(basis, sector)
    layout = lay_out(tree, label, cluster_size)
    room = manifest_room(layout, available if available is not None and use == "whole" else None, sector)
    hidden = align_up(manifest_offset(table, sector) + room, MIB) // sector
    smallest = smallest_total(hidden, layout.clusters_used, sector, cluster_size)
    end = align_up((hidden + smallest) * sector, MIB)
    needed = end + behind
    if drive.size is None:
        drive_size, total = needed, end // sector - hidden
    else:
        drive_size = drive.size
        if available is None or end > available:
            raise SourceError(
                f"The source does not fit: {exact_size(needed)} are needed, {drive.name} has {exact_size(drive.size)}.",
                advice="Use a larger drive.",
            )
        end = end if use == "needed" else available // MIB * MIB
        total = end // sector - hidden
    measures = geometry(hidden=hidden, total=total, sector_size=sector, cluster_size=cluster_size)
    if measures.cluster_count < layout.clusters_used:
        raise SourceError(f"The source does not fit: {exact_size(needed)} are needed.", advice="Use a larger drive.")
    return _Measures(layout, measures, room, drive_size, needed, table)


def _measure_again(tree: Folder, label: str, choices: Choices, drive: DriveShape, standing: StandingVolume) -> _Measures:
    """Lay the tree out on the volume that stands. Raises UsageError or SourceError where that cannot be."""
    shape = standing.geometry
    if choices.cluster not in (None, shape.cluster_size) or choices.use is not None:
        raise UsageError(
            "An update keeps the volume as it is: its size and clusters cannot be chosen.", advice="Build anew, without --update."
        )
    layout = lay_out_again(tree, label, shape.cluster_size, shape.cluster_count, standing.places)
    if sum(1 for hole in layout.holes if hole[1] * shape.cluster_size >= LARGEST_FILLED_HOLE) > _MOST_HOLES:
        raise SourceError("The files would lie too scattered on the drive.", advice="Build it anew, without --update.")
    assert drive.size is not None
    room = manifest_room(layout, shape.total * shape.sector_size, shape.sector_size)
    table = choices.table or "mbr"
    if manifest_offset(table, shape.sector_size) + room > shape.hidden * shape.sector_size:
        raise SourceError("The room in front of the volume is too small for the new manifest.", advice="Build anew, without --update.")
    measures = _Measures(layout, shape, room, drive.size, 0, table)
    return replace(measures, needed=measures.start + shape.cluster_offset(layout.next_free))


def _areas(measures: _Measures) -> list[Area]:
    shape, start, sector = measures.geometry, measures.start, measures.geometry.sector_size
    fats = start + shape.reserved * sector
    data = start + shape.first_data * sector
    files = start + shape.cluster_offset(max((f.cluster + f.cluster_count for f in measures.layout.folders), default=2))
    used_end = start + shape.cluster_offset(measures.layout.next_free)
    manifest = manifest_offset(measures.table, sector)
    manifest_end = manifest + measures.manifest_room
    record = "MBR record and partition table" if measures.table == "mbr" else "protective record"
    areas = [
        Area("seal", 0, sector, f"{record}; written last"),
        Area("GPT", sector, manifest - sector, "header and entries"),
        Area("manifest", manifest, measures.manifest_room, "hashes of everything written"),
        Area("kept clear", manifest_end, start - manifest_end, "so that the partition starts at a whole MiB"),
        Area("boot sectors", start, fats - start, "FAT32 boot record, its copy, further boot code"),
        Area("FATs", fats, data - fats, "two copies of the cluster table"),
        Area("folders", data, files - data, f"{len(measures.layout.folders):,} folders"),
        Area("files", files, used_end - files, f"{len(measures.layout.files):,} files, each in one piece"),
        Area("free", used_end, measures.end - used_end, "free space of the volume"),
    ]
    if measures.drive_size > measures.end:
        note = "outside the partition" if measures.table == "mbr" else "outside the partition; the GPT's backup at its very end"
        areas.append(Area("not used", measures.end, measures.drive_size - measures.end, note))
    return [area for area in areas if area.size > 0]


# -- reasons ---------------------------------------------------------------------------------------------------------


_TABLES = {
    "mbr": ("MBR", "both BIOS and UEFI machines start from it"),
    "gpt": ("GPT", "what UEFI machines are made for; BIOS machines do not start from it"),
}
_FIRMWARE = {
    "both": ("BIOS and UEFI", "one drive serves old and new machines"),
    "bios": ("BIOS", "as chosen; UEFI machines start from it as well"),
    "uefi": ("UEFI", "as chosen, or as the table has it"),
}


def _decisions(choices: Choices, settled: Choices, source: Source, splits: tuple[SplitImage, ...], measures: _Measures) -> list[Decision]:
    shape = measures.geometry
    made = [
        Decision("table", *_TABLES[settled.table or ""], choices.table is not None),
        Decision("firmware", *_FIRMWARE[settled.firmware or ""], choices.firmware is not None),
        Decision(
            "file system", "FAT32", "the only one that all UEFI firmware reads; Secure Boot can stay on", choices.file_system is not None
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
    kind = "active, type 0Ch" if measures.table == "mbr" else "basic data"
    whole = "the whole drive, so that what is left stays usable" if settled.use == "whole" else "as small as the source allows"
    if settled.use == "whole" and measures.drive_size - measures.end > 64 * MIB:
        describes = "an MBR" if measures.table == "mbr" else "a FAT32 volume"
        whole += f"; {shown_size(measures.drive_size - measures.end)} lie beyond what {describes} can describe"
    made += [
        Decision("partition", f"one, {kind}, {shown_size(shape.total * shape.sector_size)}", whole, choices.use is not None),
        Decision(
            "cluster size",
            shown_size(shape.cluster_size),
            "usual for a volume of this size" if choices.cluster is None else "as chosen",
            choices.cluster is not None,
        ),
        Decision(
            "label", settled.label or "", "from the source's own label" if choices.label is None else "as chosen", choices.label is not None
        ),
        Decision("identity", settled.identity or "", "serial number and disk signature derive from it", choices.identity is not None),
    ]
    if source.added:
        names = ", ".join(str(path) for path in source.added)
        made.append(Decision("added", names, "laid over the source", True))
    return made


def refuse_source_as_target(source: Source, target_path: Path) -> None:
    """Raise ProtectError when the target is the source itself, or a file in a folder that is built from."""
    target = target_path.resolve()
    for path in (source.path.resolve(), *(folder.resolve() for folder in source.added)):
        if target == path or path in target.parents:
            raise ProtectError(f"{target_path} is the source itself or lies in it.", advice="Choose another drive or image file.")
