"""Nights drawn by chance: exposures of all kinds, known and unknown, for what has to be said of any of them."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np

from ulvar.frames import ExposureFacts, Role
from ulvar.inspection import PixelLook

EVENING = datetime(2027, 2, 11, 18, tzinfo=UTC)
# Of each fact some values, among them none.
SOME = {
    "filter": ["", "V", "V", "B"], "exposure_s": [None, 0.0, 2.0, 2.03, 20.0, 60.0, 60.4, 240.0], "gain": [None, 100.0, 100.0, 0.0],
    "offset": [None, 30.0, 30.0, 10.0], "temperature_c": [None, -15.0, -15.0, -14.3, -10.0], "set_temperature_c": [None, -15.0],
    "binning": [1, 1, 1, 2], "width": [300, 300, 300, 200], "camera": ["", "Kvist 6M", "Kvist 6M", "Kvist 9M"], "readout_mode": ["", "", "fast"],
    "software": ["", "Sky 3", "Sky 4"], "driver": ["", "1.2", "1.3"], "session": ["", "2027-02-11", "2027-02-12"], "bitpix": [16, 16, 20, -32],
    "saturation_adu": [None, 65535.0, 4095.0], "is_master": [False, False, False, True], "object": ["", "KV Example", "Field 2"],
    "tags": [{}, {}, {"rig": "east"}, {"rig": "west"}], "gain_e_per_adu": [None, 1.2], "site_latitude_deg": [None, 59.0],
    "origins": [{}, {}, {"saturation_adu": "user"}, {"role": "guessed"}],
}  # fmt: skip


def drawn_night(rng: np.random.Generator, count: int) -> tuple[list[ExposureFacts], dict[str, PixelLook]]:
    """Return facts of exposures of any kind, and looks at most of their pixels."""
    every, looks = [], {}
    # A night is of few kinds, so that some of it fits.
    kinds = [{name: values[rng.integers(len(values))] for name, values in SOME.items()} for _ in range(5)]
    for n in range(count):
        of = {
            **kinds[rng.integers(5)],
            **{name: SOME[name][rng.integers(len(SOME[name]))] for name in rng.permutation(sorted(SOME))[:2]},
        }
        role = list(Role)[rng.integers(len(Role))]
        start = (
            None
            if rng.random() < 0.1
            else EVENING + timedelta(minutes=float(rng.integers(0, 900)), days=float(rng.integers(2) * 20))
        )
        facts = ExposureFacts(f"raw/e-{n:03d}.fits", role, height=200, start_utc=start, **of)
        every.append(
            replace(
                facts,
                site_longitude_deg=facts.site_latitude_deg and 18.0,
                mtime_ns=0 if start is None else int(start.timestamp() * 1e9),
            )
        )
        if rng.random() < 0.8:
            level, step = float(rng.choice([0.0, 300.0, 520.0, 9000.0, 64000.0])), int(rng.choice([0, 1, 1, 4, 16]))
            top = level if rng.random() < 0.1 else float(rng.choice([level + 64, 4095.0, 65520.0, 65535.0]))
            finite, stars = float(rng.choice([0.0, 0.7, 1.0, 1.0])), int(rng.choice([0, 0, 4, 40]))
            looks[facts.path] = PixelLook(
                level, 6.0, level, min(level + 40, top), top, int(rng.choice([1, 900])), step, stars, 60000, finite
            )
    return every, looks
