"""A second stack of the same exposures, on which a moving body stays where it is and the stars trail."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from dataclasses import replace as changed
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ulvar.astrometry import Wcs, offset_position
from ulvar.engine import Failed, JobContext, OutputExists
from ulvar.flows.align import Aligned
from ulvar.flows.combining import combine_field
from ulvar.flows.gridding import grid_for, pixel_cards
from ulvar.flows.stackfile import Told, sky_cards, write_stack
from ulvar.flows.starfind import Scored
from ulvar.flows.warping import moving_trails
from ulvar.flows.wcsfile import wcs_of
from ulvar.photometry import ListedStar
from ulvar.registration import Transform
from ulvar.stars import Trail

if TYPE_CHECKING:
    from ulvar.flows.stack import StackOptions

# A detection so close to where the user marked the body is the body [px].
_MARKED_PX = 5.0
# Marks that span so much of the series tell how the way is bent, too.
_SPANNED = 0.6
# A body that moves further during an exposure than so many FWHM is told to be long.
_SMEARED = 1.0


@dataclass(frozen=True)
class Body:
    """How a body moves: one of the three.

    Attributes
    ----------
    marks : tuple of (str, float, float)
        Exposures and the body's place in each [px, 0-based], two or more.
    rate : (float, float), optional
        Speed [arcsec an hour] and position angle of its way, from north to east [deg]; the reference's plate must be solved.
    track : ListedStar, optional
        Its places on the sky by time; the reference's plate must be solved.

    Raises
    ------
    ValueError
        Where it is told in more ways than one, or in none, or one mark stands alone.
    """

    marks: tuple[tuple[str, float, float], ...] = ()
    rate: tuple[float, float] | None = None
    track: ListedStar | None = None

    def __post_init__(self) -> None:
        ways = bool(self.marks) + (self.rate is not None) + (self.track is not None)
        if ways != 1:
            raise ValueError("a body's motion is told by marks, by a rate or by a table: by one of them")
        if self.marks and len({path for path, _, _ in self.marks}) < 2:
            raise ValueError("a body has to be marked in two exposures")
        if self.track is not None and not self.track.track:
            raise ValueError("the table of a body needs the column time_utc")


# Where the body is on the reference [px] at a moment; NaN where nobody knows.
Track = Callable[[datetime], tuple[float, float]]


@dataclass(frozen=True)
class BodyStack:
    """What became of the body's stack.

    Attributes
    ----------
    output : str
        Its file; empty where there is none.
    reason : str
        Why there is none.
    lost : tuple of Failed
        Exposures that are in the stack of the stars but not in this one.
    px_h, angle_deg : float
        How the body moves on the reference [px an hour], and where to, counter-clockwise from +x [deg].
    smear_px, smear_fwhm : float
        How far it moves during an exposure, the median of all, and that over their FWHM.
    """

    output: str = ""
    reason: str = ""
    lost: tuple[Failed, ...] = ()
    px_h: float = math.nan
    angle_deg: float = math.nan
    smear_px: float = math.nan
    smear_fwhm: float = math.nan

    @property
    def smeared(self) -> str:
        """What to tell of a body that is long in each exposure; empty where it is not."""
        if not self.smear_fwhm > _SMEARED:
            return ""
        return (
            f"the body moves {self.smear_px:.1f} px during an exposure, {self.smear_fwhm:.1f} times the FWHM of stars: "
            "it is long in each of them"
        )


def body_file(output: Path) -> Path:
    """Return the file of the body's stack, beside that of the stars."""
    return output.with_name(f"{output.stem}-body{output.suffix}")


def track_of(body: Body, aligned: Sequence[Aligned], reference: Scored, solution: Wcs | None = None) -> Track | Failed:
    """Return where a body is on the reference, moment by moment, or why nobody knows.

    Parameters
    ----------
    body : Body
    aligned : sequence of Aligned
    reference : Scored
    solution : Wcs, optional
        Of the reference; by default that of its header, or of the ``.wcs`` file beside it.
    """
    facts = reference.facts
    if body.marks:
        return _marked(body, aligned)
    sky = solution or wcs_of(facts.path)
    if sky is None:
        return Failed(
            f"where the body is, is told on the sky: solve the plate of {Path(facts.path).name} first, or mark the body in "
            "two exposures",
            facts.path,
        )
    if body.rate is not None:
        return _moving(body.rate, sky, reference)
    track = body.track
    assert track is not None

    def listed(when: datetime) -> tuple[float, float]:
        x, y = sky.pixel(*track.sky_at(when))
        return float(x), float(y)

    return listed


def _moving(rate: tuple[float, float], sky: Wcs, reference: Scored) -> Track | Failed:
    facts, (arcsec_h, angle_deg) = reference.facts, rate
    begin = facts.mid_utc
    if begin is None:
        return Failed("the time of the reference is not known", facts.path)
    ra, dec = (float(v) for v in sky.sky((facts.width - 1) / 2, (facts.height - 1) / 2))
    east, north = math.sin(math.radians(angle_deg)), math.cos(math.radians(angle_deg))

    def moved(when: datetime) -> tuple[float, float]:
        away = arcsec_h / 3600 * (when - begin).total_seconds() / 3600
        x, y = sky.pixel(*offset_position(ra, dec, away * east, away * north))
        return float(x), float(y)

    return moved


def _marked(body: Body, aligned: Sequence[Aligned]) -> Track | Failed:
    of = {a.scored.facts.path: a for a in aligned}
    moments: list[datetime] = []
    places: list[tuple[float, float]] = []
    for path, x, y in body.marks:
        one = of.get(path)
        when = None if one is None else one.scored.facts.mid_utc
        if one is None or when is None:
            why = "its time is not known" if one is not None else "it is not aligned, or not among the exposures"
            return Failed(f"the body is marked in {Path(path).name}, but {why}", path)
        at = _snapped(one.scored, x, y)
        u, v = one.transform(np.array([at[0]]), np.array([at[1]]))
        moments.append(when)
        places.append((float(u[0]), float(v[0])))
    return straight_or_bent(moments, places, [m for a in aligned if (m := a.scored.facts.mid_utc) is not None])


def straight_or_bent(
    moments: Sequence[datetime], places: Sequence[tuple[float, float]], every: Sequence[datetime]
) -> Track | Failed:
    """Return the way of a body that was marked: straight, or a parabola where three marks and more span most of a series.

    Parameters
    ----------
    moments : sequence of datetime
        Of the marks.
    places : sequence of (float, float)
        Where it is then, on the reference [px].
    every : sequence of datetime
        Of all exposures of the series.
    """
    begin = moments[0]
    hours = np.array([(when - begin).total_seconds() / 3600 for when in moments])
    if np.ptp(hours) <= 0:
        return Failed("the exposures in which the body is marked have one and the same time")
    span = (max(every) - min(every)).total_seconds() / 3600
    degree = 2 if len(moments) > 2 and np.ptp(hours) >= _SPANNED * span and len(np.unique(hours)) > 2 else 1
    along = [np.polynomial.Polynomial.fit(hours, column, degree) for column in np.array(places).T]

    def followed(when: datetime) -> tuple[float, float]:
        t = (when - begin).total_seconds() / 3600
        return float(along[0](t)), float(along[1](t))

    return followed


def _snapped(scored: Scored, x: float, y: float) -> tuple[float, float]:
    """Return the detection next to where the user pointed, or that place where nothing was found."""
    k = scored.stars.nearest(x, y, _MARKED_PX)
    return (x, y) if k is None else (float(scored.stars.x[k]), float(scored.stars.y[k]))


def following(
    aligned: Sequence[Aligned], track: Track, reference: Scored
) -> tuple[list[Aligned], list[Failed], BodyStack]:
    """Return exposures with their ways changed so that a body stays where the reference has it.

    Returns
    -------
    list of Aligned
    list of Failed
        Exposures at whose time nobody knows where the body is.
    BodyStack
        With the body's motion.
    """
    base = reference.facts.mid_utc
    at = (math.nan, math.nan) if base is None else track(base)
    if base is None or not all(map(math.isfinite, at)):
        why = "its time is not known" if base is None else "the table does not reach its time"
        return (
            [],
            [Failed(f"it is not known where the body is on the reference: {why}", reference.facts.path)],
            BodyStack(),
        )
    kept, lost, smears = [], [], []
    for one in aligned:
        when, seconds = one.scored.facts.mid_utc, one.scored.facts.exposure_s or 0.0
        place = (math.nan, math.nan) if when is None else track(when)
        if when is None or not all(map(math.isfinite, place)):
            why = "its time is not known" if when is None else "the body's table does not reach its time"
            lost.append(Failed(why, one.scored.facts.path))
            continue
        way = one.transform.then(Transform.shift(at[0] - place[0], at[1] - place[1]))
        kept.append(changed(one, transform=way))
        ends = [track(when + timedelta(seconds=s * seconds / 2)) for s in (-1, 1)]
        long = math.hypot(ends[1][0] - ends[0][0], ends[1][1] - ends[0][1])
        smears.append((long, long / one.scored.quality.fwhm_px))
    hour = track(base + timedelta(minutes=1))
    if not all(map(math.isfinite, hour)):
        before = track(base - timedelta(minutes=1))
        hour = 2 * at[0] - before[0], 2 * at[1] - before[1]
    dx, dy = 60 * (hour[0] - at[0]), 60 * (hour[1] - at[1])
    smear = np.nanmedian(np.array(smears), axis=0) if smears else (math.nan, math.nan)
    told = BodyStack(
        px_h=math.hypot(dx, dy), angle_deg=math.degrees(math.atan2(dy, dx)) % 360, smear_px=float(smear[0]),
        smear_fwhm=float(smear[1]),
    )  # fmt: skip
    return kept, lost, told


def _cut(aligned: Sequence[Aligned], followed: Sequence[Aligned]) -> dict[str, tuple[Trail, ...]]:
    """Return the trails that are neither of the stars, which stay on the sky, nor of the body, which stays in this stack."""
    stars, body = moving_trails(aligned), moving_trails(followed)
    return {path: tuple(t for t in trails if t in body.get(path, ())) for path, trails in stars.items()}


def stack_body(
    aligned: Sequence[Aligned],
    reference: Scored,
    output: Path,
    settings: StackOptions,
    context: JobContext,
    *,
    solution: Wcs | None,
    stamp: str,
    replace: bool,
    name: str = "",
) -> BodyStack:
    """Stack exposures once more, on a moving body.

    Parameters
    ----------
    aligned : sequence of Aligned
        On the stars of the reference.
    reference : Scored
    output : Path
        Of the stack of the stars.
    settings : StackOptions
        With the body.
    context : JobContext
    solution : Wcs, optional
        Of the reference, which holds at its time.
    stamp : str
        Fingerprint of inputs and settings.
    replace : bool
    name : str
        Of the series.
    """
    assert settings.body is not None
    track = track_of(settings.body, aligned, reference, solution)
    if isinstance(track, Failed):
        return BodyStack(reason=track.reason)
    followed, lost, told = following(aligned, track, reference)
    if not followed:
        return changed(told, reason=lost[0].reason if lost else "no exposure is left")
    own = changed(settings, align="stars", proper=False, drop=None)
    grid = grid_for(followed, reference, solution, settings.grid)
    if isinstance(grid, Failed):
        return changed(told, reason=grid.reason)
    cut: Mapping[str, tuple[Trail, ...]] = _cut(aligned, followed) if settings.trails else {}
    made = combine_field(followed, reference, grid, body_file(output), own, context, cut)
    lost += made.failed
    if made.stacked is None:
        return changed(told, reason="no exposure could be resampled", lost=tuple(lost))
    placed = [*sky_cards(reference, solution, grid), *pixel_cards(reference.facts, settings.grid.scale)]
    words = Told(reference, made.kept, made.stacked.weights, placed, own, stamp, made.gain_share)
    moment = f"{reference.facts.mid_utc:%Y-%m-%dT%H:%M:%S}"
    history = [
        f"aligned on a moving body: {told.px_h:.3f} px an hour at {told.angle_deg:.2f} deg from +x",
        f"its place on the sky is that at {moment} UTC",
    ]
    try:
        write_stack(
            body_file(output), made.stacked, words, replace=replace, name=name, noise_adu=made.noise_adu,
            correlation=made.correlation, more=history,
        )  # fmt: skip
    except OutputExists as error:
        return changed(told, reason=str(error), lost=tuple(lost))
    return changed(told, output=str(body_file(output)), lost=tuple(lost))
