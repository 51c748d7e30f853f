"""Which edition a person means: by its word, its number, its name or a part of that."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import UsageError
from ..common.nearest import did_you_mean
from .read import Edition


def shown_list(there: Sequence[tuple[str, Edition]]) -> str:
    """Return the editions with their words, for a message."""
    return ", ".join(edition.name if word == edition.name else f"{word} {edition.name}" for word, edition in there)


def place_of_named(there: Sequence[tuple[str, Edition]], wanted: str, where: str) -> int:
    """Return which of these editions, each with its word, is meant. Raises UsageError; `where` names what has them."""
    lower = wanted.lower()
    numbers = range(len(there))
    named = [n for n in numbers if lower == there[n][0].lower()]
    exact = named or [n for n in numbers if wanted == str(there[n][1].index) or lower == there[n][1].name.lower()]
    found = exact or [n for n in numbers if lower and lower in there[n][1].name.lower()]
    if len(found) != 1:
        why = "has no edition" if not found else "has several editions that fit"
        meant = did_you_mean(wanted, [edition.name for _, edition in there])
        raise UsageError(f"{where} {why} '{wanted}'.", advice=f"{meant}There are: {shown_list(there)}.")
    return found[0]
