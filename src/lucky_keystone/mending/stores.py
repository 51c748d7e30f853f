"""Boot stores that are lost or damaged, and files that a store's entries need: brought back.

A store that the build made, as a list of several setup environments is, no source has.
"""

from __future__ import annotations

from ..checking.codes import Code
from ..checking.report import Finding
from ..content.contents import seekable
from ..content.tree import File
from ..setup.folders import SETUP_IMAGES
from ..starting.boot_store import STORES
from ..starting.bootable import BootFile
from ..starting.stores import StoreFault, is_readable, store_faults
from .files import with_supply
from .putting import put
from .remedy import Case, NotMended, Outcome, Rules
from .supplying import supply_of, where_to_get


def _bring_back(case: Case, finding: Finding) -> Outcome:
    found, fault = case.volume(finding.place.volume), _fault(case, finding)
    has_setup = any(each.has(path) for each in case.examined.volumes for path in SETUP_IMAGES)
    if found is None or fault is None or not has_setup:
        return NotMended(finding, "there is no remedy that keeps what is on the drive", finding.advice)
    if fault.missing and fault.missing != fault.path:
        return with_supply(case, finding, found, fault.missing)
    supply, why = supply_of(case, found, fault.path, _is_store)
    if supply is None:
        return NotMended(finding, why, where_to_get(case, found, fault.path))
    return put(case, finding, found, {fault.path: supply.file}, (), f"{fault.path} is written: {supply.where}")


def _fault(case: Case, finding: Finding) -> StoreFault | None:
    """Return what the finding was made of: the store, or one of its entries."""
    drive = case.examined.walked
    for volume in drive.volumes:
        if volume.partition.number == finding.place.volume:
            for firmware in STORES:
                for fault in store_faults(drive, volume, firmware):
                    if fault.path == finding.place.file and fault.why in finding.what:
                        return fault
    return None


def _is_store(file: File) -> bool:
    return is_readable(BootFile(file.name, seekable(file.content), file.size))


RULES: Rules = {Code.START_STORE: _bring_back}
