"""Pointing in exposures: a moving body gets its stack, an exposure that does not match is brought in by common stars."""

import json
import math
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, Qt
from tools.cases import SMALL, small_demo
from tools.window_cases import WindowCase

from tests.desktop.scored import ScoredCase
from tests.registration.test_registration import affine
from ulvar.frames import read_plane, write_fits
from ulvar.photometry import measure_apertures
from ulvar.registration import Transform
from ulvar.simulation import Psf, star_field
from ulvar.simulation.demo_plan import minor_body
from ulvar.simulation.optics import Pointing

WIDTH, HEIGHT = 480, 360


class PointingAt:
    """Clicks of the mouse on places of the exposure on screen."""

    def show(self, path: str) -> None:
        """Bring an exposure on screen."""
        self.model.set_current(path)
        self.shown()

    def shown(self) -> None:
        """Wait for the picture that is asked for."""
        self.until(lambda: self.sky.settled, 30, "the picture on screen")

    def page(self, name: str):  # type: ignore[no-untyped-def]
        """Turn the Combine board to a page and return it."""
        self.window.command(f"page {name}")
        return self.window.board_of["combine"].shown

    def point(self, x: float, y: float) -> None:
        """Click a place of the exposure on screen, close up."""
        self.quiet()
        canvas = self.sky.canvas
        canvas.look(QPointF(x, y), 6.0)
        at = canvas.sight.to_screen(x, y)
        self.click(canvas, at.x(), at.y())


class PointingCase(PointingAt, ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.truth = json.loads((small_demo() / "truth.json").read_text(encoding="utf-8"))
        self.paths = [f.path for f in self.model.lights()]

    def body(self, path: str) -> tuple[float, float]:
        """Return where the demo night's minor body truly is in an exposure [px]."""
        facts = self.model.facts(path)
        frame = next(v for k, v in self.truth["frames"].items() if k.endswith(Path(path).name))
        sky = Pointing(
            frame["ra"], frame["dec"], SMALL.scale_arcsec_px, frame["rotation_deg"], SMALL.width, SMALL.height,
            distortion_px=1.2 * SMALL.width / 1000,
        )  # fmt: skip
        ra, dec, _ = minor_body(facts.mid_utc)
        x, y = sky.pixels(np.array([ra]), np.array([dec]))
        return float(x[0]), float(y[0])

    def marks(self) -> dict[str, tuple[float, float]]:
        return {m.file: (m.x, m.y) for m in self.model.night.settings.combine.body_marks}


class MovingBody(PointingCase):
    def test_from_two_clicks_to_a_stack_on_it(self) -> None:
        page = self.page("alignment")
        first, second, last = (self.paths[k] for k in (1, 16, -2))
        self.show(first)
        self.click(page.mark_body)
        self.assertEqual(page.mark_body.text(), "Click the body…")
        self.point(*self.body(first))
        self.assertIn("marked in one exposure", page.body_words.text())
        self.assertTrue(self.sky.canvas.overlay.body[2])
        self.show(last)
        self.assertIsNone(self.sky.canvas.overlay.body)
        self.point(*self.body(last))
        self.assertIn("marked in 2 exposures", page.body_words.text())
        self.assertIn("The next stack gets one on the body", self.messages[-1])
        for path in (first, last):
            # A click is right to a sixth of a pixel here, and a star may be detected beside the body.
            self.assertLess(math.dist(self.marks()[path], self.body(path)), 2.5)
        # Where it is expected in between, on the exposure as it lies on screen.
        self.show(second)
        x, y, marked = self.sky.canvas.overlay.body
        self.assertFalse(marked)
        self.assertLess(math.dist((x, y), self.body(second)), 2.5)
        self.window.command("toggle aligned")
        self.shown()
        way = self.model.looking.transform_of(second)
        np.testing.assert_allclose(self.sky.canvas.overlay.body[:2], np.ravel(way(np.array([x]), np.array([y]))), atol=1e-6)
        self.window.command("toggle aligned")
        # Esc ends it: a click is none on the body any more.
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.model.pointing.mode, page.mark_body.text()), ("", "Mark a moving body"))
        self.point(50.0, 50.0)
        self.assertEqual(set(self.marks()), {first, last})
        self.window.command("run stack")
        self.idle()
        stack = self.model.stacks.stack
        body = stack.values["body"]
        self.assertTrue(Path(body).name.endswith("-body.fits"))
        reference = next(r for r, p in self.model.scores().items() if p.output == p.values["reference"])
        at = self.body(reference)
        on_body, on_stars = (self._light(path, at) for path in (body, stack.output))
        # Mag 17.6 in the mean of some thirty exposures; in the other stack it is rejected.
        self.assertGreater(on_body[0], 5 * on_body[1])
        self.assertLess(on_stars[0], 0.4 * on_body[0])
        page = self.page("result")
        self.click(page.map_buttons["BODY"])
        self.shown()
        self.assertEqual(self.sky.product, body)

    def _light(self, path: str, at: tuple[float, float]) -> tuple[float, float]:
        one = measure_apertures(
            read_plane(path), np.array([at[0]]), np.array([at[1]]), radius_px=3.0, inner_px=8.0, gain_e_per_adu=1e9, outer_px=16.0,
        )  # fmt: skip
        # Of so large a gain the sky's noise alone is left.
        return float(one.flux[0]), float(one.flux_error[0])

    def test_marks_are_taken_away_and_brought_back(self) -> None:
        page = self.page("alignment")
        self.show(self.paths[3])
        self.window.command("mark body")
        self.point(120.0, 90.0)
        before = self.marks()
        self.assertEqual(set(before), {self.paths[3]})
        x, y = before[self.paths[3]]
        self.point(x, y)
        self.assertEqual((self.marks(), page.forget_body.isVisible()), ({}, False))
        self.model.undo.undo()
        self.assertEqual((self.marks(), self.sky.canvas.overlay.body), (before, (x, y, True)))
        self.click(page.forget_body)
        self.assertEqual(self.marks(), {})
        self.model.undo.undo()
        self.assertEqual(self.marks(), before)
        # With one mark alone the stack tells why there is none on the body.
        self.window.command("run stack")
        self.idle()
        self.assertEqual(self.model.stacks.stack.values["body"], "")
        told = [f.text for f in self.model.jobs.findings() if f.code == "no_body"]
        self.assertEqual(len(told), 1)
        self.assertIn("in one exposure", told[0])


class Reference(PointingCase):
    def test_the_exposure_on_screen_becomes_the_reference(self) -> None:
        wanted = self.paths[5]
        self.show(wanted)
        self.window.command("reference")
        self.assertIn(Path(wanted).name, self.messages[-1])
        self.window.command("run stack")
        self.idle()
        self.assertEqual(self.model.stacks.stack.values["reference"], wanted)
        self.show(wanted)
        self.window.command("reference")
        self.assertEqual(self.model.night.settings.combine.reference, "")
        self.model.undo.undo()
        self.assertEqual(self.model.night.settings.combine.reference, wanted)


class CommonStars(PointingAt, WindowCase):
    """Six small exposures, the last of a field turned by 40 degrees of which only seven stars are common."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(7)
        x, y, flux = rng.uniform(0, WIDTH, 60), rng.uniform(0, HEIGHT, 60), 10 ** rng.uniform(3.6, 4.8, 60)
        inside = np.flatnonzero(np.hypot(x - WIDTH / 2, y - HEIGHT / 2) < 0.4 * HEIGHT)
        kept = np.array([k for k in inside if np.sort(np.hypot(x - x[k], y - y[k]))[1] > 14])[:7]
        self.turn = affine(1.0, math.radians(40), 60.0, -90.0)
        u, v = Transform(self.turn).inverse()(x[kept], y[kept])
        self.places = np.column_stack([u, v])
        (self.folder / "raw").mkdir()
        for k in range(6):
            dx, dy = 2.0 * k, -1.5 * k
            if k < 5:
                places = x + dx, y + dy, flux
            else:
                others = rng.uniform(0, WIDTH, 60), rng.uniform(0, HEIGHT, 60), flux
                places = tuple(np.append(own, more) for own, more in zip((u, v, flux[kept]), others))
            image = star_field(rng, width=WIDTH, height=HEIGHT, x=places[0], y=places[1], flux_e=places[2], psf=Psf.with_fwhm(3.0))
            cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "DATE-OBS": f"2027-02-11T20:{10 * k:02d}:00", "FILTER": "V"}
            write_fits(self.folder / "raw" / f"light-{k}.fits", image.astype(np.float32), cards=cards, replace=True)
        self.model, self.sky = self.window.model, self.window.sky
        self.model.open(self.folder / "raw")
        self.idle()
        self.model.set_station("combine")
        self.window.command("run score")
        self.idle()
        self.paths = [f.path for f in self.model.lights()]
        scores = self.model.scores()
        self.reference = next(r for r, p in scores.items() if p.output == p.values["reference"])
        self.lone = self.paths[5]
        k = self.paths.index(self.reference)
        # From the last exposure's pixels to those of the reference.
        self.way = Transform(self.turn).then(Transform.shift(2.0 * k, -1.5 * k))

    def test_an_exposure_is_brought_in(self) -> None:
        self.assertIsNone(self.model.scores()[self.lone].values["matrix"])
        page = self.page("alignment")
        self.show(self.reference)
        self.assertFalse(page.point.isVisible())
        self.show(self.lone)
        self.assertTrue(page.point.isVisible())
        self.click(page.point)
        for k in (0, 1):
            self.show(self.lone) if k else None
            self.point(*self.places[k])
            self.until(lambda: self.model.current == self.reference, 10, "the reference on screen")
            self.shown()
            there = self.way(*(np.array([v]) for v in self.places[k]))
            self.point(float(there[0][0]), float(there[1][0]))
            if self.model.pointing.mode == "":
                break
            self.until(lambda: self.model.current == self.lone, 10, "the exposure on screen")
        self.idle()
        self.assertEqual(self.model.current, self.lone)
        score = self.model.scores()[self.lone]
        self.assertIsNotNone(score.values["matrix"])
        way = self.model.looking.transform_of(self.lone)
        np.testing.assert_allclose(way(*self.places.T), self.way(*self.places.T), atol=0.5)
        self.assertIn("stars in common", page.words.text())
        self.assertFalse([f for f in self.model.jobs.findings() if self.lone in f.files and f.code == "not_aligned"])
        # Taken back, it is out again with the next scoring.
        self.model.undo.undo()
        self.assertEqual(self.model.night.settings.combine.common, [])

    def test_a_wrong_star_is_refused_and_a_second_one_asked_for(self) -> None:
        self.page("alignment")
        self.show(self.reference)
        self.window.command("common star")
        self.assertIn("This exposure is aligned", self.messages[-1])
        self.show(self.lone)
        self.window.command("common star")
        self.point(*self.places[0])
        self.shown()
        wrong = self.way(*(np.array([v]) for v in self.places[3]))
        self.point(float(wrong[0][0]), float(wrong[1][0]))
        self.assertIn("point out a second one: click it here", self.messages[-1].lower())
        self.assertEqual((self.model.pointing.mode, self.model.current), ("here", self.lone))
        self.window.command("stop")
        self.assertEqual(self.model.pointing.mode, "")
        self.assertEqual(self.model.night.settings.combine.common, [])
