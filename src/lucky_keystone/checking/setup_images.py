"""Looks at the install images on a drive: a copy that ended early ends an installation half way."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import KeystoneError
from ..content.contents import Seekable
from ..content.ranges import ContentFile, FileRange
from ..setup.folders import SETUP_FOLDERS
from ..setup.images import INSTALL_IMAGES, SETUP_MARKS, image_damage
from ..volumes.volume import FileOnVolume
from ..wim.read import InstallImage
from .codes import Code
from .found import FoundVolume, has_entry
from .report import Place, Report

_NAMES = (*INSTALL_IMAGES, "boot.wim")
_ADVICE = "Copy it from the installer again, or run 'lucky-keystone mend DRIVE --from SOURCE'."


def check_setup_images(found: Sequence[FoundVolume], report: Report) -> None:
    """Find install images and setup environments that cannot be whole, by their tables. Reads nothing else of them.

    Of a drive that was built from a source known to be damaged that is noted already.
    """
    if any(finding.code is Code.SOURCE_NOT_WHOLE for finding in report.findings):
        return
    _missing(found, report)
    for volume in found:
        for folder in SETUP_FOLDERS:
            for name in _NAMES:
                path = f"{folder}/{name}"
                damage = _damage(volume, path)
                place = Place(volume.partition.number, file=path)
                if damage:
                    report.fault(Code.SETUP_IMAGE, "setup", damage, _ADVICE, place)


def _missing(found: Sequence[FoundVolume], report: Report) -> None:
    """Find an installer that has everything but what it installs from, on whichever of its volumes."""
    if any(_has(volume, f"{folder}/{name}") for volume in found for folder in SETUP_FOLDERS for name in INSTALL_IMAGES):
        return
    for volume in found:
        folder = next((each for each in SETUP_FOLDERS if _has(volume, f"{each}/boot.wim")), None)
        if folder is not None and any(_has(volume, path) for path in SETUP_MARKS):
            path = f"{folder}/{INSTALL_IMAGES[0]}"
            what = f"there is no install image ({path}), though the other files of an installer are there."
            report.fault(Code.SETUP_IMAGE, "setup", what, _ADVICE, Place(volume.partition.number, file=path))
            return


def _has(volume: FoundVolume, path: str) -> bool:
    """Where it cannot be told, that is reported elsewhere, and the file is not missed."""
    return has_entry(volume.volume, path, unread=True)


def _damage(volume: FoundVolume, path: str) -> str:
    """Say what is wrong with an image, '' where it is not there or looks whole."""
    content = _bytes_of(volume, path)
    if content is None:
        return ""
    try:
        image = InstallImage(content, path)
        return next(image_damage(image, path, lambda other: _bytes_of(volume, other)), "")
    except KeystoneError as error:
        return error.message


def _bytes_of(volume: FoundVolume, path: str) -> Seekable | None:
    """Return a file's bytes; None where there is none, or its volume's own damage keeps it from being read."""
    try:
        entry = volume.volume.find(path)
    except KeystoneError:
        return None
    if entry is None or entry.is_folder or entry.faults:
        return None
    return FileRange(ContentFile(FileOnVolume(volume.volume, entry), path), 0, entry.size)
