"""The demo night: Tarnholt, 2027-02-11, camera Kvist 6M, with every trouble planted and the truth beside it.

All of it is made up and seeded: the same size and seed give the same files.
"""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from datetime import timedelta
from pathlib import Path
from typing import Any

import fitsio
import numpy as np

from ulvar.engine import F64Array, JobContext, atomic_path, check_disk, write_text
from ulvar.simulation.camera import satellite_trail
from ulvar.simulation.demo_plan import (
    BODY_NAME,
    DEMO_NAME,
    ECLIPSE_BJD,
    EVENING,
    EXTINCTION,
    SEED,
    SITE,
    SKY_MAG,
    TRUTH_FILE,
    ZERO_POINT,
    DemoSize,
    PlannedExposure,
    airmass_of,
    at_clock,
    bjd_tdb,
    made_world,
    minor_body,
    planned_calibration,
    planned_lights,
    pointing_of,
)
from ulvar.simulation.eclipse import EclipsingBinary
from ulvar.simulation.optics import Psf
from ulvar.simulation.render import add_stars
from ulvar.simulation.sky import FIELD_DEC_DEG, FIELD_RA_DEG, PULSATOR_NAME, TARGET_NAME, MadeUpSky


def _light_electrons(exposure: PlannedExposure) -> F64Array:
    sky, _ = made_world(exposure.size)
    pointing = pointing_of(exposure)
    band, rng = exposure.band, np.random.default_rng([SEED, exposure.seed, 7])
    seconds = exposure.state.exposure_s
    airmass = airmass_of(exposure.mid)
    years = exposure.mid.year + 0.11 - 2016.0
    ra = sky.ra + sky.pmra / 3.6e6 / np.cos(np.radians(sky.dec)) * years
    dec = sky.dec + sky.pmdec / 3.6e6 * years
    magnitudes = getattr(sky, band)
    throughput = 10 ** (-0.4 * EXTINCTION[band] * (airmass - 1)) * exposure.transparency
    flux = 10 ** (-0.4 * (magnitudes - ZERO_POINT[band])) * seconds * throughput
    # A long exposure smears the eclipse; five moments of it are averaged.
    steps = [exposure.start + timedelta(seconds=seconds * (i + 0.5) / 5) for i in range(5)]
    binary = EclipsingBinary(ECLIPSE_BJD)
    flux[sky.index(TARGET_NAME)] *= float(np.mean(binary.flux(np.array([bjd_tdb(s) for s in steps]))))
    phase = (exposure.mid - EVENING).total_seconds() / 3600 / 1.9
    flux[sky.index(PULSATOR_NAME)] *= 10 ** (-0.4 * 0.017 * math.sin(2 * math.pi * phase))
    scintillation = 0.09 * 25 ** (-2 / 3) * airmass**1.75 * math.exp(-SITE[2] / 8000) / math.sqrt(2 * seconds)
    flux *= np.exp(rng.normal(0.0, 1.5 * scintillation, len(flux)))
    x, y = pointing.pixels(ra, dec)
    body_ra, body_dec, body_mag = minor_body(exposure.mid)
    bx, by = pointing.pixels(np.array([body_ra]), np.array([body_dec]))
    body_flux = 10 ** (-0.4 * (body_mag - ZERO_POINT[band])) * seconds * throughput
    size = exposure.size
    area = size.scale_arcsec_px**2
    glow = 10 ** (-0.4 * (SKY_MAG[band] - ZERO_POINT[band])) * area * seconds
    twilight = 1 + 1.4 * math.exp(-(exposure.mid - EVENING).total_seconds() / 900)
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


def _header(exposure: PlannedExposure) -> list[dict[str, Any]]:
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


def _render(task: tuple[str, PlannedExposure]) -> str:
    folder, exposure = task
    _, camera = made_world(exposure.size)
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
        Gets ``raw/`` with the exposures, ``catalogue.csv``, ``stars.csv``, ``bodies.csv`` and ``truth.json`` (written last).
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
    truth_path = folder / TRUTH_FILE
    if truth_path.exists():
        known: dict[str, Any] = json.loads(truth_path.read_text(encoding="utf-8"))
        if known.get("size") == asdict(wanted) and known.get("seed") == SEED and (folder / "bodies.csv").exists():
            return known
    rng = np.random.default_rng([SEED, 2])
    exposures = list(planned_lights(wanted, rng))
    ninth = [e for e in exposures if e.band == "V"][min(8, wanted.cycles * wanted.visual - 1)]
    exposures[exposures.index(ninth)] = _with_plant(ninth, "truncated")
    exposures += planned_calibration(wanted, rng)
    check_disk(folder, len(exposures) * wanted.width * wanted.height * 2)
    run = context or JobContext()
    tasks = [(str(folder / "raw"), exposure) for exposure in exposures]
    for _ in run.each(_render, tasks, "Making the demo night"):
        pass
    sky, _ = made_world(wanted)
    sky.write_catalogue(folder / "catalogue.csv", np.random.default_rng([SEED, 3]))
    _write_stars(folder / "stars.csv", sky)
    _write_bodies(folder / "bodies.csv")
    truth = _truth(exposures, sky, wanted)
    write_text(truth_path, json.dumps(truth, indent=1))
    return truth


def _with_plant(exposure: PlannedExposure, name: str) -> PlannedExposure:
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


def _write_bodies(path: Path) -> None:
    """Write where the minor body is, every half hour of the night, as published ephemerides do."""
    rows = ["name,ra,dec,time_utc"]
    for half_hours in range(-10, 16):
        when = at_clock(22, 0) + timedelta(minutes=30 * half_hours)
        ra, dec, _ = minor_body(when)
        rows.append(f"{BODY_NAME},{ra:.7f},{dec:.7f},{when:%Y-%m-%dT%H:%M:%S}")
    write_text(path, "\n".join(rows) + "\n")


def _truth(exposures: list[PlannedExposure], sky: MadeUpSky, size: DemoSize) -> dict[str, Any]:
    planted: dict[str, list[str]] = {}
    frames: dict[str, Any] = {}
    flips = [e.file for e in exposures if e.role == "light" and e.flipped]
    for exposure in exposures:
        for name in exposure.planted:
            planted.setdefault(name, []).append(exposure.file)
        if exposure.role == "light":
            pointing = pointing_of(exposure)
            frames[exposure.file] = {
                "fwhm_px": exposure.fwhm_px, "transparency": exposure.transparency,
                "ra": pointing.ra_deg, "dec": pointing.dec_deg, "rotation_deg": pointing.rotation_deg,
            }  # fmt: skip
    planted["flip"] = flips
    planted["short_dark"] = [e.file for e in exposures if e.band == "B" and e.role == "light"]
    planted["focus"] = [
        e.file for e in exposures if e.role == "light" and e.fwhm_px > 3.6 and e.band == "V" and not e.trail[0]
    ]
    binary = EclipsingBinary(ECLIPSE_BJD)
    target = sky.index(TARGET_NAME)
    return {
        "name": DEMO_NAME, "seed": SEED, "size": asdict(size), "site": list(SITE),
        "target": {"name": TARGET_NAME, "ra": float(sky.ra[target]), "dec": float(sky.dec[target])},
        "variable_comparison": PULSATOR_NAME,
        "eclipse": {
            "mid_bjd_tdb": ECLIPSE_BJD, "depth_mag": binary.depth_mag,
            "duration_d": 2 * binary.half_length_d,
        },
        "cast": {
            name: {"ra": float(sky.ra[i]), "dec": float(sky.dec[i]), "V": float(sky.V[i])}
            for i, name in enumerate(sky.names)
            if name
        },
        "minor_body": [
            {"time_utc": moment.isoformat(), "ra": ra, "dec": dec, "V": magnitude}
            for moment in (at_clock(19, 0), at_clock(22, 0), at_clock(1, 0))
            for ra, dec, magnitude in (minor_body(moment),)
        ],
        "plate": {
            "scale_arcsec_px": size.scale_arcsec_px, "rotation_deg": 12.4,
        },
        "planted": planted, "frames": frames, "raw": "raw", "catalogue": "catalogue.csv", "stars": "stars.csv",
        "bodies": "bodies.csv",
    }  # fmt: skip
