"""Runs the project's tests under a Windows interpreter: python -m tests.windows.lane --full [VERSION] [OPTIONS].

What starts an emulator or is about another system is left out; tests whose judges are not there are left out by name.
"""

from __future__ import annotations

import sys
from pathlib import Path

if __name__ == "__main__":
    project, judges = Path(__file__).parents[2], Path(sys.argv[1])
    sys.path[:0] = [str(project), str(judges)]
    import _winapi

    import pytest

    if hasattr(_winapi, "CopyFile2"):  # this Wine has no such call, and copying is not what is tested
        del _winapi.CopyFile2

    others = ("tests/windows", "tests/lab", "tests/firmware", "tests/packaging", "tests/drives/test_linux.py")
    others += ("tests/cli/test_devices.py",)  # loop devices
    left_out = [f"--ignore={project / other}" for other in others]
    options = ["-m", "not lab and not posix", "-p", "no:cacheprovider", f"--rootdir={project}", *left_out]
    options += ["-p", "no:faulthandler"]  # the processor emulation takes memory when it is touched, by an exception
    options += ["-W", "ignore::pytest.PytestUnraisableExceptionWarning"]  # of this Wine's sockets
    sys.exit(pytest.main([*options, *(sys.argv[2:] or [str(project / "tests")])]))
