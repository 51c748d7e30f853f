"""Codes of findings: each is documented with its level, and each table fault has one."""

from __future__ import annotations

import re
from pathlib import Path

from lucky_keystone.checking.codes import Code
from lucky_keystone.checking.volumes.checkers import CHECKERS
from lucky_keystone.mending.volumes.menders import MENDERS
from lucky_keystone.volumes.kinds import COMPOSED, KINDS

ROOT = Path(__file__).parents[2]


def test_every_code_is_documented_and_no_other() -> None:
    table = re.findall(
        r"^\| `([a-z0-9.-]+)` \| `(fault|start|used|note)` \|", (ROOT / "docs/findings.md").read_text(), re.M
    )
    assert [code for code, _ in table] == [str(code) for code in Code]


def test_every_fault_of_a_table_has_a_code() -> None:
    for module in ("mbr", "gpt"):
        source = (ROOT / f"src/lucky_keystone/tables/{module}.py").read_text()
        for code in re.findall(r'TableFault\(\s*"([a-z.-]+)"', source):
            assert Code(code)


def test_every_kind_of_volume_is_checked_and_what_is_composed_is_mended() -> None:
    assert set(CHECKERS) == set(KINDS)
    assert set(MENDERS) == set(COMPOSED)
