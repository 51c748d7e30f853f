"""What was probably meant by a mistyped word."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(word: str, known: Iterable[str]) -> str:
    """Return the known word that is most like `word`, case ignored; '' where none is near."""
    from difflib import get_close_matches  # only where something was mistyped

    words = {name.lower(): name for name in known}
    close = get_close_matches(word.lower(), words, n=1, cutoff=0.6)
    return words[close[0]] if close else ""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """Return 'Did you mean X? ' where something is near, else ''; put in front of advice."""
    found = nearest(word, known)
    return f"Did you mean {found}? " if found else ""
