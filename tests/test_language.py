"""Plain technical English: phrases that a native technician stumbled over do not come back (CONTRIBUTING, "Words")."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
RETIRED = {
    r"\bgo(es)? on\b(?! the| a )": "continue",
    r"\banew\b": "from scratch, again",
    r"\bheld against\b": "compared with, checked against",
    r"\blaid over\b": "on top of",
    r"\bbears out\b|\bborne out\b": "confirms",
    r"\bvouch(es|ed)?\b": "certifies, signs",
    r"\bwere asked for of\b": "were requested, out of",
    r"\bis not possible\b|\bare not possible\b": "is invalid",
    r"\bthat cannot be\b(?! \w)": "invalid",
    r"\btells of\b": "describes, reports",
    r"\bnot known here\b": "unknown, not supported",
    r"\bis not read here\b": "is not supported",
    r"\bnot looked into\b|\bwas not looked at\b": "not examined",
    r"\bruns in a circle\b|\bin a circle\b": "loops",
    r"\bgoes astray\b": "jumps outside, fails",
    r"\bthe right to\b": "permission",
    r"\bby now\b": "now, already",
    r"\bsays it holds\b": "claims to hold",
    r"\bfar too\b": "say by how much",
    r"\bas (it|they) stands? (on|in)\b|\bstands in\b|\bstands twice\b": "is in, appears",
    r"\bnot as built\b|\bnot as written\b": "changed since the build, differs from what was written",
    r"\bhad better\b|\bwhat can be had\b|\bcan only be had\b": "is available",
    r"\bcut off by\b|\bpulled out now\b": "interrupted, safe to unplug",
    r"\bexclude each other\b": "cannot be combined",
    r"\bwithout an end\b": "forever",
    r"\bnobody can be asked\b": "there is no terminal",
    r"\bfault of its own\b": "internal error",
    r"\bended badly\b": "failed",
    r"\bbecom(e|es|ing) worse\b": "gets worse",
    r"\bforetold\b": "forecast",
    r"\bcannot be meant\b": "is ambiguous",
    r"\b(is|are) the most\b": "at most … are allowed",
    r"\bother than planned\b": "differs from the plan",
    r"\bcould not be noted\b": "could not be saved, recorded",
    r"\bis no whole\b": "is not a whole",
    r"\btakes no order\b": "cannot be told to",
    r"\bof before\b": "from before, older than",
    r"(?<!there )\b(is|are) no (?!(longer|more|less|fault|faster|room|other)\b)\w+": "is not a",
    r"\b(what|a path|a key|a cell|a file) is none\b": "is not one",
    r"\bhears? of\b": "is called with, is told",
    r"\bwhat (became|becomes) of\b": "the result of",
    r"\bas (is )?wanted\b": "matches",
    r"\b(a|of a|such) mendings?\b|\bmendings\b": "repair",
    r"\b(is|are|be|was|were) had\b": "is available",
    r"\bgoing on\b": "continuing",
    r"\bof so many\b|, so many\b|\bfor so many\b": "this many",
    r"\bthe begin\b|\bits begin\b": "the start",
    r"\bmeasures\b(?! (it|what|a|all|drives|speed)\b)": "dimensions",
    r"\b(name|other|without its|with this|file|path|without the) endings?\b": "extension",
    r"\b(a (file|row|folder|shelf|module)|one) a (drive|row|kind|command|system|stride|check)\b": "one per",
    r"\bthe same command goes\b": "run the same command again to continue",
}
PAGES = ["README.md", "CHANGELOG.md", "SECURITY.md", *sorted(str(p.relative_to(ROOT)) for p in ROOT.glob("docs/*.md"))]


def sentences(path: Path) -> Iterator[tuple[int, str]]:
    """Yield what a module says: docstrings, messages, help texts, and its comments."""
    source = path.read_text(encoding="utf-8")
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
            yield node.lineno, node.value
    for number, line in enumerate(source.splitlines(), 1):
        if "# " in line:
            yield number, line.partition("# ")[2]


def faults(place: str, said: Iterator[tuple[int, str]]) -> list[str]:
    return [
        f"{place}:{line}: '{found.group()}': better {better}"
        for line, text in said
        for pattern, better in RETIRED.items()
        for found in [re.search(pattern, text, re.IGNORECASE)]
        if found
    ]


def test_no_retired_phrase_in_the_code() -> None:
    modules = sorted((ROOT / "src").rglob("*.py"))
    assert len(modules) > 200
    assert [fault for path in modules for fault in faults(str(path.relative_to(ROOT)), sentences(path))] == []


@pytest.mark.parametrize("page", PAGES)
def test_no_retired_phrase_on_the_pages(page: str) -> None:
    assert faults(page, iter(enumerate((ROOT / page).read_text(encoding="utf-8").splitlines(), 1))) == []


def test_the_list_itself_finds_what_it_is_for() -> None:
    said = iter([(1, "The build goes on."), (2, "It stands in the root."), (3, "It is in the root.")])
    assert [fault.split(":")[1] for fault in faults("x", said)] == ["1", "2"]
