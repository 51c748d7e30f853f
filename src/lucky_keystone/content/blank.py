"""Whether anything was ever written to a drive or an image, without reading all of it."""

from __future__ import annotations

from .contents import SizedReadable

_BLANK_PLACES, _BLANK_PIECE, _BLANK_END = 1024, 64 << 10, 1 << 20


def is_blank(data: SizedReadable) -> bool:
    """True when there are only zeros in the MiB at either end and at up to 1,024 places between."""
    step = max(data.size // _BLANK_PLACES, _BLANK_PIECE)
    places = [(at, _BLANK_PIECE) for at in range(0, data.size, step)]
    places += [(0, _BLANK_END), (max(data.size - _BLANK_END, 0), _BLANK_END)]
    return not any(any(data.read_at(at, min(size, data.size - at))) for at, size in places)
