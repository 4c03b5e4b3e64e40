"""Places as the command line tells them: of stars, of a moving body, of common stars, and the exposure that they are in."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

from ulvar.cli.common import fail_usage, given_facts
from ulvar.engine import Failed
from ulvar.flows import Body, BodyStack, Pointed, Reference, make_reference, marked_body, named_body, wcs_of
from ulvar.frames import ExposureFacts, FrameError, parse_position, scan_file, with_user_facts
from ulvar.photometry import ListedStar, StarListError


def given_reference(reference: Path | None, fact: list[str]) -> ExposureFacts | None:
    """Return the exposure that was named as the one whose pixels places are; ends with why it cannot be read."""
    if reference is None:
        return None
    try:
        return with_user_facts(scan_file(str(reference)), given_facts(fact))
    except FrameError as error:
        fail_usage(str(error))


def origin_of(facts: ExposureFacts, listed: Sequence[ListedStar], wanted: bool) -> Reference | None:
    """Return the exposure that x, y refer to; where all stars are on the sky it may be missing."""
    found = make_reference(facts)
    if not isinstance(found, Failed):
        return found
    if wanted or any(not s.on_sky for s in listed):
        fail_usage(f"{facts.path}: the reference cannot be used: {found.reason}")
    return None


def listed_place(name: str, text: str) -> ListedStar:
    """Return a star at a place that is told as RA,DEC or as px:X,Y, counted from 1.

    Raises
    ------
    ValueError
        If it is neither.
    """
    if text.startswith("px:"):
        x, y = _numbers(text[3:], f"'{text}' is not px:X,Y")
        return ListedStar(name, "target", x=x - 1, y=y - 1)
    ra, dec = parse_position(text)
    return ListedStar(name, "target", ra=ra, dec=dec)


def given_body(
    marks: Sequence[str], rate: str | None, table: Path | None, exposures: Sequence[ExposureFacts]
) -> Body | None:
    """Return the body that the options tell of, None where they tell of none; ends with what is wrong about them."""
    if not marks and rate is None and table is None:
        return None
    try:
        track = None
        if table is not None:
            track = named_body(table, exposures)
        places = tuple(place_in(text, exposures, "--body-at", "FILE:X,Y") for text in marks)
        return Body(places, None if rate is None else _rate(rate), track)
    except (ValueError, StarListError) as error:
        fail_usage(str(error))


def given_common(pairs: Sequence[str], exposures: Sequence[ExposureFacts]) -> dict[str, Pointed]:
    """Return the stars that the options point out, by the exposure that they help; ends with what is wrong about them."""
    found: dict[str, Pointed] = {}
    try:
        for text in pairs:
            here, sign, there = text.partition("=")
            option, form = "--common", "FILE:X,Y=FILE:X,Y"
            if not sign:
                raise ValueError(f"{option} takes {form}, not '{text}'")
            path, *own = place_in(here, exposures, option, form)
            other, *same = place_in(there, exposures, option, form)
            before = found.get(path)
            if path == other or (before is not None and before.other != other):
                raise ValueError(f"{option} {text}: the stars of an exposure are pointed out in one other exposure")
            known = () if before is None else before.pairs
            if len(known) > 1:
                raise ValueError(f"{option} {text}: two stars of an exposure are enough")
            found[path] = Pointed(other, (*known, ((own[0], own[1]), (same[0], same[1]))))
    except ValueError as error:
        fail_usage(str(error))
    return found


def place_in(text: str, exposures: Sequence[ExposureFacts], option: str, form: str) -> tuple[str, float, float]:
    """Return path and place [px, 0-based] that FILE:X,Y tells.

    Raises
    ------
    ValueError
        If it is of another form, or the file is not among the exposures.
    """
    name, _, place = text.rpartition(":")
    x, y = _numbers(place, f"{option} takes {form}, not '{text}'")
    path = Path(name).resolve()
    found = next((f.path for f in exposures if Path(f.path).resolve() == path), None)
    if not name or found is None:
        raise ValueError(f"{option} {text}: {name or 'it'} is not among the exposures")
    # The window and the FITS standard count pixels from 1.
    return found, x - 1, y - 1


def _rate(text: str) -> tuple[float, float]:
    speed, angle = _numbers(text, f"a rate takes ARCSEC_H,ANGLE, not '{text}'")
    if not (0 < speed <= 360_000 and -360 <= angle <= 360):
        raise ValueError("the speed is over 0 and up to 360000 arcsec an hour, the angle from -360 to 360")
    return speed, angle


def _numbers(text: str, problem: str) -> tuple[float, float]:
    try:
        first, second = (float(part) for part in text.split(","))
    except ValueError:
        raise ValueError(problem) from None
    if not (math.isfinite(first) and math.isfinite(second)):
        raise ValueError(problem)
    return first, second


def body_lines(body: BodyStack | None) -> list[str]:
    """Return what became of a body's stack, in lines for the terminal."""
    if body is None:
        return []
    if not body.output:
        return [f"no stack on the body: {body.reason}"]
    lines = [f"{body.output}: on the body, which moves {body.px_h:.2f} px an hour"]
    lines += [f"not in it: {Path(one.file).name}: {one.reason}" for one in body.lost]
    return lines + ([body.smeared] if body.smeared else [])


def body_marked(
    name: str, at: Sequence[str], lights: Sequence[ExposureFacts], option: str, rate: str | None = None
) -> ListedStar:
    """Return the body that is marked in two exposures or more, or in one with its rate; ends with what is wrong about it."""
    marks = []
    by_path = {facts.path: facts for facts in lights}
    moving = None
    try:
        if rate is not None:
            moving = _rate(rate)
            if len(at) != 1:
                raise ValueError(f"with a rate the body is marked in one exposure: one {option}")
        for text in at:
            path, x, y = place_in(text, lights, option, "FILE:X,Y")
            wcs = wcs_of(path)
            if wcs is None:
                raise ValueError(f"{option} {text}: it has no plate solution (solve it first)")
            marks.append((by_path[path], wcs, x, y))
    except (ValueError, FrameError) as error:
        fail_usage(str(error))
    found = marked_body(name, marks, lights, rate=moving)
    if isinstance(found, Failed):
        fail_usage(found.reason)
    return found
