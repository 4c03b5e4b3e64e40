"""The proper coadd of exposures that were resampled for a stack, and its file."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ulvar.combine import RowSource
from ulvar.engine import F32Array, Failed, JobContext
from ulvar.flows.align import Aligned
from ulvar.flows.stackfile import Told, time_cards
from ulvar.frames import write_fits
from ulvar.stacking import Stacked, StackInput
from ulvar.stacking.proper import CoaddInput, ProperCoadd, alone, proper_bytes, proper_coadd, star_profile
from ulvar.stacking.stack import scaled_sources

# Stars of this SNR and more tell a profile.
_BRIGHT = 40.0


def proper_file(output: Path) -> Path:
    """Return the file of the proper coadd that goes with a stack."""
    return output.with_name(f"{output.stem}-proper.fits")


def coadd_of(
    inputs: Sequence[StackInput], moved: Sequence[Aligned], stacked: Stacked, sky_adu: float, context: JobContext
) -> ProperCoadd | Failed:
    """Return the proper coadd of exposures that lie on a stack's grid, or why there is none.

    Parameters
    ----------
    inputs : sequence of StackInput
        As they were stacked.
    moved : sequence of Aligned
        With their ways onto the stack's grid.
    stacked : Stacked
    sky_adu : float
        Its background.
    context : JobContext
    """
    needed = proper_bytes(stacked.data.shape)
    if needed > context.budget_bytes:
        return Failed(
            f"a proper coadd of this size takes {needed / 1e6:.0f} MB, and {context.budget_bytes / 1e6:.0f} MB are allowed",
            "",
        )
    sources = scaled_sources(inputs, stacked.scaling, stacked.surfaces)
    made = []
    for done, (source, entry, (factor, _), one) in enumerate(zip(sources, inputs, stacked.scaling, moved)):
        context.stop.check()
        context.progress(done, len(inputs), "Measuring profiles")
        noise = entry.noise_adu * factor
        if not math.isfinite(noise) or noise <= 0:
            return Failed("the noise of an exposure is not known", one.scored.facts.path)
        made.append(CoaddInput(source, noise, _profile(source, one, sky_adu)))
    context.progress(len(inputs), len(inputs), "Adding properly")
    return proper_coadd(made, stacked.data, sky_adu, workers=context.workers, stop=context.stop)


def _profile(source: RowSource, one: Aligned, sky_adu: float) -> F32Array:
    stars, quality = one.scored.stars, one.scored.quality
    x, y = one.transform(stars.x, stars.y)
    middle = one.transform.affine_at(one.scored.facts.width / 2, one.scored.facts.height / 2)
    fwhm = quality.fwhm_px * middle.scale if math.isfinite(quality.fwhm_px) else 3.0
    clean = (stars.flags == 0) & (stars.snr > _BRIGHT) & alone(x, y, stars.flux, 8 * fwhm)
    order = np.flatnonzero(clean)[np.argsort(-stars.flux[clean], kind="stable")]
    return star_profile(source.rows(0, source.height), x[order], y[order], fwhm, sky_adu)


def write_proper(output: Path, coadd: ProperCoadd, told: Told) -> None:
    """Write a proper coadd, as `write_stack` a stack, with its noise in the header and its profile beside it."""
    cards = [
        *told.placed, *time_cards([a.scored.facts for a in told.kept], told.weights),
        ("NCOMBINE", len(told.kept), "exposures added"), ("SKYNOISE", coadd.noise_adu, "[adu] noise of a pixel"),
        ("BUNIT", "adu", "over a background of 0"), ("EGAIN", None, ""), ("RDNOISE", None, ""), ("PEDESTAL", None, ""),
    ]  # fmt: skip
    history = ["proper coadd (Zackay and Ofek 2017, ApJ 836, 188); its profile is the extension PSF"]
    write_fits(output, coadd.data, history=history, replace=True, maps={"PSF": coadd.psf}, **told.header(cards))
