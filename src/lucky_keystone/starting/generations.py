"""The generations of certificates under which vendors have their loaders signed, and which machines know them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

    from .authenticode import Signature


@dataclass(frozen=True)
class Generation:
    """One generation of signing certificates."""

    name: str
    issuers: tuple[str, ...]
    """Common names of who certifies the signers of Windows' own loaders, and of those of other makers."""
    caveat: str
    """The machines that machines delivered with it may be followed by, or that came before it."""


GENERATIONS = (
    Generation(
        "2011",
        ("Microsoft Windows Production PCA 2011", "Microsoft Corporation UEFI CA 2011"),
        "machines that have revoked the 2011 generation, or trust the 2023 one only, refuse it",
    ),
    Generation(
        "2023",
        ("Windows UEFI CA 2023", "Microsoft UEFI CA 2023", "Microsoft Option ROM UEFI CA 2023"),
        "machines whose firmware was never updated may not trust the 2023 generation yet",
    ),
)
"""Oldest first. The 2011 generation's certificates end in June and October 2026; firmware does not look at that."""


def generation_of(issuer: str) -> Generation | None:
    """Return the generation of a certificate's issuer, by its name: for what is shown, never for what is trusted."""
    return next((one for one in GENERATIONS if issuer in one.issuers), None)


def generations_of(signatures: Sequence[Signature]) -> tuple[Generation, ...]:
    """Return the generations of a loader's sound signatures, oldest first."""
    named = {one.issuer for one in signatures if one.fits}
    return tuple(each for each in GENERATIONS if named.intersection(each.issuers))
