"""Remedies that add or replace files: loaders, BOOTMGR, install images.

They come from the drive's own files, from inside its own images, or from a source that was named. New files, and files
of another size, are written on FAT32 only; elsewhere a file of the very same size may get its bytes back in place.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import cast

from ..boot.records import crossing
from ..checking.codes import Code
from ..checking.found import FoundVolume
from ..checking.report import Finding
from ..common.errors import KeystoneError, NoRoom, SourceError
from ..common.units import counted, exact_size
from ..content.contents import Literal, seekable, stream
from ..content.ranges import ContentFile, FileRange, piece_of
from ..content.tree import EPOCH, File, Folder
from ..families.families import supplied
from ..families.family import Supply
from ..setup.folders import SETUP_IMAGES
from ..setup.images import INSTALL_IMAGES
from ..sources.source import Source
from ..starting.bootable import ReadBootVolume
from ..starting.loaders import examine, loader_path
from ..starting.pe import REMOVABLE_LOADERS
from ..starting.release import setup_build
from ..volumes.volume import Entry, FileOnVolume
from ..wim.read import InstallImage
from ..wim.split import LARGEST_PART, divide, part_names
from .remedy import FILE_SYSTEM_CHECK, Case, Change, NotMended, Order, Outcome, Remedy, Rules
from .volumes.writers import WRITERS

_BLOCKING = (
    *(Code.VOLUME_ENTRIES, Code.FOLDERS_UNREADABLE, Code.FAT_COPIES_DIFFER, Code.VOLUME_BOOT_SECTOR),
    *(Code.FAT32_BOOT_COPY, Code.FAT32_FSINFO, Code.VOLUME_BEYOND_PARTITION),
)
"""With these a volume takes no files: what is free on it is not certain."""


_IN_MEMORY = 16 << 20
"""Bytes of a file whose bytes are put back in place, at most: a loader."""


def _bring_back(case: Case, finding: Finding) -> Outcome:
    """A file that is missing, damaged or another machine's."""
    found = case.volume(finding.place.volume)
    assert found is not None
    path = _wanted_path(case, finding, found)
    if path is None:
        return NotMended(finding, "what it is made for is not known", finding.advice)
    return _with_supply(case, finding, found, path)


def _with_supply(case: Case, finding: Finding, found: FoundVolume, path: str) -> Outcome:
    supply, why = _supply(case, found, path)
    if supply is None:
        return NotMended(finding, why, _where_to_get(case, found, path))
    return _put(case, finding, found, {path: supply.file}, (), f"{path} is written: {supply.where}")


def _for_firmware(case: Case, finding: Finding) -> Outcome:
    """A loader that lies where firmware does not read: a volume that it reads gets it, or our helper to get there."""
    able = [each for each in case.examined.volumes if each.kind.firmware_reads]
    path = finding.place.file.lower()
    if not able:
        return NotMended(finding, "the drive has no volume that UEFI firmware reads", finding.advice)
    starter = next((each for each in able if each.has(SETUP_IMAGES[0])), None)
    if starter is not None:
        return _with_supply(case, finding, starter, path)
    architecture = next((each for each in REMOVABLE_LOADERS if loader_path(each) == path), None)
    if architecture is None:
        return NotMended(finding, "what it is made for is not known", finding.advice)
    helper = File(path.rpartition("/")[2], Literal(crossing(architecture)), EPOCH)
    what = f"{path} is written: our helper, which starts the loader on the other volume (not with Secure Boot)"
    return _put(case, finding, able[0], {path: helper}, (), what)


def _wanted_path(case: Case, finding: Finding, found: FoundVolume) -> str | None:
    """Return where the file belongs that a finding misses."""
    if finding.code is not Code.START_NO_REMOVABLE_LOADER or finding.place.file.lower().startswith("efi/boot/"):
        return finding.place.file
    file = ReadBootVolume(found.kind, found.volume, found.partition, case.drive).find(finding.place.file)
    architecture = examine(file).architecture if file is not None else ""
    return loader_path(architecture) if architecture in REMOVABLE_LOADERS else None


def _supply(case: Case, found: FoundVolume, path: str) -> tuple[Supply | None, str]:
    """Return a file and '', or None and why there is none."""
    others = [each for each in case.examined.volumes if each is not found]
    for each in (found, *others):
        supply = supplied(_own_source(each), path)
        if supply is not None:
            return Supply(supply.file, f"{supply.where} of the drive itself"), ""
    source = case.wishes.source
    if source is None:
        return None, "the drive has no other copy of it"
    if other := _other_release(case, source):
        return None, other
    supply = supplied(source, path)
    if supply is None:
        return None, f"neither the drive nor {source.path} has one that is whole"
    return Supply(supply.file, f"{supply.where} of {source.path}"), ""


def _other_release(case: Case, source: Source) -> str:
    """Say that a source is of another release than the drive, '' where it is not, or nobody says."""
    here, there = setup_build(case.examined.walked), _build_of(source)
    if here and there and here != there:
        return f"{source.path} is of another release (build {there}; the drive's is {here})"
    return ""


def _build_of(source: Source) -> int:
    for path in SETUP_IMAGES:
        file = source.root.find_file(path)
        if file is None:
            continue
        try:
            editions = InstallImage(seekable(file.content), path).editions
        except KeystoneError:
            continue
        if editions:
            return editions[-1].build
    return 0


def _own_source(found: FoundVolume) -> Source:
    """Return a volume as a source: its files that can be read."""
    root = Folder("", EPOCH)
    folders = {"": root}
    for entry in found.entries:
        if not entry.path:
            continue
        parent, _, name = entry.path.rpartition("/")
        above = folders.get(parent)
        if above is None:
            continue
        if entry.is_folder:
            folders[entry.path] = Folder(name, EPOCH)
            above.entries[name] = folders[entry.path]
        elif not entry.faults:
            above.entries[name] = _file(found, entry, name)
    return Source(path=Path(f"partition {found.partition.number}"), form="volume", label="", root=root)


def _file(found: FoundVolume, entry: Entry, name: str) -> File:
    content = FileRange(ContentFile(FileOnVolume(found.volume, entry), entry.path), 0, entry.size)
    return File(name, content, entry.modified or EPOCH)


def _where_to_get(case: Case, found: FoundVolume, path: str) -> str:
    number = found.partition.number
    if case.wishes.source is None:
        return f"Name the installer with --from, or copy {path} from it to partition {number}."
    return f"Copy {path} from an installer of the same release to partition {number}."


# -- install images --------------------------------------------------------------------------------------------------


def _install_image(case: Case, finding: Finding) -> Outcome:
    """An install image or setup environment that is cut off: written from the source, in parts if need be."""
    found, source = case.volume(finding.place.volume), case.wishes.source
    assert found is not None
    path = finding.place.file
    if source is None:
        return NotMended(finding, "the drive has no other copy of it", "Name the installer with --from SOURCE.")
    if other := _other_release(case, source):
        return NotMended(finding, other, "Name the installer that the drive was made from.")
    folder, _, name = path.rpartition("/")
    names = INSTALL_IMAGES if name.lower() in INSTALL_IMAGES else (name,)
    there = next((file for each in names if (file := source.root.find_file(f"{folder}/{each}")) is not None), None)
    if there is None:
        return NotMended(finding, f"{source.path} has no {path}", "Name the installer that the drive was made from.")
    try:
        files = _in_parts(source, folder, there)
    except KeystoneError as error:
        return NotMended(finding, error.message.rstrip("."), error.advice)
    old = [entry.path for entry in found.entries if _belongs(entry, folder, names) and entry.path not in files]
    size = sum(file.size for file in files.values())
    old_size = sum(entry.size for entry in found.entries if entry.path in (path, *old))
    parts = f" in {counted(len(files), 'part')}" if len(files) > 1 else ""
    what = f"{folder}/{there.name} of {source.path} is written{parts} ({exact_size(size)})"
    what += f", then {', '.join(old)} is removed" if old else ""
    outcome = _put(case, finding, found, files, old, what)
    if isinstance(outcome, NotMended) and old_size and outcome.lacks_room:
        advice = f"Delete {path} from the drive ({exact_size(old_size)} that are of no use), then mend again."
        return NotMended(finding, outcome.why, advice)
    return outcome


def _in_parts(source: Source, folder: str, file: File) -> Mapping[str, File]:
    """Return the files that an image becomes on FAT32, by path. Raises SourceError where it cannot be divided."""
    if file.size <= LARGEST_PART:
        image = InstallImage(seekable(file.content), file.name)
        names = part_names(file.name, image.header.part_count) if image.is_part else [file.name]
        found = {f"{folder}/{name}": source.root.find_file(f"{folder}/{name}") for name in names}
        missing = [path for path, each in found.items() if each is None]
        if missing:
            raise SourceError(f"{source.path} lacks {missing[0]}.", advice="Name an installer that is whole.")
        return cast("Mapping[str, File]", found)
    parts = divide(InstallImage(seekable(file.content), f"{folder}/{file.name}"), LARGEST_PART, has_sums=False)
    names = part_names(file.name, len(parts))
    return {
        f"{folder}/{name}": File(name, part.content, file.modified) for name, part in zip(names, parts, strict=True)
    }


def _belongs(entry: Entry, folder: str, names: tuple[str, ...]) -> bool:
    """Tell whether a file is one of an image's names, or a part of it."""
    above, _, name = entry.path.rpartition("/")
    if entry.is_folder or above.lower() != folder.lower():
        return False
    lower = name.lower()
    is_part = lower.startswith("install") and lower.endswith(".swm") and lower[7:-4].isdigit()
    return lower in names or (is_part and names == INSTALL_IMAGES)


# -- writing ---------------------------------------------------------------------------------------------------------


def _put(
    case: Case, finding: Finding, found: FoundVolume, files: Mapping[str, File], old: list[str] | tuple[()], what: str
) -> Outcome:
    number = found.partition.number
    blocking = [
        each for each in case.examined.report.findings if each.code in _BLOCKING and each.place.volume == number
    ]
    if blocking:
        return NotMended(finding, FILE_SYSTEM_CHECK, blocking[0].advice)
    try:
        changes = WRITERS[found.kind.name](case, found, files, old) if found.kind.name in WRITERS else None
        changes = changes if changes is not None else _in_place(found, files, old)
    except KeystoneError as error:
        return NotMended(finding, error.message.rstrip("."), error.advice, isinstance(error, NoRoom))
    if changes is None:
        names = ", ".join(files)
        why = f"{found.kind.shown} is not written to by this program, beyond a file of the very same size"
        return NotMended(finding, why, f"Copy {names} to partition {number} by a system's own means, then mend again.")
    replaces = frozenset((number, path.upper()) for path in (*files, *old))
    return Remedy(finding, f"{what}.", "", tuple(changes), replaces)


def _in_place(found: FoundVolume, files: Mapping[str, File], old: list[str] | tuple[()]) -> list[Change] | None:
    """Return bytes of files in the clusters that they have already; None where they do not fit exactly."""
    changes: list[Change] = []
    for path, file in files.items():
        entry = found.volume.find(path)
        if (
            old
            or file.size > _IN_MEMORY
            or entry is None
            or entry.is_folder
            or entry.faults
            or entry.size != file.size
            or not entry.runs
        ):
            return None
        at = 0
        for run in entry.runs:
            size = min(run.count * found.volume.cluster_size, file.size - at)
            if run.is_hole or size <= 0:
                return None
            start = found.volume.cluster_offset(run.first)
            data = b"".join(bytes(piece) for piece in stream(piece_of(file.content, at, size)))
            changes.append(Change(start, data, Order.FIRSTS, f"bytes of {path}"))
            at += size
        if at != file.size:
            return None
    return changes


RULES: Rules = {
    Code.START_NO_REMOVABLE_LOADER: _bring_back,
    Code.START_LOADER: _bring_back,
    Code.START_LOADER_ARCHITECTURE: _bring_back,
    Code.START_BOOTMGR: _bring_back,
    Code.START_NO_CROSSING: _for_firmware,
    Code.SETUP_IMAGE: _install_image,
}
