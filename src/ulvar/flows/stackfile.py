"""Writing a stack: pixels, maps, and what its header says of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import F64Array, counted
from ulvar.flows.align import Aligned
from ulvar.flows.calibrate import OF_THE_RAW_FRAME
from ulvar.flows.lights import calibration_history
from ulvar.flows.starfind import Scored
from ulvar.flows.wcsfile import WCS_KEYS, wcs_of
from ulvar.frames import (
    ExposureFacts,
    carried_cards,
    header_of,
    is_fits_path,
    is_mosaic,
    is_tiff_name,
    write_fits,
    write_tiff,
)
from ulvar.frames.times import later
from ulvar.stacking import Frame2D, Stacked

if TYPE_CHECKING:
    from ulvar.flows.stack import StackOptions

# Where a picture lies on the sky, beside `WCS_KEYS`.
PLACES = (
    "WCSAXES", "CTYPE1", "CTYPE2", "CUNIT1", "CUNIT2", "CRVAL1", "CRVAL2", "CRPIX1", "CRPIX2", "CD1_1", "CD1_2", "CD2_1", "CD2_2",
)  # fmt: skip
# What tells a mosaic from a grey picture.
COLOUR_CARDS = ("BAYERPAT", "CFAPAT", "COLORTYP", "XBAYROFF", "YBAYROFF", "ROWORDER")
_TIMES = (
    "MJD-OBS", "JD", "JD-OBS", "JD_UTC", "JD-UTC", "MJD", "DATE-AVG", "DATE-END", "DATE-BEG", "MJD-AVG", "MJD-BEG", "MJD-END",
    "TIME-OBS", "TIME-END", "UT", "UTC", "UTSTART", "UTEND", "LST", "ST", "HJD", "BJD", "AIRMASS", "HA", "OBJCTHA", "OBJCTALT",
    "OBJCTAZ", "CENTALT", "CENTAZ", "ALTITUDE", "AZIMUTH", "SEQNUM", "FRAMENUM",
)  # fmt: skip


@dataclass(frozen=True)
class Told:
    """What is told of everything that is made of a set of exposures: the stack, the proper coadd, the reconstruction.

    Attributes
    ----------
    reference : Scored
    kept : sequence of Aligned
    weights : float64 array, shape (exposures,)
    placed : list of (str, value, str)
        Where it lies on the sky.
    settings : StackOptions
    stamp : str
        Fingerprint of inputs and settings.
    gain_share : float
        The gain of mixed colours, or of a colour, over that of the sensor; 1 where all pixels are of a kind.
    """

    reference: Scored
    kept: Sequence[Aligned]
    weights: F64Array
    placed: list[tuple[str, Any, str]]
    settings: StackOptions
    stamp: str
    gain_share: float = 1.0

    @property
    def mixed(self) -> bool:
        """Whether the colours of a mosaic are mixed, or one is taken alone."""
        return is_mixed(self.reference, self.settings)

    def cards(self) -> list[tuple[str, Any, str]]:
        """Return what a mean of the exposures tells of itself, its place on the sky included."""
        # The mean of exposures counts fewer electrons per ADU of noise: gain for the error model of the stack, and the
        # read noise that in its electrons is the mean's.
        effective = float(self.weights.sum() ** 2 / (self.weights**2).sum())
        facts, plane = self.reference.facts, self.settings.plane
        gain, read_noise = facts.gain_e_per_adu, facts.read_noise_e
        if gain is not None:
            gain *= self.gain_share * effective
        if read_noise is not None:
            read_noise *= _read_share(self.settings) * math.sqrt(effective)
        return [
            ("NCOMBINE", len(self.kept), "exposures combined"),
            ("EXPTOTAL", float(sum(a.scored.facts.exposure_s or 0.0 for a in self.kept)), "[s] exposure in all"),
            ("EGAIN", gain, "[e-/adu] of the mean"),
            # Of the exposures, which saw the sky through different pixels.
            ("FLATNOIS", None, ""),
            ("RDNOISE", read_noise, "[e-] of the mean"),
            *([] if plane is None else [("FILTER", plane.colour, "colour of the sensor")]),
            ("RECIPEID", self.stamp, "fingerprint of inputs and settings"),
            ("BUNIT", "adu", ""),
            *time_cards([a.scored.facts for a in self.kept], self.weights),
            *self.placed,
        ]

    def header(self, cards: Sequence[tuple[str, Any, str]]) -> dict[str, Any]:
        """Return how a header goes on from the reference's, as `write_fits` takes it."""
        return carried_over(self.reference, cards, self.placed, self.mixed)


def write_stack(
    output: Path, stacked: Stacked, told: Told, *, replace: bool, name: str, noise_adu: float, correlation: float,
    more: Sequence[str] = (),
) -> None:  # fmt: skip
    """Write a stack: FITS with its maps, or TIFF.

    Parameters
    ----------
    noise_adu : float
        Of the sky, measured.
    correlation : float
        Noise of areas over that of pixels, were they independent.
    more : sequence of str
        Further lines of its history.
    """
    settings, plane = told.settings, told.settings.plane
    cards = [
        *told.cards(), ("SKYNOISE", _known(noise_adu), "[adu] noise of the sky, measured"),
        ("NOISECOR", round(correlation, 4), "noise of areas over that of pixels"),
    ]  # fmt: skip
    history = [
        f"stack of {counted(len(told.kept), 'exposure')}{f' of the series {name}' if name else ''} on {Path(told.reference.facts.path).name}",
        f"reject {stacked.rejection.method.value} {stacked.rejection.low:g} {stacked.rejection.high:g}, "
        f"normalise {settings.normalise.value}, weights {settings.weighting.value}",
    ]
    if plane is not None:
        history.append(f"the colour {plane.colour} of the Bayer (CFA) pattern, {plane.method.value}")
    elif told.mixed:
        history.append("colours of the Bayer (CFA) pattern brought to the scale of green and mixed")
    history += [*more, *calibration_history([a.scored.calibration for a in told.kept])]
    said = {"history": history, "replace": replace, **told.header(cards)}
    if is_tiff_name(output.name):
        write_tiff(output, stacked.data, depth=settings.depth, **said)
    else:
        write_fits(output, stacked.data, maps=stack_maps(stacked) if settings.maps else None, **said)


def _read_share(settings: StackOptions) -> float:
    """Return what read noise is multiplied with: fewer pixels were read for a colour, and for one of smaller pixels."""
    return (1.0 if settings.plane is None else math.sqrt(settings.plane.share)) / settings.grid.scale


def carried_over(
    reference: Scored, cards: Sequence[tuple[str, Any, str]], placed: Sequence[tuple[str, Any, str]], mixed: bool
) -> dict[str, Any]:
    """Return how the header of what is made of many exposures goes on from the reference's, as `write_fits` takes it.

    Parameters
    ----------
    reference : Scored
    cards : sequence of (str, value, str)
        Of the product itself.
    placed : sequence of (str, value, str)
        Those of them that tell where it lies on the sky.
    mixed : bool
        Whether the colours of a mosaic were mixed.
    """
    # What the reference alone says of its time is not true of the product.
    raw = () if reference.calibration is None else OF_THE_RAW_FRAME
    dropped = {"SATURATE", *raw, *_TIMES, *(COLOUR_CARDS if mixed else ()), *(WCS_KEYS if len(placed) > 2 else ())}
    like, carried = carried_cards(reference.facts, {name for name, _, _ in cards} | dropped)
    return {"like": like, "cards": [*carried, *cards], "drop": dropped}


def is_mixed(reference: Scored, settings: StackOptions) -> bool:
    """Whether the colours of a mosaic are mixed in a stack: they are where pixels are resampled."""
    return is_mosaic(reference.facts.cfa) and settings.align != "none"


def stack_maps(stacked: Stacked) -> dict[str, np.ndarray]:
    """Return what happened at each pixel of a stack, by the name of its extension."""
    maps = {"COUNT MAP": stacked.kept}
    if stacked.maps is not None:
        maps |= {"REJECTED LOW": stacked.maps.rejected_low, "REJECTED HIGH": stacked.maps.rejected_high}
        maps["WEIGHT MAP"] = stacked.maps.weight
    return {**maps, "NOISE MAP": stacked.noise}


def sky_cards(reference: Scored, solution: Wcs | None, grid: Frame2D) -> list[tuple[str, Any, str]]:
    """Return where the stack lies on the sky: the reference's solution, carried to the corner of the stack."""
    sky = solution or wcs_of(reference.facts.path)
    if sky is not None:
        return sky.moved(grid.way.matrix).cards((grid.height, grid.width))
    header = header_of(reference.facts.path) if is_fits_path(reference.facts.path) else {}
    if not grid.upright:
        # What a projection of another kind says is not true of turned pixels.
        return [(name, None, "") for name in (*WCS_KEYS, *PLACES) if name in header]
    if "CRPIX1" in header and "CRPIX2" in header:
        # A projection of another kind is carried as it is.
        return [("CRPIX1", float(header["CRPIX1"]) - grid.x0, ""), ("CRPIX2", float(header["CRPIX2"]) - grid.y0, "")]
    return []


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def time_cards(exposures: Sequence[ExposureFacts], weights: np.ndarray) -> list[tuple[str, str | float | None, str]]:
    """Return when the stack begins, ends, and lies on average by its weights (FITS standard 4.0, section 9)."""
    timed = [(f, w) for f, w in zip(exposures, weights) if f.start_utc is not None and f.mid_utc is not None]
    if not timed:
        return []
    begin = min(f.start_utc for f, _ in timed if f.start_utc)
    end = max(later(f.start_utc, f.exposure_s or 0.0) or f.start_utc for f, _ in timed if f.start_utc)
    total = sum(w for _, w in timed) or 1.0
    middle = begin + sum((w / total * (f.mid_utc - begin) for f, w in timed if f.mid_utc), timedelta())
    stamps = {
        name: f"{moment:%Y-%m-%dT%H:%M:%S.%f}"[:-3] for name, moment in (("beg", begin), ("end", end), ("avg", middle))
    }
    return [
        ("DATE-OBS", stamps["beg"], "start of the first exposure, UTC"),
        ("DATE-BEG", stamps["beg"], "start of the first exposure, UTC"),
        ("DATE-END", stamps["end"], "end of the last exposure, UTC"),
        ("DATE-AVG", stamps["avg"], "weighted middle of the exposures, UTC"),
        ("TELAPSE", (end - begin).total_seconds(), "[s] from the first start to the last end"),
    ]
