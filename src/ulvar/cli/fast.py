"""ulvar fast."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, NoReturn

import numpy as np
import typer

from ulvar.cli.common import Json, Replace, check_table, fail_usage, finish, running
from ulvar.cli.places import listed_place
from ulvar.engine import Failed, counted
from ulvar.flows import (
    FilmSeries,
    FilmTiming,
    film_findings,
    film_rows,
    frame_time,
    look_at_film,
    measure_film,
    occultation_words,
    time_occultation,
    write_film_picture,
)
from ulvar.frames import FILM_ENDINGS, FrameError, find_files, open_film, parse_time
from ulvar.lightcurves import Occultation
from ulvar.photometry import ApertureOptions, ListedStar, StarListError, read_star_list, write_series


class Stamp(StrEnum):
    """What of an exposure a time is of."""

    START = "start"
    MIDDLE = "middle"
    END = "end"


def fast(
    paths: Annotated[
        list[str], typer.Argument(metavar="PATH...", help="One SER or AVI file or FITS cube, or FITS files, a folder of them.")
    ],
    stars: Annotated[
        Path | None, typer.Option(metavar="FILE.csv", help="Stars: name, role and x, y in the mean of the first frames.")
    ] = None,
    target: Annotated[str | None, typer.Option(metavar="X,Y", help="Instead of a list: the target, counted from 1.")] = None,
    tracking: Annotated[
        list[str], typer.Option("--tracking", metavar="X,Y", help="A star to follow, counted from 1; more than one is better.")
    ] = [],
    out: Annotated[
        Path | None, typer.Option("--out", metavar="TABLE", help="The series table: .csv, .vot, .fits, .parquet.")
    ] = None,
    picture: Annotated[
        Path | None, typer.Option(metavar="FILE.png", help="Write the mean of the first frames, which places are in.")
    ] = None,
    aperture: Annotated[str, typer.Option(metavar="6|1.5fwhm", help="Aperture radius in px, or in FWHM.")] = "1.5fwhm",
    annulus: Annotated[str | None, typer.Option(metavar="IN,OUT", help="Sky annulus, in px.")] = None,
    occultation: Annotated[bool, typer.Option("--occultation", help="Find when the target went out and came back.")] = False,
    longest: Annotated[float | None, typer.Option(metavar="S", help="The longest occultation that is looked for.")] = None,
    first: Annotated[str | None, typer.Option(metavar="TIME", help="Time of the first frame, UTC.")] = None,
    rate: Annotated[float | None, typer.Option(metavar="N", help="Frames in a second; the file's own times then do not count.")] = None,
    stamp: Annotated[
        Stamp | None, typer.Option(help="What of an exposure the times are of; start unless the file says otherwise.")
    ] = None,
    exposure: Annotated[
        float | None, typer.Option(metavar="S", help="Exposure of a frame; the step between frames unless the file says otherwise.")
    ] = None,
    offset: Annotated[float, typer.Option(metavar="S", help="Added to all times: a delay of the camera, with its sign.")] = 0.0,
    row: Annotated[float, typer.Option("--row", metavar="US", help="Time from row to row of a rolling shutter.")] = 0.0,
    gain: Annotated[float | None, typer.Option(metavar="E", help="Gain in electrons per ADU, for error bars.")] = None,
    read_noise: Annotated[float | None, typer.Option(metavar="E", help="Read noise in electrons.")] = None,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Measure stars in thousands of short frames: occultations, flickering, anything at video rates."""
    check_table(out, replace)
    if picture is not None and (picture.suffix.lower() != ".png" or (picture.exists() and not replace)):
        fail_usage(
            f"{picture}: {'it exists; it is kept (see --replace)' if picture.exists() else 'the picture is a .png'}"
        )
    if gain is not None and gain <= 0:
        fail_usage("--gain is above 0")
    began = _moment(first)
    try:
        timing = FilmTiming(began, rate, stamp.value if stamp else None, exposure, offset, row)
        rings = ApertureOptions.parse(aperture, annulus)
        listed = _stars(stars, target, tracking)
        if len(rings.every) > 1:
            raise ValueError("one aperture is measured: several are tried by ulvar measure")
    except (ValueError, StarListError) as error:
        fail_usage(str(error))
    if out is None and picture is None and not occultation:
        fail_usage("nothing is asked for: --out, --picture or --occultation")
    files = _files(paths)
    try:
        film = open_film(files)
        with running(1) as context:
            look = look_at_film(film)
            if picture is not None:
                write_film_picture(picture, look.picture)
            done = (
                measure_film(
                    film, listed, context, timing=timing, aperture=rings, look=look, gain_e_per_adu=gain, read_noise_e=read_noise
                )
                if listed
                else None
            )  # fmt: skip
    except FrameError as error:
        _nothing(str(error), json)
    if isinstance(done, Failed):
        _nothing(f"{done.file}: {done.reason}" if done.file else done.reason, json)
    lines = [f"{film.name}: {counted(film.count, 'frame')} of {film.width} x {film.height} px, {film.kind}"]
    body: dict[str, Any] = {
        "film": {"kind": film.kind, "frames": film.count, "width": film.width, "height": film.height, "fwhm_px": look.fwhm_px},
        "output": "", "picture": str(picture) if picture else "", "stars": [], "event": None, "event_reason": "",
    }  # fmt: skip
    failed = False
    if picture is not None:
        lines.append(f"{picture}: the mean of the first frames")
    if done is not None:
        body["film"] |= {"step_s": done.times.step_s, "exposure_s": done.times.exposure_s, "dated": done.times.dated}
        if out is not None:
            write_series(out, film_rows(done), replace=replace)
            body["output"] = str(out)
            lines.append(f"{out}: {counted(film.count, 'frame')} of {', '.join(star.name for star in done.stars)}")
        body["stars"], told = _stars_told(done)
        lines += told
        if occultation:
            event = time_occultation(done, longest_s=longest)
            if isinstance(event, Failed):
                body["event_reason"], failed = event.reason, True
                lines.append(event.reason)
            else:
                body["event"] = _event(event, dated=done.times.dated)
                lines += occultation_words(event, dated=done.times.dated)
    findings = film_findings(done) if done is not None else []
    finish(body, as_json=json, done=True, failed=failed, lines=lines, findings=findings)


def _nothing(reason: str, as_json: bool) -> NoReturn:
    finish({"error": reason}, as_json=as_json, done=False, lines=[reason])


def _moment(text: str | None) -> datetime | None:
    if text is None:
        return None
    moment = parse_time(text)
    if moment is None:
        fail_usage(f"--first takes a time such as 2026-03-14T21:05:12.345, not '{text}'")
    return moment


def _stars(table: Path | None, target: str | None, tracking: list[str]) -> list[ListedStar]:
    """Return the stars of the options; none, where only the picture is wanted."""
    if table is not None:
        if target is not None or tracking:
            raise ValueError("stars come from --stars, or from --target and --tracking")
        return read_star_list(table)
    if target is None:
        if tracking:
            raise ValueError("--tracking needs a --target")
        return []
    if not tracking:
        raise ValueError("--target needs a star to follow: --tracking X,Y")
    leads = [
        listed_place(f"tracking {k}" if len(tracking) > 1 else "tracking", f"px:{text}")
        for k, text in enumerate(tracking, 1)
    ]
    return [
        listed_place("target", f"px:{target}"),
        *(ListedStar(star.name, "comparison", x=star.x, y=star.y) for star in leads),
    ]


def _files(paths: list[str]) -> list[str]:
    """Return the files of a film: folders are searched for FITS files."""
    if len(paths) == 1 and Path(paths[0]).suffix.lower() in FILM_ENDINGS:
        return paths
    films = [path for path in paths if Path(path).suffix.lower() in FILM_ENDINGS]
    if films:
        fail_usage(f"{films[0]}: one film is measured at a time")
    try:
        found, _ = find_files(paths)
    except FileNotFoundError as error:
        fail_usage(f"{error.args[0]}: there is no such file or folder")
    if not found:
        fail_usage(f"{', '.join(paths)}: there is no FITS file")
    return found


def _stars_told(series: FilmSeries) -> tuple[list[dict[str, Any]], list[str]]:
    told, lines = [], []
    for k, star in enumerate(series.stars):
        light, flags = series.light(k), series.flags[:, k]
        mean, scatter = float(np.nanmean(light)) if np.isfinite(light).any() else np.nan, float(np.nanstd(light))
        told.append(
            {
                "name": star.name, "role": star.role, "x": star.x, "y": star.y, "flux": mean, "scatter": scatter,
                "flagged": int((flags != 0).sum()),
            }
        )  # fmt: skip
        lines.append(
            f"  {star.name:12} {mean:10.1f} ADU, scatter {scatter:.1f}"
            + (f", {counted(int((flags != 0).sum()), 'frame')} flagged" if (flags != 0).any() else "")
        )
    return told, lines


def _event(event: Occultation, *, dated: bool) -> dict[str, Any]:
    """Return an occultation for JSON; times as UTC where frames are dated."""
    return {
        "out": frame_time(event.out_s, dated=dated), "back": frame_time(event.back_s, dated=dated),
        "out_error_s": event.out_error_s, "back_error_s": event.back_error_s, "duration_s": event.duration_s,
        "duration_error_s": event.duration_error_s, "drop_mag": event.drop_mag, "level": event.level, "low": event.low,
        "level_error": event.level_error, "low_error": event.low_error, "snr": event.snr, "chance": event.chance,
        "frames": event.frames,
    }  # fmt: skip
