"""Settings of the stations: plain data, stored with the night and in its recipe."""

from __future__ import annotations

from typing import Literal

from pydantic import model_validator

from ulvar.night.combining import (
    COLOURS,
    FRAMINGS,
    KERNELS,
    NORMALISATIONS,
    WEIGHTS,
    WHITES,
    CombineSettings,
    CommonSettings,
    MarkSettings,
    RuleSettings,
    ShapeSettings,
)
from ulvar.night.preparing import (
    METHODS,
    CalibrateSettings,
    IntakeSettings,
    MastersSettings,
    PinSettings,
    Section,
    TagSettings,
    first_problem,
)
from ulvar.night.schema import told
from ulvar.photometry import ApertureOptions, ListedStar

__all__ = [
    "COLOURS", "FRAMINGS", "KERNELS", "METHODS", "NORMALISATIONS", "WEIGHTS", "WHITES", "CalibrateSettings", "CombineSettings",
    "CommonSettings", "CurveSettings", "IntakeSettings", "MarkSettings", "MastersSettings", "MeasureSettings", "NightSettings",
    "PairSettings", "PinSettings", "PlaceSettings", "PlateSettings", "RuleSettings", "ShapeSettings", "TagSettings", "first_problem",
]  # fmt: skip

_APERTURE = ApertureOptions()
# Where several radii are tried, those beside the set one, in its units.
RADIUS_STEPS = (0.6, 0.72, 0.85, 1.2, 1.45, 1.8)


class PlaceSettings(Section):
    """A place that the user marked: on the sky [deg], or in pixels of the exposure that listed places are in [px, 0-based]."""

    name: str = ""
    ra: float | None = None
    dec: float | None = None
    x: float | None = None
    y: float | None = None

    @property
    def listed(self) -> ListedStar:
        """As measuring takes it."""
        return ListedStar(self.name, "target", self.ra, self.dec, self.x, self.y)


class PairSettings(Section):
    """Two stars whose separation is measured."""

    first: PlaceSettings
    second: PlaceSettings


class PlateSettings(Section):
    """Where to look on the sky."""

    catalogue: str = told(
        "", "Catalogue", "Star catalogue: a CSV file with ra and dec, or a folder of tiles", kind="file"
    )
    radius_deg: float = told(
        1.0, "Search radius", "How far the header's position may be off", unit="°", span=(0.1, 90), gt=0
    )
    blind: bool = told(
        False, "Without a hint", "The header's position and scale are not looked at: the whole sky of the catalogue is searched", fold=True,
    )  # fmt: skip
    seconds: float = told(
        10.0,
        "Search time",
        "The search for each exposure's place ends after so long",
        unit="s",
        span=(0.5, 600),
        fold=True,
        gt=0,
    )
    scale_low: float | None = None
    scale_high: float | None = None
    faintest_mag: float | None = told(
        None, "Catalogue stars to", "Fainter stars of the catalogue are not marked on the picture", unit="mag", span=(-2, 25),
        unset="the brightest 300",
    )  # fmt: skip
    bodies: str = told(
        "", "Moving bodies",
        "Minor bodies to mark and measure: CSV with their places by time (name, ra, dec, time_utc) or their orbital elements "
        "(name, e, q or a, i, node, peri, tp)",
        kind="file",
    )  # fmt: skip
    body_radius_arcsec: float = told(
        5.0, "Bodies within", "How far from the told place a body is looked for", unit="″", span=(0.5, 300), fold=True, gt=0
    )  # fmt: skip
    pair: PairSettings | None = None
    places: list[PlaceSettings] = []


class MeasureSettings(Section):
    """Aperture photometry."""

    radius: float = told(
        _APERTURE.radius,
        "Aperture radius",
        "Radius of the circle in which a star's light is summed",
        decimals=2,
        span=(0.2, 200),
        gt=0,
    )
    in_fwhm: bool = told(
        _APERTURE.in_fwhm, "In units of the FWHM",
        "The aperture follows each exposure's FWHM; otherwise the radius is in pixels",
    )  # fmt: skip
    inner_px: float | None = told(
        None, "Annulus from", "Inner radius of the annulus that the sky is taken from; without one it follows the aperture", unit="px",
        span=(0, 500), unset="by aperture", fold=True, gt=0,
    )  # fmt: skip
    outer_px: float | None = told(
        None, "Annulus to", "Outer radius of the annulus that the sky is taken from; without one it follows the aperture", unit="px",
        span=(0, 500), unset="by aperture", fold=True, gt=0,
    )  # fmt: skip
    several: bool = told(
        False, "Try several radii", "Seven radii from 0.6 to 1.8 of this one; that in which the comparison stars scatter least is used",
    )  # fmt: skip
    centre: Literal["forced", "refined", "moments", "together"] = told(
        "forced", "Aperture at", "At the star's own position on the sky, or on the star found there",
        choices={
            "forced": ("Sky position", "at the given place"), "refined": ("Star found there", "on the star found there"),
            "moments": ("Middle of its light", "on the middle of the light there, by moments"),
            "together": ("Moved together", "at the given place, moved by what all stars are off on average"),
        },
    )  # fmt: skip
    sky: Literal["median", "mean", "mode", "plane"] = told(
        "median", "Sky by", "How the sky is taken from the annulus; values further off than three deviations are left out before",
        choices={
            "median": ("Median", "the middle value"), "mean": ("Mean", "less noise, more moved by faint stars"),
            "mode": ("Mode", "3 median - 2 mean, for crowded fields; twice the noise"),
            "plane": ("Plane", "a plane at the star, where the sky slopes"),
        }, fold=True,
    )  # fmt: skip
    elliptical: bool = told(
        False, "Aperture of the stars' shape", "An ellipse of the circle's area, as long as the stars of each exposure: for trailed ones",
        fold=True,
    )  # fmt: skip
    profile: bool = told(
        False, "Profile fit, too", "Fluxes by the exposure's own star profile, neighbours fitted along: for crowded fields; a second longer",
        fold=True,
    )  # fmt: skip

    bodies: bool = told(
        False, "Moving bodies, too",
        "Those of the table at Plate, and the one that is marked in exposures, are measured along with the stars; exposures must be solved",
    )  # fmt: skip

    @model_validator(mode="after")
    def _makes_a_ring(self) -> MeasureSettings:
        _ = self.aperture
        return self

    @property
    def aperture(self) -> ApertureOptions:
        """As the core takes it; an annulus of which one radius is missing follows the aperture."""
        ring = (
            (self.inner_px, self.outer_px) if self.inner_px is not None and self.outer_px is not None else (None, None)
        )
        others = tuple(round(self.radius * step, 2) for step in RADIUS_STEPS) if self.several else ()
        return ApertureOptions(self.radius, self.in_fwhm, ring[0], ring[1], self.sky, self.elliptical, others)


class CurveSettings(Section):
    """Light curve and fit."""

    model: Literal["none", "eclipse", "transit", "sine", "polynomial"] = told(
        "eclipse", "Model", "What is fitted to the light curve",
        choices={"eclipse": ("Eclipse", "a symmetric minimum"), "transit": ("Transit", "a dark disc before a star"),
            "sine": ("Sine", "a sine with harmonics"), "polynomial": ("Polynomial", "powers of the time"), "none": ("None", "nothing")},
    )  # fmt: skip
    harmonics: int = told(
        2, "Harmonics", "Of the sine: 1 is the sine alone, 2 and more take waves of any form", decimals=0, span=(1, 12), fold=True,
        ge=1, le=12,
    )  # fmt: skip
    degree: int = told(4, "Degree", "Of the polynomial", decimals=0, span=(1, 15), fold=True, ge=1, le=15)
    limb_1: float = told(
        0.4, "Limb darkening u1", "Of a transit: how much darker the star is towards its limb, linear term", decimals=3, span=(0.0, 1.0),
        fold=True, ge=0, le=1,
    )  # fmt: skip
    limb_2: float = told(
        0.25, "Limb darkening u2", "The same, quadratic term", decimals=3, span=(-0.5, 1.0), fold=True, ge=-0.5, le=1,
    )  # fmt: skip
    free_law: bool = told(
        False, "Fit the limb darkening", "Of a transit of which many good points are there; else it is taken as told", fold=True,
    )  # fmt: skip
    light: Literal["aperture", "profile"] = told(
        "aperture", "Light", "Which fluxes the curve is made of; those by the profile fit are there where it was asked for at Measure",
        choices={"aperture": ("In the aperture", "sums in the aperture"),
            "profile": ("By the profile fit", "fits of the exposure's own profile")},
        fold=True,
    )  # fmt: skip
    detrend: list[str] = told([], "Detrend by", "Linear terms, fitted together with the model", kind="terms")
    leave_out: list[str] = []


class NightSettings(Section):
    """All stations' settings."""

    intake: IntakeSettings = IntakeSettings()
    masters: MastersSettings = MastersSettings()
    calibrate: CalibrateSettings = CalibrateSettings()
    combine: CombineSettings = CombineSettings()
    plate: PlateSettings = PlateSettings()
    measure: MeasureSettings = MeasureSettings()
    curve: CurveSettings = CurveSettings()
