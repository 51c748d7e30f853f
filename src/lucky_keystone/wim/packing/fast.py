"""The fast form of the unpackers: C as WebAssembly (`unpackers/`), in a sandbox that a hostile image cannot leave.

Without the package `wasmtime` there is only the plain form. Both give the same bytes and refuse the same chunks;
the plain form says why.
"""

from __future__ import annotations

import atexit
import threading
from functools import cache
from importlib import resources
from typing import TYPE_CHECKING, Any
from weakref import WeakSet

from ...common.later import np

if TYPE_CHECKING:
    import wasmtime

XPRESS, LZX, LZMS = 1, 2, 3
"""Methods, as in unpackers/unpack.c."""
_PAGE = 65536
_SLACK = 64
"""Bytes behind the output that may be written to (unpackers/matches.h), rounded up."""
_MOST_MEMORY = 192 << 20

_KEPT_MEMORY = 8 << 20
"""A sandbox that had to hold more is not kept."""

_of_thread = threading.local()
_open: WeakSet[_Sandbox] = WeakSet()
_compiling = threading.Lock()


def unpack_run(
    method: int, data: bytes, starts: np.ndarray[Any, Any], chunk_size: int, total: int
) -> tuple[int, bytes] | None:
    """Unpack chunks that lie behind one another; return how many were sound, and their bytes.

    `starts` are the chunks' places in `data`, and the last one's end; `total` bytes come of all. None: there is no fast
    form on this computer.
    """
    if not is_there():
        return None
    sandbox = getattr(_of_thread, "sandbox", None)
    if sandbox is None:
        sandbox = _of_thread.sandbox = _Sandbox()
    made = sandbox.run(method, data, starts, chunk_size, total)
    if len(data) + total > _KEPT_MEMORY:
        del _of_thread.sandbox
        sandbox.close()
    return made


@cache
def is_there() -> bool:
    """True where the package that runs it is installed, and works here."""
    try:
        import wasmtime
    except (ImportError, OSError, RuntimeError):  # not installed, or not for this processor or system
        return False
    return bool(wasmtime.Engine)


@cache
def _compiled() -> tuple[wasmtime.Engine, wasmtime.Module]:
    import wasmtime

    engine = wasmtime.Engine()
    code = resources.files("lucky_keystone.wim").joinpath("assets/unpackers.wasm").read_bytes()
    module = wasmtime.Module(engine, code)
    atexit.register(_close_all, module, engine)  # while the interpreter ends it would be too late
    return engine, module


def _close_all(*last: wasmtime.Module | wasmtime.Engine) -> None:
    for each in (*_open, *last):
        each.close()


class _Sandbox:
    """One thread's own."""

    def __init__(self) -> None:
        import wasmtime

        with _compiling:
            engine, module = _compiled()
        self._store = wasmtime.Store(engine)
        _open.add(self)
        self._store.set_limits(memory_size=_MOST_MEMORY)
        exports = wasmtime.Instance(self._store, module, []).exports(self._store)
        self._function: Any = exports["unpack_run"]
        self._memory: Any = exports["memory"]
        heap: Any = exports["__heap_base"]
        self._start = -(-heap.value(self._store) // 16) * 16

    def close(self) -> None:
        """Give back its memory."""
        self._store.close()

    def run(
        self, method: int, data: bytes, starts: np.ndarray[Any, Any], chunk_size: int, total: int
    ) -> tuple[int, bytes]:
        store, memory = self._store, self._memory
        table = starts.astype("<u4").tobytes()
        at_data = self._start + -(-len(table) // 16) * 16
        at_out = at_data + -(-len(data) // 16) * 16
        lacking = at_out + total + _SLACK - memory.data_len(store)
        if lacking > 0:
            memory.grow(store, -(-lacking // _PAGE))
        memory.write(store, table, self._start)
        memory.write(store, data, at_data)
        count = len(starts) - 1
        done = self._function(store, method, at_data, self._start, count, at_out, chunk_size, total)
        return done, bytes(memory.read(store, at_out, at_out + min(done * chunk_size, total)))
