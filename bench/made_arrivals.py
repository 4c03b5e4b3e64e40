"""Made-up exposures of one field that arrive one after the other."""

from pathlib import Path

import numpy as np

from ulvar.frames import write_fits
from ulvar.simulation import Psf, add_stars

# Of an exposure [px, ADU].
WIDTH, HEIGHT, SKY, NOISE = 260, 200, 150.0, 5.0


class Sky:
    """Exposures of one field, each moved a little."""

    def __init__(self, folder: Path, seed: int = 1) -> None:
        self.rng = np.random.default_rng(seed)
        self.folder = folder
        self.x, self.y = self.rng.uniform(-10, WIDTH + 10, 60), self.rng.uniform(-10, HEIGHT + 10, 60)
        self.flux = 10 ** self.rng.uniform(3.3, 4.8, 60)

    def data(self, k: int, *, stars: bool = True, level: float = 0.0) -> np.ndarray:
        dx, dy = (2.0 * (k % 3), -1.5 * (k % 4)) if k else (0.0, 0.0)
        image = np.full((HEIGHT, WIDTH), SKY + 3 * k)
        if stars:
            add_stars(image, self.x - dx, self.y - dy, self.flux, Psf.with_fwhm(3.0))
        return (image + level + self.rng.normal(0, NOISE, image.shape)).astype(np.float32)

    def write(self, k: int, name: str = "", data: np.ndarray | None = None, **cards: object) -> Path:
        path = self.folder / (name or f"light-{k}.fits")
        path.parent.mkdir(parents=True, exist_ok=True)
        told = {
            "IMAGETYP": "light", "EXPTIME": 20.0, "FILTER": "V", "EGAIN": 1.5, "DATE-OBS": f"2027-05-02T22:{k:02d}:00",
        } | cards  # fmt: skip
        write_fits(path, self.data(k) if data is None else data, cards=told, replace=True)
        return path
