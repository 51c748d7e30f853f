"""The structure that says what a volume is, brought back from its copy: of every kind that keeps one."""

from __future__ import annotations

from ...checking.report import Finding
from ...checking.views import Patched
from ..judging import walk
from ..remedy import Case, Change, NotMended, Order, Outcome, Remedy

_SIZE = 512


def from_copy(case: Case, finding: Finding) -> Outcome:
    """Copy the head back, if the volume can then be walked; what else is wrong with it shows afterwards."""
    found, partition = case.volume(finding.place.volume), case.partition(finding.place.volume)
    assert partition is not None
    offset, size = partition.first_lba * case.sector_size, partition.sector_count * case.sector_size
    size = min(size, case.drive.size - offset)
    if found is None:
        return NotMended(finding, "by its copy no volume can be read", "Build the drive again.")
    copy = found.kind.head_copy(case.drive, offset, size)
    at, name = found.kind.head
    assert copy is not None
    data = case.drive.read_at(copy, _SIZE)
    walked = walk(found.kind, Patched(case.drive, offset + at, data), offset, size)
    if not walked.entries:
        return NotMended(finding, f"by its copy: {walked}", "Repair the volume with a file-system checker.")
    change = Change(offset + at, data, Order.FIRSTS, name)
    return Remedy(finding, f"The {name} is copied back.", f"by its copy the folders can be walked: {walked}", (change,))
