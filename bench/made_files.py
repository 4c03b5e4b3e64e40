"""Files that tests and the storm write: an uncompressed DNG, TIFFs, cubes, files with several images."""

from pathlib import Path

import fitsio
import numpy as np
import tifffile


def write_dng(path: Path, mosaic: np.ndarray, *, black: int = 256, white: int = 16383, zone: str = "+00:00") -> str:
    """Write an uncompressed DNG of a made-up camera: 30 s, ISO 800, RGGB."""
    path.parent.mkdir(parents=True, exist_ok=True)
    ascii_type, byte, short, long, rational, srational = 2, 1, 3, 4, 5, 10
    neutral = (1, 1, 1, 1, 1, 1)
    identity = (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1)
    tags = [
        (271, ascii_type, 0, "Kvist", True), (272, ascii_type, 0, "Kvist R24", True),
        (33421, short, 2, (2, 2), True), (33422, byte, 4, (0, 1, 1, 2), True),
        (33434, rational, 1, (30, 1), True), (34855, short, 1, 800, True),
        (36867, ascii_type, 0, "2027:02:11 21:15:30", True), (36881, ascii_type, 0, zone, True),
        (50706, byte, 4, (1, 4, 0, 0), True), (50707, byte, 4, (1, 1, 0, 0), True),
        (50708, ascii_type, 0, "Kvist R24", True), (50714, short, 1, black, True), (50717, long, 1, white, True),
        (50721, srational, 9, identity, True), (50728, rational, 3, neutral, True), (50778, short, 1, 21, True),
    ]  # fmt: skip
    if not zone:
        tags = [tag for tag in tags if tag[0] != 36881]
    tifffile.imwrite(
        str(path), mosaic.astype(np.uint16), photometric=32803, compression=None, extratags=tags, metadata=None
    )  # fmt: skip
    return str(path)


def write_cube(path: Path, planes: np.ndarray, **cards: object) -> str:
    """Write a FITS cube ``planes[plane, y, x]``."""
    path.parent.mkdir(parents=True, exist_ok=True)
    header = [{"name": k.replace("_", "-"), "value": v} for k, v in cards.items()]
    fitsio.write(str(path), planes, header=header, clobber=True)
    return str(path)


def write_extensions(path: Path, images: list[np.ndarray], headers: list[dict]) -> str:
    """Write a FITS file with an empty primary and one image an extension."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with fitsio.FITS(str(path), "rw", clobber=True) as handle:
        handle.write(None)
        for image, cards in zip(images, headers):
            handle.write(image, header=[{"name": k.replace("_", "-"), "value": v} for k, v in cards.items()])
    return str(path)
