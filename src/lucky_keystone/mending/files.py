"""Remedies that add or replace files: loaders, BOOTMGR, install images."""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast

from ..boot.records import crossing
from ..checking.codes import Code
from ..checking.found import FoundVolume
from ..checking.report import Finding
from ..common.errors import KeystoneError, SourceError
from ..common.units import counted, exact_size
from ..content.contents import Literal, seekable
from ..content.tree import EPOCH, File
from ..setup.folders import SETUP_IMAGES
from ..setup.images import INSTALL_IMAGES
from ..sources.source import Source
from ..starting.bootable import ReadBootVolume
from ..starting.loaders import examine, loader_path
from ..starting.pe import REMOVABLE_LOADERS
from ..volumes.volume import Entry
from ..wim.read import InstallImage
from ..wim.split import LARGEST_PART, divide, part_names
from .putting import put
from .remedy import Case, NotMended, Outcome, Rules
from .supplying import MADE_BY_BUILD, is_made_by_build, other_release, rebuilt, supply_of, where_to_get


def _bring_back(case: Case, finding: Finding) -> Outcome:
    """A file that is missing, damaged or another machine's."""
    found = case.volume(finding.place.volume)
    assert found is not None
    path = _wanted_path(case, finding, found)
    if path is None:
        return NotMended(finding, "what it is made for is not known", finding.advice)
    return with_supply(case, finding, found, path)


def with_supply(case: Case, finding: Finding, found: FoundVolume, path: str) -> Outcome:
    """Put a file at a path of a volume that lacks it, or has another one there."""
    supply, why = supply_of(case, found, path)
    if supply is None:
        return NotMended(finding, why, where_to_get(case, found, path))
    return put(case, finding, found, {path: supply.file}, (), f"{path} is written: {supply.where}")


def _for_firmware(case: Case, finding: Finding) -> Outcome:
    """A loader that lies where firmware does not read: a volume that it reads gets it, or our helper to get there."""
    able = [each for each in case.examined.volumes if each.kind.firmware_reads]
    path = finding.place.file.lower()
    if not able:
        return NotMended(finding, "the drive has no volume that UEFI firmware reads", finding.advice)
    starter = next((each for each in able if each.has(SETUP_IMAGES[0])), None)
    if starter is not None:
        return with_supply(case, finding, starter, path)
    architecture = next((each for each in REMOVABLE_LOADERS if loader_path(each) == path), None)
    if architecture is None:
        return NotMended(finding, "what it is made for is not known", finding.advice)
    helper = File(path.rpartition("/")[2], Literal(crossing(architecture)), EPOCH)
    what = f"{path} is written: our helper, which starts the loader on the other volume (not with Secure Boot)"
    return put(case, finding, able[0], {path: helper}, (), what)


def _wanted_path(case: Case, finding: Finding, found: FoundVolume) -> str | None:
    """Return where the file belongs that a finding misses."""
    if finding.code is not Code.START_NO_REMOVABLE_LOADER or finding.place.file.lower().startswith("efi/boot/"):
        return finding.place.file
    file = ReadBootVolume(found.kind, found.volume, found.partition, case.drive).find(finding.place.file)
    architecture = examine(file).architecture if file is not None else ""
    return loader_path(architecture) if architecture in REMOVABLE_LOADERS else None


# -- install images --------------------------------------------------------------------------------------------------


def _install_image(case: Case, finding: Finding) -> Outcome:
    """An install image or setup environment that is cut off: written from the source, in parts if need be."""
    found, source = case.volume(finding.place.volume), case.wishes.source
    assert found is not None
    path = finding.place.file
    if is_made_by_build(case, path):
        return NotMended(finding, MADE_BY_BUILD, rebuilt(case))
    if source is None:
        return NotMended(finding, "the drive has no other copy of it", "Name the installer with --from SOURCE.")
    if other := other_release(case, source):
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
    outcome = put(case, finding, found, files, old, what)
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


RULES: Rules = {
    Code.START_NO_REMOVABLE_LOADER: _bring_back,
    Code.START_LOADER: _bring_back,
    Code.START_LOADER_ARCHITECTURE: _bring_back,
    Code.START_BOOTMGR: _bring_back,
    Code.START_NO_CROSSING: _for_firmware,
    Code.SETUP_IMAGE: _install_image,
}
