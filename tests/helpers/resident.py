"""Runs the program in a process that has loaded it, one run after the other, where there are no copies (Windows).

A run has its own arguments, environment, folder and streams; what a module keeps stays for the next one. Starting an
interpreter under Wine takes longer than most tests. Tests of starting and of kills start it for real.
"""

from __future__ import annotations

import atexit
import io
import json
import os
import subprocess
import sys
import threading
import traceback
from pathlib import Path
from typing import Any

_PROJECT = Path(__file__).parents[2]
_MOST_RUNS = 200
"""After so many a new process takes over."""


class Resident:
    """The process that has loaded the program."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._runs = 0
        atexit.register(self.close)

    def close(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None

    def run(
        self, arguments: list[str], cwd: Path | None, typed: str | None, settings: dict[str, str], timeout: float
    ) -> subprocess.CompletedProcess[str]:
        """Run a command line, as `subprocess.run` does."""
        if self._process is None or self._runs >= _MOST_RUNS:
            self.close()
            command = [sys.executable, "-c", "import sys; sys.path[:0] = sys.argv[1:]; from tests.helpers.resident "]
            command[-1] += "import serve; serve()"
            self._process = subprocess.Popen(
                [*command, str(_PROJECT)], cwd=_PROJECT, stdin=subprocess.PIPE, stdout=subprocess.PIPE
            )
            self._runs = 0
        self._runs += 1
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        asked = {"arguments": arguments, "cwd": str(cwd or Path.cwd()), "typed": typed or "", "settings": settings}
        hanging = threading.Timer(timeout, self._process.kill)
        hanging.start()
        try:
            self._process.stdin.write(json.dumps(asked).encode() + b"\n")
            self._process.stdin.flush()
            answer = self._process.stdout.readline()
        finally:
            hanging.cancel()
        if not answer:
            self.close()
            raise subprocess.TimeoutExpired("lucky-keystone", timeout)
        return subprocess.CompletedProcess(arguments, *json.loads(answer))


# -- in the process that has loaded it -------------------------------------------------------------------------------


def serve() -> None:
    """Run a command line for each line of the input, and answer with a line of JSON."""
    given, answers = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    home = Path.cwd()
    for line in given:
        answer = _run(json.loads(line))
        os.chdir(home)  # a folder that is somebody's cannot be removed
        answers.write(json.dumps(answer).encode() + b"\n")
        answers.flush()


def _run(asked: dict[str, Any]) -> tuple[int, str, str]:
    from lucky_keystone.__main__ import run

    os.chdir(asked["cwd"])
    os.environ.clear()
    os.environ.update(asked["settings"])
    sys.argv = ["lucky-keystone", *asked["arguments"]]
    before = sys.stdin, sys.stdout, sys.stderr
    streams = [io.TextIOWrapper(io.BytesIO(asked["typed"].encode() if not n else b""), "utf-8") for n in range(3)]
    sys.stdin, sys.stdout, sys.stderr = streams
    code: object = 0
    try:
        run()
    except SystemExit as ended:
        code = ended.code
    except BaseException:  # noqa: BLE001 - as an interpreter does at its end
        traceback.print_exc()
        code = 1
    finally:
        sys.stdin, sys.stdout, sys.stderr = before
    if isinstance(code, str):
        streams[2].write(code)
    texts = []
    for stream in streams[1:]:
        stream.flush()
        texts.append(io.TextIOWrapper(io.BytesIO(stream.buffer.getvalue()), "utf-8").read())  # type: ignore[attr-defined]
    return code if isinstance(code, int) else 0 if code is None else 1, *texts
