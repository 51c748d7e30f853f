"""Long tests take turns: an ordinary run has a sixth of their cases, by the day, and `./run-tests --full` has all.

    python -m tests.helpers.turns LOG          writes what is long, from a run's output with `--durations=0`

Every case of a test has its turn within six days; which day's turns a run has is printed, and can be given.
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
# Long tests, whose cases take turns (helpers/turns.py).
# Seconds of all cases, how many they are, name.
"""
_LONG = 4.0
"""Seconds of all of a test's cases together, from which on they take turns."""
_DAYS = 6
"""How many days it takes until each case has had its turn."""
_ALWAYS = frozenset(
    {
        "tests/building/test_frozen.py::test_no_drive_has_changed_by_a_bit",
        "tests/test_language.py::test_no_retired_phrase_in_the_code",
    }
)
"""Long tests without which no change lands."""
_DURATION = re.compile(r"(\d+\.\d+)s (?:call|setup|teardown) +(\S+?)(?:\[(.*)\])?$")

T = TypeVar("T")


def long_tests() -> frozenset[str]:
    """Return the tests that take turns: 'tests/lab/test_mac.py::test_a_mac_starts_it'."""
    return frozenset(line.split()[-1] for line in LISTED.read_text().splitlines() if line and not line.startswith("#"))


def on(day: date, name: str, cases: Sequence[T]) -> Sequence[T]:
    """Return the cases of a test that have their turn on a day, in their order: each has one within six days."""
    chance, order = random.Random(name), list(range(len(cases)))
    chance.shuffle(order)  # neighbours are alike: they do not go together
    first = chance.randrange(_DAYS)  # tests of one case go on days of their own
    chosen = {number for at, number in enumerate(order) if (first + at) % _DAYS == day.toordinal() % _DAYS}
    return [case for number, case in enumerate(cases) if number in chosen]


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
    rows = sorted(
        ((taken, count, name) for name, (taken, count) in found.items() if taken >= _LONG and name not in _ALWAYS),
        reverse=True,
    )
    LISTED.write_text(_HEAD + "".join(f"{taken:7.1f} {count:4} {name}\n" for taken, count, name in rows))


if __name__ == "__main__":
    main()
