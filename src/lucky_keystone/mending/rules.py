"""Which remedy goes with which code, and what to do about the rest."""

from __future__ import annotations

from ..checking.codes import Code
from ..checking.report import Finding
from . import files, stores, tables
from .remedy import FILE_SYSTEM_CHECK, Case, NotMended, Outcome
from .volumes.menders import MENDERS

_OF_FILE_SYSTEMS = (
    Code.VOLUME_ENTRIES,
    Code.VOLUME_LOST_CLUSTERS,
    Code.FOLDERS_UNREADABLE,
    Code.NTFS_BITMAP,
    Code.NTFS_VERSION,
    Code.HFSPLUS_BITMAP,
    Code.EXFAT_BITMAP,
    Code.EXFAT_UPCASE,
    Code.HFSPLUS_JOURNAL,
)
_OF_DRIVES = (tables.RULES, files.RULES, stores.RULES)
CONSEQUENCES = (Code.START_NOTHING, Code.START_WANTED)
"""They say that a start fails, and nothing of why: they go when the reason does, or stay with it."""
MENDED_NOTES = (Code.GPT_COPY_NOT_AT_END,)
"""Notes of a check that are mended all the same: firmware starts such a drive, and other tools stumble over it."""


LEFT_NOTES = (Code.START_OTHER_CODE, Code.START_CODE_NOT_KNOWN)
"""Notes of what may be there on purpose: left as it is unless it is asked for."""


def can_be_mended(finding: Finding) -> bool:
    """Tell whether there is a remedy for such a finding, which may still not fit the drive."""
    of_volumes = any(finding.code in rules for rules in MENDERS.values())
    return any(finding.code in rules for rules in _OF_DRIVES) or of_volumes


def remedy_for(case: Case, finding: Finding) -> Outcome:
    """Return what can be done about a finding."""
    if finding.code in _OF_FILE_SYSTEMS:
        found = case.volume(finding.place.volume)
        advice = f"Run {found.kind.checked_with}, then mend again." if found else finding.advice
        return NotMended(finding, FILE_SYSTEM_CHECK, advice)
    for of_drives in _OF_DRIVES:
        if finding.code in of_drives:
            return of_drives[finding.code](case, finding)
    found = case.volume(finding.place.volume)
    rules = MENDERS.get(found.kind.name, {}) if found else {}
    if finding.code in rules:
        return rules[finding.code](case, finding)
    return NotMended(finding, "there is no remedy that keeps what is on the drive", finding.advice)
