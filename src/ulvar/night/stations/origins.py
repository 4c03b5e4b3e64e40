"""Whose pixels the positions of listed stars are, and the way there from any series of the field."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ulvar.engine import Failed
from ulvar.flows import Series
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.shared import star_table_path
from ulvar.night.stations.tables import star_table
from ulvar.registration import PixelMap, Transform, match_stars, stored_map

_KEY = "star_origins"


def reference_of(series: Series, scores: Mapping[str, Product]) -> str:
    """Return the raw path of the exposure that a series was aligned on; empty when it is not scored."""
    own = {raw: p for raw, p in scores.items() if p.series == series.key}
    wanted = {p.values["reference"] for p in own.values()}
    return next((raw for raw, p in own.items() if p.output in wanted), "")


def aligned_on(scores: Mapping[str, Product]) -> str:
    """Return the file that a series was aligned on; empty when it is not scored."""
    return next((str(product.values["reference"]) for product in scores.values()), "")


def star_origin(night: Night, series: Series, scores: Mapping[str, Product]) -> str:
    """Return the raw path of the exposure whose pixels star positions of a field are: the first that was clicked in."""
    kept = str(night.meta(_KEY, {}).get(series.field.key, ""))
    return kept if kept in scores else reference_of(series, scores)


def keep_origin(night: Night, series: Series, scores: Mapping[str, Product]) -> None:
    """Remember whose pixels star positions are, before the first of them is listed."""
    origins = night.meta(_KEY, {})
    if origins.get(series.field.key) not in scores:
        night.set_meta(_KEY, {**origins, series.field.key: reference_of(series, scores)})


def way_to_origin(night: Night, series: Series, scores: Mapping[str, Product]) -> PixelMap | Failed:
    """Return the way from the pixels of a series' reference to those that star positions are in.

    Within a series it is known from aligning; to the reference of another filter it is found by star patterns.
    """
    reference, origin = reference_of(series, scores), star_origin(night, series, scores)
    if not origin or origin == reference:
        return Transform.identity()
    if scores[origin].series == series.key:
        v = scores[origin].values
        if v["matrix"] is None:
            return Failed("the exposure in which the stars were chosen is not aligned any more", origin)
        return stored_map(v["matrix"], v.get("bent")).inverse()
    if not all(star_table_path(night, scores[raw]).exists() for raw in (reference, origin)):
        return Failed("the stars of the exposure in which they were chosen are not there any more: score it", origin)
    source, target = (star_table(night, scores[raw]) for raw in (reference, origin))
    return match_stars(
        np.column_stack([source.x, source.y]), np.column_stack([target.x, target.y]),
        source_snr=source.snr, target_snr=target.snr,
    )  # fmt: skip
