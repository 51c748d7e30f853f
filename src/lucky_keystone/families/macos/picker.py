"""What the boot picker of a Mac shows of a volume: a label drawn from its name, and an icon (field notes, "Picker").

The label is a bitmap with a byte a pixel: an index into the old system palette of 256 colours, whose greys are spread
over a cube of 6 x 6 x 6 colours and a ramp of ten behind it.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from ...common.later import np

HEIGHT = 12
"""Rows of a label; twice as many for screens of twice the resolution."""
GREYS = bytes.fromhex("00 F5 F6 2B F7 F8 56 F9 FA 81 FB FC AC FD FE FF")
"""Indices of the palette's sixteen greys, 11h apart, from white to black, which is the last colour of all: the cube has
FFh, CCh, 99h, 66h and 33h (each 43rd colour), the ramp EEh, DDh, BBh, AAh, 88h, 77h, 55h, 44h, 22h and 11h."""
_MOST_WIDTH = 340
_MARGIN = 2


def label_bitmap(text: str, scale: int) -> bytes:
    """Return a `.disk_label` (scale 1) or `.disk_label_2x` (scale 2) that shows `text`.

    Byte 1, width and height as big-endian 16-bit numbers, one byte a pixel.
    """
    rows = HEIGHT * scale
    pixels = _drawn(text, rows)[:, : _MOST_WIDTH * scale]
    shades = np.frombuffer(GREYS, np.uint8)[(pixels.astype(np.uint16) * 15 + 127) // 255]
    return bytes(b"\x01" + shades.shape[1].to_bytes(2, "big") + rows.to_bytes(2, "big") + shades.tobytes())


def _drawn(text: str, rows: int) -> np.ndarray[tuple[int, int], np.dtype[np.uint8]]:
    """Return `text` drawn in one line of `rows` pixels: 0 is background, 255 ink."""
    from matplotlib.ft2font import FT2Font

    font = FT2Font(_font_path())
    font.set_size(rows * 0.78, 72)
    font.set_text(text, 0.0)
    font.draw_glyphs_to_bitmap(antialiased=True)
    ink = np.asarray(font.get_image())
    descent = font.get_descent() / 64
    base = round(rows * 0.78)
    top = max(base - (ink.shape[0] - round(descent)), 0)
    out = np.zeros((rows, ink.shape[1] + 2 * _MARGIN), np.uint8)
    shown = ink[: rows - top]
    out[top : top + shown.shape[0], _MARGIN : _MARGIN + shown.shape[1]] = shown
    return out


@cache
def _font_path() -> str:
    return str(files("matplotlib") / "mpl-data" / "fonts" / "ttf" / "DejaVuSans.ttf")
