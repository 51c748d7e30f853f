"""A real kernel's FAT driver reads the same tree and bytes as the source's, without a complaint, and writes to it."""

from __future__ import annotations

import hashlib
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.content import stream

from ..conftest import Built, check_file, need
from .kernel import see

pytestmark = pytest.mark.lab


def test_a_kernel_reads_the_source_and_writes_beside_it(built: Built, copy_of: Callable[[], Path], tmp_path: Path) -> None:
    drive = copy_of()
    sums, messages, written = see(drive, tmp_path)
    expected = {}
    for path, file in built.plan.tree.files():
        digest = hashlib.sha256()
        for piece in stream(file.content):
            digest.update(piece)
        expected[path] = digest.hexdigest()
    assert sums == expected
    assert [line for line in messages if "FAT-fs" in line] == []
    assert written

    report = check_file(drive)
    assert [finding.level for finding in report.findings] == ["used"], report.findings
    assert "Deck log.txt" in report.findings[0].what
    with drive.open("rb") as stream_in, (tmp_path / "volume").open("wb") as out:
        stream_in.seek(1 << 20)
        out.write(stream_in.read())
    subprocess.run([need("fsck.fat"), "-n", tmp_path / "volume"], check=True, capture_output=True)
