"""Moments as FAT and exFAT keep them (fatgen103, "Date and Time Formats"; exFAT, 7.4.8)."""

from __future__ import annotations

from datetime import datetime


def moment_of(day: int, time: int) -> datetime | None:
    """Return the local time of whoever wrote a date and a time; None where they are not a moment."""
    try:
        return datetime(
            1980 + (day >> 9), day >> 5 & 15, day & 31, time >> 11, time >> 5 & 63, min((time & 31) * 2, 59)
        )
    except ValueError:
        return None
