"""Chains of clusters in a FAT of 32-bit entries (FAT32, exFAT), followed run by run."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from ..common.later import np
from .volume import Run

FIRST_CLUSTER = 2
_WINDOW = 1 << 18  # FAT entries looked at together
_WINDOWS_KEPT = 8  # a MiB each
_MOST_RUNS = 100_000  # a chain in more pieces is not a real one, and jumping about in a large FAT takes its time


class _Window:
    """Neighbouring FAT entries, and where among them a chain does not simply step to the next cluster."""

    def __init__(self, first: int, entries: np.ndarray[Any, Any]) -> None:
        self._first, self._entries = first, entries
        steps = entries == np.arange(first + 1, first + 1 + len(entries), dtype=np.uint32)
        steps[-1] = False  # what follows the window's last cluster is in another one
        self._ends = np.flatnonzero(~steps)

    def run_from(self, cluster: int) -> tuple[int, int]:
        """Return the last cluster of the run that starts with `cluster`, and the FAT entry of that last one."""
        last = int(self._ends[np.searchsorted(self._ends, cluster - self._first)])
        return self._first + last, int(self._entries[last])


class Chains:
    """A FAT that describes `count` clusters. `read` gives bytes of it from an offset."""

    def __init__(self, read: Callable[[int, int], bytes], count: int, *, mask: int, end_from: int) -> None:
        """`mask`: the bits of an entry that count. `end_from`: from this entry on each one ends a chain."""
        self._read, self._count, self._mask, self._end_from = read, count, mask, end_from
        self._windows: dict[int, _Window] = {}

    def is_cluster(self, cluster: int) -> bool:
        """Tell whether `cluster` is one of the volume's data clusters."""
        return FIRST_CLUSTER <= cluster < self._count + FIRST_CLUSTER

    def windows(self, read: Callable[[int, int], bytes] | None = None) -> Iterator[tuple[int, np.ndarray[Any, Any]]]:
        """Yield (first entry, entries) as far as the volume has clusters; `read` gives those of a copy."""
        end = self._count + FIRST_CLUSTER
        for first in range(0, end, _WINDOW):
            yield first, self._entries(read or self._read, first, min(_WINDOW, end - first))

    def _entries(self, read: Callable[[int, int], bytes], first: int, count: int) -> np.ndarray[Any, Any]:
        return np.frombuffer(read(4 * first, 4 * count), "<u4") & np.uint32(self._mask)

    def _window(self, cluster: int) -> _Window:
        """Return the piece of the FAT that describes `cluster`; the last few asked for are kept."""
        first = cluster // _WINDOW * _WINDOW
        window = self._windows.pop(first, None)
        if window is None:
            count = min(_WINDOW, self._count + FIRST_CLUSTER - first)
            window = _Window(first, self._entries(self._read, first, count))
            if len(self._windows) >= _WINDOWS_KEPT:
                del self._windows[next(iter(self._windows))]
        self._windows[first] = window
        return window

    def follow(self, cluster: int) -> tuple[tuple[Run, ...], str]:
        """Follow a chain: (its runs, what is wrong with it or ''). It ends at the first thing that is wrong."""
        runs: list[Run] = []
        total = 0
        while True:
            if not self.is_cluster(cluster):
                return tuple(runs), f"leads to cluster {cluster}, which the volume does not have"
            last, following = self._window(cluster).run_from(cluster)
            count = last - cluster + 1
            if runs and runs[-1].first + runs[-1].count == cluster:
                runs[-1] = Run(runs[-1].first, runs[-1].count + count)
            else:
                runs.append(Run(cluster, count))
            total += count
            if total > self._count:
                return tuple(runs), "loops"
            if len(runs) > _MOST_RUNS:
                return tuple(runs), f"has more than {_MOST_RUNS:,} pieces"
            if following >= self._end_from:
                return tuple(runs), ""
            if following < FIRST_CLUSTER:
                return tuple(runs), f"breaks off at cluster {last} (its FAT entry is {following})"
            cluster = following
