"""Remedies for HFS+ volumes: the header, the alternate one, and the words that name the loader to Macs."""

from __future__ import annotations

from ...checking.codes import Code
from ...checking.report import Finding
from ...volumes.hfsplus.kind import HFSPLUS
from ...volumes.hfsplus.read import HfsPlusVolume
from ...volumes.hfsplus.records import HEADER_OFFSET, VolumeHeader
from ...volumes.volume import VolumeError
from ..judging import walk
from ..remedy import FILE_SYSTEM_CHECK, Case, Change, NotMended, Order, Outcome, Remedy, Rules
from .head import from_copy

_CHECKER = "Run First Aid on it on a Mac, then mend again."
_USUAL_LOADER = "System/Library/CoreServices/boot.efi"


def _volume(case: Case, finding: Finding) -> HfsPlusVolume:
    found = case.volume(finding.place.volume)
    assert found is not None
    assert isinstance(found.volume, HfsPlusVolume)
    return found.volume


def _alternate(case: Case, finding: Finding) -> Outcome:
    volume = _volume(case, finding)
    walked = walk(HFSPLUS, case.drive, volume.offset, volume.size)
    if walked.faults:
        return NotMended(finding, f"by the header: {walked}; {FILE_SYSTEM_CHECK}", _CHECKER)
    place = _place_of_alternate(volume)
    change = Change(place, volume.header.pack(), Order.COPIES, "alternate volume header")
    why = f"by the header all folders can be walked: {walked}"
    return Remedy(finding, "The alternate volume header is made from the header.", why, (change,))


def _place_of_alternate(volume: HfsPlusVolume) -> int:
    """Byte of the drive: 1,024 bytes before the partition's end (TN1150), or before that of the volume's blocks."""
    blocks = volume.cluster_count * volume.cluster_size
    places = [volume.offset + end - HEADER_OFFSET for end in (volume.size, blocks) if end <= volume.size]
    signature = volume.header.signature
    return next((place for place in places if volume.bytes_at(place, 2) == signature), places[0])


def _blessing(case: Case, finding: Finding) -> Outcome:
    """Name the loader that is there, and the folder that it is in."""
    volume = _volume(case, finding)
    info = volume.finder_info
    try:
        path = volume.named(info.blessed_file) if info.blessed_file else ""
        entry = volume.find(path) if path else None
        if entry is None or entry.is_folder:
            path, entry = _USUAL_LOADER, volume.find(_USUAL_LOADER)
        folder = volume.find(path.rpartition("/")[0]) if "/" in path else volume.root()
    except VolumeError as error:
        return NotMended(finding, f"{error.message.rstrip('.')}; {FILE_SYSTEM_CHECK}", _CHECKER)
    if entry is None or entry.is_folder or folder is None:
        why = f"there is no {_USUAL_LOADER} on it to be named"
        return NotMended(finding, why, "Build the drive again from the installer.")
    named = info.with_changes(blessed_file=entry.number, blessed_folder=folder.number, system_folder=folder.number)
    at = VolumeHeader.offset_of("finderInfo")
    alternate = _place_of_alternate(volume)
    changes = [Change(volume.offset + HEADER_OFFSET + at, named.pack(), Order.FIRSTS, "Finder info of the header")]
    if volume.bytes_at(alternate, 2) == volume.header.signature:
        changes.insert(0, Change(alternate + at, named.pack(), Order.COPIES, "Finder info of the alternate header"))
    return Remedy(
        finding, f"The header names {path} as the loader, and its folder.", "that file is there", tuple(changes)
    )


RULES: Rules = {
    Code.VOLUME_BOOT_SECTOR: from_copy,
    Code.HFSPLUS_ALTERNATE: _alternate,
    Code.HFSPLUS_BLESSING: _blessing,
    Code.START_MAC_NAMES_NONE: _blessing,
}
