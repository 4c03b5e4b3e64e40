"""Results of single exposures, kept as they come: a stopped run goes on from there, a new one repeats nothing."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from ulvar.flows import Scored, read_stars
from ulvar.frames import ExposureFacts
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.photometry import SeriesRow, row_from_values, row_values
from ulvar.stars import ExposureQuality, Trail


class Kept:
    """What was made of exposures before by the same recipe, and the place for what comes now.

    Parameters
    ----------
    night : Night
    kind : str
        Of the products in the night's file.
    prints : mapping of str to str
        Raw path to the fingerprint of all that the exposure's result depends on.
    series : str
        Key of the exposures' series.
    """

    def __init__(self, night: Night, kind: str, prints: Mapping[str, str], series: str) -> None:
        self._night, self._kind, self._prints, self._series = night, kind, prints, series
        self.known = {
            raw: product
            for raw, product in night.products_of(kind).items()
            if raw in prints and product.values.get("print") == prints[raw]
        }

    def store(self, raw: str, output: str, values: dict[str, Any]) -> None:
        """Keep one exposure's result."""
        body = {**values, "print": self._prints[raw]}
        self._night.store_products(self._kind, [Product(self._kind, raw, output, body)], series=self._series)


def scored_values(scored: Scored) -> dict[str, Any]:
    """Return what is stored of one exposure's stars beside their table."""
    lines = [[t.x0, t.y0, t.x1, t.y1, t.width_px, t.level_adu, t.snr] for t in scored.trails]
    return {"quality": asdict(scored.quality), "trail_lines": lines}


def scored_again(facts: ExposureFacts, product: Product) -> Scored:
    """Return an exposure's stars as they were found before.

    Raises
    ------
    FrameError, KeyError, ValueError
        If the table is gone or damaged.
    """
    stored = product.values["quality"]
    # JSON has no NaN: what is not known is null.
    numbers: dict[str, Any] = {f.name: stored[f.name] for f in fields(ExposureQuality)}
    restored: dict[str, Any] = {name: math.nan if value is None else value for name, value in numbers.items()}
    known = ExposureQuality(**restored)
    trails = tuple(Trail(*line) for line in product.values["trail_lines"])
    stars = read_stars(Path(product.output))
    if len(stars) != known.stars:
        raise ValueError(f"{product.output}: rows are missing")
    return Scored(facts, stars, known, trails)


def measured_values(rows: tuple[SeriesRow, ...]) -> list[list[Any]]:
    """Return rows of one exposure as plain values."""
    return [row_values(row) for row in rows]


def measured_again(product: Product) -> tuple[SeriesRow, ...]:
    """Return the rows of one exposure as they were measured before."""
    return tuple(row_from_values(values) for values in product.values["rows"])
