"""Which marks belong on an exposure: stars, roles, catalogue, residuals, trails, regions."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from ulvar.astrometry import CatalogueError, StarCatalogue, load_catalogue, separation_deg
from ulvar.desktop.models.model import Model
from ulvar.desktop.picture.overlays import Overlay, RoleMark
from ulvar.flows import PairRow
from ulvar.frames import Role
from ulvar.frames.address import file_of
from ulvar.registration import PixelMap


class Marks:
    """Builds overlays from the model; keeps the catalogue that was read."""

    def __init__(self, model: Model) -> None:
        self._model = model
        # File and its time, the cone (RA, Dec, radius [deg]) that was read, its stars.
        self._read: tuple[tuple[str, int], tuple[float, float, float], StarCatalogue] | None = None

    def forget(self) -> None:
        """Read the catalogue anew."""
        self._read = None

    def deep(self, shown: set[str]) -> Overlay:
        """Return the marks of the deep view: those of its reference, on whose pixels it lies; roles always."""
        deep = self._model.looking.deep_view()
        if deep is None:
            return Overlay()
        reference = str(deep.values["reference"])
        overlay = self.overlay(reference, shown)
        if not overlay.roles:
            roles = {s.name: s.role for s in self._model.night.stars()} if self._model.night else {}
            places = self._model.numbers.star_pixels(reference)
            overlay.roles = [RoleMark(name, roles[name], *place) for name, place in places.items() if name in roles]
        return overlay

    def of_product(self, path: str, shown: set[str]) -> Overlay:
        """Return the marks of what stands in the exposure's place: of the deep view, or the pixel asked about of the stack."""
        overlay = self.deep(shown) if "deep" in shown else Overlay()
        stacks = self._model.stacks
        if stacks.stack is not None and file_of(path) == stacks.stack.output:
            overlay.chosen = stacks.pixel
        return overlay

    def overlay(self, raw: str, shown: set[str], grid: PixelMap | None = None) -> Overlay:
        """Return the marks of an exposure.

        Parameters
        ----------
        raw : str
        shown : set of str
            Toggles that are on.
        grid : PixelMap, optional
            Carries the exposure's pixels to those of the picture, where it is shown on another grid.
        """
        overlay = Overlay()
        model = self._model
        if "defects" in shown and model.station in ("masters", "calibrate"):
            overlay.defects = model.matching.preview
        facts = model.facts(raw)
        if facts is None:
            return overlay
        if "regions" in shown:
            overlay.regions = [region.outline() for region in model.looking.regions()]
        if facts.role is not Role.LIGHT:
            return overlay
        wcs = model.plates().get(raw)
        overlay.wcs = wcs if grid is None else None
        if "stars" in shown:
            self._detections(overlay, raw)
        if "catalogue" in shown and grid is None:
            overlay.catalogue = self._catalogue_pixels(raw)
            overlay.grid = True
        if "residuals" in shown and grid is None:
            plate = model.products("plate").get(raw)
            if plate is not None and plate.values.get("residuals"):
                overlay.residuals = np.array(plate.values["residuals"])
        self._named(overlay, raw)
        if model.station == "measure" and grid is None:
            chosen = model.field.chosen
            overlay.candidates = [(*mark, mark[0] == chosen) for mark in model.field.marks(raw)]
        if model.station == "combine":
            overlay.body = model.pointing.body_place(raw)
        if "apertures" in shown and model.station in ("plate", "measure", "curve"):
            self._role_marks(overlay, raw)
        if grid is not None:
            _carry(overlay, grid)
        return overlay

    def _named(self, overlay: Overlay, raw: str) -> None:
        """Add the pair of stars, marked places and moving bodies."""
        sky, station = self._model.sky, self._model.station
        if station in ("intake", "masters"):
            return
        overlay.places = [(name, x, y) for name, (x, y) in sky.place_pixels(raw).items()]
        overlay.bodies = [(name, x, y) for name, (x, y) in sky.body_pixels(raw).items()]
        pair = sky.pair_pixels(raw).get(raw)
        if pair is not None:
            row = sky.pair_here(raw) if station == "plate" else sky.pair_rows().get(raw)
            words = ""
            if isinstance(row, PairRow):
                apart, _, angle, _ = row.measured
                words = f"{apart:.2f}{'″' if row.sky is not None else ' px'}, {angle:.1f}°"
            overlay.pair = (*pair, words)

    def _detections(self, overlay: Overlay, raw: str) -> None:
        score = self._model.products("score").get(raw)
        if score is not None and score.values.get("trail_lines"):
            overlay.trails = np.array(score.values["trail_lines"], dtype=float)
        overlay.chosen = self._model.looking.chosen_star
        tuned = self._model.looking.tuned_stars
        if tuned is not None:
            overlay.detections = tuned
            return
        table = self._model.looking.star_table(raw)
        if table is not None:
            overlay.detections = np.column_stack([table.x, table.y])

    def _catalogue_pixels(self, raw: str) -> np.ndarray:
        wcs = self._model.plates().get(raw)
        path = self._model.settings().plate.catalogue
        facts = self._model.facts(raw)
        if wcs is None or not path or facts is None:
            return np.empty((0, 2))
        ra, dec = wcs.sky(facts.width / 2, facts.height / 2)
        reach = math.hypot(facts.width, facts.height) / 2 * wcs.scale_arcsec_px / 3600
        catalogue = self._catalogue_near(path, float(ra), float(dec), reach)
        if catalogue is None:
            return np.empty((0, 2))
        near = catalogue.cone(float(ra), float(dec), reach)
        faintest = self._model.settings().plate.faintest_mag
        if faintest is None:
            near = near.select(np.argsort(near.mag, kind="stable")[:300])
        else:
            near = near.select(near.mag <= faintest)
        x, y = wcs.pixel(near.ra, near.dec)
        return np.column_stack([x, y])

    def _catalogue_near(self, path: str, ra: float, dec: float, reach_deg: float) -> StarCatalogue | None:
        """Return the catalogue around a place; what was read is kept while it is the same file and holds the place."""
        try:
            stamp = (path, Path(path).stat().st_mtime_ns)
            if self._read is not None and self._read[0] == stamp:
                at_ra, at_dec, held = self._read[1]
                away = float(separation_deg(np.float64(ra), np.float64(dec), np.float64(at_ra), np.float64(at_dec)))
                if away + reach_deg <= held:
                    return self._read[2]
            held = reach_deg + 3.0
            catalogue = load_catalogue(path, near=[(ra, dec, held)])
        except (CatalogueError, OSError):
            return None
        self._read = stamp, (ra, dec, held), catalogue
        return catalogue

    def _role_marks(self, overlay: Overlay, raw: str) -> None:
        night = self._model.night
        if night is None:
            return
        pixels = self._model.numbers.star_pixels(raw)
        left = set(self._model.settings().curve.leave_out)
        curve = self._model.curves.curve()
        suspects = set(curve.curve.ensemble.suspects) if curve else set()
        for star in night.stars(self._model.series_of_exposure(raw)):
            if star.name in pixels and math.isfinite(pixels[star.name][0]):
                x, y = pixels[star.name]
                overlay.roles.append(RoleMark(star.name, star.role, x, y, star.name in left | suspects))
        if self._model.station == "plate":
            # Here it counts where they are.
            return
        settings = self._model.settings().measure
        if settings.bodies:
            # Measured along with the stars: their apertures are shown, too.
            overlay.roles += [RoleMark(name, "target", x, y) for name, x, y in overlay.bodies]
            overlay.bodies = []
        score = self._model.products("score").get(raw)
        fwhm = float(score.values["fwhm_px"]) if score and score.values["fwhm_px"] else 3.0
        radius, inner, outer = settings.aperture.radii(fwhm)
        series = self._model.series_of_exposure(raw)
        tried = self._model.products("aperture").get(series.key) if series is not None and settings.several else None
        if tried is not None:
            # Of several radii the one that is used.
            radius = float(tried.values["radius"]) * (fwhm if settings.in_fwhm else 1.0)
        overlay.aperture = radius, inner, outer


def _carry(overlay: Overlay, grid: PixelMap) -> None:
    """Bring marks onto the grid that the picture is shown on."""

    def moved(points: np.ndarray) -> np.ndarray:
        return np.column_stack(grid(points[:, 0], points[:, 1])) if len(points) else points

    overlay.detections = moved(overlay.detections)
    overlay.defects = moved(overlay.defects)
    if len(overlay.trails):
        ends = overlay.trails
        overlay.trails = np.column_stack([moved(ends[:, :2]), moved(ends[:, 2:4]), ends[:, 4]])
    if overlay.chosen is not None:
        x, y = grid(np.array([overlay.chosen[0]]), np.array([overlay.chosen[1]]))
        overlay.chosen = float(x[0]), float(y[0])
    for named in (overlay.places, overlay.bodies):
        carried = moved(np.array([(x, y) for _, x, y in named]))
        named[:] = [(name, float(a), float(b)) for (name, *_), (a, b) in zip(named, carried)]
    if overlay.pair is not None:
        first, second = (tuple(end) for end in moved(np.array(overlay.pair[:2])).tolist())
        overlay.pair = first, second, overlay.pair[2]
    if overlay.body is not None:
        u, v = grid(np.array([overlay.body[0]]), np.array([overlay.body[1]]))
        overlay.body = float(u[0]), float(v[0]), overlay.body[2]
    overlay.regions = [[(float(a), float(b)) for a, b in moved(np.array(corners))] for corners in overlay.regions]
    roles = []
    for mark in overlay.roles:
        x, y = grid(np.array([mark.x]), np.array([mark.y]))
        roles.append(RoleMark(mark.name, mark.role, float(x[0]), float(y[0]), mark.suspect))
    overlay.roles = roles
