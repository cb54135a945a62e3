"""What commands print their results with."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text


def console() -> Console:
    """Return the console for results; wide when it is no terminal, so that nothing is folded in a file."""
    return Console(file=sys.stdout, width=None if sys.stdout.isatty() else 160, highlight=False, soft_wrap=True)


def table(heads: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()) -> Table:
    """Return a plain table; the columns whose places are in `right` are set to the right."""
    out = Table(box=None, pad_edge=False, header_style="bold")
    for place, head in enumerate(heads):
        out.add_column(head, justify="right" if place in right else "left", no_wrap=True, overflow="ignore")
    for row in rows:
        out.add_row(*(Text(cell) for cell in row))
    return out
