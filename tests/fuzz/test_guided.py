"""A fixed number of coverage-guided mutations of every reader; `tests/fuzz/guided.py` runs as many as one likes."""

from __future__ import annotations

from collections.abc import Sequence

import pytest

from ..helpers.amount import part_of
from .guided import edits, run
from .mutate import KINDS


@pytest.mark.parametrize("kinds", [KINDS[number::6] for number in range(6)], ids=lambda kinds: kinds[0])
def test_inputs_that_reach_new_code_end_in_a_result_or_a_clear_error(kinds: Sequence[str]) -> None:
    pytest.importorskip("atheris")
    code, told = run(list(kinds), part_of(8000), seed=1)
    assert code == 0, told


def test_an_input_is_a_handful_of_edits() -> None:
    assert list(edits(b"\x05\0\0\x01AB" + b"\x07\1\0\x0fmany bytes")) == [(5, b"AB"), (263, b"many bytes")]
    assert list(edits(b"\x05\0\0\x01")) == []
    assert len(list(edits(b"\0\0\0\0x" * 99))) == 6
