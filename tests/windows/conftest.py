"""Lanes and sources for the tests under Windows."""

from __future__ import annotations

import gzip
import hashlib
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.demo.system import write_system
from lucky_keystone.demo.updater import write_updater

from ..helpers.amount import sample_of
from ..helpers.drives import extract, small_disc
from ..helpers.mac import app_of, carried
from .lane import VERSIONS, Lane, NoLane, lane


@pytest.fixture(scope="session", params=VERSIONS)
def windows(request: pytest.FixtureRequest) -> Lane:
    """One Windows interpreter after the other."""
    try:
        return lane(request.param)
    except NoLane as missing:
        pytest.skip(f"no Windows {request.param} here: {missing}")


OLDEST = sample_of([*VERSIONS], [VERSIONS[0]])
NEWEST = sample_of([*VERSIONS], [VERSIONS[-1]])
"""For tests that take long: one interpreter, of which another test takes the other one."""


@dataclass(frozen=True)
class Sources:
    """What drives are built from, one of each form."""

    folder: Path

    def __getitem__(self, name: str) -> Path:
        return self.folder / name


@pytest.fixture(scope="session")
def sources(tmp_path_factory: pytest.TempPathFactory) -> Sources:
    home = tmp_path_factory.mktemp("sources")
    disc = small_disc(home / "tidewell.iso")
    extract(disc, home / "tidewell")
    added = home / "added"
    (added / "$OEM$" / "Zettel für Kasse 4").mkdir(parents=True)
    (added / "$OEM$" / "Zettel für Kasse 4" / "läuft.cmd").write_bytes(b"rem 09:26\r\n")
    (added / "setup.exe").write_bytes(b"MZ" + bytes(3000))
    drivers = home / "drivers"
    (drivers / "pier").mkdir(parents=True)
    about = '[Version]\r\nSignature="$Windows NT$"\r\nClass=Net\r\n[Manufacturer]\r\n%T%=Pier,NTamd64\r\n'
    (drivers / "pier" / "pier.inf").write_text(about + "[Pier.NTamd64]\r\nx=y\r\n", "ascii", newline="")
    (drivers / "pier" / "pier.sys").write_bytes(b"MZ" + bytes(500))
    (home / "answers.xml").write_bytes(
        b'<?xml version="1.0"?><unattend xmlns="urn:schemas-microsoft-com:unattend"></unattend>'
    )
    (home / "mac").mkdir()
    app = app_of("10.13", home / "mac")
    carried(app, "zip archive", home)
    carried(app, "disk image", home)
    write_system(home / "bridge.wim")
    write_updater(home / "printer.img.gz")
    (home / "printer.img").write_bytes(gzip.decompress((home / "printer.img.gz").read_bytes()))
    return Sources(home)


def digest(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()
