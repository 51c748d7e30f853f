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
from pathlib import Path

import pytest

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


@pytest.mark.parametrize("python", sample_of(sides(), sides()[-1:]))
def test_installed_outside_the_checkout_it_does_the_job(
    python: str, built_package: tuple[Path, Path], tmp_path: Path
) -> None:
    """On the oldest and the newest Python here: demo, a build, schemas and assets, in an environment of its own."""
    place = tmp_path / "venv"
    subprocess.run([pythons()[python], "-m", "venv", place], check=True)
    subprocess.run(
        [place / "bin/python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check", built_package[0]],
        check=True,
    )
    settings = {key: value for key, value in os.environ.items() if not key.startswith(("PYTHON", "VIRTUAL_ENV"))}

    def run(*words: str) -> str:
        line = [place / "bin/lucky-keystone", *words]
        done = subprocess.run(line, cwd=tmp_path, env=settings, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    assert "lucky-keystone, version 0.1.0" in run("--version")
    is_whole = python == sides()[-1]
    part = [] if is_whole else ["--only", "printer"]
    steps = json.loads(run("demo", "tidewell", *part, "--json"))["steps"]
    # A stick that does not start has faults, and a mending that is only shown leaves them.
    assert [step["exit_code"] for step in steps if step["exit_code"]] == ([1, 1] if is_whole else [])
    for step in steps:
        fits(step["document"], step["document"]["command"])
    assert "No faults found." in run("build", "tidewell/ticket-printer-4.2.img.gz", "--onto", "printer.img")
    if not is_whole:
        assert "read back and identical" in run("build", "tidewell/tidewell-11.iso", "--onto", "counter.img", "-q")
    assert json.loads(run("schema", "check"))["title"] == "lucky-keystone check"
    assert (place / "share/man/man1/lucky-keystone.1").exists()


def test_the_manual_page_is_that_of_the_commands() -> None:
    assert runpy.run_path(str(CHECKOUT / "tools/make-manual"))["manual"]() == PAGE.read_text()
    if (judge := shutil.which("groff")) is not None:
        done = subprocess.run([judge, "-man", "-ww", "-z", PAGE], capture_output=True, text=True, check=True)
        assert [line for line in done.stderr.splitlines() if "adjust" not in line and "break" not in line] == []
