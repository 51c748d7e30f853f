"""What each part of a drive takes, where everything together does not fit."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import Share
from ..common.units import shown_size
from .show import Column, console, heading, table


def show_shares(shares: Sequence[Share]) -> None:
    """Print a row for each part that can be left out."""
    out = console()
    heading(out, "What could be left out")
    table(
        out,
        [Column("Source", folds=True), Column("Edition", folds=True), Column("Frees", right=True)],
        [(share.source, share.edition or "all of it", shown_size(share.size)) for share in shares],
    )
    out.print()
