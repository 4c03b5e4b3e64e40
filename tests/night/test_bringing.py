"""How a night's exposures are brought together: by plate solutions, not at all, onto a reference of choice."""

import math

import numpy as np

from tests.night.test_written import COUNT, SixExposures
from ulvar.astrometry import Wcs
from ulvar.engine import JobContext
from ulvar.flows.wcsfile import write_wcs_file
from ulvar.frames import read_plane
from ulvar.night import Night
from ulvar.night.products import Product
from ulvar.night.stations import run_stack
from ulvar.photometry import measure_apertures


class Brought(SixExposures):
    """Six exposures, each moved against the last."""

    def stacked(self, night: Night, **settings: object) -> Product:
        told = night.settings
        for name, value in settings.items():
            setattr(told.combine, name, value)
        night.set_settings(told)
        self.result = run_stack(night, JobContext())
        (stack,) = night.products_of("stack").values()
        return stack

    def at(self, stack: Product, k: int, i: int) -> float:
        """Return the light of a star in a stack, where an exposure has it."""
        dx, dy = self.shift(i)
        data = np.nan_to_num(read_plane(stack.output), nan=312.0)
        one = measure_apertures(data, np.array([self.x[k] + dx]), np.array([self.y[k] + dy]), radius_px=4.0, inner_px=7.0, outer_px=11.0)
        return float(one.flux[0])

    def plates(self, night: Night, *which: int) -> None:
        """Solve exposures; what their solutions tell is 1 px off what the stars do, for each exposure more."""
        series = night.current_series()
        products = []
        for raw in night.products_of("score"):
            i = int(raw[-6])
            if i not in which:
                continue
            dx, dy = self.shift(i)
            sky = Wcs(100.0, 20.0, 180.0 + dx + i, 130.0 + dy, 1.2 / 3600 * np.array([[-1.0, 0.0], [0.0, 1.0]]))
            path = night.products / f"plate-{i}.wcs"
            write_wcs_file(path, sky, "made up")
            products.append(Product("plate", raw, str(path), {}))
        night.store_products("plate", products, series=series.key, clear=True)

    def test_a_reference_of_choice(self) -> None:
        night = self.night()
        raws = sorted(night.products_of("score"))
        for i in (0, 4):
            stack = self.stacked(night, reference=raws[i])
            self.assertEqual((stack.values["reference"], stack.values["count"]), (raws[i], COUNT))
            self.assertGreater(self.at(stack, 12, i), 5 * abs(self.at(stack, 12, 5 - i)))
        back = self.stacked(night, reference="")
        scores = night.products_of("score")
        self.assertEqual(scores[back.values["reference"]].output, scores[raws[0]].values["reference"])

    def test_by_plate_solutions(self) -> None:
        night = self.night()
        raws = sorted(night.products_of("score"))
        self.plates(night, 0, 1, 2, 4)
        by_stars = self.stacked(night, reference=raws[0], method="mean", weights="equal")
        by_sky = self.stacked(night, align="sky")
        self.assertEqual(by_sky.values["count"], 4)
        self.assertEqual({raw: why for raw, why in by_sky.values["ruled_out"].items() if "no plate" in why}.keys(), {raws[3], raws[5]})
        # Solutions that are wrong along x make stars long: in a small aperture there is less light, and it lies aside.
        sharp, long = (self.peak(stack) for stack in (by_stars, by_sky))
        self.assertLess(long, 0.93 * sharp)
        # Without one of the reference nothing can be laid on it.
        self.plates(night, 1, 2)
        self.stacked(night)
        self.assertIn("has no plate solution", self.result.problem)

    def peak(self, stack: Product) -> float:
        data = read_plane(stack.output)
        x, y = round(self.x[12]), round(self.y[12])
        return float(np.nanmax(data[y - 3 : y + 4, x - 3 : x + 4]))

    def test_not_at_all(self) -> None:
        night = self.night()
        raws = sorted(night.products_of("score"))
        plain = self.stacked(night, align="none", method="mean", weights="equal", normalise="none", reference=raws[0])
        self.assertEqual(plain.values["count"], COUNT)
        mean = np.mean([read_plane(raw) for raw in raws], axis=0)
        np.testing.assert_allclose(read_plane(plain.output), mean, rtol=1e-4)
        self.assertTrue(math.isfinite(plain.values["noise_adu"]))
