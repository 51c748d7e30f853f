"""The families there are, and which one a source belongs to."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ..common.errors import SourceError, UsageError
from ..common.nearest import did_you_mean
from ..sources.strange import describe_strange
from .choices import Choices
from .facts import SourceFacts
from .family import INSTALL, Family, Supply
from .macos.installer import MacInstaller
from .raw import RawImage
from .windows.portable.family import WindowsPortable
from .windows.rescue import WindowsRescue
from .windows.setup import WindowsSetup

if TYPE_CHECKING:
    from ..sources.source import Source
    from ..starting.bootable import Bootable

FAMILIES: tuple[Family, ...] = (WindowsRescue(), WindowsSetup(), WindowsPortable(), MacInstaller(), RawImage())
"""Of those with a purpose the first that recognises a source has it."""
PURPOSES = tuple(dict.fromkeys(family.purpose for family in FAMILIES))


def family_for(source: Source, choices: Choices) -> Family:
    """Return the family that a source is to become. Raises SourceError or UsageError where it cannot."""
    purpose = choices.purpose or INSTALL
    if purpose not in PURPOSES:
        listed = ", ".join(PURPOSES)
        advice = did_you_mean(purpose, PURPOSES) or f"Choose one of: {listed}."
        raise UsageError(f"--purpose {purpose} is not one of: {listed}.", advice=advice)
    if purpose == INSTALL:
        return known_family(source)
    meant = [family for family in FAMILIES if family.purpose == purpose]
    for family in meant:
        if family.recognises(source):
            return family
    raise UsageError(
        f"--purpose {purpose}: {source.path} {meant[0].lacking}.",
        advice="Use the disc image of a Windows installer, or an install image itself.",
    )


def family_of(source: Source) -> Family | None:
    """Return the family of `source`, None when it is nothing that a drive can be built from unasked."""
    return next((family for family in FAMILIES if family.purpose == INSTALL and family.recognises(source)), None)


def family_on(drive: Bootable, source: Source) -> Family | None:
    """Return the family that a drive, built from `source`, is of: a system lies on it, or what the source itself is."""
    return next((family for family in _by_purpose(source) if family.is_on(drive)), family_of(source))


def as_on_drive(family: Family, source: Source) -> Source:
    """Return a source, and the further ones, with what of them lies on their drive as their files."""
    source = family.joined(source) if source.further else source
    further = [
        replace(each, root=other.on_drive(each)) if (other := family_of(each)) is not None else each
        for each in source.further
    ]
    return replace(source, root=family.on_drive(source), further=tuple(further))


def shown_family(source: Source) -> str:
    """Return what a source is, in words."""
    if (family := family_of(source)) is not None:
        return family.shown
    return next((family.without_purpose for family in _by_purpose(source)), "not a known installer")


def is_installer(source: Source) -> bool:
    """Tell whether a drive can be made from a source, if only when its purpose is chosen."""
    return family_of(source) is not None or any(True for _ in _by_purpose(source))


def _by_purpose(source: Source) -> Iterator[Family]:
    """Yield the families that a source can become when their purpose is chosen."""
    return (family for family in FAMILIES if family.purpose != INSTALL and family.recognises(source))


def supplied(source: Source, path: str) -> Supply | None:
    """Return the file that belongs at `path` of a drive, from whichever family knows it in `source`; None for none."""
    return next(filter(None, (family.supplied(source, path) for family in FAMILIES)), None)


def known_family(source: Source) -> Family:
    """Return the family of `source`. Raises SourceError when it has none."""
    family = family_of(source)
    if family is None and (found := describe_strange(source)) is not None:
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
    family = family_of(source) or next(_by_purpose(source), None)
    if family is not None:
        return family.facts(source)
    files = list(source.root.files())
    return SourceFacts(
        family="unknown",
        form=source.form,
        label=source.label,
        file_count=len(files),
        folder_count=source.root.folder_count,
        total_bytes=sum(file.size for _, file in files),
    )
