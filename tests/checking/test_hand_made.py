"""Drives made by hand with the system's own tools, and what keeps each of them from starting."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.checking.report import Report
from lucky_keystone.common.progress import silent

from ..helpers.hand_made import ANY, CASES, HandMade, nothing


def checked(case: HandMade, drives: dict[str, bytes], files: Path, firmware: str = "") -> Report:
    return check_drive(case.drive(drives, files), silent, firmware=firmware, contents=False)


@pytest.mark.parametrize("name", CASES)
def test_each_cause_has_its_finding_and_no_other(name: str, drives: dict[str, bytes], files: Path) -> None:
    case = CASES[name]
    report = checked(case, drives, files)
    found = [f"{'!' * (each.level == 'fault')}{each.code}" for each in report.findings if each.level in LEVELS]
    if case.found == ANY:
        assert {code.lstrip("!") for code in found} >= set(case.mended[:1])
        return
    assert sorted(found) == sorted(case.found), report.findings
    assert report.exit_code == any(code.startswith("!") or code == "start.nothing" for code in case.found)
    assert all(each.advice for each in report.findings if each.level in LEVELS)


LEVELS = ("fault", "start")
FOR_UEFI = HandMade("gpt", nothing, ())


@pytest.mark.parametrize(
    ("case", "firmware", "expected"),
    [
        (CASES["no active mark"], "bios", ("fault", "start.no-active")),
        (CASES["no active mark"], "uefi", ("start", "start.no-active")),
        (CASES["lost loader"], "both", ("fault", "start.no-removable-loader")),
        (CASES["lost BOOTMGR"], "bios", ("fault", "start.bootmgr")),
        (FOR_UEFI, "both", ("fault", "start.wanted")),
        (FOR_UEFI, "uefi", None),
    ],
)
def test_what_is_asked_for_decides_what_is_a_fault(
    case: HandMade, firmware: str, expected: tuple[str, str] | None, drives: dict[str, bytes], files: Path
) -> None:
    report = checked(case, drives, files, firmware)
    found = [(finding.level, str(finding.code)) for finding in report.findings]
    assert expected in found if expected else found == []
    assert report.exit_code == (1 if expected and expected[0] == "fault" else 0)
