"""A fixed sample of mutated inputs; `tests/fuzz/mutate.py` runs as many as one likes."""

from __future__ import annotations

import pytest

from ..helpers.amount import part_of
from .mutate import KINDS, LONGEST, all_targets, one
from .targets import Target

SAMPLE = part_of(400)


@pytest.fixture(scope="module")
def targets(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Target]:
    return all_targets(tmp_path_factory.mktemp("fuzz"))


@pytest.mark.parametrize("kind", KINDS)
def test_mutated_inputs_give_a_result_or_a_clear_error(kind: str, targets: dict[str, Target]) -> None:
    for number in range(SAMPLE):
        try:
            seconds, _ = one(targets, kind, number)
        except Exception as error:  # noqa: BLE001 - whatever else comes is the failure looked for
            pytest.fail(f"one({kind!r}, {number}): {type(error).__name__}: {error}")
        assert seconds < LONGEST, f"one({kind!r}, {number}) took {seconds:.1f} s"
