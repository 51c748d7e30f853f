"""The drawing of a plan: whatever the drive has on it, no words touch each other or leave the page."""

from __future__ import annotations

from itertools import combinations
from typing import Literal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.backends.backend_agg import FigureCanvasAgg

from lucky_keystone.cli.layout import bar
from lucky_keystone.drawing.areas import DrawnBlock
from lucky_keystone.planning.figure import HEIGHT, WIDTH, drawn
from lucky_keystone.planning.sketch import Sketch, Start

from ..helpers.amount import part_of

KINDS = ("FAT32", "NTFS", "HFS+", "image", "")
VERDICTS: tuple[Literal["starts", "will not start", "not known"], ...] = ("starts", "will not start", "not known")
WORDS = st.text("MWil 'äß$_", min_size=1, max_size=90)


@st.composite
def blocks(draw: st.DrawFn, most: int, letters: bool) -> tuple[tuple[DrawnBlock, ...], int]:
    """Blocks in order on a drive, from slivers to nearly all of it."""
    made, at = [], 0
    for number in range(draw(st.integers(1, most))):
        at += draw(st.sampled_from([0, 1, 10_000]))
        size = draw(st.sampled_from([1, 100, 10**6, 10**9]))
        name = "abcdefghijklm"[number] if letters else str(number + 1)
        used = draw(st.integers(0, size))
        made.append(DrawnBlock(name, draw(st.sampled_from(KINDS)), draw(WORDS), at, size, used, draw(WORDS)))
        at += size
    return tuple(made), at + draw(st.sampled_from([0, 10**9]))


@st.composite
def sketches(draw: st.DrawFn) -> Sketch:
    whole, size = draw(blocks(12, letters=False))
    beginning, reach = draw(blocks(6, letters=True)) if draw(st.booleans()) else ((), 0)
    why = tuple(draw(st.lists(WORDS, max_size=7))) if not beginning else ()
    rows = draw(st.lists(st.builds(Start, WORDS, st.sampled_from(VERDICTS), WORDS), min_size=1, max_size=24))
    return Sketch(draw(WORDS), draw(WORDS), size, whole, beginning, reach, why, tuple(rows), draw(WORDS))


@settings(max_examples=part_of(40))
@given(sketches())
def test_words_neither_touch_nor_leave_the_page(what: Sketch) -> None:
    figure = drawn(what)
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    texts = [text for text in figure.axes[0].texts if text.get_text().strip()]
    boxes = {text: text.get_window_extent(canvas.get_renderer()) for text in texts}
    for text, box in boxes.items():
        assert box.x0 >= 0 and box.x1 <= WIDTH and box.y0 >= 0 and box.y1 <= HEIGHT, text.get_text()
        assert text.get_fontsize() >= 13, "not readable at half the size"
    for (one, first), (other, second) in combinations(boxes.items(), 2):
        assert not first.overlaps(second), (one.get_text(), other.get_text())


@given(blocks(9, letters=False), st.integers(20, 120))
def test_bars_of_text_show_every_block(made: tuple[tuple[DrawnBlock, ...], int], width: int) -> None:
    shown, size = made
    line = bar(shown, size, width)
    assert len(line) == width
    seen = [name for name, before in zip(line, " " + line, strict=False) if name not in (" ", ".", before)]
    assert seen == [block.number[-1] for block in shown]


@pytest.mark.parametrize("used", [0, 50, 100])
def test_free_room_is_dots(used: int) -> None:
    assert bar((DrawnBlock("1", "NTFS", "x", 0, 100, used, ""),), 100, 100).count(".") == min(100 - used, 99)
