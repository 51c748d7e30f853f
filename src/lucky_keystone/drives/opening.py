"""From a drive that was confirmed to one that is open for writing.

Every guard once more, on both sides of the opening.
"""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from .drive import Drive
from .guards import NONE_LIFTED, Guard, admit, refuse_changed_handle
from .host import Handle, Host


def holds_any(host: Host, drive: Drive, paths: Collection[Path]) -> bool:
    """True when one of the files or devices `paths` lies on `drive`."""
    return any(drive.path in host.disks_below(path) for path in paths)


def open_confirmed(
    host: Host,
    confirmed: Drive,
    *,
    needed: int = 0,
    lifted: Collection[Guard] = NONE_LIFTED,
    sources: Collection[Path] = (),
) -> Handle:
    """Open `confirmed` for writing, or raise ProtectError, NoRights or DriveError without having written anything.

    Between the confirmation and this call drives may have been plugged in, pulled out and renumbered. So the drives
    are listed again, volumes unmounted when that guard is lifted, and once the handle is open, from when on it cannot
    become another drive's, it is asked what it belongs to, and the list is checked against the guards a last time.
    """
    drive = admit(
        confirmed, host.drives(), needed=needed, lifted=lifted, holds_source=holds_any(host, confirmed, sources)
    )
    if drive.mounts:
        host.unmount(drive)
    handle = host.open(drive, write=True)
    try:
        refuse_changed_handle(confirmed, handle.identity())
        still = set(lifted) - {Guard.IN_USE}
        admit(confirmed, host.drives(), needed=needed, lifted=still, holds_source=holds_any(host, confirmed, sources))
    except BaseException:
        handle.close()
        raise
    return handle
