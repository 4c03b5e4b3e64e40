"""Numbers of exposures that the night line, the picture and the boards show, taken from the model's products."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QObject

from ulvar.desktop.models.curves import Curves
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.frames import Role
from ulvar.lightcurves import airmass_at
from ulvar.night.stations import measured_files
from ulvar.photometry import ListedStar
from ulvar.stars import QUALITIES

# Name, unit, decimals. Every quality of an exposure is one, beside what other stations know.
METRICS: dict[str, tuple[str, str, int]] = {
    "temperature": ("Sensor temperature", "°C", 1),
    "set_level": ("Level within its set", "ADU", 1),
    "set_noise": ("Noise of dark frames", "ADU", 1),
    **{q.key: (q.title, q.unit, q.decimals) for q in QUALITIES.values()},
    "rms_arcsec": ("Plate rms", "″", 2),
    "airmass": ("Airmass", "", 2),
    "target": ("Target flux", "", 2),
}
# Two qualities have one title; their units tell them apart there, here the words do.
METRICS["fwhm_arcsec"] = ("FWHM on the sky", "″", 2)
STATION_METRIC = {
    "intake": "temperature", "masters": "set_level", "calibrate": "sky_adu", "combine": "fwhm_px",
    "plate": "rms_arcsec", "measure": "target", "curve": "transparency",
}  # fmt: skip


class Numbers(QObject):
    """Numbers of exposures, and which of them the night line shows.

    Attributes
    ----------
    metric : str
        The one shown.
    """

    def __init__(self, ground: Ground, curves: Curves, looking: Looking) -> None:
        super().__init__(ground)
        self._ground, self._curves, self._looking = ground, curves, looking
        self.metric = "temperature"

    def metric_values(self, metric: str) -> dict[str, float]:
        """Return path to value for the night line."""

        def make() -> dict[str, float]:
            if metric == "temperature":
                return {f.path: t for f in self._ground.exposures() if (t := f.sensor_temperature_c) is not None}
            if metric in ("set_level", "set_noise"):
                return self._calibration_numbers(metric)
            if metric == "airmass":
                return self._airmass()
            if metric == "target":
                return self._target_flux()
            if metric in QUALITIES:
                factor = QUALITIES[metric].factor
                return {
                    raw: factor * v
                    for raw, row in self._looking.quality().items()
                    if (v := row.get(metric)) is not None
                }
            return {
                raw: float(p.values[metric])
                for raw, p in self._ground.of_members("plate").items()
                if p.values.get(metric) is not None and math.isfinite(float(p.values[metric]))
            }

        return self._ground.cached(f"metric {metric}", make)

    def knows_metric(self, metric: str) -> bool:
        """Whether there is anything to show of a metric; cheaper than asking for its values."""
        if metric == "target":
            table = self._curves.series()
            return table is not None and bool(table.names("target"))
        return bool(self.metric_values(metric))

    def _calibration_numbers(self, metric: str) -> dict[str, float]:
        """Level of each bias, dark and dark flat less that of its set, or its noise: shows drift and light leaks."""
        looks = self._ground.cached("looks", lambda: self._ground.night.looks() if self._ground.night else {})
        result: dict[str, float] = {}
        for group in self._ground.groups():
            if group.role not in (Role.BIAS, Role.DARK, Role.DARK_FLAT) or group.is_master:
                continue
            seen = {f: looks[f] for f in group.files if f in looks and math.isfinite(looks[f].level_adu)}
            middle = float(np.median([look.level_adu for look in seen.values()])) if seen else 0.0
            for path, look in seen.items():
                result[path] = look.level_adu - middle if metric == "set_level" else look.noise_adu
        return result

    def _airmass(self) -> dict[str, float]:
        usable = [
            f for f in self._ground.lights() if f.site and f.mid_utc and f.ra_deg is not None and f.dec_deg is not None
        ]
        if not usable:
            return {}
        first = usable[0]
        assert first.site is not None and first.ra_deg is not None and first.dec_deg is not None
        values = airmass_at([f.mid_utc for f in usable if f.mid_utc], first.ra_deg, first.dec_deg, first.site)
        return {f.path: float(v) for f, v in zip(usable, values) if math.isfinite(v)}

    def _target_flux(self) -> dict[str, float]:
        table = self._curves.series()
        targets = table.names("target") if table else []
        if table is None or not targets:
            return {}
        rows = {row.file: row.flux for row in table.star(targets[0]) if math.isfinite(row.flux)}
        result = self._curves.curve()
        if result is not None:
            rows = dict(zip(result.curve.files, result.curve.relative_flux))
        typical = float(np.nanpercentile(list(rows.values()), 80)) if rows else 1.0
        return {raw: rows[name] / typical for raw, name in self.measured_names().items() if name in rows}

    def measured_names(self) -> dict[str, str]:
        """Raw path to the file name under which it was measured."""
        night, series = self._ground.night, self._ground.chosen_series()
        return self._ground.cached("measured names", lambda: measured_files(night, series) if night and series else {})

    def star_pixels(self, raw: str) -> dict[str, tuple[float, float]]:
        """Return where the listed stars fall in an exposure."""
        if self._ground.night is None:
            return {}
        stars = self._ground.night.stars(self._ground.series_of_exposure(raw))
        return self.places_of(raw, [(star.name, star) for star in stars])

    def places_of(self, raw: str, stars: Sequence[tuple[str, ListedStar]]) -> dict[str, tuple[float, float]]:
        """Return where places fall in an exposure, by the names that they come with; those of which nobody knows are left away."""
        result: dict[str, tuple[float, float]] = {}
        wcs, transform = self._ground.plates().get(raw), self._looking.way_to_stars(raw)
        back = transform.inverse() if transform else None
        for name, star in stars:
            if star.ra is not None and star.dec is not None and wcs is not None:
                x, y = wcs.pixel(star.ra, star.dec)
                result[name] = float(x), float(y)
            elif star.x is not None and star.y is not None and (back is not None or raw not in self._ground.scores()):
                place = np.array([star.x]), np.array([star.y])
                xs, ys = back(*place) if back else place
                result[name] = float(xs[0]), float(ys[0])
        return result

    def places_in_origin(self, raw: str, stars: Sequence[tuple[str, ListedStar]]) -> dict[str, tuple[float, float]]:
        """Return where places of the exposure that listed places are in fall in another one, by name."""
        transform = self._looking.way_to_stars(raw)
        if not stars or transform is None:
            return {}
        x, y = transform.inverse()(np.array([s.x or 0.0 for _, s in stars]), np.array([s.y or 0.0 for _, s in stars]))
        return {name: (float(a), float(b)) for (name, _), a, b in zip(stars, x, y)}

    def choose_metric(self) -> None:
        """Take the metric of the station, or the first that is known."""
        wanted = STATION_METRIC[self._ground.station]
        self.metric = wanted if self.knows_metric(wanted) else "temperature"
        if not self.knows_metric(self.metric):
            self.metric = next((m for m in METRICS if self.knows_metric(m)), "temperature")

    def set_metric(self, metric: str) -> None:
        """Show another metric on the night line."""
        self.metric = metric
        self._ground.metric_changed.emit()
