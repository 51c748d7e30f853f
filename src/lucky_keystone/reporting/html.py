"""The page as HTML: one file without anything from elsewhere, for the screen and for one sheet of A4."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape

from ..common.outputs import MAKER
from ..common.units import shown_size
from ..drawing.areas import DrawnBlock
from ..drawing.looks import SIGNS, look_of
from .page import Facts, Page, Picture, Section, Verdicts, Words

_WIDTH, _HEIGHT = 1000, 46
_THINNEST = 4
_STYLE = """
:root { --ink: #1d2b2f; --quiet: #4d5c60; --line: #b9b5a6; }
* { box-sizing: border-box; }
body { margin: 0 auto; max-width: 210mm; padding: 12mm 14mm; background: #fff; color: var(--ink);
  font: 10.5pt/1.35 "DejaVu Sans", Verdana, sans-serif; }
h1 { font-size: 19pt; margin: 0; }
h2 { font-size: 11.5pt; margin: 4.2mm 0 1mm; border-bottom: .4pt solid var(--line); }
p { margin: .8mm 0; }
.subtitle, .closing { color: var(--quiet); }
.result { border: 1.2pt solid var(--ink); padding: 1.6mm 3mm; margin: 3mm 0 0; font-weight: bold; }
.result.bad { border-style: double; border-width: 3pt; }
table { border-collapse: collapse; width: 100%%; }
td, th { vertical-align: top; text-align: left; padding: .35mm 3mm .35mm 0; overflow-wrap: anywhere; }
th { font-weight: normal; color: var(--quiet); width: 40mm; }
th, td.verdict { white-space: nowrap; }
td.sign { width: 6mm; font-weight: bold; text-align: center; }
td.verdict { width: 32mm; font-weight: bold; }
td.who { width: 46mm; }
td.number { width: 7mm; font-weight: bold; }
svg { display: block; width: 100%%; height: auto; margin: 1.5mm 0; }
@page { size: A4; margin: 11mm 13mm; }
@media print { body { padding: 0; max-width: none; font-size: %.1fpt; } h1 { font-size: 1.8em; }
  h2 { font-size: 1.15em; margin-top: .9em; } .result { margin-top: .7em; }
  th { width: 17em; } td.verdict { width: 10em; } td.who { width: 19em; }
  section { break-inside: avoid; } * { print-color-adjust: exact; -webkit-print-color-adjust: exact; } }
"""


_SHEET = 780.0
"""Points that one sheet of A4 has between its margins, from top to bottom."""
_LETTERS = 0.57
"""Width of a letter, of print one point high, on the average."""
_PRINTS = (9.0, 8.5, 8.0, 7.5, 7.0, 6.5, 6.0, 5.5, 5.0)


def _print_size(page: Page) -> float:
    """Return the size of the print in points: the first in which all of it fits on one sheet."""
    return next((size for size in _PRINTS if _height(page, size) <= _SHEET), _PRINTS[-1])


def _height(page: Page, size: float) -> float:
    """Return about how many points a page takes from top to bottom, printed."""
    line = size * 1.35 + 2
    height = size * 10

    def lines(words: str, beside: float) -> int:
        letters = (522 - beside * size) / (size * _LETTERS)
        return max(-(-len(words) // int(letters)), 1)

    for section in page.sections:
        height += size * 3.2
        match section:
            case Words():
                height += sum(lines(words, 0) * size * 1.35 + 4 for words in section.paragraphs)
            case Facts():
                height += sum(lines(value, 17) * line for _, value in section.rows)
            case Verdicts():
                height += sum(max(lines(why, 32), lines(who, 50)) * line for who, _, why in section.rows)
            case Picture():
                height += 48 + len(section.blocks) * line
    return height


def html_of(page: Page) -> bytes:
    """Return the page as a file in UTF-8."""
    return "\n".join(_lines(page)).encode()


def _lines(page: Page) -> Iterator[str]:
    yield '<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">'
    yield '<meta name="viewport" content="width=device-width, initial-scale=1">'
    yield f'<meta name="generator" content="{MAKER}">'
    yield f"<title>{escape(page.title)}</title>\n<style>{_STYLE % _print_size(page)}</style>\n</head>\n<body>"
    yield f'<h1>{escape(page.title)}</h1>\n<p class="subtitle">{escape(page.subtitle)}</p>'
    sign, mark = ("✓", "") if page.is_good else ("✗", " bad")
    yield f'<p class="result{mark}">{sign} {escape(page.result)}</p>'
    for section in page.sections:
        yield f"<section>\n<h2>{escape(section.heading)}</h2>"
        yield from _section(section)
        yield "</section>"
    yield f'<p class="closing">{escape(page.closing)}</p>\n</body>\n</html>\n'


def _section(section: Section) -> Iterator[str]:
    match section:
        case Words():
            yield from (f"<p>{escape(words)}</p>" for words in section.paragraphs)
        case Picture():
            yield from _picture(section)
        case Facts():
            yield "<table>"
            for name, value in section.rows:
                yield f'<tr><th scope="row">{escape(name)}</th><td>{escape(value)}</td></tr>'
            yield "</table>"
        case Verdicts():
            yield "<table>"
            for who, verdict, why in section.rows:
                signed = f'<td class="sign">{SIGNS[verdict]}</td><td class="verdict">{verdict}</td>'
                yield f'<tr>{signed}<td class="who">{escape(who)}</td><td>{escape(why)}</td></tr>'
            yield "</table>"


def _picture(picture: Picture) -> Iterator[str]:
    """Draw the drive to scale; what a colour says, hatching and a number say as well."""
    scale = _WIDTH / max(picture.size, 1)
    words = "; ".join(f"{each.name}, {shown_size(each.size)}" for each in picture.blocks)
    yield f'<svg viewBox="0 0 {_WIDTH} {_HEIGHT + 22}" role="img" aria-label="{escape(words)}">'
    yield f'<rect x="0.5" y="0.5" width="{_WIDTH - 1}" height="{_HEIGHT}" fill="#fff" stroke="#4d5c60"/>'
    after = 0.0
    for number, each in enumerate(picture.blocks):
        if each.number:
            left = each.start * scale
            wide = min(max(each.size * scale, _THINNEST), _WIDTH - left)
            look = look_of(each.kind)
            yield f'<pattern id="h{number}" width="8" height="8" patternUnits="userSpaceOnUse">'
            yield f'<rect width="8" height="8" fill="{look.colour}"/>{look.pattern}</pattern>'
            used = min(max(each.used * scale, _THINNEST), wide)
            yield f'<rect x="{left:.2f}" y="1" width="{used:.2f}" height="{_HEIGHT - 1}" fill="url(#h{number})"/>'
            yield (
                f'<rect x="{left:.2f}" y="1" width="{wide:.2f}" height="{_HEIGHT - 1}" fill="none" '
                f'stroke="{look.colour}" stroke-width="1.5"/>'
            )
            at = min(max(left + wide / 2, after), _WIDTH - 8)
            after = at + 26
            yield f'<text x="{at:.2f}" y="{_HEIGHT + 18}" font-size="15" font-weight="bold" text-anchor="middle">'
            yield f"{each.number}</text>"
    yield "</svg>\n<table>"
    for each in picture.blocks:
        cells = f"<td>{escape(each.name)}</td><td>{escape(room_of(each))}</td>"
        yield f'<tr><td class="number">{each.number or "-"}</td>{cells}</tr>'
    yield "</table>"


def room_of(block: DrawnBlock) -> str:
    """Return the size of a block in words, with what is free of it."""
    free = block.size - block.used
    words = shown_size(block.size) + (f", {shown_size(free)} free" if block.used and free else "")
    return f"{words}; {block.note}" if block.note else words
