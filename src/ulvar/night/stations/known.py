"""What earlier stations know of the exposures of a series, as measuring in them takes it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import Failed
from ulvar.flows import Reference, Series
from ulvar.frames import ExposureFacts, distinct_names, identity
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.lights import Working, working_of
from ulvar.night.stations.origins import star_origin, way_to_origin
from ulvar.night.stations.plate import solutions
from ulvar.night.stations.shared import fit_of, number_of, star_table_path, trails_of
from ulvar.night.stations.tables import star_table
from ulvar.registration import PixelMap, stored_map
from ulvar.stars import StarTable, Trail


@dataclass(frozen=True)
class Known:
    """What earlier stations know of one exposure."""

    facts: ExposureFacts
    wcs: Wcs | None = None
    transform: PixelMap | None = None
    fwhm_px: float = math.nan
    detected: StarTable | None = None
    trails: tuple[Trail, ...] = ()
    # The fingerprint of the stars that were found, and of what it is calibrated with on the way.
    found: str = ""
    calibrated: str = ""

    def stamp(self) -> list[Any]:
        """Return what the exposure's measurements depend on, for a fingerprint."""
        way = None
        if self.transform is not None:
            # Of whatever kind, a map is told by where it carries so many places.
            x, y = np.meshgrid(np.linspace(0, self.facts.width, 4), np.linspace(0, self.facts.height, 4))
            way = np.round(self.transform(x, y), 6).tolist()
        more = [self.calibrated] if self.calibrated else []
        return [
            identity(self.facts, timed=True),
            self.found,
            way,
            None if self.wcs is None else self.wcs.cards(),
            *more,
        ]


@dataclass(frozen=True)
class SeriesKnown:
    """What is known of a series.

    Attributes
    ----------
    ready : Working
    inputs : dict of str to Known
        By raw path.
    origin : str
        Raw path of the exposure whose pixels listed places are.
    reference : Reference or None
        That exposure.
    plates : dict of str to Wcs
        By raw path.
    """

    ready: Working
    inputs: dict[str, Known]
    origin: str
    reference: Reference | None
    plates: dict[str, Wcs]

    @property
    def raw_of(self) -> dict[str, str]:
        """Path of the file that is worked on to the raw one."""
        return {facts.path: raw for raw, facts in self.ready.facts.items()}

    @property
    def raw_by_name(self) -> dict[str, str]:
        """Name that rows of a table tell an exposure by to its raw path."""
        names = distinct_names(facts.path for facts in self.ready.facts.values())
        return {names[facts.path]: raw for raw, facts in self.ready.facts.items()}

    def by_path(self) -> dict[str, Any]:
        """Return what is known by the paths of the files that are worked on, as measuring takes it."""
        known = list(self.inputs.values())
        return {
            "solutions": {k.facts.path: k.wcs for k in known if k.wcs is not None},
            "transforms": {k.facts.path: k.transform for k in known if k.transform is not None},
            "fwhm": {k.facts.path: k.fwhm_px for k in known},
            "detected": {k.facts.path: k.detected for k in known if k.detected is not None},
            "trails": {k.facts.path: k.trails for k in known},
            "calibrations": self.ready.calibrations,
        }


def what_is_known(night: Night, series: Series) -> SeriesKnown:
    """Return what earlier stations know of a series."""
    ready = working_of(night, series)
    scores, plates = night.products_of("score"), solutions(night)
    origin, way = star_origin(night, series, scores), way_to_origin(night, series, scores)
    inputs = {}
    for raw in ready.facts:
        score = scores.get(raw)
        inputs[raw] = _known(
            night, raw, ready, score if score is not None and score.series == series.key else None, plates.get(raw), way
        )
    return SeriesKnown(ready, inputs, origin, _reference(night, scores.get(origin), plates.get(origin)), plates)


def _known(
    night: Night, raw: str, ready: Working, score: Product | None, wcs: Wcs | None, way: PixelMap | Failed
) -> Known:
    facts, calibrated = ready.facts[raw], ready.print_of(raw)
    if score is None:
        return Known(facts, wcs, calibrated=calibrated)
    v = score.values
    stars = star_table(night, score) if star_table_path(night, score).exists() else None
    transform = None
    if v["matrix"] is not None and isinstance(way, PixelMap):
        transform = stored_map(v["matrix"], v.get("bent"), fit_of(v)).then(way)
    return Known(
        facts, wcs, transform, number_of(v["fwhm_px"]), stars, trails_of(v), str(v.get("print") or ""), calibrated,
    )  # fmt: skip


def _reference(night: Night, score: Product | None, wcs: Wcs | None) -> Reference | None:
    if score is None:
        return None
    there = star_table_path(night, score).exists()
    return Reference(score.output, star_table(night, score), wcs) if there else None
