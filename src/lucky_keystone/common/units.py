"""Sizes as people compare them: sold in powers of ten, shown in powers of two."""

from __future__ import annotations

import re

from .errors import UsageError

SECTOR_SIZES = (512, 4096)
"""Bytes of a sector, as drives have them."""

_BINARY = ("bytes", "KiB", "MiB", "GiB", "TiB")
_DECIMAL = ("bytes", "kB", "MB", "GB", "TB")
_FACTORS = {
    "": 1,
    "B": 1,
    "K": 1 << 10,
    "M": 1 << 20,
    "G": 1 << 30,
    "T": 1 << 40,
    "KIB": 1 << 10,
    "MIB": 1 << 20,
    "GIB": 1 << 30,
    "TIB": 1 << 40,
    "KB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
}


def shown_size(size: int) -> str:
    """Return bytes in powers of two, as systems show them: 59.6 GiB."""
    return _scaled(size, 1024, _BINARY)


def sold_size(size: int) -> str:
    """Return bytes in powers of ten, as drives are sold: 64 GB."""
    return _scaled(size, 1000, _DECIMAL)


def size_to_buy(size: int) -> str:
    """Return the smallest size that shops sell that holds this many bytes; sticks may have 5 % less than is said."""
    sold = 8
    while sold * 950_000_000 < size:
        sold *= 2
    return f"{sold} GB" if sold < 1000 else f"{sold // 1000} TB"


def counted(count: int, thing: str, things: str = "") -> str:
    """Return '1 file', '2,048 files': what is counted has a plural in s, unless another one is given."""
    return f"{count:,} {thing if count == 1 else things or f'{thing}s'}"


_MEASURABLE = 64 << 20


def rate(size: int, seconds: float) -> int:
    """Return bytes a second; 0 where too little was moved to measure a drive by: caches absorb it."""
    return round(size / seconds) if size >= _MEASURABLE and seconds > 0 else 0


def shown_rates(reading: int, writing: int) -> str:
    """Return rates in bytes a second as 'reads 88 MiB/s, writes 21 MiB/s'; those that are 0 were not measured."""
    rates = (("reads", reading), ("writes", writing))
    return ", ".join(f"{verb} {shown_size(rate)}/s" for verb, rate in rates if rate)


def exact_size(size: int) -> str:
    """Return bytes with both: 59.6 GiB (64,000,000,000 bytes)."""
    return f"{shown_size(size)} ({size:,} bytes)"


def _scaled(size: int, step: int, names: tuple[str, ...]) -> str:
    value, name = float(size), names[0]
    for following in names[1:]:
        if value < step:
            break
        value, name = value / step, following
    text = (
        f"{value:.0f}" if name == "bytes" or value >= 100 or value == int(value) else f"{value:.1f}".removesuffix(".0")
    )
    return f"{text} {name}"


def parse_size(text: str) -> int:
    """Return the bytes meant by 64GB, 3800M, 4GiB or 512. One letter counts in powers of two. Raises UsageError."""
    match = re.fullmatch(r"\s*(\d{1,18})(?:\.(\d{1,6}))?\s*([A-Za-z]*)\s*", text)
    factor = _FACTORS.get(match.group(3).upper()) if match else None
    if match is None or factor is None:
        raise UsageError(
            f"'{text}' is not a size.", advice="Write it like 64GB (powers of ten), 59GiB or 3800M (powers of two)."
        )
    fraction = int(match.group(2) or 0) * factor // 10 ** len(match.group(2) or "")
    return int(match.group(1)) * factor + int(fraction)
