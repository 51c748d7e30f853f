"""What is worth saying beside the work: shown by whoever runs the core, by Python's own logging where nobody does."""

from __future__ import annotations

from collections.abc import Callable

_shows: list[Callable[[str], None]] = []


def shown_by(show: Callable[[str], None]) -> None:
    """Have every note given to `show` from now on, as a sentence."""
    _shows[:] = [show]


def note(text: str) -> None:
    """Say something that changes nothing of the work's result."""
    if _shows:
        _shows[0](text)
        return
    import logging  # which takes a tenth of the program's start

    logging.getLogger(__package__.partition(".")[0]).warning("%s", text)
