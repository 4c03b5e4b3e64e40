"""Pictures for the eye of exposures, stacks and colour pictures: PNG with a caption, TIFF as stretched."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import F32Array, counted, place_words
from ulvar.flows.common import KEPT, Outcome
from ulvar.flows.warping import laid_open
from ulvar.frames import (
    FrameError,
    difference_noise,
    header_of,
    is_fits_path,
    read_frame,
    read_plane,
    robust_spread,
    scan_file,
    write_picture,
    write_png,
)
from ulvar.frames.lettering import captioned
from ulvar.stacking import levels_for, stretched, stretched_grey
from ulvar.stars import estimate_background

# A sky whose darkest parts lie within so many deviations is even.
_EVEN = 6.0


@dataclass(frozen=True)
class PictureOptions:
    """How a picture is shown.

    Attributes
    ----------
    levels : (float, float), optional
        Black and white [ADU]; by default from sky and noise.
    caption : bool
        Whether a PNG says what it shows.
    saturation : float
        Of a colour picture.
    """

    levels: tuple[float, float] | None = None
    caption: bool = True
    saturation: float = 1.0


def write_view(path: str, output: Path, options: PictureOptions, *, replace: bool = False) -> Outcome:
    """Write a picture of a file as the eye sees it.

    Parameters
    ----------
    path : str
        A grey exposure or stack, a mosaic of colours (shown grey), or a colour picture of three planes.
    output : Path
        ``.png``: 8 bits, with a caption. ``.tif``: 16 bits.
    options : PictureOptions
    replace : bool
    """
    if output.exists() and not replace:
        return Outcome(path, False, f"{output.name} exists; it is kept", code=KEPT)
    try:
        header = header_of(path) if is_fits_path(path) else {}
        shown, black, white = _shown(path, header, options)
    except FrameError as error:
        return Outcome(path, False, error.reason)
    try:
        output.parent.mkdir(parents=True, exist_ok=True)
        if output.suffix.lower() == ".png":
            picture = np.rint(shown * 255).astype(np.uint8)
            lines = caption_of(path, header, black, white) if options.caption else []
            write_png(output, captioned(picture, lines))
        else:
            told = {"header": {k: header[k] for k in ("OBJECT", "FILTER", "DATE-OBS") if header.get(k)}}
            write_picture(output, np.rint(shown * 65535).astype(np.uint16), told, replace=replace)
    except OSError as error:
        return Outcome(path, False, place_words(error))
    return Outcome(path, True, "", str(output), values={"black_adu": black, "white_adu": white})


def is_colour(path: str) -> bool:
    """Whether a file holds a colour picture: three planes that are red, green and blue.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    if not is_fits_path(path):
        return False
    header = header_of(path)
    return header.get("NAXIS") == 3 and header.get("NAXIS3") == 3 and str(header.get("CTYPE3") or "") == "COLOUR"


def _shown(path: str, header: Mapping[str, Any], options: PictureOptions) -> tuple[F32Array, float, float]:
    """Return values 0 to 1, shape (height, width) or (3, height, width), and the levels of black and white [ADU]."""
    if is_colour(path):
        planes = np.stack([read_plane(f"{path}[0,{k}]") for k in range(3)])
        levels = np.array([estimate_background(plane).sky_adu for plane in planes], dtype=np.float32)
        over = planes - levels[:, None, None]
        noise = float(estimate_background(over.mean(axis=0)).noise_adu)
        black, _, white = levels_for(over.mean(axis=0), noise)
        return stretched(over, noise, saturation=options.saturation), black, white
    data = laid_open(read_frame(scan_file(path)), mix=True).data
    if not np.isfinite(data).any():
        raise FrameError(path, "none of its pixels has a value")
    if options.levels is not None:
        black, white = options.levels
        # As soft as the levels that would have been chosen: the sky a fifteenth of the way up.
        return stretched_grey(data, (black, (white - black) / 30, white)), black, white
    sky = estimate_background(data)
    sky_adu, noise = float(sky.sky_adu), float(sky.noise_adu)
    if not math.isfinite(sky_adu):
        # Too small, or too little of it has a value, for a sky to be told.
        sky_adu, noise = float(np.nanmedian(data)), float(robust_spread(data[np.isfinite(data)]))
    noise = max(noise, 1e-6)
    black, soft, white = levels_for(data - np.float32(sky_adu), noise)
    # Where the sky is uneven, as before flats, its darkest parts stay in sight.
    darkest = float(np.nanpercentile(data, 0.5)) - sky_adu
    if darkest < -_EVEN * difference_noise(data):
        black = darkest
        soft = max(soft, -black / 2)
        white = max(white, black + 10 * soft)
    return stretched_grey(data, (black + sky_adu, soft, white + sky_adu)), black + sky_adu, white + sky_adu


def caption_of(path: str, header: Mapping[str, Any], black: float, white: float) -> Sequence[str]:
    """Return lines that say what a picture shows: what, of how many exposures and when, and how it is shown."""
    count = header.get("NCOMBINE")
    name = [str(header["OBJECT"])] if header.get("OBJECT") else []
    name.append(f"stack of {counted(int(count), 'exposure')}" if count else Path(path).name)
    when = []
    total = header.get("EXPTOTAL") or header.get("EXPTIME")
    if isinstance(total, int | float):
        when.append(f"{total / 60:.0f} min in all" if count else f"{total:g} s")
    if header.get("FILTER"):
        when.append(f"filter {header['FILTER']}")
    begin, end = (str(header.get(key) or "")[:19].replace("T", " ") for key in ("DATE-BEG", "DATE-END"))
    if begin and end:
        when.append(f"{begin} to {end[11:] if end[:10] == begin[:10] else end} UTC")
    elif header.get("DATE-OBS"):
        when.append(f"{str(header['DATE-OBS'])[:19].replace('T', ' ')} UTC")
    how = f"asinh from {black:.1f} to {white:.1f} ADU" if black == black else ""
    return [", ".join(name), ", ".join(when), how]
