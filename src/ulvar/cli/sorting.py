"""ulvar sort."""

from __future__ import annotations

from typing import Annotated

import typer

from ulvar.cli.common import Facts, Json, Paths, fail_usage, finish, read_exposures, running
from ulvar.engine import Failed, JobContext, counted
from ulvar.flows import Sorted, find_series, look_at_pixels, sort_exposures
from ulvar.frames import ExposureFacts, Group, Role, TagRule


def _group_json(group: Group) -> dict[str, object]:
    return {
        "role": group.role.value, "is_master": group.is_master, "filter": group.filter,
        "exposure_s": group.exposure_s, "gain": group.gain, "offset": group.offset,
        "temperature_c": group.temperature_c, "binning": group.binning, "width": group.width,
        "height": group.height, "camera": group.camera, "session": group.session, "count": group.count, "files": list(group.files),
    }  # fmt: skip


Tag = Annotated[
    list[str],
    typer.Option(
        "--tag",
        metavar="NAME=PATTERN",
        help="A tag, or the session, that stands in the folders' names: session={}/*. {} is the value, * anything.",
    ),
]


def rules(tags: list[str]) -> list[TagRule]:
    """Return the rules of ``--tag``; a wrong one ends the command."""
    rules = []
    for text in tags:
        name, mark, pattern = text.partition("=")
        if not mark or not name.strip() or pattern.count("{}") != 1:
            fail_usage(f"--tag takes NAME=PATTERN with {{}} once in the pattern, not '{text}'")
        rules.append(TagRule(name.strip(), pattern, matches=True))
    return rules


def told_sort(
    exposures: list[ExposureFacts], failed: list[Failed], other: list[str], context: JobContext | None
) -> Sorted:
    """Return groups and findings; with a context pixels are looked at too."""
    looks = look_at_pixels(exposures, context) if context is not None else {}
    return sort_exposures(exposures, failed, other, looks=looks)


def sort(
    paths: Paths,
    json: Json = False,
    fact: Facts = [],
    tag: Tag = [],
    pixels: Annotated[
        bool, typer.Option("--pixels/--no-pixels", help="Check roles and bit depth against the pixels.")
    ] = True,
) -> None:
    """Say what there is: groups of exposures, and what does not fit or cannot be read."""
    exposures, failed, other = read_exposures(paths, fact, rules(tag), empty_is_told=True)
    with running(len(exposures) // 20) as context:
        result = told_sort(exposures, failed, other, context if pixels else None)
    lines = [f"{counted(len(exposures), 'exposure')} in {counted(len(result.groups), 'group')}"]
    for group in result.groups:
        temperature = "" if group.temperature_c is None else f"{group.temperature_c:+.1f} C"
        exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
        gain = "" if group.gain is None else f"gain {group.gain:g}"
        session = f"{group.session:<12}" if group.one_of_sessions else ""
        lines.append(
            f"{group.count:>6}  {group.role.value:<10}{group.filter:<6}{exposure:<9}{gain:<9}{temperature:<9}"
            f"{session}{group.width} x {group.height}  {group.camera}"
        )
    series = find_series(f for f in result.exposures if f.role is Role.LIGHT)
    lines += [f"{len(one.members):>6}  series    {one.key}  ({one.title})" for one in series]
    finish(
        {"groups": [_group_json(g) for g in result.groups], "series": [one.as_json() for one in series]}, as_json=json,
        done=bool(exposures), failed=bool(failed), lines=lines, findings=result.findings,
    )  # fmt: skip
