"""Whose turn it is: every case of a long test has one within six days, and no day has many more than another."""

from __future__ import annotations

from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from .helpers import turns


@given(st.dates(max_value=date(2099, 1, 1)), st.text(max_size=9), st.integers(1, 90))
def test_every_case_has_its_turn(day: date, name: str, count: int) -> None:
    days = [turns.on(day + timedelta(days=number), name, range(count)) for number in range(6)]
    assert sorted(case for each in days for case in each) == list(range(count))
    assert all(count // 6 <= len(each) <= -(-count // 6) for each in days)
    assert days[0] == turns.on(day, name, range(count))


def test_what_is_long_is_read_from_a_run() -> None:
    said = """
12.50s call     tests/lab/test_mac.py::test_a_mac_starts_it[14-package, pbzx]
0.50s setup    tests/lab/test_mac.py::test_a_mac_starts_it[14-package, pbzx]
3.00s call     tests/lab/test_mac.py::test_a_mac_starts_it[26-folder]
9.00s call     tests/drives/test_guards.py::TestWorkshop::runTest
"""
    assert turns.measured(said.splitlines()) == {
        "tests/lab/test_mac.py::test_a_mac_starts_it": (16.0, 2),
        "tests/drives/test_guards.py::TestWorkshop::runTest": (9.0, 1),
    }
