"""Long tests take turns: of the cases of each, an ordinary run has some, by the day, and `./run-tests --full` has all.

    python -m tests.helpers.turns LOG          writes what is long, from a run's output with `--durations=0`

Every case of a test has its turn within a few days; which day's turns a run has is printed, and can be given.
"""

from __future__ import annotations

import random
import re
import sys
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import TypeVar

LISTED = Path(__file__).parent.parent / "long.txt"
_HEAD = """\
# Long tests, which take turns where they have several cases (helpers/turns.py).
# Seconds of all cases, how many they are, name.
"""
_LONG = 12.0
"""Seconds of all of a test's cases together, from which on they take turns."""
_AT_ONCE = 4
"""One of how many cases has its turn."""
_DURATION = re.compile(r"(\d+\.\d+)s (?:call|setup|teardown) +(\S+?)(?:\[(.*)\])?$")

T = TypeVar("T")


def long_tests() -> frozenset[str]:
    """Return the tests that take turns: 'tests/lab/test_mac.py::test_a_mac_starts_it'."""
    return frozenset(line.split()[-1] for line in LISTED.read_text().splitlines() if line and not line.startswith("#"))


def on(day: date, name: str, cases: Sequence[T]) -> Sequence[T]:
    """Return the cases of a test that have their turn on a day; each of them has one within four days."""
    order = list(range(len(cases)))
    random.Random(name).shuffle(order)  # neighbours are alike: they do not go together
    chosen = {number for at, number in enumerate(order) if at % _AT_ONCE == day.toordinal() % _AT_ONCE}
    return [case for number, case in enumerate(cases) if number in chosen] or [
        cases[order[day.toordinal() % len(cases)]]
    ]


def measured(lines: Iterable[str]) -> Mapping[str, tuple[float, int]]:
    """Return seconds and cases of every test, from what pytest says of durations."""
    seconds: dict[str, float] = defaultdict(float)
    cases: dict[str, set[str]] = defaultdict(set)
    for line in lines:
        if (found := _DURATION.match(line.strip())) is not None:
            taken, name, case = found.groups()
            seconds[name] += float(taken)
            cases[name].add(case or "")
    return {name: (seconds[name], len(cases[name])) for name in seconds}


def main() -> None:
    found = measured(Path(sys.argv[1]).read_text(errors="replace").splitlines())
    rows = sorted(((taken, count, name) for name, (taken, count) in found.items() if taken >= _LONG), reverse=True)
    LISTED.write_text(_HEAD + "".join(f"{taken:7.1f} {count:4} {name}\n" for taken, count, name in rows))


if __name__ == "__main__":
    main()
