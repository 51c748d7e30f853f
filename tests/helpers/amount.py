"""How much of a long test is run: a sample each time, all of it with LUCKY_KEYSTONE_LAB=all in the environment."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

ALL = os.environ.get("LUCKY_KEYSTONE_LAB") == "all"
T = TypeVar("T")


def part_of(count: int) -> int:
    """Return `count` in a long run, a fourth of it else."""
    return count if ALL else -(-count // 4)


def sample_of(everything: Sequence[T], sample: Sequence[T]) -> Sequence[T]:
    """Return everything in a long run, the sample else."""
    return everything if ALL else sample
