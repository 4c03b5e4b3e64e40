"""What stands under the target in the plot of a light curve: other series of its field, and further stars."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ulvar.desktop.parts.glyphs import SHAPES, role_token
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import filter_color
from ulvar.flows import Beneath
from ulvar.night.stations import Beside
from ulvar.photometry import SeriesTable


def add_others(plot: Plot, beneath: Sequence[Beneath], beside: Sequence[Beside], times: Sequence[np.ndarray]) -> None:
    """Draw the curves of other series under the own one, each in the colour of its filter."""
    for k, (drawn, other, x) in enumerate(zip(beneath, beside, times)):
        plot.series.append(
            Points(
                x, drawn.magnitude, drawn.magnitude_error,
                ["left_out" if out else "kept" if good else "other" for out, good in zip(other.curve.left_out, other.curve.good)],
                [other.raws.get(file, "") for file in other.curve.files],
                name=drawn.told, color=filter_color(plot.theme, other.series.filter), shape=SHAPES[(k + 1) % len(SHAPES)],
            )
        )  # fmt: skip


def add_stars(plot: Plot, beneath: Sequence[Beneath], series: SeriesTable, x: np.ndarray) -> None:
    """Draw further stars under a curve, each in the colour of its role."""
    roles = {name: role for role in ("target", "comparison", "check") for name in series.names(role)}
    for drawn in beneath:
        plot.series.append(Points(x, drawn.magnitude, token=role_token(roles[drawn.name]), name=drawn.told))
