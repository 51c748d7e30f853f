"""A few calls of some commands fail; `sweep.py` takes all of all, and other ways to fail."""

from __future__ import annotations

import random
import sys
from pathlib import Path

import pytest

from ..helpers.judges import need
from .sweep import CASES, Sweep


@pytest.mark.skipif(sys.platform != "linux", reason="calls are counted by a library that is preloaded")
@pytest.mark.parametrize("name", ["build", "mend", "gauge", "plan", "log"])
def test_whatever_call_fails_the_end_is_in_order(name: str, tmp_path: Path) -> None:
    need("clang")
    chance = random.Random(name)
    sweep = Sweep(tmp_path / "sweep")
    judged = sweep.judge(CASES[name], lambda count: sorted(chance.sample(range(1, count + 1), min(4, count))), "EIO")
    assert judged.runs > 0
    assert judged.wrong == []
