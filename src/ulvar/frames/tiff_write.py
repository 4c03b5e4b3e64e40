"""Pictures out, rows from the top: TIFF with what the header of a FITS file would say, and PNG."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

from ulvar.engine import F32Array, atomic_path
from ulvar.frames.fits_write import header_for
from ulvar.frames.tiff import SOFTWARE

# Values that are whole numbers go from 1 on; 0 is a pixel without data.
_TOP = 65535


def write_tiff(
    path: Path,
    data: F32Array,
    *,
    depth: int = 16,
    like: str | None = None,
    cards: Mapping[str, Any] | Iterable[tuple[str, Any, str]] = (),
    history: Sequence[str] = (),
    drop: Iterable[str] = (),
    replace: bool = False,
) -> None:
    """Write a picture as a grey TIFF that `ulvar.frames` reads back as it was.

    Parameters
    ----------
    path : Path
    data : float32 array, shape (height, width)
        First row at the bottom, as in FITS; NaN where there is no data.
    depth : int
        16: values from the least to the greatest are spread over 1 to 65535, and 0 is no data. 32: floating point as
        they are, the least value where there is no data.
    like, cards, history, drop, replace
        As `ulvar.frames.write_fits`; they stand as JSON in the tag ImageDescription.

    Raises
    ------
    OutputExists
        If `path` exists and `replace` is false.
    """
    seen = np.isfinite(data)
    low = float(data[seen].min()) if seen.any() else 0.0
    high = float(data[seen].max()) if seen.any() else 0.0
    records = header_for(like, cards, history, drop).records()
    header = {r["name"]: r["value"] for r in records if r["name"] not in ("COMMENT", "HISTORY", "CONTINUE", None)}
    told: dict[str, Any] = {"header": header, "history": [r["value"] for r in records if r["name"] == "HISTORY"]}
    if depth == 16:
        scale = (high - low) / (_TOP - 1) or 1.0
        values = np.where(seen, (data - np.float32(low)) / np.float32(scale), 0.0)
        picture: np.ndarray = np.where(seen, np.rint(values) + 1, 0).clip(0, _TOP).astype(np.uint16)
        told |= {"scale": scale, "zero": low - scale, "blank": 0}
    else:
        picture = np.where(seen, data, np.float32(low)).astype(np.float32)
        if not seen.all():
            told["blank"] = low
    write_picture(path, picture, told, replace=replace)


def write_picture(path: Path, picture: np.ndarray, told: Mapping[str, Any], *, replace: bool = False) -> None:
    """Write a picture as it is to be seen, with what is told of it.

    Parameters
    ----------
    path : Path
    picture : array, shape (height, width) or (3, height, width)
        First row at the bottom; three planes are red, green and blue.
    told : mapping
        ``header``: keyword to value. ``scale`` and ``zero``: a pixel's value in ADU is its number times the one plus the
        other. ``blank``: the number that is no data.
    replace : bool

    Raises
    ------
    OutputExists
        If `path` exists and `replace` is false.
    """
    # TIFF rows run downwards from the top; FITS rows upwards from the bottom.
    upright = picture[..., ::-1, :]
    grey = picture.ndim == 2
    with atomic_path(path, replace=replace) as temporary:
        tifffile.imwrite(
            temporary, upright if grey else np.ascontiguousarray(np.moveaxis(upright, 0, -1)), metadata=None,
            photometric="minisblack" if grey else "rgb", software=SOFTWARE, description=json.dumps(told, default=str),
        )  # fmt: skip


def write_png(path: Path, picture: np.ndarray) -> None:
    """Write a picture for the eye; one that is there is replaced.

    Parameters
    ----------
    path : Path
    picture : uint8 array, shape (height, width) or (3, height, width)
        As `write_picture`.
    """
    upright = picture[..., ::-1, :]
    # The encoder takes blue first.
    done, encoded = cv2.imencode(".png", upright if picture.ndim == 2 else np.moveaxis(upright[::-1], 0, -1).copy())
    assert done
    with atomic_path(path) as temporary:
        temporary.write_bytes(encoded.tobytes())
