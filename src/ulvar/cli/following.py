"""ulvar follow."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import Json, errors, exit_code, fail_usage, print_line, running
from ulvar.cli.watching import ended_by_hand
from ulvar.engine import Failed
from ulvar.night import Night, NightError, StationResult
from ulvar.night.stations import night_curve, run_follow
from ulvar.photometry import StarListError, read_star_list


def follow(
    path: Annotated[Path, typer.Argument(metavar="PATH", help="A night, or the folder where raw exposures arrive.")],
    stars: Annotated[
        Path | None, typer.Option(metavar="FILE.csv", help="Stars to measure: name, role, ra, dec. The night's own by default.")
    ] = None,
    catalogue: Annotated[
        Path | None, typer.Option(metavar="PATH", help="Star catalogue that exposures are solved by: CSV file or folder of tiles.")
    ] = None,
    until: Annotated[int | None, typer.Option(metavar="N", help="End when so many exposures were taken up.")] = None,
    idle: Annotated[float | None, typer.Option(metavar="S", help="End when nothing has arrived for so many seconds.")] = None,
    every: Annotated[float, typer.Option(metavar="S", help="Look into the folder every so many seconds.")] = 1.0,
    json: Json = False,
) -> None:  # fmt: skip
    """Measure exposures while they are taken: each joins the night's light curve; Ctrl+C ends it."""
    if not path.is_dir():
        fail_usage(f"{path}: there is no such folder")
    if every <= 0 or (idle is not None and idle <= 0) or (until is not None and until < 1):
        fail_usage("--every, --idle and --until are above 0")
    try:
        listed = read_star_list(stars) if stars is not None else []
        night = Night.for_path(path)
    except (StarListError, NightError) as error:
        fail_usage(str(error))
    if any(not star.on_sky for star in listed):
        fail_usage(f"{stars}: stars are given by ra, dec: pixels are not the same before and after")
    if listed:
        night.wait_with_stars("", listed)
    if catalogue is not None:
        settings = night.settings
        settings.plate.catalogue = str(catalogue.resolve())
        night.set_settings(settings)
    told = _Told(night, as_json=json)
    with running() as context, ended_by_hand() as ended:
        result = run_follow(
            night, context, told, every_s=every,
            over=lambda taken, idle_s: bool(ended)
            or (until is not None and taken >= until)
            or (idle is not None and idle_s >= idle),
        )  # fmt: skip
    folder = night.folder
    night.close()
    if result.problem:
        fail_usage(result.problem)
    if json:
        print_line(
            {
                "event": "end",
                "night": str(folder),
                "exposures": result.done,
                "failed": result.failed,
                "text": result.text,
            }
        )
    else:
        typer.echo(f"{result.text}; the night is {folder}")
    raise typer.Exit(exit_code(done=bool(result.done), failed=bool(result.failed)))


class _Told:
    """Prints what stations did, and new points of the light curve."""

    def __init__(self, night: Night, *, as_json: bool) -> None:
        self._night, self._json = night, as_json
        self._seen: set[tuple[str, str]] = set()

    def __call__(self, result: StationResult | None) -> None:
        if result is None:
            self._points()
        elif self._json:
            print_line(
                {
                    "event": "station",
                    "station": result.station,
                    "text": result.problem or result.text,
                    "ok": not result.problem,
                }
            )
        elif result.problem:
            errors.print(f"{result.station}: {result.problem}", markup=False)

    def _points(self) -> None:
        for series in self._night.series():
            product = self._night.products_of("curve", series.key).get(series.key)
            if product is None:
                continue
            found = night_curve(self._night, series)
            if isinstance(found, Failed):
                continue
            curve = found.curve
            for k, file in enumerate(curve.files):
                if (series.key, file) in self._seen:
                    continue
                self._seen.add((series.key, file))
                point = {
                    "event": "point", "series": series.key, "file": file, "jd_utc": float(curve.jd_utc[k]),
                    "magnitude": float(curve.magnitude[k]), "error": float(curve.magnitude_error[k]),
                }  # fmt: skip
                if self._json:
                    print_line(point)
                else:
                    typer.echo(
                        f"{series.title}  {file}: {curve.name} {curve.magnitude[k]:+.4f} ± {curve.magnitude_error[k]:.4f} mag"
                    )
