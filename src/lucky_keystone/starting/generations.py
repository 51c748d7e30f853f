"""The generations of certificates under which vendors have their loaders signed, and which machines know them."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    from collections.abc import Sequence

    from .authenticode import Signature


class Generation(Struct, frozen=True):
    """One generation of signing certificates."""

    name: str
    issuers: tuple[str, ...]
    """Common names of who certifies the signers of Windows' own loaders, and of those of other makers."""
    caveat: str
    """Which machines may refuse it."""
    proposed: date | None = None
    """From which day on it is proposed where a source carries it beside an older one; None: it is not."""
    why: str = ""
    """Why from then on."""


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
        proposed=date(2026, 10, 19),
        why="the certificate that signed the older Windows loaders has ended, so new machines may trust 2023 alone",
    ),
)
"""Oldest first. The 2011 generation's certificates end in June and October 2026; firmware does not look at that."""


def generation_of(issuer: str) -> Generation | None:
    """Return the generation of a certificate's issuer, by its name: for what is shown, never for what is trusted."""
    return next((one for one in GENERATIONS if issuer in one.issuers), None)


def proposed_instead(used: Generation, today: date | None) -> Generation | None:
    """Return the newer generation that is proposed by that day; None where `used` is as good."""
    newer = GENERATIONS[GENERATIONS.index(used) + 1 :]
    return next((each for each in reversed(newer) if today and each.proposed and each.proposed <= today), None)


def generations_of(signatures: Sequence[Signature]) -> tuple[Generation, ...]:
    """Return the generations of a loader's sound signatures, oldest first."""
    named = {one.issuer for one in signatures if one.fits}
    return tuple(each for each in GENERATIONS if named.intersection(each.issuers))
