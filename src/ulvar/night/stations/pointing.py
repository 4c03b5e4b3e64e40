"""What the user pointed out in exposures: a moving body, and stars that two exposures have in common."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from ulvar.combine import Method
from ulvar.engine import Failed
from ulvar.flows import Body, Pointed, StackOptions, StackResult, named_body
from ulvar.frames import ExposureFacts
from ulvar.inspection import Finding, notice
from ulvar.night.settings import CombineSettings
from ulvar.photometry import StarListError
from ulvar.stacking import Weighting


def body_of(
    settings: CombineSettings, path_of: Mapping[str, str], exposures: Sequence[ExposureFacts]
) -> Body | Failed | None:
    """Return the moving body that a series is stacked on, too; None where none is told of it, Failed where too little is.

    Parameters
    ----------
    settings : CombineSettings
    path_of : mapping of str to str
        Raw path to the file that is worked on, of the exposures that are stacked.
    exposures : sequence of ExposureFacts
        Their times and site are those at which orbital elements are looked at.
    """
    marks = [(path_of[m.file], m.x, m.y) for m in settings.body_marks if m.file in path_of]
    if marks:
        if len(marks) < 2:
            return Failed(
                "it is marked in one exposure of those that are stacked: mark it in a second one", marks[0][0]
            )
        return Body(marks=tuple(marks))
    if settings.body_rate is not None:
        return Body(rate=(settings.body_rate, settings.body_angle))
    if not settings.body_table:
        return None
    try:
        track = named_body(settings.body_table, exposures)
    except StarListError as error:
        return Failed(str(error), settings.body_table)
    return Body(track=track)


def common_of(settings: CombineSettings, working: Mapping[str, ExposureFacts]) -> dict[str, Pointed]:
    """Return the common stars that were pointed out, by the files that are worked on."""
    return {
        working[one.file].path: Pointed(working[one.other].path, tuple(((a, b), (c, d)) for a, b, c, d in one.pairs))
        for one in settings.common
        if one.file in working and one.other in working
    }


def body_findings(result: StackResult, body: Body | Failed | None, raws: Sequence[str]) -> list[Finding]:
    """Return what is to be told of a stack on a moving body: why there is none, who is not in it, that the body is long."""
    reason = body.reason if isinstance(body, Failed) else result.body.reason if result.body is not None else ""
    found = []
    if reason:
        found.append(notice("no_body", "No stack on the moving body", f"{reason[:1].upper()}{reason[1:]}.", raws))
    if result.body is not None and result.body.lost:
        lost = result.body.lost
        first = f"{Path(lost[0].file).name}: {lost[0].reason}"
        text = f"{len(lost)} of the exposures are not in it. {first}."
        found.append(notice("no_body", "Exposures without the moving body", text, raws))
    if result.body is not None and result.body.output and result.body.smeared:
        text = f"{result.body.smeared[:1].upper()}{result.body.smeared[1:]}."
        found.append(notice("body_long", "The moving body is long", text, raws))
    return found


def stack_options(
    settings: CombineSettings, reference: str | None = None, body: Body | None = None, *, align: str = "stars"
) -> StackOptions:
    """Return the night's settings as stacking takes them, with the reference and the moving body.

    A mosaic has neither a proper coadd nor a reconstruction.
    """
    mosaic = align == "mosaic"
    return StackOptions(
        align=align, grid=settings.grid, resampling=settings.resampling, rejection=settings.rejection, normalise=settings.normalise,
        reference=reference, trails=settings.trails, maps=settings.maps, proper=settings.proper and not mosaic,
        drop=None if mosaic else settings.drop,
        colours=settings.colours, body=body,
        feather_px=settings.feather_px if mosaic else 0.0,
        # The median takes no weights.
        weighting=Weighting.EQUAL if settings.method is Method.MEDIAN else settings.weights,
    )  # fmt: skip
