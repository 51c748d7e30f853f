"""Runs the program in copies of a process that has loaded it: nine tenths of a short run are loading.

A run has its own arguments, environment, folder and streams, as one that was started by itself. Tests of starting, of
signals and of kills start it for real.
"""

from __future__ import annotations

import array
import atexit
import ctypes
import importlib
import io
import json
import os
import pkgutil
import select
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from contextlib import suppress
from pathlib import Path
from typing import Any, NoReturn

HANGS = 1200.0
_PROJECT = Path(__file__).parents[2]
_HEAD = struct.Struct("<I")
_FILES = 4
_LATER = ("email.utils", "filelock", "numpy", "rich.progress", "tomlkit", "zstandard")
"""What the program loads when it needs it; here all runs share it."""


class Loaded:
    """The process that has loaded the program."""

    def __init__(self, library: Path | None = None) -> None:
        """`library` is one that is loaded before all others."""
        ours, theirs = socket.socketpair()
        command = [sys.executable, "-c", f"from tests.helpers.forked import serve; serve({theirs.fileno()})"]
        settings = os.environ | {"OPENBLAS_NUM_THREADS": "1"} | ({"LD_PRELOAD": str(library)} if library else {})
        self._process = subprocess.Popen(
            command, cwd=_PROJECT, env=settings, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL
        )
        theirs.close()
        self._socket, self._lock = ours, threading.Lock()
        atexit.register(self.close)

    def close(self) -> None:
        self._socket.close()
        self._process.wait()

    def run(
        self,
        arguments: list[str],
        cwd: Path | None = None,
        typed: str | None = None,
        settings: dict[str, str] | None = None,
        timeout: float = HANGS,
        kill_after: float | None = None,
    ) -> subprocess.CompletedProcess[str]:
        """Run a command line, as `subprocess.run` does; it is killed after so many seconds, where that is asked for."""
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            given.write((typed or "").encode())
            given.seek(0)
            ended, to_end = os.pipe()
            wanted = {
                "arguments": arguments,
                "cwd": str(cwd or Path.cwd()),
                "settings": dict(os.environ if settings is None else settings),
                "kill_after": kill_after,
            }
            asked = json.dumps(wanted).encode()
            files = [given.fileno(), out.fileno(), err.fileno(), to_end]
            with self._lock:
                self._socket.sendmsg(
                    [_HEAD.pack(len(asked))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", files))]
                )
                self._socket.sendall(asked)
            os.close(to_end)
            code = _waited(ended, timeout)
            os.close(ended)
            texts = []
            for stream in (out, err):
                stream.seek(0)
                texts.append(io.TextIOWrapper(io.BytesIO(stream.read()), "utf-8").read())
            return subprocess.CompletedProcess(arguments, code, *texts)


def _waited(ended: int, timeout: float) -> int:
    """Return the exit code, which comes when the run has ended."""
    if not select.select([ended], [], [], timeout)[0]:
        raise subprocess.TimeoutExpired("lucky-keystone", timeout)
    return int(os.read(ended, 16) or -signal.SIGKILL)


# -- in the process that has loaded it -------------------------------------------------------------------------------


def serve(number: int) -> NoReturn:
    """Load the program, and copy this process for each request, until nobody is there to make one."""
    import lucky_keystone

    for found in pkgutil.walk_packages(lucky_keystone.__path__, "lucky_keystone."):
        with suppress(Exception):  # of other systems, or optional
            importlib.import_module(found.name)
    for name in _LATER:
        importlib.import_module(name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    asking = socket.socket(fileno=number)
    while True:
        head, more, _, _ = asking.recvmsg(_HEAD.size, socket.CMSG_SPACE(_FILES * array.array("i").itemsize))
        if len(head) < _HEAD.size:
            os._exit(0)
        files = array.array("i")
        files.frombytes(more[0][2])
        text = b""
        while len(text) < _HEAD.unpack(head)[0]:
            text += asking.recv(1 << 16)
        if os.fork() == 0:
            asking.close()
            _watch(json.loads(text), list(files))
        for each in files:
            os.close(each)


def _watch(asked: dict[str, Any], files: list[int]) -> NoReturn:
    """Run the program in a copy, and tell how it ended."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    child = os.fork()
    if child == 0:
        os.close(files[3])
        _run(asked, files[:3])
    if asked["kill_after"] is not None:
        time.sleep(asked["kill_after"])
        os.kill(child, signal.SIGKILL)  # it is still there, if only to be waited for
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    os.write(files[3], str(code).encode())
    os._exit(0)


def _text(number: int, mode: str) -> io.TextIOWrapper:
    raw = io.FileIO(number, mode, closefd=False)
    buffered = io.BufferedReader(raw) if mode == "r" else io.BufferedWriter(raw)
    return io.TextIOWrapper(buffered, "utf-8", "backslashreplace", line_buffering=number == 2)


def _run(asked: dict[str, Any], files: list[int]) -> NoReturn:
    from lucky_keystone.__main__ import run

    for target, file in enumerate(files):
        os.dup2(file, target)
        os.close(file)
    os.chdir(asked["cwd"])
    os.environ.clear()
    os.environ.update(asked["settings"])
    if "FAULT_FOLDER" in os.environ:
        ctypes.CDLL(None).fault_begin()
    sys.argv = ["lucky-keystone", *asked["arguments"]]
    sys.stdin = sys.__stdin__ = _text(0, "r")  # type: ignore[misc]
    sys.stdout = sys.__stdout__ = _text(1, "w")  # type: ignore[misc]
    sys.stderr = sys.__stderr__ = _text(2, "w")  # type: ignore[misc]
    code: object = 0
    try:
        run()
    except SystemExit as ended:
        code = ended.code
    except BaseException:  # noqa: BLE001 - as an interpreter does at its end
        traceback.print_exc()
        code = 1
    if isinstance(code, str):
        print(code, file=sys.stderr)
    with suppress(Exception):
        threading._shutdown()  # type: ignore[attr-defined]
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
    if "FAULT_FOLDER" in os.environ:
        ctypes.CDLL(None).fault_end()
    os._exit(code if isinstance(code, int) else 0 if code is None else 1)
