"""Fast series: 10,000 frames of 640 x 480 px with four apertures, of every kind of file, beside plain NumPy; occultations timed.

Usage: fast.py [--frames N] [--kinds ser,avi,cube,files] [--events N]

Files are in the page cache. Plain is what one writes with NumPy: a centroid of the tracking star, and sums in circles of whole pixels
with the median of an annulus. The made-up frames repeat after 200 that differ.
"""

from __future__ import annotations

import argparse
import dataclasses
import sys
import tempfile
import time
from datetime import timedelta
from pathlib import Path

import cv2
import fitsio
import numpy as np

from ulvar.engine import Failed, JobContext
from ulvar.flows import FilmTiming, film_rows, measure_film, time_occultation
from ulvar.frames import open_film
from ulvar.photometry import ApertureOptions, ListedStar, write_series
from ulvar.simulation import MadeUpFilm, write_ser

_DIFFERENT = 200
_STARS = (
    ListedStar("t", "target", x=150.0, y=121.0),
    ListedStar("a", "comparison", x=221.0, y=90.0),
    ListedStar("b", "comparison", x=80.0, y=180.0),
)
_RADIUS, _INNER, _OUTER = 4.5, 9.0, 15.0


class _Repeating(MadeUpFilm):
    def pictures(self):  # type: ignore[no-untyped-def]
        """Yield frames that repeat."""
        different = list(MadeUpFilm(**{**dataclasses.asdict(self), "frames": min(_DIFFERENT, self.frames)}).pictures())
        for k in range(self.frames):
            yield different[k % len(different)]


def _plain(film) -> None:  # type: ignore[no-untyped-def]
    """Measure the same four places with NumPy alone."""
    x, y = np.array([150.3, 220.7, 80.0, 166.0]), np.array([120.6, 90.2, 180.0, 130.0])
    rows, columns = np.mgrid[0 : film.height, 0 : film.width]
    shift = np.zeros(2)
    for _, block in film.blocks():
        for frame in block:
            data = frame.astype(np.float64)
            x0, y0 = round(x[1] + shift[0]), round(y[1] + shift[1])
            box = data[y0 - 8 : y0 + 9, x0 - 8 : x0 + 9] - np.median(data[y0 - 15 : y0 + 16, x0 - 15 : x0 + 16])
            box = np.maximum(box, 0)
            dx, dy = np.arange(x0 - 8, x0 + 9), np.arange(y0 - 8, y0 + 9)
            shift = np.array([(box.sum(0) * dx).sum() / box.sum() - x[1], (box.sum(1) * dy).sum() / box.sum() - y[1]])
            for k in range(4):
                r0, c0 = round(y[k] + shift[1]), round(x[k] + shift[0])
                window = slice(r0 - 16, r0 + 17), slice(c0 - 16, c0 + 17)
                away = np.hypot(columns[window] - x[k] - shift[0], rows[window] - y[k] - shift[1])
                cut = data[window]
                (
                    cut[away <= _RADIUS].sum()
                    - np.median(cut[(away > _INNER) & (away <= _OUTER)]) * (away <= _RADIUS).sum()
                )


def _make(kind: str, folder: Path, film: MadeUpFilm) -> list[str]:
    if kind == "ser":
        write_ser(folder / "f.ser", film)
        return [str(folder / "f.ser")]
    if kind == "avi":
        writer = cv2.VideoWriter(
            str(folder / "f.avi"), cv2.VideoWriter.fourcc(*"Y800"), film.rate, (film.width, film.height), isColor=False
        )
        for picture in film.pictures():
            writer.write(np.clip(np.round(picture), 0, 255).astype(np.uint8))
        writer.release()
        return [str(folder / "f.avi")]
    if kind == "cube":
        frames = np.stack([np.clip(np.round(p), 0, 65535).astype(np.uint16) for p in film.pictures()])
        fitsio.write(
            folder / "f.fits",
            frames,
            header={"DATE-OBS": film.begins.isoformat()[:19], "CTYPE3": "TIME", "CDELT3": 0.04},
        )
        return [str(folder / "f.fits")]
    (folder / "files").mkdir()
    paths = []
    for k, picture in enumerate(film.pictures()):
        path = folder / "files" / f"{k:06d}.fits"
        when = (film.begins + timedelta(seconds=k / film.rate)).strftime("%Y-%m-%dT%H:%M:%S.%f")
        fitsio.write(
            path,
            np.clip(np.round(picture), 0, 65535).astype(np.uint16),
            header={"DATE-OBS": when, "EXPTIME": 1 / film.rate},
        )
        paths.append(str(path))
    return paths


def _speed(kind: str, frames: int) -> None:
    film = _Repeating(width=640, height=480, frames=frames, out_s=4.0, back_s=5.0, drift_px=0.0)
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        paths = _make(kind, Path(held), film)
        timing = FilmTiming(rate=25.0) if kind == "avi" else FilmTiming()
        warm = open_film(paths[:50] if kind == "files" else paths)
        measure_film(
            dataclasses.replace(warm, count=min(50, warm.count), times=warm.times[:50]),
            _STARS,
            JobContext(),
            timing=timing,
        )
        began, used = time.perf_counter(), time.process_time()
        opened = open_film(paths)
        done = measure_film(
            opened, _STARS, JobContext(), timing=timing, aperture=ApertureOptions(_RADIUS, False, _INNER, _OUTER)
        )
        assert not isinstance(done, Failed), done
        took, cpu = time.perf_counter() - began, time.process_time() - used
        write_series(Path(held) / "t.csv", film_rows(done), replace=True)
        written = time.perf_counter() - began
        began = time.perf_counter()
        for _ in opened.blocks():
            pass
        reading = time.perf_counter() - began
        began = time.perf_counter()
        short = dataclasses.replace(opened, count=min(frames, 1000))
        _plain(short)
        plain = (time.perf_counter() - began) * frames / short.count
    print(
        f"{kind:6} {frames} frames: {took:.1f} s, {1e3 * cpu / frames:.2f} ms of processors a frame, with the table {written:.1f} s; "
        f"frames alone {reading:.1f} s; plain {plain:.1f} s, {plain / took:.1f} times as long",
        flush=True,
    )


def _events(count: int) -> None:
    """Time occultations of a second at 25 frames a second."""
    pulls, off, missed = [], [], 0
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        for k in range(count):
            out = rng.uniform(3, 6)
            light = rng.uniform(250, 1200)
            film = MadeUpFilm(
                frames=250,
                out_s=out,
                back_s=out + 1.0,
                seed=k,
                stars=((150.3, 120.6, light), (220.7, 90.2, 2000.0), (80.0, 180.0, 1200.0)),
            )
            write_ser(Path(held) / "f.ser", film)
            done = measure_film(
                open_film([f"{held}/f.ser"]), _STARS, JobContext(), aperture=ApertureOptions(_RADIUS, False)
            )
            event = time_occultation(done) if not isinstance(done, Failed) else done
            if isinstance(event, Failed):
                missed += 1
                continue
            begin = film.begins.timestamp()
            for found, error, truth in (
                (event.out_s, event.out_error_s, out),
                (event.back_s, event.back_error_s, out + 1.0),
            ):
                off.append(found - begin - truth)
                pulls.append(off[-1] / error)
    print(
        f"{count} occultations of 1 s at 25 frames a second, star {250} to {1200} ADU a frame over noise of some 45: {missed} not seen; "
        f"edges off by {1e3 * np.median(np.abs(off)):.1f} ms (median), {1e3 * np.percentile(np.abs(off), 95):.1f} (95 %), "
        f"{100 * np.mean(np.abs(off) < 0.04):.0f} % within a frame; {100 * np.mean(np.abs(pulls) < 1):.0f} % within their error"
    )


def main() -> None:
    """Print what it takes, and what comes of it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--frames", type=int, default=10_000)
    parser.add_argument("--kinds", default="ser,cube,files,avi")
    parser.add_argument("--events", type=int, default=200)
    given = parser.parse_args(sys.argv[1:])
    for kind in given.kinds.split(","):
        _speed(kind, given.frames)
    _events(given.events)


if __name__ == "__main__":
    main()
