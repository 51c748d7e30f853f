"""The families there are, and which one a source belongs to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..common.errors import SourceError, UsageError
from ..sources.source import INSTALL_IMAGE
from ..sources.strange import describe_strange
from .choices import Choices
from .facts import SourceFacts
from .family import Family, Supply
from .macos.installer import MacInstaller
from .raw import RawImage
from .windows.portable.family import WindowsPortable
from .windows.rescue import WindowsRescue
from .windows.setup import WindowsSetup

if TYPE_CHECKING:
    from ..sources.source import Source
    from ..starting.bootable import Bootable

FAMILIES: tuple[Family, ...] = (WindowsRescue(), WindowsSetup(), MacInstaller(), RawImage())
"""The first that recognises a source has it."""


APPLIED = WindowsPortable()


def family_for(source: Source, choices: Choices) -> Family:
    """Return the family that a source is to become. Raises SourceError or UsageError where it cannot."""
    if choices.purpose != APPLIED.purpose:
        return known_family(source)
    if not APPLIED.recognises(source):
        raise UsageError(
            f"--purpose {choices.purpose}: {source.path} holds no install image (sources/install.wim, .esd or .swm).",
            advice="Use the disc image of a Windows installer, or an install image itself.",
        )
    return APPLIED


def family_of(source: Source) -> Family | None:
    """Return the family of `source`, None when it is nothing that a drive can be built from."""
    return next((family for family in FAMILIES if family.recognises(source)), None)


def family_on(drive: Bootable, source: Source) -> Family | None:
    """Return the family that a drive, built from `source`, is of: a system lies on it, or what the source itself is."""
    return APPLIED if APPLIED.recognises(source) and APPLIED.is_on(drive) else family_of(source)


def supplied(source: Source, path: str) -> Supply | None:
    """Return the file that belongs at `path` of a drive, from whichever family knows it in `source`; None for none."""
    return next(filter(None, (family.supplied(source, path) for family in FAMILIES)), None)


def known_family(source: Source) -> Family:
    """Return the family of `source`. Raises SourceError when it has none."""
    family = family_of(source)
    if family is None and source.image is not None and (found := describe_strange(source)) is not None:
        raise SourceError(f"{source.path} {found.what}.", advice=found.advice)
    if family is None and source.root.entries and source.image is not None:
        raise SourceError(
            f"{source.path} is a disc image, but no Windows installer (it has no sources/boot.wim), and it has no "
            "partition table that would let it start from a drive.",
            advice="Use an installer's disc image, or a raw image that is made for drives.",
        )
    if family is None and source.image is None:
        raise SourceError(
            f"{source.path} is not a known installer: it has no sources/boot.wim.",
            advice="Use the installer's disc image, or the folder that holds its 'sources' folder.",
        )
    if family is None:
        raise SourceError(
            f"{source.path} is neither a disc image nor an image with a partition table or a FAT volume of its own.",
            advice="Use a disc image (.iso), a raw image, or a folder with the installer's files.",
        )
    return family


def facts_of(source: Source) -> SourceFacts:
    """Return the facts about a source of any family, or of none."""
    family = family_of(source)
    if family is not None:
        return family.facts(source)
    if source.form == INSTALL_IMAGE:
        return APPLIED.facts(source)
    files = list(source.root.files())
    return SourceFacts(
        family="unknown",
        form=source.form,
        label=source.label,
        file_count=len(files),
        folder_count=source.root.folder_count,
        total_bytes=sum(file.size for _, file in files),
    )
