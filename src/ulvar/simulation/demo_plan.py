"""The plan of the demo night: which exposures there are, when, through what sky, and with which trouble.

All of it is made up and seeded: the same size and seed give the same files.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import lru_cache

import erfa
import numpy as np

from ulvar.simulation.camera import Camera, CameraState
from ulvar.simulation.optics import Pointing
from ulvar.simulation.sky import FIELD_DEC_DEG, FIELD_RA_DEG, MadeUpSky, make_sky

DEMO_NAME = "Tarnholt field 12"
SITE = (61.20, 9.70, 640.0)
SEED = 20270211
EVENING = datetime(2027, 2, 11, 18, 40, 20, tzinfo=UTC)
ECLIPSE_BJD = 2461448.4483
ZERO_POINT = {"B": 19.1, "V": 19.5, "R": 19.6}
EXTINCTION = {"B": 0.25, "V": 0.15, "R": 0.10}
SKY_MAG = {"B": 21.4, "V": 20.6, "R": 20.0}
_EXPOSURE = {"V": 240.0, "B": 300.0, "R": 180.0}
_FLAT_EXPOSURE = {"V": 2.0, "B": 4.5, "R": 1.6}
TRUTH_FILE = "truth.json"


@dataclass(frozen=True)
class DemoSize:
    """How large the night is. The field on the sky is the same at every size.

    Attributes
    ----------
    width, height : int
        Frame [px].
    cycles : int
        Each is `visual` V exposures, one B and one R; twelve make the whole night.
    visual : int
    bias, darks, flats : int
        Frames in each calibration set.
    """

    width: int = 1000
    height: int = 750
    cycles: int = 12
    visual: int = 6
    bias: int = 16
    darks: int = 14
    flats: int = 9

    @property
    def scale_arcsec_px(self) -> float:
        """Pixel scale [arcsec/px]."""
        return 1.239 * 1000 / self.width


@dataclass(frozen=True)
class PlannedExposure:
    """One file to render: where, what kind, when, how."""

    file: str
    role: str
    band: str
    start: datetime
    state: CameraState
    seed: int
    dialect: str
    size: DemoSize
    fwhm_px: float = 3.0
    transparency: float = 1.0
    dither: tuple[float, float] = (0.0, 0.0)
    trail: tuple[float, float] = (0.0, 0.0)
    flipped: bool = False
    satellite: bool = False
    level_adu: float = 0.0
    planted: tuple[str, ...] = field(default=())

    @property
    def mid(self) -> datetime:
        return self.start + timedelta(seconds=self.state.exposure_s / 2)


@lru_cache(maxsize=4)
def made_world(size: DemoSize) -> tuple[MadeUpSky, Camera]:
    """Return the sky and the camera of a demo night."""
    sky = make_sky(np.random.default_rng([SEED, 1]))
    column = round(0.623 * size.width)
    return sky, Camera(size.width, size.height, dead_column=column)


def at_clock(hour: int, minute: int, second: int = 0) -> datetime:
    """Return a moment of the night; hours before noon are of the next day."""
    day = 11 if hour >= 12 else 12
    return datetime(2027, 2, day, hour, minute, second, tzinfo=UTC)


def _focus(moment: datetime, rng: np.random.Generator) -> float:
    """FWHM [px]: seeing, and a drift of the focus from 20:10 until a refocus at 21:17."""
    drift_start, refocus = at_clock(20, 10), at_clock(21, 17)
    width = 2.85 + 0.07 * rng.standard_normal()
    if drift_start < moment < refocus:
        width += 1.25 * ((moment - drift_start) / (refocus - drift_start)) ** 1.2
    return width


def _cloud(moment: datetime) -> float:
    """Transparency: thin cloud between 00:07 and 00:42."""
    middle = at_clock(0, 25)
    minutes = (moment - middle).total_seconds() / 60
    return 1.0 - 0.48 * math.exp(-0.5 * (minutes / 8.0) ** 2)


def planned_lights(size: DemoSize, rng: np.random.Generator) -> Iterator[PlannedExposure]:
    """Yield the lights in the order of time."""
    numbers = {"V": 0, "B": 0, "R": 0}
    moment = EVENING
    # A shorter night keeps its length: exposures are then further apart.
    slot = 6.62 * 3600 / size.cycles
    flip, jump = at_clock(21, 55), at_clock(20, 2)
    jumped = trailed = False
    for cycle in range(size.cycles):
        moment = EVENING + timedelta(seconds=cycle * slot)
        bands = ["V"] * size.visual + ["B", "R"]
        spare = slot - sum(_EXPOSURE[band] for band in bands)
        for band in bands:
            numbers[band] += 1
            number = numbers[band]
            state = CameraState(100, _EXPOSURE[band], -15.0 + 0.05 * rng.standard_normal())
            planted: list[str] = []
            trail = (0.0, 0.0)
            if not jumped and moment > jump and band == "V":
                jumped = True
                trail = (7.0, -4.5)
                planted.append("jump")
            cloudy = _cloud(moment)
            if cloudy < 0.9:
                planted.append("cloud")
            satellite = band == "V" and not trailed and moment > at_clock(23, 14)
            if satellite:
                trailed = True
                planted.append("trail")
            ending = ".fits" if band == "V" else ".fits.fz"
            wander = rng.normal(0.0, 1.8, 2) + (np.array([23.0, -14.0]) if jumped else 0.0)
            yield PlannedExposure(
                file=f"lights/{band}/T12-{band}-{number:03d}{ending}",
                role="light", band=band, start=moment, state=state, seed=1000 + 100 * ord(band) + number,
                dialect=band, size=size, fwhm_px=_focus(moment, rng), transparency=cloudy,
                dither=(float(wander[0]), float(wander[1])), trail=trail, flipped=moment > flip,
                satellite=satellite, planted=tuple(planted),
            )  # fmt: skip
            moment += timedelta(seconds=_EXPOSURE[band] + spare / len(bands))


def planned_calibration(size: DemoSize, rng: np.random.Generator) -> Iterator[PlannedExposure]:
    """Yield the calibration frames."""

    def series(
        count: int, folder: str, name: str, role: str, band: str, start: datetime, gain: int, exposure: float,
        temperature: float, dialect: str, level: float = 0.0, planted: tuple[str, ...] = (),
    ) -> Iterator[PlannedExposure]:  # fmt: skip
        moment = start
        for number in range(1, count + 1):
            yield PlannedExposure(
                file=f"{folder}/{name}-{number:03d}.fits.fz", role=role, band=band, start=moment,
                state=CameraState(gain, exposure, temperature + 0.05 * rng.standard_normal()),
                seed=abs(hash_text(f"{folder}/{name}{number}")), dialect=dialect, size=size, level_adu=level,
                planted=planted,
            )  # fmt: skip
            moment += timedelta(seconds=exposure + 4)

    flats, few = size.flats, max(3, (2 * size.flats) // 3)
    yield from series(flats, "flats/V", "Flat-V", "flat", "V", at_clock(16, 30), 100, 2.0, -15, "flat-a", 32000)
    yield from series(flats, "flats/B", "Flat-B", "flat", "B", at_clock(16, 34), 100, 4.5, -15, "flat-b", 33500)
    yield from series(
        flats, "flats/R", "Flat-R", "flat", "R", at_clock(16, 38), 0, 1.6, -15, "flat-a", 8200, ("flat_gain",)
    )
    yield from series(few, "dark flats/V", "DF-V", "dark_flat", "", at_clock(16, 44), 100, 2.0, -15, "df-a")
    yield from series(few, "dark flats/B", "DF-B", "dark_flat", "", at_clock(16, 46), 100, 4.5, -15, "df-b")
    yield from series(few, "dark flats/R", "DF-R", "dark_flat", "", at_clock(16, 48), 100, 1.6, -15, "df-none")
    yield from series(size.darks, "darks", "Dark-240", "dark", "", at_clock(2, 15), 100, 240.0, -15, "dark-a")
    yield from series(
        max(3, size.darks - 4), "darks", "Dark-180", "dark", "", at_clock(3, 30), 100, 180.0, -15, "dark-b"
    )
    yield from series(
        max(3, size.darks - 6), "darks", "Dark-300-warm", "dark", "", at_clock(4, 40), 100, 300.0, -10, "dark-a",
        planted=("dark_temperature",),
    )  # fmt: skip
    yield from series(size.bias, "bias", "Bias", "bias", "", at_clock(6, 20), 100, 0.0, -15, "bias")


def hash_text(text: str) -> int:
    """Return a number for a text that is the same in every run (unlike `hash`)."""
    value = 0
    for letter in text:
        value = (value * 131 + ord(letter)) % 2_000_000_011
    return value


def airmass_of(moment: datetime) -> float:
    """Kasten & Young 1989 airmass of the field's centre at the site."""
    days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    sidereal = math.radians((280.46061837 + 360.98564736629 * days + SITE[1]) % 360)
    hour = sidereal - math.radians(FIELD_RA_DEG)
    latitude, dec = math.radians(SITE[0]), math.radians(FIELD_DEC_DEG)
    sine = math.sin(latitude) * math.sin(dec) + math.cos(latitude) * math.cos(dec) * math.cos(hour)
    altitude = math.degrees(math.asin(sine))
    return 1 / (sine + 0.50572 * (altitude + 6.07995) ** -1.6364)


def bjd_tdb(moment: datetime) -> float:
    """Barycentric time of a geocentric observer looking at the field [d]: truth for the eclipse."""
    days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    tt = 2451545.0 + days + (float(erfa.dat(moment.year, moment.month, moment.day, 0.5)) + 32.184) / 86400
    _, barycentric = erfa.epv00(tt, 0.0)
    ra, dec = math.radians(FIELD_RA_DEG), math.radians(FIELD_DEC_DEG)
    star = np.array([math.cos(dec) * math.cos(ra), math.cos(dec) * math.sin(ra), math.sin(dec)])
    light_travel = float(np.dot(barycentric["p"], star)) * 499.004783836 / 86400
    return tt + float(erfa.dtdb(tt, 0.0, 0.5, 0.0, 0.0, 0.0)) / 86400 + light_travel


def pointing_of(exposure: PlannedExposure) -> Pointing:
    """Return where the telescope points at an exposure, and how the camera lies."""
    size = exposure.size
    scale = size.scale_arcsec_px
    # The mount's wander is in pixels of the full-size camera, so every size shows the same sky.
    east, north = (offset * 1.239 / 3600 for offset in exposure.dither)
    return Pointing(
        ra_deg=FIELD_RA_DEG + east / math.cos(math.radians(FIELD_DEC_DEG)),
        dec_deg=FIELD_DEC_DEG + north,
        scale_arcsec_px=scale,
        rotation_deg=(12.4 + (180.0 if exposure.flipped else 0.0)) % 360,
        width=size.width,
        height=size.height,
        distortion_px=1.2 * size.width / 1000,
    )


BODY_NAME = "Wisp"


def minor_body(moment: datetime) -> tuple[float, float, float]:
    """Position [deg] and V magnitude of the faint body that crosses the field."""
    hours = (moment - at_clock(22, 0)).total_seconds() / 3600
    east, north = 150 - 31.0 * hours, 118 + 9.0 * hours
    dec = FIELD_DEC_DEG + north / 3600
    return FIELD_RA_DEG + east / 3600 / math.cos(math.radians(dec)), dec, 17.6
