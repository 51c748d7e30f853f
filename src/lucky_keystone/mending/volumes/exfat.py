"""Remedies for exFAT volumes: a boot region and its copy, where one of them is whole and the folders say so."""

from __future__ import annotations

from ...checking.codes import Code
from ...checking.report import Finding
from ...checking.views import Patched
from ...volumes.exfat.kind import EXFAT
from ...volumes.exfat.read import ExfatVolume, is_sound_region
from ...volumes.exfat.records import BOOT_SECTORS
from ..judging import walk
from ..remedy import FILE_SYSTEM_CHECK, Case, Change, NotMended, Order, Outcome, Remedy, Rules
from .head import from_copy

_CHECKER = "Run 'fsck.exfat' (Linux), 'chkdsk /f' (Windows) or First Aid (Mac) on it, then mend again."


def _regions(case: Case, finding: Finding) -> Outcome:
    """Make the region that is damaged from the one that is whole."""
    found = case.volume(finding.place.volume)
    assert found is not None
    assert isinstance(found.volume, ExfatVolume)
    volume: ExfatVolume = found.volume
    size = BOOT_SECTORS * volume.sector_size
    main, backup = volume.boot_region(0), volume.boot_region(1)
    if is_sound_region(main, volume.sector_size):
        change = Change(volume.offset + size, main, Order.COPIES, "copy of the boot region")
        return Remedy(finding, "The copy is made from the boot region.", "that one has its sum", (change,))
    if not is_sound_region(backup, volume.sector_size):
        return NotMended(finding, f"neither boot region has its sum; {FILE_SYSTEM_CHECK}", _CHECKER)
    walked = walk(EXFAT, Patched(case.drive, volume.offset, backup), volume.offset, volume.size)
    if not walked.entries:
        return NotMended(finding, f"by the copy: {walked}; {FILE_SYSTEM_CHECK}", _CHECKER)
    change = Change(volume.offset, backup, Order.FIRSTS, "boot region")
    return Remedy(
        finding, "The boot region is made from its copy.", f"by it the folders can be walked: {walked}", (change,)
    )


RULES: Rules = {
    Code.VOLUME_BOOT_SECTOR: from_copy,
    Code.EXFAT_BOOT_SUM: _regions,
    Code.EXFAT_BOOT_COPY: _regions,
}
