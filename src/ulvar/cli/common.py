"""What the commands share: facts given, progress on standard error, one JSON object on standard output."""

from __future__ import annotations

import json
import math
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer
from pydantic import ValidationError
from rich.console import Console
from rich.markup import escape

from ulvar.calibration import Candidate
from ulvar.engine import Failed, JobContext, PoolKeeper, Progress, WorkerDied, default_budget, place_words, silent
from ulvar.flows import KEPT, SOLVED_BEFORE, Outcome, Series, find_series, picked, scan_paths
from ulvar.frames import TABLE_ENDINGS, ExposureFacts, Role, TagRule, is_table_name, with_user_facts
from ulvar.inspection import Finding
from ulvar.night.schema import setting_of
from ulvar.night.settings import NightSettings, first_problem

ALL_DONE, SOME_FAILED, WRONG_USAGE, NOTHING_DONE = 0, 1, 2, 3

Paths = Annotated[list[str], typer.Argument(metavar="PATH...", help="Files, folders or globs.")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object on standard output and nothing else there.")]
Facts = Annotated[
    list[str],
    typer.Option(
        "--fact",
        metavar="NAME=VALUE",
        help="Give or correct a fact of the exposures, such as gain_e_per_adu=1.45.",
    ),
]
Replace = Annotated[bool, typer.Option("--replace", help="Replace outputs that exist.")]


def option(section: str, name: str, *flags: str, metavar: str | None = None) -> Any:
    """Return the command line's option of a setting: its flags, and the schema's sentence with unit and choices."""
    setting = setting_of(type(getattr(NightSettings(), section)), name)
    return typer.Option(*(flags or (f"--{name.replace('_', '-')}",)), metavar=metavar, help=escape(setting.help))


def default(section: str, name: str) -> Any:
    """Return what a setting is unless somebody says otherwise."""
    return getattr(getattr(NightSettings(), section), name)


errors = Console(stderr=True, highlight=False, soft_wrap=True)


def tell_end(text: str) -> None:
    """Say in a sentence on standard error why a command ends, and as JSON where that was asked for."""
    errors.print(text, markup=False)
    # Some errors come before options are taken apart.
    if "--json" in sys.argv[1:]:
        sys.stdout.write(json.dumps({"error": text}) + "\n")


def end_words(error: OSError | RuntimeError) -> str:
    """Return in a sentence why the surroundings ended a command: a place, or a worker; empty for any other error."""
    if isinstance(error, WorkerDied):
        return f"{error}; finished products are kept, and the same command goes on from there"
    return place_words(error) if isinstance(error, OSError) else ""


def fail_usage(text: str) -> NoReturn:
    """End with exit code 2 and a plain sentence."""
    tell_end(text)
    raise typer.Exit(WRONG_USAGE)


def fail_setting(error: ValidationError) -> NoReturn:
    """End with exit code 2 and what is wrong with an option's value."""
    name, told = first_problem(error)
    fail_usage(f"--{name.replace('_', '-')}: {told}" if name else told)


def given_facts(texts: Sequence[str]) -> dict[str, str]:
    """Return NAME=VALUE options as a mapping."""
    given = {}
    for text in texts:
        name, mark, value = text.partition("=")
        if not mark or not name.strip():
            fail_usage(f"--fact takes NAME=VALUE, not '{text}'")
        given[name.strip()] = value.strip()
    try:
        with_user_facts(ExposureFacts(""), given)
    except ValueError as error:
        fail_usage(str(error))
    return given


@contextmanager
def _told_progress() -> Iterator[Progress]:
    """Yield what shows how far a job is: a bar on a terminal, nothing elsewhere."""
    if not errors.is_terminal:
        yield silent
        return
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Bar(*columns, console=errors, transient=True) as bar:
        task = bar.add_task("", total=None)

        def progress(done: int, total: int, text: str) -> None:
            bar.update(task, description=text, completed=done, total=total)

        yield progress


@contextmanager
def running(items: int | None = None, *, memory_gib: float | None = None) -> Iterator[JobContext]:
    """Yield a context with workers (for more than a few items), a progress bar on a terminal, and a budget."""
    budget = default_budget() if memory_gib is None else int(memory_gib * 1024**3)
    workers = max(1, len(os.sched_getaffinity(0)))
    many = items is None or items > 3
    pools = PoolKeeper(workers, polite=False)
    with _told_progress() as progress, closing(pools):
        context = JobContext(progress=progress, budget_bytes=budget, workers=workers)
        if many:
            context = replace(context, executor=pools.get(), abandon=pools.discard, renew=pools.renewed)
        try:
            yield context
        except KeyboardInterrupt:
            # Nobody waits for work any more, nor for a pool that was interrupted in an unlucky moment.
            pools.discard()
            raise


def read_exposures(
    paths: Sequence[str], facts: Sequence[str], rules: Sequence[TagRule] = (), *, empty_is_told: bool = False
) -> tuple[list[ExposureFacts], list[Failed], list[str]]:
    """Scan what the user named; a path that does not exist or a wrong fact ends with exit code 2.

    Where nothing is found that is said on standard error, unless the command's findings tell it (``empty_is_told``).
    """
    try:
        found = scan_paths(paths, given_facts(facts), JobContext(), rules)
        if not (found[0] or found[1] or empty_is_told):
            errors.print(f"{', '.join(paths)}: there is no FITS, camera raw or TIFF file", markup=False)
        return found
    except FileNotFoundError as error:
        fail_usage(f"{error.args[0]}: there is no such file or folder")
    except ValueError as error:
        fail_usage(str(error))


def failed_outcomes(failed: Sequence[Failed]) -> list[Outcome]:
    """Return scan failures as outcomes."""
    return [Outcome(f.file, False, f.reason) for f in failed]


def lights_of(exposures: Sequence[ExposureFacts]) -> tuple[list[ExposureFacts], list[Outcome]]:
    """Split into what can be a light (also files of unknown role) and calibration frames, told with a reason."""
    lights = [f for f in exposures if f.role in (Role.LIGHT, Role.UNKNOWN) and not f.is_master]
    taken = {f.path for f in lights}
    rest = [
        Outcome(
            f.path,
            False,
            f"it is a {'master ' if f.is_master else ''}{f.role.word}, not a light",
        )
        for f in exposures
        if f.path not in taken
    ]
    return lights, rest


SeriesName = Annotated[
    str | None,
    typer.Option("--series", metavar="NAME", help="Only this series: its name, or those of a filter or a field."),
]


def series_among(lights: Sequence[ExposureFacts], name: str | None) -> list[Series]:
    """Return the series among lights that the user asked for, by default all."""
    found = find_series(lights)
    if name is None:
        return found
    try:
        return picked(found, name)
    except ValueError as error:
        fail_usage(str(error))


def output_of(out: Path, series: str, several: bool) -> Path:
    """Return the file of a series: the one that was named, with the series' name where there are several."""
    return out.with_name(f"{out.stem}-{series}{out.suffix}") if several else out


def check_table_name(out: Path) -> None:
    """End with the endings of tables where a name has another."""
    if not is_table_name(out):
        fail_usage(f"{out}: tables are written as {', '.join(TABLE_ENDINGS)}")


def check_table(out: Path | None, replace: bool) -> None:
    """End with why no table can be written there; without a place there is none to write."""
    if out is None:
        return
    check_table_name(out)
    if out.exists() and not replace:
        fail_usage(f"{out} exists; it is kept (see --replace)")


def plain(value: Any) -> Any:
    """Return a value that JSON can hold; what is not finite becomes null."""
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    if hasattr(value, "tolist"):
        return plain(value.tolist())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, Path):
        return str(value)
    if isinstance(value, datetime):
        return value.strftime("%Y-%m-%dT%H:%M:%S.%f")
    return value


def masters_in(folder: Path) -> tuple[list[tuple[Candidate, str]], list[Failed]]:
    """Return (master, path) of a folder, and the files that cannot be used as one; ends as wrong usage where there is none."""
    from ulvar.flows import load_masters

    if not folder.is_dir():
        fail_usage(f"{folder}: there is no such folder")
    found, unusable = load_masters(folder)
    if not found:
        lines = "".join(f"; {line}" for line in told(failed_outcomes(unusable)))
        fail_usage(f"{folder}: the folder holds no master{lines}")
    return found, unusable


def exit_code(*, done: bool, failed: bool) -> int:
    """Return the contract's exit code: whether anything was made, and whether anything could not be."""
    return NOTHING_DONE if not done else SOME_FAILED if failed else ALL_DONE


def finish(
    payload: dict[str, Any],
    *,
    as_json: bool,
    done: bool,
    failed: bool = False,
    lines: Sequence[str] = (),
    findings: Sequence[Finding] = (),
) -> NoReturn:
    """Print the outcome and end with the exit code for it (see `exit_code`)."""
    payload = {**payload, "findings": [f.as_json() for f in findings]}
    if as_json:
        sys.stdout.write(json.dumps(plain(payload), indent=1) + "\n")
    else:
        out = Console(highlight=False, soft_wrap=True)
        for line in lines:
            out.print(line, markup=False)
        for finding in findings:
            out.print(f"{finding.severity.word:>6}  {finding.title}: {finding.text}", markup=False)
    raise typer.Exit(exit_code(done=done, failed=failed))


_HINTS = {KEPT: " (see --replace)", SOLVED_BEFORE: "; --again solves anew"}


def hint(code: str) -> str:
    """Return which option would do otherwise, as the end of a reason; empty when none would."""
    return _HINTS.get(code, "")


def hinted(outcomes: Sequence[Outcome]) -> list[Outcome]:
    """Return outcomes whose reasons name the option that would do otherwise."""
    return [replace(o, reason=o.reason + hint(o.code)) if o.code else o for o in outcomes]


def as_frames(outcomes: Sequence[Outcome], **more: str) -> list[dict[str, Any]]:
    """Return what became of exposures, for JSON, with what else is told of each."""
    return [{"file": o.file, "ok": o.ok, "reason": o.reason, **more} for o in outcomes]


def as_failed(failed: Sequence[Failed]) -> list[dict[str, str]]:
    """Return files that cannot be used, for JSON."""
    return [{"file": f.file, "reason": f.reason} for f in failed]


def told(outcomes: Sequence[Outcome]) -> list[str]:
    """Return a line for each outcome that failed or was skipped."""
    return [f"{Path(o.file).name}: {o.reason}" for o in outcomes if not o.ok]


def names_in(text: str) -> tuple[str, ...]:
    """Return the names of a list ``a,b``."""
    return tuple(name.strip() for name in text.split(",") if name.strip())


def print_line(body: dict[str, Any]) -> None:
    """Print what happened as a line of JSON, at once: of commands that go on while exposures arrive."""
    sys.stdout.write(json.dumps(plain(body)) + "\n")
    sys.stdout.flush()


def numbers_in(text: str, option: str, form: str, count: int = 0) -> tuple[float, ...]:
    """Return the numbers of a list ``1.5,2``, so many where a count is given; ends with what is wrong about it."""
    try:
        found = tuple(float(part) for part in text.split(","))
    except ValueError:
        found = ()
    if not found or (count and len(found) != count) or not all(map(math.isfinite, found)):
        fail_usage(f"{option} takes {form}, not '{text}'")
    return found


def low_high(text: str, option: str) -> tuple[float, float]:
    """Return LOW,HIGH of an option; ends with what is wrong about it."""
    low, high = numbers_in(text, option, "LOW,HIGH", 2)
    if not 0 < low < high:
        fail_usage(f"{option} needs 0 < LOW < HIGH")
    return low, high


def limb_law(text: str) -> tuple[float, float]:
    """Return limb darkening as U1,U2; ends with what is wrong about it."""
    u1, u2 = numbers_in(text, "--law", "U1,U2", 2)
    return u1, u2


def with_error(value: float, error: float) -> str:
    """Return a value with its error, both to the error's second digit."""
    if not (math.isfinite(error) and error > 0):
        return f"{value:.8g}"
    places = max(0, min(12, 1 - math.floor(math.log10(error))))
    return f"{value:.{places}f} +- {error:.{places}f}"
