"""What would be published: built, checked, installed into empty environments outside the checkout, and used there."""

from __future__ import annotations

import json
import os
import runpy
import shutil
import subprocess
import sys
import tarfile
import zipfile
from collections.abc import Callable
from functools import cache
from pathlib import Path

import pytest

from lucky_keystone.demo.parts import PARTS

from ..helpers.amount import sample_of
from ..helpers.judges import need
from ..helpers.schemas import fits

CHECKOUT = Path(__file__).parent.parent.parent
PAGE = CHECKOUT / "docs/lucky-keystone.1"


def pythons() -> dict[str, Path]:
    """Return the interpreters from 3.11 on that are to be had here, by version."""
    places = [Path(folder) for folder in os.environ["PATH"].split(os.pathsep)]
    places += sorted(Path.home().glob(".pyenv/versions/*/bin"))
    found = {}
    for name in (f"python3.{minor}" for minor in range(11, 20)):
        for place in places:
            if (place / name).exists():
                asked = [place / name, "-c", "import ensurepip, sys; print(sys.version_info[:2])"]
                if subprocess.run(asked, capture_output=True, check=False).returncode == 0:
                    found.setdefault(name, place / name)
    return found


def sides() -> list[str]:
    known = sorted(pythons(), key=lambda name: int(name.partition(".")[2]))
    return list(dict.fromkeys([known[0], known[-1]]))


@pytest.fixture(scope="session")
def built_package(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """A wheel and a source distribution, the wheel made from the latter."""
    folder = tmp_path_factory.mktemp("dist")
    subprocess.run(
        [sys.executable, "-m", "build", "--quiet", "--no-isolation", "--outdir", folder, CHECKOUT], check=True
    )
    return next(folder.glob("*.whl")), next(folder.glob("*.tar.gz"))


def test_the_package_holds_what_it_needs_and_the_usual_checker_agrees(built_package: tuple[Path, Path]) -> None:
    wheel, source = built_package
    done = subprocess.run(
        [need("twine"), "check", "--strict", wheel, source], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout
    names = zipfile.ZipFile(wheel).namelist()
    shipped = {str(file.relative_to(CHECKOUT / "src")) for file in (CHECKOUT / "src").rglob("*") if file.is_file()}
    assert {name for name in shipped if "__pycache__" not in name} <= set(names)
    assert not any(name.startswith(("tests", "bench", "tools")) for name in names)
    assert any(name.endswith("share/man/man1/lucky-keystone.1") for name in names)
    with tarfile.open(source) as archive:
        in_source = {name.partition("/")[2] for name in archive.getnames()}
    assert {"README.md", "LICENSE", "CHANGELOG.md", "run-tests", "firmware/build", "unpackers/build"} <= in_source


@pytest.fixture(scope="session")
def installed(
    built_package: tuple[Path, Path], tmp_path_factory: pytest.TempPathFactory
) -> Callable[[str], Callable[..., str]]:
    """Install the package in an environment of its own; what is returned runs the program there, in a folder."""

    @cache
    def install(python: str) -> Callable[..., str]:
        place = tmp_path_factory.mktemp(python)
        subprocess.run([pythons()[python], "-m", "venv", place / "venv"], check=True)
        pip = [place / "venv/bin/python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
        subprocess.run([*pip, built_package[0]], check=True)
        assert (place / "venv/share/man/man1/lucky-keystone.1").exists()
        settings = {key: value for key, value in os.environ.items() if not key.startswith(("PYTHON", "VIRTUAL_ENV"))}

        def run(folder: Path, *words: str) -> str:
            line = [place / "venv/bin/lucky-keystone", *words]
            done = subprocess.run(line, cwd=folder, env=settings, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout + done.stderr
            return done.stdout

        return run

    return install


@pytest.mark.parametrize("python", sides())
def test_installed_outside_the_checkout_it_does_the_job(
    python: str, installed: Callable[[str], Callable[..., str]], tmp_path: Path
) -> None:
    """On the oldest and the newest Python here: demo, builds, schemas and assets, in an environment of its own."""
    run = installed(python)
    assert "lucky-keystone, version 0.1.0" in run(tmp_path, "--version")
    _assert_demo(run, tmp_path, "--only", "printer")
    printer = ["build", "tidewell/ticket-printer-4.2.img.gz", "--onto", "printer.img"]
    assert "No faults found." in run(tmp_path, *printer)
    assert "read back and identical" in run(
        tmp_path, "build", "tidewell/tidewell-11.iso", "--onto", "counter.img", "-q"
    )
    assert json.loads(run(tmp_path, "schema", "check"))["title"] == "lucky-keystone check"


@pytest.mark.parametrize("part", [*PARTS, *sample_of(["whole"], [])])
def test_the_demo_outside_the_checkout(
    part: str, installed: Callable[[str], Callable[..., str]], tmp_path: Path
) -> None:
    _assert_demo(installed(sides()[-1]), tmp_path, *([] if part == "whole" else ["--only", part]))


def _assert_demo(run: Callable[..., str], folder: Path, *part: str) -> None:
    """Judge a run of the demo: a stick that does not start has faults, and a mending that is only shown leaves them."""
    steps = json.loads(run(folder, "demo", "tidewell", *part, "--json"))["steps"]
    assert [step["exit_code"] for step in steps if step["exit_code"]] == ([] if part and part[-1] != "mend" else [1, 1])
    for step in steps:
        fits(step["document"], step["document"]["command"])


def test_the_manual_page_is_that_of_the_commands() -> None:
    assert runpy.run_path(str(CHECKOUT / "tools/make-manual"))["manual"]() == PAGE.read_text()
    if (judge := shutil.which("groff")) is not None:
        done = subprocess.run([judge, "-man", "-ww", "-z", PAGE], capture_output=True, text=True, check=True)
        assert [line for line in done.stderr.splitlines() if "adjust" not in line and "break" not in line] == []
