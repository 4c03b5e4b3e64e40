"""Header dialects: many programs' keywords to one set of facts.

Every fact keeps the keyword it came from. Nothing is guessed where a wrong guess would be unsafe.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from ulvar.frames.facts import ExposureFacts, Role, pixel_scale
from ulvar.frames.sexagesimal import parse_angle
from ulvar.frames.times import later, parse_time, time_from_jd, time_from_mjd, utc_from_scale

_ROLE_KEYS = ("IMAGETYP", "IMAGETYPE", "FRAMETYP", "FRAME", "OBSTYPE", "OBSTYP", "PICTTYPE")
_KEYS: dict[str, tuple[str, ...]] = {
    "exposure_s": ("EXPTIME", "EXPOSURE", "EXP_TIME", "EXPOSTIM", "XPOSURE"),
    "gain": ("GAIN", "GAINSET"),
    "offset": ("OFFSET", "BLKLEVEL", "BLACKLEV"),
    "temperature_c": ("CCD-TEMP", "CCDTEMP", "DET-TEMP", "SENSTEMP", "CHIPTEMP"),
    "set_temperature_c": ("SET-TEMP", "SETTEMP", "CCDTSET"),
    "gain_e_per_adu": ("EGAIN", "CCDGAIN", "EPERADU", "E_ADU"),
    "read_noise_e": ("RDNOISE", "READNOIS", "RON", "RDNOIS", "ENOISE"),
    "saturation_adu": ("SATURATE", "SATLEVEL", "SATURAT"),
    "nonlinear_adu": ("MAXLIN", "LINLIMIT", "NONLIN"),
    "aperture_mm": ("APTDIA", "APERTUR"),
    "focal_length_mm": ("FOCALLEN", "FOCAL"),
    "pixel_size_um": ("XPIXSZ", "PIXSIZE1", "PIXSIZE"),
    "site_height_m": ("SITEELEV", "SITEALT", "ALT-OBS", "OBSGEO-H", "HEIGHT"),
    "pedestal_adu": ("PEDESTAL",),
    "black_adu": ("BLACKADU",),
    "noise_correlation": ("NOISECOR",),
    "flat_noise": ("FLATNOIS",),
}
_TEXT_KEYS: dict[str, tuple[str, ...]] = {
    "object": ("OBJECT", "OBJNAME", "TARGET"),
    "filter": ("FILTER", "FILTNAM", "FILTERID", "FILTER1"),
    "camera": ("INSTRUME", "CAMERA", "DETNAM", "DETECTOR"),
    "telescope": ("TELESCOP",),
    "readout_mode": ("READOUTM", "READMODE", "RDMODE"),
    "software": ("SWCREATE", "CREATOR", "PROGRAM", "SOFTWARE"),
    "driver": ("DRIVER", "DRVVER", "DRIVERV", "CAMDRV"),
    "overscan": ("BIASSEC",),
    "trim": ("TRIMSEC",),
}
_ANGLE_KEYS: dict[str, tuple[tuple[str, ...], bool]] = {
    "ra_deg": (("OBJCTRA", "RA", "RA_OBJ", "TELRA", "RA-TEL", "OBJRA"), True),
    "dec_deg": (("OBJCTDEC", "DEC", "DEC_OBJ", "TELDEC", "DEC-TEL", "OBJDEC"), False),
    "site_latitude_deg": (("SITELAT", "LAT-OBS", "OBSGEO-B", "LATITUDE", "OBSLAT"), False),
    "site_longitude_deg": (("SITELONG", "LONG-OBS", "OBSGEO-L", "LONGITUD", "OBSLONG"), False),
}

_EMPTY_FILTERS = {"", "none", "null", "no filter", "n/a", "empty", "open", "-"}


def role_from_words(text: str) -> tuple[Role, bool] | None:
    """Return (role, whether a master) named by `text`, or None.

    Works on header values and on path parts alike: ``Dark Flat``, ``flatdark``, ``master_bias``,
    ``LIGHTS``, ``zero``. Dark flat is looked for before dark and flat.
    """
    # Words are split at anything that is not a letter, and at a change from lower to upper case.
    spaced = re.sub(r"([a-z])([A-Z])", r"\1 \2", text)
    words = [word for word in re.split(r"[^A-Za-z]+", spaced.lower()) if word]
    joined = " ".join(words)
    master = any(word.startswith(("master", "superbias", "superdark", "superflat")) for word in words)
    stripped = [re.sub(r"^(master|super)", "", word) for word in words]

    def has(*names: str) -> bool:
        return any(word in names for word in stripped)

    dark_words = ("dark", "darks", "darkframe", "darkframes")
    flat_words = ("flat", "flats", "flatfield", "flatfields", "skyflat", "domeflat", "skyflats", "domeflats")
    if has("darkflat", "darkflats", "flatdark", "flatdarks") or re.search(
        r"\b(dark flats?|flat darks?|darks? for flats?|flat field darks?)\b", joined
    ):
        return Role.DARK_FLAT, master
    if has("bias", "biases", "zero", "zeros", "offset", "offsets", "biasframe"):
        return Role.BIAS, master
    if has(*dark_words):
        return Role.DARK, master
    if has(*flat_words):
        return Role.FLAT, master
    if has("light", "lights", "lightframe", "object", "science", "target", "sci"):
        return Role.LIGHT, master
    return None


def role_from_path(path: str) -> tuple[Role, bool] | None:
    """Return the role named by the file name, else by the nearest folder that names one."""
    place = Path(path)
    parts = [place.name, *(parent.name for parent in list(place.parents)[:3])]
    for part in parts:
        found = role_from_words(part)
        if found is not None:
            return found
    return None


class _Reader:
    """Takes facts out of a header and remembers which keyword gave each."""

    def __init__(self, header: Mapping[str, Any]) -> None:
        self._header = header
        self.origins: dict[str, str] = {}

    def value(self, key: str) -> Any:
        value = self._header.get(key)
        return value.strip() if isinstance(value, str) else value

    def first(self, name: str, keys: Iterable[str], convert: Callable[[Any], Any]) -> Any:
        for key in keys:
            value = self.value(key)
            if value is None or value == "":
                continue
            try:
                converted = convert(value)
            except (ValueError, TypeError, OverflowError):
                continue
            if converted is not None:
                self.origins[name] = f"header {key}"
                return converted
        return None


def _finite(value: Any) -> float | None:
    if isinstance(value, bool):
        return None
    number = float(value)
    return number if math.isfinite(number) else None


def _text(value: Any) -> str | None:
    return str(value).strip() or None


def _filter_name(value: Any) -> str | None:
    name = str(value).strip()
    return None if name.lower() in _EMPTY_FILTERS else name


def _angle(hours: bool) -> Callable[[Any], float | None]:
    def convert(value: Any) -> float | None:
        return parse_angle(value, hours=hours) if isinstance(value, str) else _finite(value)

    return convert


def _binning(value: Any) -> int | None:
    numbers = re.findall(r"\d+", str(value))
    return int(numbers[0]) if numbers and int(numbers[0]) > 0 else None


def _cfa(value: Any) -> str | None:
    letters = str(value).strip().upper()
    return letters if len(letters) == 4 and not set(letters) - set("RGBCMYE") else None


def _times(reader: _Reader, exposure_s: float | None) -> tuple[datetime | None, datetime | None]:
    """Return start and middle in UTC; dates in another time scale (TIMESYS) are carried over."""
    system = str(reader.value("TIMESYS") or "UTC")

    def moment(value: Any) -> datetime | None:
        read = parse_time(str(value))
        return None if read is None else utc_from_scale(read, system)

    def day_count(convert: Callable[[float], datetime]) -> Callable[[Any], datetime | None]:
        def moment_of(value: Any) -> datetime | None:
            number = _finite(value)
            return None if number is None else utc_from_scale(convert(number), system)

        return moment_of

    start = reader.first("start_utc", ("DATE-BEG", "DATE-OBS", "DATE_OBS"), moment)
    if start is None:
        day = reader.value("DATE-OBS")
        # These keywords are in universal time by their names.
        clock = reader.first("start_utc", ("TIME-OBS", "UTSTART", "UT", "UTC-OBS", "TIME-BEG"), _text)
        if isinstance(day, str) and clock is not None:
            start = parse_time(f"{day}T{clock}")
            if start is None:
                reader.origins.pop("start_utc", None)
    if start is None:
        start = reader.first("start_utc", ("MJD-BEG", "MJD-OBS", "MJD"), day_count(time_from_mjd))
    if start is None:
        start = reader.first("start_utc", ("JD", "JD-OBS"), day_count(time_from_jd))
    mid = reader.first("mid_utc", ("DATE-AVG", "DATE-MID"), moment)
    if mid is None and start is not None:
        mid = later(start, (exposure_s or 0.0) / 2)
        reader.origins["mid_utc"] = f"{reader.origins.get('start_utc', '')} + half the exposure"
    return start, mid


def _scale(reader: _Reader, focal_length_mm: float | None, pixel_size_um: float | None) -> float | None:
    scale = reader.first("scale_arcsec_px", ("SECPIX", "PIXSCALE", "SCALE", "SECPIX1"), _finite)
    if scale:
        return abs(float(scale))
    cd = [_number_or_none(reader.value(key)) for key in ("CD1_1", "CD1_2", "CD2_1", "CD2_2")]
    if cd[0] is not None and cd[3] is not None:
        determinant = cd[0] * cd[3] - (cd[1] or 0.0) * (cd[2] or 0.0)
        if determinant:
            reader.origins["scale_arcsec_px"] = "header CD matrix"
            return math.sqrt(abs(determinant)) * 3600
    cdelt = _number_or_none(reader.value("CDELT2"))
    if cdelt and str(reader.value("CTYPE1") or "").startswith("RA"):
        reader.origins["scale_arcsec_px"] = "header CDELT2"
        return abs(cdelt) * 3600
    scale = pixel_scale(focal_length_mm, pixel_size_um)
    if scale is not None:
        reader.origins["scale_arcsec_px"] = "focal length and pixel size"
    return scale


def _number_or_none(value: Any) -> float | None:
    try:
        return _finite(value)
    except (TypeError, ValueError):
        return None


def facts_from_header(header: Mapping[str, Any], path: str, **known: Any) -> ExposureFacts:
    """Return the facts that a FITS header and a path tell.

    Parameters
    ----------
    header : mapping
        Keyword to value, as read.
    path : str
        The file; its name and folders give the role when the header does not.
    **known
        Facts of the file itself (width, height, planes, bitpix, hdu, size_bytes, mtime_ns).

    Returns
    -------
    ExposureFacts
    """
    reader = _Reader(header)
    values: dict[str, Any] = {}
    for name, keys in _KEYS.items():
        values[name] = reader.first(name, keys, _finite)
    for name, keys in _TEXT_KEYS.items():
        convert = _filter_name if name == "filter" else _text
        values[name] = reader.first(name, keys, convert) or ""
    for name, (angle_keys, hours) in _ANGLE_KEYS.items():
        values[name] = reader.first(name, angle_keys, _angle(hours))
    if values["ra_deg"] is None or values["dec_deg"] is None:
        _pointing_from_wcs(reader, values)
    _keep_on_sky(reader, values)
    values["pedestal_adu"] = values["pedestal_adu"] or 0.0
    if values["noise_correlation"] is not None and not 0.1 <= values["noise_correlation"] <= 100:
        values["noise_correlation"] = None
    if values["flat_noise"] is not None and not 0 <= values["flat_noise"] < 1:
        values["flat_noise"] = None
    values["binning"] = reader.first("binning", ("XBINNING", "BINNING", "CCDSUM", "BINX", "CCDBIN1"), _binning) or 1
    values["scale_arcsec_px"] = _scale(reader, values["focal_length_mm"], values["pixel_size_um"])
    values["count"] = reader.first("count", ("NCOMBINE", "NFRAMES"), lambda v: int(v) if int(v) > 0 else None) or 1
    values["start_utc"], values["mid_utc"] = _times(reader, values["exposure_s"])
    values["cfa"] = reader.first("cfa", ("BAYERPAT", "CFAPAT", "COLORTYP"), _cfa) or ""

    named = None
    for key in _ROLE_KEYS:
        text = reader.value(key)
        if isinstance(text, str) and (named := role_from_words(text)):
            reader.origins["role"] = f"header {key}"
            break
    if named is None and (named := role_from_path(path)):
        reader.origins["role"] = "path"
    role, master = named or (Role.UNKNOWN, False)
    return ExposureFacts(path=path, role=role, is_master=master, origins=reader.origins, **{**values, **known})


def _keep_on_sky(reader: _Reader, values: dict[str, Any]) -> None:
    """Take a pointing that is nowhere on the sky for none."""
    ra, dec = values["ra_deg"], values["dec_deg"]
    if (ra is not None and abs(ra) > 360) or (dec is not None and abs(dec) > 90):
        for name in ("ra_deg", "dec_deg"):
            values[name] = None
            reader.origins.pop(name, None)


def _pointing_from_wcs(reader: _Reader, values: dict[str, Any]) -> None:
    if not str(reader.value("CTYPE1") or "").startswith("RA"):
        return
    ra, dec = _number_or_none(reader.value("CRVAL1")), _number_or_none(reader.value("CRVAL2"))
    if ra is not None and dec is not None:
        values["ra_deg"], values["dec_deg"] = ra, dec
        reader.origins["ra_deg"] = reader.origins["dec_deg"] = "header CRVAL"
