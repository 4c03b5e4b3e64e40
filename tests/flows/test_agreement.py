"""The reference is agreed upon: a starless exposure, a pattern of defects or another field never makes it, nor wins a match."""

import math
import unittest
from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

import numpy as np

from ulvar.engine import JobContext
from ulvar.flows import Pointed, Scored, align_agreeing, helped, told_apart
from ulvar.flows.agreement import Agreement
from ulvar.frames import ExposureFacts
from ulvar.stars import ExposureQuality, StarTable

WIDTH, HEIGHT = 900, 600


class Sky:
    """A field with the stars that its exposures show, on a sensor with defects that stay where they are."""

    def __init__(self, seed: int, *, stars: int = 50, defects: int = 0) -> None:
        self.rng = np.random.default_rng(seed)
        self.x, self.y = self.rng.uniform(20, WIDTH - 20, stars), self.rng.uniform(20, HEIGHT - 20, stars)
        self.flux = 10 ** self.rng.uniform(3, 5, stars)
        self.defects = np.column_stack(
            [
                self.rng.uniform(0, WIDTH, defects), self.rng.uniform(0, HEIGHT, defects), 10 ** self.rng.uniform(3, 5, defects),
            ]
        )  # fmt: skip

    def exposure(
        self, name: str, score: float, *, dx: float = 0.0, dy: float = 0.0, turned: bool = False, stars: bool = True, noise: int = 0
    ) -> Scored:
        """Return an exposure moved by so much, perhaps turned by half a circle, perhaps with detections that are noise."""
        rows = [self.defects + self.rng.normal(0, [0.1, 0.1, 1.0], self.defects.shape)]
        if stars:
            x, y = (WIDTH - self.x, HEIGHT - self.y) if turned else (self.x, self.y)
            rows.append(np.column_stack([x + dx, y + dy, self.flux]) + self.rng.normal(0, [0.05, 0.05, 5.0], (len(x), 3)))
        rows.append(np.column_stack([self.rng.uniform(0, WIDTH, noise), self.rng.uniform(0, HEIGHT, noise), np.full(noise, 500.0)]))
        found = np.concatenate(rows)
        found = found[np.argsort(-found[:, 2], kind="stable")]
        columns = {key: np.full(len(found), 3.0) for key in StarTable.__dataclass_fields__}
        columns |= {
            "x": found[:, 0], "y": found[:, 1], "flux": found[:, 2], "snr": found[:, 2] / 20, "flags": np.zeros(len(found), np.int64),
        }  # fmt: skip
        facts = ExposureFacts(name, width=WIDTH, height=HEIGHT)
        return Scored(facts, StarTable(**columns), ExposureQuality(len(found), 3.0, 0.1, 100.0, 5.0, 1e4, 0, score))


def agreed(scored: Sequence[Scored]) -> tuple[str, list[str], dict[str, str]]:
    """Return the reference, the exposures that agree with it, and why the others do not."""
    made = align_agreeing(scored, JobContext())
    return (
        made.reference.facts.path, [a.scored.facts.path for a in made.aligned], {f.file: f.reason for f in made.failed},
    )  # fmt: skip


class Agreed(unittest.TestCase):
    def check_moves(self, scored: Sequence[Scored], moves: dict[str, tuple[float, float]]) -> None:
        """Compare the transforms with how the exposures were moved."""
        made = align_agreeing(scored, JobContext())
        rx, ry = moves[made.reference.facts.path]
        self.assertEqual([a.scored.facts.path for a in made.aligned], list(moves))
        for one in made.aligned:
            dx, dy = moves[one.scored.facts.path]
            middle = one.transform.matrix @ [WIDTH / 2, HEIGHT / 2, 1]
            # 30 to 50 stars, each placed to 0.07 px against its partner.
            np.testing.assert_allclose(middle, [WIDTH / 2 + rx - dx, HEIGHT / 2 + ry - dy], atol=0.06)
            np.testing.assert_allclose(one.transform.matrix[:, :2], np.eye(2), atol=5e-4)

    def test_the_best_of_those_that_agree(self) -> None:
        sky = Sky(1)
        moves = {"a": (0.0, 0.0), "b": (12.0, -7.0), "c": (-3.0, 30.0), "d": (25.0, 4.0)}
        scored = [sky.exposure(name, 0.5 + n / 10, dx=dx, dy=dy) for n, (name, (dx, dy)) in enumerate(moves.items())]
        empty = sky.exposure("starless", 0.99, stars=False, noise=40)
        self.check_moves([scored[0], empty, *scored[1:]], moves)
        reference, used, why = agreed([scored[0], empty, *scored[1:]])
        self.assertEqual((reference, used), ("d", ["a", "b", "c", "d"]))
        self.assertIn("do not form the pattern", why["starless"])

    def test_defects_make_no_reference_and_win_no_match(self) -> None:
        sky = Sky(2, stars=30, defects=80)
        moves = {"a": (0.0, 0.0), "b": (12.0, -7.0), "c": (-9.0, 30.0), "d": (25.0, 4.0), "e": (25.3, 4.1)}
        scored = [sky.exposure(name, 0.5 + n / 100, dx=dx, dy=dy) for n, (name, (dx, dy)) in enumerate(moves.items())]
        dark = [sky.exposure(f"dark {n}", 0.9, stars=False, noise=5) for n in range(3)]
        for order in ([*dark, *scored], [*scored, *dark], [dark[0], *scored[:2], *dark[1:], *scored[2:]]):
            with self.subTest([s.facts.path for s in order]):
                reference, used, why = agreed(order)
                self.assertEqual(reference, "e")
                self.assertEqual(sorted(used), list("abcde"))
                self.assertEqual(sorted(why), [s.facts.path for s in dark])
                self.check_moves(
                    [s for s in order if s not in dark], {n: moves[n] for n in sorted(used, key=[s.facts.path for s in order].index)}
                )
        made = align_agreeing([*dark, *scored], JobContext())
        self.assertGreater(made.defects, 70)
        self.assertLess(made.defects, 83)
        # What comes back is the exposure as it was, with all that was found in it.
        self.assertEqual({id(a.scored) for a in made.aligned}, {id(s) for s in scored})

    def test_a_mount_that_follows_well_has_no_defects(self) -> None:
        sky = Sky(3)
        scored = [sky.exposure(f"{n}", 0.5, dx=n / 10, dy=-n / 20, noise=25) for n in range(5)]
        made = align_agreeing(scored, JobContext())
        self.assertEqual((made.defects, len(made.aligned), made.groups), (0, 5, ()))
        for n, one in enumerate(made.aligned):
            middle = one.transform.matrix @ [WIDTH / 2, HEIGHT / 2, 1]
            np.testing.assert_allclose(middle, [WIDTH / 2 - n / 10, HEIGHT / 2 + n / 20], atol=0.06)

    def test_turned_over_the_pier(self) -> None:
        sky = Sky(4, defects=30)
        scored = [
            sky.exposure("a", 0.9), sky.exposure("b", 0.5, turned=True), sky.exposure("c", 0.4, turned=True, dx=4.0),
        ]  # fmt: skip
        made = align_agreeing(scored, JobContext())
        self.assertEqual([round(a.transform.rotation_deg) % 360 for a in made.aligned], [0, 180, 180])
        self.assertTrue(25 <= made.defects <= 31, made.defects)

    def test_two_fields_are_two_sets(self) -> None:
        one, other, third = Sky(5), Sky(6), Sky(7)
        scored = [other.exposure(f"o{n}", 0.9 - n / 100, dx=9.0 * n) for n in range(3)]
        scored += [one.exposure(f"i{n}", 0.5 - n / 100, dx=5.0 * n) for n in range(4)]
        scored += [third.exposure("alone", 0.95)]
        made = align_agreeing(scored, JobContext())
        self.assertEqual((made.reference.facts.path, made.groups), ("i0", (("o0", "o1", "o2"),)))
        why = {f.file: f.reason for f in made.failed}
        self.assertEqual(list(why), ["o0", "o1", "o2", "alone"])
        self.assertEqual(why["o1"], "it shows the same stars as 2 other exposures, not those of the reference i0")
        self.assertIn("do not form the pattern", why["alone"])
        (finding,) = told_apart(made, ["Field 2"])
        self.assertEqual((finding.code, finding.files), ("other_field", ("o0", "o1", "o2")))
        self.assertEqual(finding.text, "3 exposures show the same stars, but not those of i0: o0, o1, o2.")
        assert finding.mend is not None
        self.assertEqual(
            (finding.mend.label, finding.mend.action, finding.mend.files), ("Make a series of 3", "object:Field 2", finding.files)
        )
        self.assertIsNone(told_apart(made)[0].mend)

    def test_nothing_agrees(self) -> None:
        made = align_agreeing([Sky(n + 10).exposure(f"{n}", 0.1 * n) for n in range(3)], JobContext())
        self.assertEqual((made.reference.facts.path, len(made.aligned), made.groups), ("2", 1, ()))
        (finding,) = told_apart(made)
        self.assertEqual(
            (finding.code, finding.text, len(finding.files)), ("no_agreement", "No two of 3 exposures show the same stars.", 3)
        )

    def test_without_any_star_nothing_is_aligned(self) -> None:
        made = align_agreeing([Sky(1).exposure(f"{n}", 0.5, stars=False, noise=n) for n in range(4)], JobContext())
        self.assertEqual((made.aligned, len(made.failed)), ([], 4))
        self.assertIn("too few stars: 0, at least 4", made.failed[0].reason)
        self.assertEqual([len(f.files) for f in told_apart(made)], [4])

    def test_one_exposure_is_its_own_reference(self) -> None:
        made = align_agreeing([Sky(1).exposure("a", math.nan)], JobContext())
        self.assertEqual((len(made.aligned), made.failed, told_apart(made)), (1, [], []))


class Helped(unittest.TestCase):
    """Exposures whose few stars drown are brought in by stars that were pointed out, in whichever exposure that is aligned."""

    MOVES: ClassVar = {"a": (0.0, 0.0), "b": (12.0, -7.0), "c": (-3.0, 30.0)}

    def setUp(self) -> None:
        sky = Sky(11)
        self.sky = sky
        self.scored = [sky.exposure(n, 0.5 + 0.1 * k, dx=dx, dy=dy) for k, (n, (dx, dy)) in enumerate(self.MOVES.items())]
        poor = sky.exposure("poor", 0.2, turned=True, dx=40.0, noise=60)
        # Seven of its stars, and all that is noise.
        own = np.flatnonzero(poor.stars.flux != 500.0)[:7]
        self.poor = replace(poor, stars=poor.stars.select(np.sort(np.append(own, np.flatnonzero(poor.stars.flux == 500.0)))))
        self.scored.append(self.poor)
        self.places = np.column_stack([poor.stars.x, poor.stars.y])[own]

    def there(self, k: int, name: str) -> tuple[float, float]:
        """Return where another exposure has one of the poor one's stars."""
        x, y = self.places[k]
        dx, dy = self.MOVES[name]
        return WIDTH - (x - 40.0) + dx, HEIGHT - y + dy

    def helped(self, other: str, *which: int) -> Agreement:
        agreement = align_agreeing(self.scored, JobContext())
        self.assertEqual([f.file for f in agreement.failed], ["poor"])
        pairs = tuple((tuple(self.places[k]), self.there(k, other)) for k in which)
        return helped(agreement, self.scored, {"poor": Pointed(other, pairs)})

    def test_by_one_star_in_the_reference_or_another(self) -> None:
        for other in ("c", "a"):
            made = self.helped(other, 2)
            self.assertEqual(([a.scored.facts.path for a in made.aligned], made.failed), (["a", "b", "c", "poor"], []))
            way = made.aligned[3].transform
            assert made.reference.facts.path == "c"
            found = np.column_stack(way(*self.places.T))
            np.testing.assert_allclose(found, [self.there(k, "c") for k in range(7)], atol=0.3)
            self.assertAlmostEqual(made.aligned[3].flux_ratio, 1.0, delta=0.05)

    def test_one_that_is_wrong_or_leans_on_one_that_is_not_aligned_stays_out(self) -> None:
        agreement = align_agreeing(self.scored, JobContext())
        wrong = helped(agreement, self.scored, {"poor": Pointed("c", ((tuple(self.places[0]), self.there(3, "c")),))})
        self.assertEqual([(f.file, "point out a second" in f.reason) for f in wrong.failed], [("poor", True)])
        lost = helped(agreement, self.scored, {"poor": Pointed("gone", ((tuple(self.places[0]), self.there(0, "c")),))})
        self.assertIn("is not aligned itself", lost.failed[0].reason)
        # What was aligned by itself is left as it is.
        same = helped(agreement, self.scored, {"a": Pointed("c", ((0.0, 0.0), (5.0, 5.0)))})  # type: ignore[arg-type]
        self.assertEqual(same.aligned, agreement.aligned)
