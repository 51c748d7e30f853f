"""Keeps Python's search for cyclic garbage out of work that makes very many objects and no garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def without_collections() -> Iterator[None]:
    """Collect nothing inside the block.

    A tree of 200,000 files would be searched again and again while it is laid out.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
