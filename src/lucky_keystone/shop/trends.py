"""What the shop's record says of a drive over time: whether it becomes slower, and whether it fails."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal

from msgspec import Struct

from ..common.units import counted, shown_size
from .log import LogEntry

_LATELY = 6
"""Pieces of work that count as its latest."""
_FAILURES = 2
_RETRIES = 3
_MEASURED_BY = {
    "gauge": ("when gauged", 0.7, 1),
    "build": ("when built", 0.5, 2),
    "check": ("when checked", 0.5, 2),
}
"""In words; how much of the best rate measured so cannot be chance; how many of the latest have to be that slow.

What else the computer did, and how fast a source is, shows in builds and checks.
"""
Kind = Literal["reading", "writing", "failures", "retries"]


class Trend(Struct, frozen=True):
    """Something about a drive that gets worse."""

    tag: str
    serial: str
    kind: Kind
    what: str
    advice: str


def trends(entries: Iterable[LogEntry]) -> tuple[Trend, ...]:
    """Return what gets worse, drive by drive. Image files are not drives, so nothing is said of them."""
    drives: dict[tuple[str, str], list[LogEntry]] = {}
    for entry in entries:
        if entry.model or entry.serial:
            drives.setdefault((entry.tag, entry.serial), []).append(entry)
    return tuple(each for found in drives.values() for each in _of(sorted(found, key=lambda entry: entry.moment)))


def _of(entries: Sequence[LogEntry]) -> list[Trend]:
    """`entries` of one drive, the oldest first."""
    found = [_slower(entries, "reading"), _slower(entries, "writing"), _failing(entries), _retrying(entries)]
    return [each for each in found if each is not None]


def _slower(entries: Sequence[LogEntry], kind: Literal["reading", "writing"]) -> Trend | None:
    """Rates are compared with those that were measured in the same way only."""
    for command, (how, part, latest_count) in _MEASURED_BY.items():
        rates = [(getattr(entry, kind), entry) for entry in entries if entry.command == command]
        rates = [(rate, entry) for rate, entry in rates if rate]
        if len(rates) <= latest_count:
            continue
        best, then = max(rates[:-latest_count], key=lambda pair: pair[0])
        latest, last = max(rates[-latest_count:], key=lambda pair: pair[0])
        if latest < best * part:
            what = (
                f"{kind} fell by {round((1 - latest / best) * 100)} % {how}: {shown_size(latest)}/s on "
                f"{last.moment[:10]}, {shown_size(best)}/s on {then.moment[:10]}"
            )
            advice = f"'lucky-keystone gauge {last.tag}' in another port tells a worn drive from a slow port."
            return Trend(last.tag, last.serial, kind, what, advice)
    return None


def _failing(entries: Sequence[LogEntry]) -> Trend | None:
    """Mistyped paths, bad sources and drives that were not finished say nothing of a drive."""
    lately = [entry for entry in entries if entry.result == "done" or entry.blamed][-_LATELY:]
    failed = [entry for entry in lately if entry.blamed]
    if len(failed) < _FAILURES:
        return None
    last = failed[-1]
    why = f" ({last.detail.rstrip('.')})" if last.detail else ""
    what = f"{len(failed)} of its last {len(lately)} jobs failed, the last on {last.moment[:10]}{why}"
    advice = f"'lucky-keystone gauge {last.tag} --erase' measures all of it; replace it if it fails again."
    return Trend(last.tag, last.serial, "failures", what, advice)


def _retrying(entries: Sequence[LogEntry]) -> Trend | None:
    lately = entries[-_LATELY:]
    before, count = sum(entry.retries for entry in entries[:-_LATELY]), sum(entry.retries for entry in lately)
    if count < _RETRIES or count <= before:
        return None
    last = lately[-1]
    repeated = counted(count, "read or write", "reads or writes")
    what = f"{repeated} had to be repeated in its last {len(lately)} pieces of work"
    return Trend(last.tag, last.serial, "retries", what, "Try another port and cable; if it stays so, replace it.")
