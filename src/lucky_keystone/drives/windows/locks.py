"""The volumes of a drive, locked and dismounted: without that Windows refuses to have its sectors written."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import TypeVar

from ...common.errors import NoRights, ProtectError
from ...common.os_errors import Trouble, trouble
from ...winapi.errors import FILE_NOT_FOUND, PATH_NOT_FOUND
from ..drive import Drive
from . import records
from .find import Volume, WindowsFinder, path_of
from .system import WindowsSystem

RIGHTS = (
    "Open a terminal with 'Run as administrator' and run the same command there. Listing and planning need no rights."
)
_T = TypeVar("_T")
_PAUSES = (0.1, 0.2, 0.4, 0.8, 1.5, 2.0)
"""Seconds between attempts: whoever indexes or scans a stick holds it for a moment only."""


class VolumeLocks:
    """Keeps the volumes that it has locked, until they are released."""

    def __init__(self, system: WindowsSystem, sleep: Callable[[float], None] = time.sleep) -> None:
        self._system, self._sleep = system, sleep
        self._held: dict[str, tuple[int, Volume]] = {}

    @property
    def volumes(self) -> Mapping[str, Volume]:
        """What the locked volumes were before."""
        return {name: volume for name, (_, volume) in self._held.items()}

    def lock(self, drive: Drive) -> None:
        """Lock and dismount every volume of a drive. Raises NoRights, and ProtectError where one is in use."""
        finder = WindowsFinder(self._system, self.volumes)
        try:
            for volume in finder.volumes():
                if volume.name not in self._held and any(path_of(number) == drive.path for number in volume.disks):
                    self._lock(drive, volume)
        except BaseException:
            self.release()
            raise

    def _lock(self, drive: Drive, volume: Volume) -> None:
        place = ", ".join(volume.points) or volume.name
        try:
            handle = self._patiently(lambda: self._system.open(volume.name, read=True, write=True), Trouble.IN_USE)
        except OSError as error:
            if getattr(error, "winerror", 0) in (FILE_NOT_FOUND, PATH_NOT_FOUND):
                return  # it has gone meanwhile
            if trouble(error) is Trouble.DENIED:
                raise NoRights(f"{place}: permission to lock it is denied.", advice=RIGHTS) from error
            raise _in_use(drive, place, "") from error
        self._held[volume.name] = handle, volume
        try:
            # "Access denied" of a lock means that something is open there.
            self._patiently(
                lambda: self._system.control(handle, records.FSCTL_LOCK_VOLUME, b"", 0), Trouble.DENIED, Trouble.IN_USE
            )
            self._system.control(handle, records.FSCTL_DISMOUNT_VOLUME, b"", 0)
        except OSError as error:
            raise _in_use(drive, place, ", ".join(self._system.users(handle))) from error

    def _patiently(self, action: Callable[[], _T], *passing: Trouble) -> _T:
        for pause in _PAUSES:
            try:
                return action()
            except OSError as error:
                if trouble(error) not in passing:
                    raise
                self._sleep(pause)
        return action()

    def release(self) -> None:
        """Give every locked volume back to the system."""
        for handle, _ in self._held.values():
            self._system.close(handle)
        self._held.clear()


def _in_use(drive: Drive, place: str, users: str) -> ProtectError:
    who = f"by {users}" if users else "by a program"
    return ProtectError(
        f"{place} on drive {drive.tag} is in use {who}.",
        advice="Close what is open on it (files, terminals, Explorer windows), then try again.",
    )
