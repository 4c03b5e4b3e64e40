"""What rows of pixels can be taken from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from ulvar.engine import F32Array


class RowSource(Protocol):
    """Anything that gives rows of float32 pixels: a mapped file, an array, a resampled exposure."""

    @property
    def height(self) -> int:
        """Rows."""
        ...

    @property
    def width(self) -> int:
        """Columns."""
        ...

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1``; the caller owns the array."""
        ...


@dataclass
class RowsOf:
    """Rows that are made of another source's, of the same size."""

    source: RowSource

    @property
    def height(self) -> int:
        """Rows."""
        return self.source.height

    @property
    def width(self) -> int:
        """Columns."""
        return self.source.width
