"""What is known about one exposure, and where each fact came from."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Any

from ulvar.frames.address import split_address
from ulvar.frames.discover import FITS_ENDINGS, RAW_ENDINGS, TIFF_ENDINGS
from ulvar.frames.sexagesimal import parse_angle
from ulvar.frames.times import later, parse_time

_ENDINGS = sorted((*FITS_ENDINGS, *TIFF_ENDINGS, *RAW_ENDINGS), key=len, reverse=True)


class Role(StrEnum):
    """What an exposure is for."""

    BIAS = "bias"
    DARK = "dark"
    DARK_FLAT = "dark_flat"
    FLAT = "flat"
    LIGHT = "light"
    UNKNOWN = "unknown"

    @property
    def plural(self) -> str:
        """The word shown to people, in the plural."""
        return {
            "bias": "Bias",
            "dark": "Darks",
            "dark_flat": "Dark flats",
            "flat": "Flats",
            "light": "Lights",
            "unknown": "Unsure",
        }[self.value]

    @property
    def word(self) -> str:
        """The word in a sentence, in the singular."""
        return self.value.replace("_", " ")

    def counted(self, count: int) -> str:
        """Return a count with the word for so many, in lower case."""
        one = self.plural.lower() if self is Role.UNKNOWN else self.word
        return f"{count} {one if count == 1 else self.plural.lower()}"


@dataclass(frozen=True)
class ExposureFacts:
    """Immutable facts of one exposure. None means unknown, never a guess in disguise.

    Attributes
    ----------
    path : str
        The file; for one image of several in a file its address, such as ``cube.fits[1,3]``.
    role : Role
    is_master : bool
        Whether the file says that it is already a combined frame.
    filter : str
        Empty when the frame has none.
    exposure_s : float or None
        Exposure time [s].
    gain, offset : float or None
        The camera's settings, in the camera's own units.
    temperature_c, set_temperature_c : float or None
        Measured and wanted sensor temperature [C].
    binning : int
    width, height : int
        Size [px].
    start_utc : datetime or None
        Shutter opening, UTC.
    mid_utc : datetime or None
        Middle of the exposure, UTC; with a rolling shutter that of the first row.
    clock_s : float
        What was added to the times of the header, by which the camera's clock or its driver is off [s].
    row_us : float
        From the beginning of one row to that of the next of a rolling shutter [us]; negative where the last row is read first.
    ra_deg, dec_deg : float or None
        Pointing [deg, ICRS].
    scale_arcsec_px : float or None
        Pixel scale [arcsec / px].
    site_latitude_deg, site_longitude_deg, site_height_m : float or None
        Site: latitude, longitude positive east [deg], height [m].
    aperture_mm, focal_length_mm : float or None
        Clear aperture and focal length of the telescope [mm].
    pixel_size_um : float or None
        Side of a pixel as it was read, binned ones together [um].
    saturation_adu : float or None
        Level at which pixels saturate [ADU].
    nonlinear_adu : float or None
        Level from which their response is no longer proportional to light [ADU].
    gain_e_per_adu, read_noise_e : float or None
        Conversion gain [e-/ADU] and read noise [e-].
    pedestal_adu : float
        Constant added to the data on purpose [ADU].
    noise_correlation : float or None
        Of resampled pictures: noise of areas over what that of their pixels, were they independent, would make.
    flat_noise : float or None
        Of calibrated exposures: noise of a pixel of the flat they were divided by, relative.
    driver : str
        Version of the camera's driver, as the header tells it.
    cfa : str
        Colours of a mosaic sensor's 2 x 2 cell, first row first (``RGGB``); empty for a mono sensor.
    black_adu : float or None
        The camera's own black level [ADU]; it is told, not subtracted.
    overscan, trim : str
        Regions that the header names, as ``[x1:x2,y1:y2]`` in FITS pixels: without light, and to be kept.
    session : str
        Observing session: the evening's date, or what the user's path pattern says.
    tags : mapping of str to str
        The user's own tags.
    origins : mapping of str to str
        Fact name to ``header KEYWORD``, ``path``, ``user`` or ``guessed``.
    """

    path: str
    role: Role = Role.UNKNOWN
    is_master: bool = False
    object: str = ""
    filter: str = ""
    exposure_s: float | None = None
    gain: float | None = None
    offset: float | None = None
    temperature_c: float | None = None
    set_temperature_c: float | None = None
    binning: int = 1
    width: int = 0
    height: int = 0
    planes: int = 1
    bitpix: int = 0
    start_utc: datetime | None = None
    mid_utc: datetime | None = None
    clock_s: float = 0.0
    row_us: float = 0.0
    ra_deg: float | None = None
    dec_deg: float | None = None
    scale_arcsec_px: float | None = None
    camera: str = ""
    telescope: str = ""
    readout_mode: str = ""
    software: str = ""
    aperture_mm: float | None = None
    focal_length_mm: float | None = None
    pixel_size_um: float | None = None
    site_latitude_deg: float | None = None
    site_longitude_deg: float | None = None
    site_height_m: float | None = None
    saturation_adu: float | None = None
    nonlinear_adu: float | None = None
    gain_e_per_adu: float | None = None
    read_noise_e: float | None = None
    pedestal_adu: float = 0.0
    noise_correlation: float | None = None
    flat_noise: float | None = None
    driver: str = ""
    cfa: str = ""
    black_adu: float | None = None
    overscan: str = ""
    trim: str = ""
    session: str = ""
    tags: Mapping[str, str] = field(default_factory=dict)
    count: int = 1
    hdu: int = 0
    size_bytes: int = 0
    mtime_ns: int = 0
    origins: Mapping[str, str] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """File name, with the place of the image where the file holds several."""
        return self.path.rpartition("/")[2]

    @property
    def stem(self) -> str:
        """File name without its endings; the place of the image, if any, is joined with hyphens."""
        place = split_address(self.path) if self.path.endswith("]") else None
        name = (place.file if place else self.path).rpartition("/")[2]
        lower = name.lower()
        for ending in _ENDINGS:
            if lower.endswith(ending):
                name = name[: -len(ending)]
                break
        if place is not None and place.hdu is not None:
            name = "-".join([name, *(str(n) for n in (place.hdu, place.plane) if n is not None)])
        return name

    @property
    def sensor_temperature_c(self) -> float | None:
        """Measured temperature, else the wanted one [C]."""
        return self.temperature_c if self.temperature_c is not None else self.set_temperature_c

    @property
    def site(self) -> tuple[float, float, float] | None:
        """(latitude deg, longitude east deg, height m), or None when latitude or longitude is unknown."""
        if self.site_latitude_deg is None or self.site_longitude_deg is None:
            return None
        return self.site_latitude_deg, self.site_longitude_deg, self.site_height_m or 0.0


def fact_names() -> list[str]:
    """Names that `with_user_facts` takes."""
    fixed = {"path", "origins", "size_bytes", "mtime_ns", "hdu", "width", "height", "planes", "bitpix", "tags"}
    return ["site", *(f.name for f in fields(ExposureFacts) if f.name not in fixed)]


_TEXT = {
    "object", "filter", "camera", "telescope", "readout_mode", "software", "driver", "overscan", "trim", "session",
}  # fmt: skip


def pixel_scale(focal_length_mm: float | None, pixel_size_um: float | None) -> float | None:
    """Return the pixel scale [arcsec / px] of a telescope and a sensor; None where one of them is unknown."""
    if not focal_length_mm or not pixel_size_um or focal_length_mm <= 0 or pixel_size_um <= 0:
        return None
    return 206.264806 * pixel_size_um / focal_length_mm


def _number(text: str) -> float:
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise ValueError("a number")
    return number


def _parse_fact(name: str, text: str) -> Any:
    if name in _TEXT:
        return text
    if name == "role":
        role = text.strip().lower().replace(" ", "_")
        if role not in list(Role):
            raise ValueError(f"one of {', '.join(each.word for each in Role)}")
        return Role(role)
    if name == "is_master":
        if text.lower() not in ("yes", "no", "true", "false", "1", "0"):
            raise ValueError("yes or no")
        return text.lower() in ("yes", "true", "1")
    if name in ("binning", "count"):
        if not text.strip().isdecimal() or int(text) < 1:
            raise ValueError("a whole number, 1 or more")
        return int(text)
    if name == "cfa":
        letters = text.strip().upper()
        if letters and (len(letters) != 4 or set(letters) - set("RGBCMYE")):
            raise ValueError("four letters such as RGGB")
        return letters
    if name in ("start_utc", "mid_utc"):
        moment = parse_time(text)
        if moment is None:
            raise ValueError("a time such as 2027-02-11T21:04:00")
        return moment
    if name in ("ra_deg", "dec_deg"):
        return parse_angle(text, hours=name == "ra_deg")
    number = _number(text)
    if name in ("focal_length_mm", "pixel_size_um", "scale_arcsec_px", "aperture_mm", "gain_e_per_adu") and number <= 0:
        raise ValueError("a number above 0")
    return number


def _middle(facts: ExposureFacts, changes: Mapping[str, Any]) -> datetime | None:
    """Return the middle of the exposure after its start or its length was corrected."""
    start = changes.get("start_utc", facts.start_utc)
    exposure = changes.get("exposure_s", facts.exposure_s)
    if start is None:
        return facts.mid_utc
    if exposure is not None:
        return later(start, exposure / 2)
    # Without a length the middle goes where the start goes.
    if facts.start_utc is not None and facts.mid_utc is not None:
        return facts.mid_utc + (start - facts.start_utc)
    return start


def _with_clock(facts: ExposureFacts, clock_s: float) -> ExposureFacts:
    """Return `facts` with times moved so that this in all was added to those of the header [s]."""
    more = timedelta(seconds=clock_s - facts.clock_s)
    moved = {name: when + more for name in ("start_utc", "mid_utc") if (when := getattr(facts, name)) is not None}
    return replace(facts, clock_s=clock_s, origins={**facts.origins, "clock_s": "user"}, **moved)


def with_user_facts(facts: ExposureFacts, given: Mapping[str, str]) -> ExposureFacts:
    """Return `facts` with the user's corrections, each marked with origin ``user``.

    Parameters
    ----------
    facts : ExposureFacts
    given : mapping of str to str
        Fact name to text; ``site`` takes ``LATITUDE,LONGITUDE,HEIGHT`` [deg, deg east, m]; ``clock_s`` moves the times of the
        header, not those that are given.

    Raises
    ------
    ValueError
        For an unknown name or a value that cannot be read; the message says which.
    """
    changes: dict[str, Any] = {}
    clock: float | None = None
    for name, text in given.items():
        if name not in fact_names():
            raise ValueError(f"unknown fact '{name}'; known are {', '.join(fact_names())}")
        try:
            if name == "site":
                parts = [_number(part) for part in text.split(",")]
                if len(parts) not in (2, 3):
                    raise ValueError("LATITUDE,LONGITUDE,HEIGHT")
                changes["site_latitude_deg"], changes["site_longitude_deg"] = parts[:2]
                changes["site_height_m"] = parts[2] if len(parts) == 3 else 0.0
            elif name == "clock_s":
                clock = _parse_fact(name, text)
            else:
                changes[name] = _parse_fact(name, text)
        except ValueError as error:
            raise ValueError(f"fact {name}={text} cannot be read: {error}") from None
    if clock is not None:
        facts = _with_clock(facts, clock)
    if not changes:
        return facts
    if ("exposure_s" in changes or "start_utc" in changes) and "mid_utc" not in changes:
        changes["mid_utc"] = _middle(facts, changes)
    if {"focal_length_mm", "pixel_size_um"} & set(changes) and "scale_arcsec_px" not in changes:
        scale = pixel_scale(
            changes.get("focal_length_mm", facts.focal_length_mm), changes.get("pixel_size_um", facts.pixel_size_um)
        )
        if scale is not None:
            changes["scale_arcsec_px"] = scale
    origins = {**facts.origins, **dict.fromkeys(changes, "user")}
    return replace(facts, origins=origins, **changes)
