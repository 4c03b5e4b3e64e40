"""ulvar catalogue."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Annotated

import typer

from ulvar.astrometry import (
    CatalogueError,
    Imported,
    NoStars,
    Question,
    catalogues_in,
    cone_question,
    coverage_map,
    describe_catalogue,
    fetch,
    fetch_later,
    import_stars,
    index_catalogue,
    installed_table,
    job_question,
    keep_answer,
    kept_answer,
    name_catalogue,
    overflows,
    smaller_cones,
    table_question,
)
from ulvar.cli.common import Json, fail_usage, finish, running
from ulvar.engine import Progress, counted, files_in, place_words
from ulvar.frames import parse_position

catalogue = typer.Typer(no_args_is_help=True, add_completion=False)


@catalogue.command("import")
def catalogue_import(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...", help="Tables of stars (text, VOTable, Parquet, FITS), or a data package.")
    ],
    out: Annotated[Path, typer.Option(metavar="DIR", help="Folder of the tiles; what is there is added to.")],
    column: Annotated[
        list[str], typer.Option("--column", metavar="OWN=NAME", help="A column: ra, dec, epoch, pmra, pmdec, mag, id, variable, or a band.")
    ] = [],
    name: Annotated[str, typer.Option(metavar="TEXT", help="What the catalogue is called.")] = "",
    licence: Annotated[str, typer.Option(metavar="TEXT|FILE", help="Its licence, in words or as a file.")] = "",
    json: Json = False,
) -> None:  # fmt: skip
    """Turn star tables into a local catalogue of tiles."""
    given = _given_columns(column)
    done, problems = [], []
    # A data package that is installed is told by its name.
    files = [path if path.exists() else installed_table(str(path)) or path for path in files]
    for path in files:
        if not path.exists():
            fail_usage(f"{path}: there is no such file, and no data package of that name is installed")
    with running(1) as context:
        for path in files:
            try:
                made = import_stars(path, out, given, partial(_tell_import, context.progress, path.name))
                done.append((path, made))
            except CatalogueError as error:
                problems.append(str(error))
    if done:
        origin = ", ".join(path.name for path, _ in done)
        name_catalogue(out, name=name, licence=_licence_text(licence), origin=origin)
    tiles = len(files_in(out, "*.parquet")) if out.is_dir() else 0
    lost = [f"{path.name}: {counted(one.bad, 'row')} could not be used: {one.why}" for path, one in done if one.bad]
    finish(
        {
            "stars": sum(one.stars for _, one in done), "tiles": tiles, "failed": problems,
            "files": [{"file": str(path), "stars": one.stars, "bad_rows": one.bad, "first_bad": one.why} for path, one in done],
        },
        as_json=json, done=bool(done), failed=bool(problems),
        lines=[f"{counted(sum(one.stars for _, one in done), 'star')} in {counted(tiles, 'tile')}", *lost, *problems],
    )  # fmt: skip


def _licence_text(licence: str) -> str:
    """Return a licence in words, read from the file where one is named."""
    if not licence or "\n" in licence or len(licence) > _LONGEST_NAME or not Path(licence).is_file():
        return licence
    try:
        return Path(licence).read_text(encoding="utf-8", errors="replace").strip()
    except OSError as error:
        fail_usage(f"{licence}: {place_words(error)}")


@catalogue.command("show")
def catalogue_show(
    folders: Annotated[list[Path], typer.Argument(metavar="DIR...", help="Catalogues, or a folder of them.")],
    json: Json = False,
) -> None:
    """Tell what local catalogues are: stars, depth, epoch, what they cover, licence."""
    found, problems, lines = [], [], []
    for folder in folders:
        inside = catalogues_in(folder)
        if not inside:
            problems.append(f"{folder}: there is no catalogue in it")
        for path in inside:
            try:
                found.append(describe_catalogue(path))
            except CatalogueError as error:
                problems.append(str(error))
    for one in found:
        depth = f", down to {one.depth_mag:.1f} mag" if one.depth_mag == one.depth_mag else ""
        lines += [
            f"{one.name} ({one.folder}): {counted(one.stars, 'star')} in {counted(one.tiles, 'tile')} "
            f"on {100 * one.covered:.1f} % of the sky{depth}"
        ]
        epochs = sorted({f"{year:.1f}" for year in one.epochs if year == year})
        lines += [f"  positions of {' to '.join(epochs)}" + "".join(f", {what}" for what in one.has)] if epochs else []
        lines += [f"  bands: {', '.join(one.bands)}"] if one.bands else []
        lines += [f"  from {one.origin}"] if one.origin else []
        lines += [f"  licence: {(one.licence.splitlines() or [''])[0]}"] if one.licence else []
        if one.covered < _WHOLE:
            lines += ["  covers, right ascension from 24 h at the left, declination from +90 degrees at the top:"]
            lines += [f"  {line}" for line in coverage_map(one.places)]
    keys = ("name", "licence", "origin", "stars", "tiles", "covered", "depth_mag", "epochs", "bands", "has")
    finish(
        {"catalogues": [{"folder": str(one.folder)} | {key: getattr(one, key) for key in keys} for one in found], "failed": problems},
        as_json=json, done=bool(found), failed=bool(problems), lines=[*lines, *problems],
    )  # fmt: skip


# Longer text is no name of a file; a catalogue that covers more than this is one of the whole sky.
_LONGEST_NAME, _WHOLE = 250, 0.99


def _tell_import(progress: Progress, name: str, stars: int, text: str) -> None:
    progress(0, 0, f"{name}: {text}, {stars}")


@catalogue.command("index")
def catalogue_index(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Folder of the tiles.")], json: Json = False
) -> None:
    """Index a local catalogue, so that exposures of which nothing is known are found on its sky."""
    if not folder.is_dir():
        fail_usage(f"{folder}: there is no such folder")
    stars, patterns, problem = 0, 0, None
    with running(1) as context:
        try:
            stars, patterns = index_catalogue(str(folder), threads=2, progress=context.progress, stop=context.stop)
        except CatalogueError as error:
            problem = str(error)
        except OSError as error:
            problem = f"{folder}: {place_words(error)}"
    finish(
        {"stars": stars, "patterns": patterns, "reason": problem}, as_json=json, done=problem is None,
        failed=problem is not None, lines=[problem or f"{counted(patterns, 'pattern')} of {counted(stars, 'star')}"],
    )  # fmt: skip


@catalogue.command("fetch")
def catalogue_fetch(
    service: Annotated[str, typer.Option(metavar="URL", help="Address of a cone search, or with --query of a TAP service.")],
    out: Annotated[Path, typer.Option(metavar="DIR", help="Folder of the tiles; what is there is added to.")],
    at: Annotated[str | None, typer.Option(metavar="RA,DEC", help="Middle of the cone, degrees or sexagesimal.")] = None,
    radius: Annotated[float | None, typer.Option(metavar="DEG", help="Radius of the cone.")] = None,
    query: Annotated[str | None, typer.Option(metavar="ADQL", help="Ask this of a TAP service.")] = None,
    most: Annotated[int | None, typer.Option("--most", metavar="N", help="Rows that are wanted at most, of a TAP service.")] = None,
    seconds: Annotated[float, typer.Option(metavar="S", help="Time for each answer.")] = 600.0,
    later: Annotated[bool, typer.Option("--async", help="The service works on the --query for long: come back for the answer.")] = False,
    fresh: Annotated[bool, typer.Option("--fresh", help="Ask again what was asked within a month, too.")] = False,
    column: Annotated[
        list[str], typer.Option("--column", metavar="OWN=NAME", help="What a column is called: ra, dec, epoch, pmra, pmdec, mag, or a band.")
    ] = [],
    json: Json = False,
) -> None:  # fmt: skip
    """Fetch stars from a service of the Virtual Observatory into a local catalogue."""
    if (query is None) == (at is None or radius is None):
        fail_usage("give --at and --radius for a cone search, or --query for a TAP service")
    if later and query is None:
        fail_usage("--async goes with --query")
    if seconds <= 0 or (most is not None and most < 1):
        fail_usage("--seconds and --most are above 0")
    try:
        asked: list[tuple[Question, tuple[float, float, float] | None]] = []
        if query is not None:
            asked.append(((job_question if later else table_question)(service, query, most), None))
        else:
            assert at is not None and radius is not None
            whole = (*parse_position(at), radius)
            asked.append((cone_question(service, *whole), whole))
    except ValueError as error:
        fail_usage(str(error))
    given = _given_columns(column)
    done: list[Imported] = []
    problem, short, again = "", False, 0
    with running(1) as context, tempfile.TemporaryDirectory(prefix="ulvar-") as name:
        answer = Path(name) / "answer.vot"
        while asked and not problem:
            question, cone = asked.pop(0)
            try:
                kept = None if fresh else kept_answer(question)
                if kept is None:
                    ask = fetch_later if later else fetch
                    ask(question, answer, partial(_tell_import, context.progress, "Bytes"), seconds=seconds)
                told = kept or answer
                more = overflows(told)
                if more and cone is not None and cone[2] > _SMALLEST_CONE_DEG:
                    # The service gives so many rows at once: smaller cones have fewer.
                    asked += [(cone_question(service, *one), one) for one in smaller_cones(*cone)]
                    again += 1
                    continue
                short |= more
                done.append(import_stars(told, out, given, partial(_tell_import, context.progress, service)))
                if kept is None:
                    keep_answer(question, answer)
            except CatalogueError as error:
                # A part of the sky without a star is none that went wrong.
                if not (again and isinstance(error, NoStars)):
                    problem = str(error).replace(str(answer), service)
    bad, why = sum(one.bad for one in done), next((one.why for one in done if one.bad), "")
    tiles = len(files_in(out, "*.parquet")) if out.is_dir() else 0
    lines = [f"{counted(bad, 'row')} could not be used: {why}"] if bad else []
    lines += [f"asked in {counted(len(done), 'cone')}: the service gives so many rows at once"] if again else []
    lines += ["the service has more rows than it gives at once: ask for smaller cones, or fewer rows"] if short else []
    lines += [problem] if problem else []
    finish(
        {
            "stars": sum(one.stars for one in done), "tiles": tiles, "bad_rows": bad, "incomplete": short or bool(problem and done),
            "reason": problem or None, "answers": len(done),
        },
        as_json=json, done=bool(done), failed=bool(problem) or short,
        lines=[*([f"{counted(sum(one.stars for one in done), 'star')} came; {counted(tiles, 'tile')}"] if done else []), *lines],
    )  # fmt: skip


# Smaller cones are not asked for.
_SMALLEST_CONE_DEG = 0.02


def _given_columns(column: Sequence[str]) -> dict[str, str]:
    given = {}
    for text in column:
        own, sign, name = text.partition("=")
        if not sign or not own.strip() or not name.strip():
            fail_usage(f"--column takes OWN=NAME, not '{text}'")
        given[own.strip()] = name.strip()
    return given
