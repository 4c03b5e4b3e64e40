"""A figure as a file's contents: equal figures are equal files."""

from __future__ import annotations

import io
from typing import Any


def figure_contents(figure: Any, kind: str, dots_per_inch: float) -> bytes:
    """Return a figure of matplotlib as a file's contents: ``pdf``, ``svg`` or ``png``, without the day and without names by chance."""
    from matplotlib import rc_context

    held = io.BytesIO()
    none = {"pdf": {"CreationDate": None}, "svg": {"Date": None}, "png": {}}[kind]
    # Parts of an SVG that others point to are named by what they are, not anew each time.
    with rc_context({"svg.hashsalt": "ulvar"}):
        figure.savefig(held, format=kind, dpi=dots_per_inch, metadata=none)
    return held.getvalue()
