"""The demo night: Tarnholt, 2027-02-11, camera Kvist 6M, with every trouble planted and the truth beside it.

All of it is made up and seeded: the same size and seed give the same files.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any

import erfa
import fitsio
import numpy as np

from ulvar.engine import F64Array, JobContext, atomic_path, check_disk, write_text
from ulvar.simulation.camera import Camera, CameraState, satellite_trail
from ulvar.simulation.eclipse import EclipsingBinary
from ulvar.simulation.optics import Pointing, Psf
from ulvar.simulation.render import add_stars
from ulvar.simulation.sky import FIELD_DEC_DEG, FIELD_RA_DEG, PULSATOR_NAME, TARGET_NAME, MadeUpSky, make_sky

DEMO_NAME = "Tarnholt field 12"
SITE = (61.20, 9.70, 640.0)
SEED = 20270211
_EVENING = datetime(2027, 2, 11, 18, 40, 20, tzinfo=UTC)
_ECLIPSE_BJD = 2461448.4483
_ZERO_POINT = {"B": 19.1, "V": 19.5, "R": 19.6}
_EXTINCTION = {"B": 0.25, "V": 0.15, "R": 0.10}
_SKY_MAG = {"B": 21.4, "V": 20.6, "R": 20.0}
_EXPOSURE = {"V": 240.0, "B": 300.0, "R": 180.0}
_FLAT_EXPOSURE = {"V": 2.0, "B": 4.5, "R": 1.6}
_TRUTH_FILE = "truth.json"


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
class _Exposure:
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
def _world(size: DemoSize) -> tuple[MadeUpSky, Camera]:
    sky = make_sky(np.random.default_rng([SEED, 1]))
    column = round(0.623 * size.width)
    return sky, Camera(size.width, size.height, dead_column=column)


def _clock(hour: int, minute: int, second: int = 0) -> datetime:
    day = 11 if hour >= 12 else 12
    return datetime(2027, 2, day, hour, minute, second, tzinfo=UTC)


def _focus(moment: datetime, rng: np.random.Generator) -> float:
    """FWHM [px]: seeing, and a drift of the focus from 20:10 until a refocus at 21:17."""
    drift_start, refocus = _clock(20, 10), _clock(21, 17)
    width = 2.85 + 0.07 * rng.standard_normal()
    if drift_start < moment < refocus:
        width += 1.25 * ((moment - drift_start) / (refocus - drift_start)) ** 1.2
    return width


def _cloud(moment: datetime) -> float:
    """Transparency: thin cloud between 00:07 and 00:42."""
    middle = _clock(0, 25)
    minutes = (moment - middle).total_seconds() / 60
    return 1.0 - 0.48 * math.exp(-0.5 * (minutes / 8.0) ** 2)


def _lights(size: DemoSize, rng: np.random.Generator) -> Iterator[_Exposure]:
    numbers = {"V": 0, "B": 0, "R": 0}
    moment = _EVENING
    # A shorter night keeps its length: exposures are then further apart.
    slot = 6.62 * 3600 / size.cycles
    flip, jump = _clock(21, 55), _clock(20, 2)
    jumped = trailed = False
    for cycle in range(size.cycles):
        moment = _EVENING + timedelta(seconds=cycle * slot)
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
            satellite = band == "V" and not trailed and moment > _clock(23, 14)
            if satellite:
                trailed = True
                planted.append("trail")
            ending = ".fits" if band == "V" else ".fits.fz"
            wander = rng.normal(0.0, 1.8, 2) + (np.array([23.0, -14.0]) if jumped else 0.0)
            yield _Exposure(
                file=f"lights/{band}/T12-{band}-{number:03d}{ending}",
                role="light", band=band, start=moment, state=state, seed=1000 + 100 * ord(band) + number,
                dialect=band, size=size, fwhm_px=_focus(moment, rng), transparency=cloudy,
                dither=(float(wander[0]), float(wander[1])), trail=trail, flipped=moment > flip,
                satellite=satellite, planted=tuple(planted),
            )  # fmt: skip
            moment += timedelta(seconds=_EXPOSURE[band] + spare / len(bands))


def _calibration(size: DemoSize, rng: np.random.Generator) -> Iterator[_Exposure]:
    def series(
        count: int, folder: str, name: str, role: str, band: str, start: datetime, gain: int, exposure: float,
        temperature: float, dialect: str, level: float = 0.0, planted: tuple[str, ...] = (),
    ) -> Iterator[_Exposure]:  # fmt: skip
        moment = start
        for number in range(1, count + 1):
            yield _Exposure(
                file=f"{folder}/{name}-{number:03d}.fits.fz", role=role, band=band, start=moment,
                state=CameraState(gain, exposure, temperature + 0.05 * rng.standard_normal()),
                seed=abs(hash_text(f"{folder}/{name}{number}")), dialect=dialect, size=size, level_adu=level,
                planted=planted,
            )  # fmt: skip
            moment += timedelta(seconds=exposure + 4)

    flats, few = size.flats, max(3, (2 * size.flats) // 3)
    yield from series(flats, "flats/V", "Flat-V", "flat", "V", _clock(16, 30), 100, 2.0, -15, "flat-a", 32000)
    yield from series(flats, "flats/B", "Flat-B", "flat", "B", _clock(16, 34), 100, 4.5, -15, "flat-b", 33500)
    yield from series(
        flats, "flats/R", "Flat-R", "flat", "R", _clock(16, 38), 0, 1.6, -15, "flat-a", 8200, ("flat_gain",)
    )
    yield from series(few, "dark flats/V", "DF-V", "dark_flat", "", _clock(16, 44), 100, 2.0, -15, "df-a")
    yield from series(few, "dark flats/B", "DF-B", "dark_flat", "", _clock(16, 46), 100, 4.5, -15, "df-b")
    yield from series(few, "dark flats/R", "DF-R", "dark_flat", "", _clock(16, 48), 100, 1.6, -15, "df-none")
    yield from series(size.darks, "darks", "Dark-240", "dark", "", _clock(2, 15), 100, 240.0, -15, "dark-a")
    yield from series(max(3, size.darks - 4), "darks", "Dark-180", "dark", "", _clock(3, 30), 100, 180.0, -15, "dark-b")
    yield from series(
        max(3, size.darks - 6), "darks", "Dark-300-warm", "dark", "", _clock(4, 40), 100, 300.0, -10, "dark-a",
        planted=("dark_temperature",),
    )  # fmt: skip
    yield from series(size.bias, "bias", "Bias", "bias", "", _clock(6, 20), 100, 0.0, -15, "bias")


def hash_text(text: str) -> int:
    """Return a number for a text that is the same in every run (unlike `hash`)."""
    value = 0
    for letter in text:
        value = (value * 131 + ord(letter)) % 2_000_000_011
    return value


def _airmass(moment: datetime) -> float:
    """Kasten & Young 1989 airmass of the field's centre at the site."""
    days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    sidereal = math.radians((280.46061837 + 360.98564736629 * days + SITE[1]) % 360)
    hour = sidereal - math.radians(FIELD_RA_DEG)
    latitude, dec = math.radians(SITE[0]), math.radians(FIELD_DEC_DEG)
    sine = math.sin(latitude) * math.sin(dec) + math.cos(latitude) * math.cos(dec) * math.cos(hour)
    altitude = math.degrees(math.asin(sine))
    return 1 / (sine + 0.50572 * (altitude + 6.07995) ** -1.6364)


def _bjd_tdb(moment: datetime) -> float:
    """Barycentric time of a geocentric observer looking at the field [d]: truth for the eclipse."""
    days = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    tt = 2451545.0 + days + (float(erfa.dat(moment.year, moment.month, moment.day, 0.5)) + 32.184) / 86400
    _, barycentric = erfa.epv00(tt, 0.0)
    ra, dec = math.radians(FIELD_RA_DEG), math.radians(FIELD_DEC_DEG)
    star = np.array([math.cos(dec) * math.cos(ra), math.cos(dec) * math.sin(ra), math.sin(dec)])
    light_travel = float(np.dot(barycentric["p"], star)) * 499.004783836 / 86400
    return tt + float(erfa.dtdb(tt, 0.0, 0.5, 0.0, 0.0, 0.0)) / 86400 + light_travel


def _pointing(exposure: _Exposure) -> Pointing:
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


def _minor_body(moment: datetime) -> tuple[float, float, float]:
    """Position [deg] and V magnitude of the faint body that crosses the field."""
    hours = (moment - _clock(22, 0)).total_seconds() / 3600
    east, north = 150 - 31.0 * hours, 118 + 9.0 * hours
    dec = FIELD_DEC_DEG + north / 3600
    return FIELD_RA_DEG + east / 3600 / math.cos(math.radians(dec)), dec, 17.6


def _light_electrons(exposure: _Exposure) -> F64Array:
    sky, _ = _world(exposure.size)
    pointing = _pointing(exposure)
    band, rng = exposure.band, np.random.default_rng([SEED, exposure.seed, 7])
    seconds = exposure.state.exposure_s
    airmass = _airmass(exposure.mid)
    years = exposure.mid.year + 0.11 - 2016.0
    ra = sky.ra + sky.pmra / 3.6e6 / np.cos(np.radians(sky.dec)) * years
    dec = sky.dec + sky.pmdec / 3.6e6 * years
    magnitudes = getattr(sky, band)
    throughput = 10 ** (-0.4 * _EXTINCTION[band] * (airmass - 1)) * exposure.transparency
    flux = 10 ** (-0.4 * (magnitudes - _ZERO_POINT[band])) * seconds * throughput
    # A long exposure smears the eclipse; five moments of it are averaged.
    steps = [exposure.start + timedelta(seconds=seconds * (i + 0.5) / 5) for i in range(5)]
    binary = EclipsingBinary(_ECLIPSE_BJD)
    flux[sky.index(TARGET_NAME)] *= float(np.mean(binary.flux(np.array([_bjd_tdb(s) for s in steps]))))
    phase = (exposure.mid - _EVENING).total_seconds() / 3600 / 1.9
    flux[sky.index(PULSATOR_NAME)] *= 10 ** (-0.4 * 0.017 * math.sin(2 * math.pi * phase))
    scintillation = 0.09 * 25 ** (-2 / 3) * airmass**1.75 * math.exp(-SITE[2] / 8000) / math.sqrt(2 * seconds)
    flux *= np.exp(rng.normal(0.0, 1.5 * scintillation, len(flux)))
    x, y = pointing.pixels(ra, dec)
    body_ra, body_dec, body_mag = _minor_body(exposure.mid)
    bx, by = pointing.pixels(np.array([body_ra]), np.array([body_dec]))
    body_flux = 10 ** (-0.4 * (body_mag - _ZERO_POINT[band])) * seconds * throughput
    size = exposure.size
    area = size.scale_arcsec_px**2
    glow = 10 ** (-0.4 * (_SKY_MAG[band] - _ZERO_POINT[band])) * area * seconds
    twilight = 1 + 1.4 * math.exp(-(exposure.mid - _EVENING).total_seconds() / 900)
    haze = 1 + 0.7 * (1 - exposure.transparency)
    gradient = np.linspace(0.985, 1.015, size.width)[None, :] * np.linspace(1.01, 0.99, size.height)[:, None]
    image = np.asarray(gradient * (glow * twilight * haze * airmass**0.6))
    add_stars(
        image, np.concatenate([x, bx]), np.concatenate([y, by]), np.concatenate([flux, [body_flux]]),
        Psf.with_fwhm(round(exposure.fwhm_px, 3)), trail_px=exposure.trail,
    )  # fmt: skip
    if exposure.satellite:
        image += satellite_trail(
            image.shape,
            y0=0.22 * size.height,
            slope=0.41 * size.height / size.width,
            width_px=1.5,
            electrons=900.0,
        )
    return image


def _header(exposure: _Exposure) -> list[dict[str, Any]]:
    """Cards as different capture programs write them."""
    state, dialect = exposure.state, exposure.dialect
    start = exposure.start.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3]
    cards: dict[str, Any] = {"INSTRUME": "Kvist 6M", "TELESCOP": "Tarnholt 250", "XBINNING": 1, "YBINNING": 1}
    role_words = {
        "V": ("IMAGETYP", "Light Frame"), "B": ("FRAME", "light"), "R": ("IMAGETYP", "LIGHT"),
        "flat-a": ("IMAGETYP", "Flat Field"), "flat-b": ("FRAME", "flat"), "df-a": ("IMAGETYP", "Dark Flat"),
        "df-b": ("IMAGETYP", "FLATDARK"), "dark-a": ("IMAGETYP", "Dark Frame"), "dark-b": ("FRAME", "dark"),
        "bias": ("IMAGETYP", "Bias Frame"),
    }  # fmt: skip
    if dialect in role_words:
        keyword, word = role_words[dialect]
        cards[keyword] = word
    cards["EXPOSURE" if dialect in ("B", "flat-b", "df-b", "dark-b") else "EXPTIME"] = state.exposure_s
    cards["DATE-OBS"] = start
    if dialect != "df-none":
        cards["GAIN"], cards["OFFSET"] = state.gain, 30
        cards["EGAIN"], cards["RDNOISE"] = state.e_per_adu, state.read_noise_e
    cards["SET-TEMP"] = float(round(state.temperature_c))
    if dialect not in ("bias", "df-b"):
        cards["CCD-TEMP"] = round(state.temperature_c, 2)
    cards["SATURATE"] = 65535
    if exposure.role in ("light", "flat"):
        cards["FILTER"] = exposure.band
    if exposure.role == "light":
        cards["OBJECT"] = DEMO_NAME
        if dialect == "V":
            cards["RA"], cards["DEC"] = FIELD_RA_DEG, FIELD_DEC_DEG
        elif dialect == "B":
            cards["OBJCTRA"], cards["OBJCTDEC"] = "07 42 07.2", "+41 18 00"
        else:
            cards["OBJCTRA"], cards["OBJCTDEC"] = "07:42:07.20", "+41:18:00.0"
        cards["FOCALLEN"] = 625.8
        cards["XPIXSZ"] = round(3.76 * exposure.size.scale_arcsec_px / 1.239, 4)
        cards["APTDIA"] = 250.0
        cards["SITELAT"], cards["SITELONG"] = ("+61 12 00", "+09 42 00") if dialect == "B" else SITE[:2]
        cards["SITEELEV"] = SITE[2]
    return [{"name": name, "value": value} for name, value in cards.items()]


def _render(task: tuple[str, _Exposure]) -> str:
    folder, exposure = task
    _, camera = _world(exposure.size)
    rng = np.random.default_rng([SEED, exposure.seed])
    light: F64Array | float = 0.0
    rays = 0.02 * exposure.state.exposure_s
    if exposure.role == "light":
        light = _light_electrons(exposure)
    elif exposure.role == "flat":
        light = exposure.level_adu * exposure.state.e_per_adu * (1 + 0.05 * rng.standard_normal())
    pixels = camera.expose(rng, light, exposure.state, cosmic_rays=rays)
    path = Path(folder) / exposure.file
    with atomic_path(path) as temporary:
        compress = "RICE" if path.suffix == ".fz" else None
        with fitsio.FITS(str(temporary), "rw") as handle:
            handle.write(pixels, header=_header(exposure), compress=compress)
        if "truncated" in exposure.planted:
            raw = temporary.read_bytes()
            temporary.write_bytes(raw[: 2880 + int(0.61 * 2 * pixels.size)])
    return exposure.file


def make_demo_night(folder: Path, size: DemoSize | None = None, context: JobContext | None = None) -> dict[str, Any]:
    """Make the demo night in `folder` unless it is there already.

    Parameters
    ----------
    folder : Path
        Gets ``raw/`` with the exposures, ``catalogue.csv``, ``stars.csv`` and ``truth.json`` (written last).
    size : DemoSize, optional
    context : JobContext, optional
        Executor and progress.

    Returns
    -------
    dict
        The truth: target, eclipse, plate, planted troubles, per-exposure values.

    Raises
    ------
    DiskFull
        If the night would not fit.
    """
    wanted = size or DemoSize()
    truth_path = folder / _TRUTH_FILE
    if truth_path.exists():
        known: dict[str, Any] = json.loads(truth_path.read_text(encoding="utf-8"))
        if known.get("size") == asdict(wanted) and known.get("seed") == SEED:
            return known
    rng = np.random.default_rng([SEED, 2])
    exposures = list(_lights(wanted, rng))
    ninth = [e for e in exposures if e.band == "V"][min(8, wanted.cycles * wanted.visual - 1)]
    exposures[exposures.index(ninth)] = _with_plant(ninth, "truncated")
    exposures += _calibration(wanted, rng)
    check_disk(folder, len(exposures) * wanted.width * wanted.height * 2)
    run = context or JobContext()
    tasks = [(str(folder / "raw"), exposure) for exposure in exposures]
    for _ in run.each(_render, tasks, "Making the demo night"):
        pass
    sky, _ = _world(wanted)
    sky.write_catalogue(folder / "catalogue.csv", np.random.default_rng([SEED, 3]))
    _write_stars(folder / "stars.csv", sky)
    truth = _truth(exposures, sky, wanted)
    write_text(truth_path, json.dumps(truth, indent=1))
    return truth


def _with_plant(exposure: _Exposure, name: str) -> _Exposure:
    from dataclasses import replace

    return replace(exposure, planted=(*exposure.planted, name))


def _write_stars(path: Path, sky: MadeUpSky) -> None:
    rows = ["name,role,ra,dec"]
    years = 2027.11 - 2016.0
    for name in (TARGET_NAME, "a", "b", "c", "d", "e", PULSATOR_NAME, "k1"):
        i = sky.index(name)
        role = "target" if name == TARGET_NAME else "check" if name.startswith("k") else "comparison"
        dec = sky.dec[i] + sky.pmdec[i] / 3.6e6 * years
        ra = sky.ra[i] + sky.pmra[i] / 3.6e6 / math.cos(math.radians(dec)) * years
        rows.append(f"{name},{role},{ra:.7f},{dec:.7f}")
    write_text(path, "\n".join(rows) + "\n")


def _truth(exposures: list[_Exposure], sky: MadeUpSky, size: DemoSize) -> dict[str, Any]:
    planted: dict[str, list[str]] = {}
    frames: dict[str, Any] = {}
    flips = [e.file for e in exposures if e.role == "light" and e.flipped]
    for exposure in exposures:
        for name in exposure.planted:
            planted.setdefault(name, []).append(exposure.file)
        if exposure.role == "light":
            pointing = _pointing(exposure)
            frames[exposure.file] = {
                "fwhm_px": exposure.fwhm_px, "transparency": exposure.transparency,
                "ra": pointing.ra_deg, "dec": pointing.dec_deg, "rotation_deg": pointing.rotation_deg,
            }  # fmt: skip
    planted["flip"] = flips
    planted["short_dark"] = [e.file for e in exposures if e.band == "B" and e.role == "light"]
    planted["focus"] = [
        e.file for e in exposures if e.role == "light" and e.fwhm_px > 3.6 and e.band == "V" and not e.trail[0]
    ]
    binary = EclipsingBinary(_ECLIPSE_BJD)
    target = sky.index(TARGET_NAME)
    return {
        "name": DEMO_NAME, "seed": SEED, "size": asdict(size), "site": list(SITE),
        "target": {"name": TARGET_NAME, "ra": float(sky.ra[target]), "dec": float(sky.dec[target])},
        "variable_comparison": PULSATOR_NAME,
        "eclipse": {
            "mid_bjd_tdb": _ECLIPSE_BJD, "depth_mag": binary.depth_mag,
            "duration_d": 2 * binary.half_length_d,
        },
        "cast": {
            name: {"ra": float(sky.ra[i]), "dec": float(sky.dec[i]), "V": float(sky.V[i])}
            for i, name in enumerate(sky.names)
            if name
        },
        "minor_body": [
            {"time_utc": moment.isoformat(), "ra": ra, "dec": dec, "V": magnitude}
            for moment in (_clock(19, 0), _clock(22, 0), _clock(1, 0))
            for ra, dec, magnitude in (_minor_body(moment),)
        ],
        "plate": {
            "scale_arcsec_px": size.scale_arcsec_px, "rotation_deg": 12.4,
        },
        "planted": planted, "frames": frames, "raw": "raw", "catalogue": "catalogue.csv", "stars": "stars.csv",
    }  # fmt: skip
