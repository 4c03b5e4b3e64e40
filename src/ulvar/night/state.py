"""Whether what a station made still holds: fingerprints of all that it was made from, and nothing else."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from ulvar.flows import Series
from ulvar.frames import CLOCK_FACTS, GIVEN, KNOWN_OTHERWISE, ExposureFacts, Role, fingerprint, identity
from ulvar.night.settings import NightSettings
from ulvar.photometry import ListedStar

STATIONS = ("intake", "masters", "calibrate", "combine", "plate", "measure", "curve")
# From here on a station works on one series.
SERIES_STATIONS = STATIONS[3:]


class Asked(Protocol):
    """What is asked of a night."""

    @property
    def exposures(self) -> list[ExposureFacts]:
        """All readable exposures."""

    @property
    def settings(self) -> NightSettings:
        """The stations' settings."""

    @property
    def left_out(self) -> dict[str, str]:
        """Path to reason."""

    def series_of(self, key: str) -> Series | None:
        """Return a series by its key."""

    def stars(self, series: Series | None = None) -> list[ListedStar]:
        """Return the stars to measure."""


def run_key(station: str, series: Series | None) -> str:
    """Return under what name a run of a station is remembered."""
    return f"{station}@{series.key}" if series is not None and station in SERIES_STATIONS else station


def _lights(exposures: Sequence[ExposureFacts]) -> list[ExposureFacts]:
    return [f for f in exposures if f.role is Role.LIGHT and not f.is_master]


# Of Combine's settings, how stars are found is all that later stations take: not what holds for the stack alone.
_OF_STAR_FINDING = ("threshold", "smallest", "widest", "longest", "regions")


# Of Plate's, what is shown on the picture or measured on its own changes no solution.
_BESIDE_SOLVING = ("faintest_mag", "bodies", "body_radius_arcsec", "pair", "places")


def _used_of(name: str, section: Mapping[str, Any], station: str) -> Mapping[str, Any]:
    """Return the settings of a station that another one, or it itself, takes."""
    if name == "combine" and station != "combine":
        return {key: section[key] for key in _OF_STAR_FINDING}
    if name == "measure":
        # Nights from before there was this choice are measured as they were.
        return {key: value for key, value in section.items() if key != "bodies" or value}
    if name == "plate":
        return {key: value for key, value in section.items() if key not in _BESIDE_SOLVING}
    return section


def input_stamp(night: Asked, station: str, series: Series | None = None) -> str:
    """Return a fingerprint of all that a station's result depends on.

    Masters depend on the lights by what they ask for only, a series on its own exposures. What leaving an exposure
    out takes from a result counts where the result holds exposures together: in masters, stacks and curves.
    """
    upto = STATIONS.index(station)
    settings = night.settings.model_dump(mode="json")
    # These come into what is known of exposures.
    sorting = {key: value for key, value in settings["intake"].items() if key not in CLOCK_FACTS}
    timed = station in ("intake", "combine", "measure", "curve")
    # From calibrating on errors and noise hang on gain and read noise that were measured.
    origins = KNOWN_OTHERWISE if upto >= 2 else GIVEN
    exposures = night.exposures
    members = set(series.files) if series is not None else set()
    parts: list[Any] = [
        sorting, [_used_of(name, settings[name], station) for name in STATIONS[1 : upto + 1]]
    ]  # fmt: skip
    lights = _lights(exposures)
    if station == "intake":
        return fingerprint(*parts, [identity(f, origins, timed=timed) for f in exposures])
    paths = {f.path for f in lights}
    # What masters are made of counts for whatever is calibrated with them.
    calibration = [f for f in exposures if f.path not in paths]
    out = set(night.left_out)
    parts += [[identity(f, origins) for f in calibration], sorted(out & {f.path for f in calibration})]
    if station == "masters":
        asked = {(f.filter, f.exposure_s, f.gain, f.offset, f.binning, f.width, f.height, f.sensor_temperature_c) for f in lights}  # fmt: skip
        return fingerprint(*parts, sorted(map(repr, asked)))
    if station in SERIES_STATIONS:
        lights = [f for f in lights if f.path in members]
    parts.append([identity(f, origins, timed=timed) for f in lights])
    if station in ("combine", "curve"):
        parts.append(sorted({f.path for f in lights} & out))
    if upto >= STATIONS.index("measure"):
        parts.append([vars(star) for star in night.stars(series)])
        if settings["measure"]["bodies"]:
            parts.append(settings["plate"]["bodies"])
            way = {name: settings["combine"][name] for name in ("body_marks", "body_rate", "body_angle")}
            # Nights from before marks were looked at stay as they are.
            parts += [way] if way["body_marks"] else []
    return fingerprint(*parts)


def back_again(night: Asked, station: str, series: Series | None, entry: Mapping[str, Any]) -> bool:
    """Whether a light that was left out when a station ran, so that nothing was made of it, is in again."""
    if station not in ("calibrate", "plate", "measure"):
        return False
    back = set(entry.get("out", ())) - set(night.left_out)
    if series is not None and station in SERIES_STATIONS:
        return bool(back & set(series.files))
    return bool(back & {f.path for f in _lights(night.exposures)})
