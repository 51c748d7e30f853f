"""Draws what was measured: rates over the length of a drive, where it fails, and where it truly ends."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from ..common.errors import UsageError
from ..common.outputs import MAKER, NOTHING_ELSE, OutputKind, Replacing, write_output
from ..common.units import shown_size
from .gauge import Gauged
from .rates import Rates

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_GIB = 1 << 30
_INK, _PAPER, _READ, _WRITTEN, _BAD = "#22303a", "#fbfaf7", "#2f7f86", "#b3722b", "#b23a48"


def refuse_ending(path: Path) -> None:
    """Raise UsageError for a file name with another extension than a figure's."""
    if path.suffix.lower() not in (".png", ".svg"):
        raise UsageError(f"{path}: a figure is a .png or .svg.", advice="Rename the file accordingly.")


def draw_gauged(found: Gauged, name: str, path: Path, replacing: Replacing = NOTHING_ELSE) -> None:
    """Draw `found` to `path` (.png or .svg). Raises ProtectError or DriveError where it cannot be written."""
    import matplotlib as mpl
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    stream, form = io.BytesIO(), path.suffix.lower().lstrip(".")
    maker = {"Software": MAKER} if form == "png" else {"Creator": MAKER, "Date": None}
    with mpl.rc_context({"text.parse_math": False}):  # a '$' in a name is a letter like any other
        figure = Figure(figsize=(12.8, 8), facecolor=_PAPER, layout=ConstrainedLayoutEngine(h_pad=0.25, w_pad=0.2))
        axes = figure.subplots()
        unit, unit_name = (_GIB, "GiB") if found.size >= 4 * _GIB else (1 << 20, "MiB")
        top = max((_draw_rates(axes, *row, unit) for row in _rows(found)), default=1.0)
        _draw_faults(axes, found, unit)
        _dress(axes, f"{name}: {found.capacity.summary}", unit_name)
        axes.set_xlim(0, found.size / unit)
        axes.set_ylim(0, top * 1.3)  # room for the legend
        axes.legend(frameon=False, loc="upper right", ncols=2)
        figure.savefig(stream, dpi=100, format=form, metadata=maker)
    write_output(path, stream.getvalue(), OutputKind.FIGURE, replacing)


def _rows(found: Gauged) -> Iterator[tuple[Rates, str, str]]:
    for rates, word, colour in ((found.reading, "reading", _READ), (found.writing, "writing", _WRITTEN)):
        if rates is not None and rates.samples:
            yield rates, word, colour


def _draw_rates(axes: Axes, rates: Rates, word: str, colour: str, unit: int) -> float:
    """Draw samples, and what their means are; return the highest rate, in MB/s."""
    values = [sample.rate / 1e6 for sample in rates.samples]
    places = [sample.offset / unit for sample in rates.samples]
    axes.plot(places, values, ".", color=colour, markersize=4, alpha=0.5)
    label = f"{word}: typically {rates.typical / 1e6:.0f} MB/s"
    axes.plot(*_smoothed(rates, unit), color=colour, linewidth=2, label=label)
    return max(1.0, *values)


def _draw_faults(axes: Axes, found: Gauged, unit: int) -> None:
    """Mark where it fails, and what is not there."""
    for rates in (found.reading, found.writing):
        for number, (offset, size) in enumerate(rates.bad if rates else ()):
            label = "fails" if number == 0 and rates is found.reading else None
            end = offset + max(size, found.size // 500)
            axes.axvspan(offset / unit, end / unit, color=_BAD, alpha=0.35, linewidth=0, label=label)
    capacity = found.capacity
    if capacity.is_fake and capacity.real_size is not None:
        label = f"not there: it really ends at {shown_size(capacity.real_size)}"
        axes.axvspan(capacity.real_size / unit, found.size / unit, color=_BAD, alpha=0.16, linewidth=0, label=label)
        axes.axvline(capacity.real_size / unit, color=_BAD, linewidth=2)


def _dress(axes: Axes, title: str, unit_name: str) -> None:
    axes.set_facecolor(_PAPER)
    axes.set_xlabel(f"place on the drive, {unit_name}", color=_INK)
    axes.set_ylabel("rate, MB/s", color=_INK)
    axes.set_title(title, loc="left", color=_INK, fontsize=14, pad=14)
    axes.grid(visible=True, color=_INK, alpha=0.12)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _smoothed(rates: Rates, unit: int) -> tuple[list[float], list[float]]:
    """Return places and the mean rate of each sample with its neighbours."""
    values = [sample.rate / 1e6 for sample in rates.samples]
    reach = max(len(values) // 40, 1)
    means = [sum(part) / len(part) for part in (values[max(n - reach, 0) : n + reach + 1] for n in range(len(values)))]
    return [sample.offset / unit for sample in rates.samples], means
