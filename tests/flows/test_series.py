"""Which lights belong together."""

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from ulvar.flows import Field, find_series, picked
from ulvar.flows.series import slug
from ulvar.frames import ExposureFacts, Role

START = datetime(2027, 2, 11, 20, tzinfo=UTC)


def light(i: int, **facts: object) -> ExposureFacts:
    moment = START + timedelta(minutes=i)
    known = {"role": Role.LIGHT, "width": 600, "height": 400, "filter": "V", "start_utc": moment, "mid_utc": moment}
    return ExposureFacts(f"/n/L{i:03}.fits", **{**known, **facts})  # type: ignore[arg-type]


def shown(exposures: list[ExposureFacts], **options: object) -> dict[str, list[str]]:
    """Key to file numbers."""
    series = find_series(exposures, **options)  # type: ignore[arg-type]
    return {one.key: [facts.name[1:4] for facts in one.members] for one in series}


class Fields(unittest.TestCase):
    def test_filters_interleaved_and_fields_one_after_the_other(self) -> None:
        places = {"Far Star": (120.0, 20.0), "Near Star": (200.0, -10.0)}
        exposures = [
            light(i, object=name, filter="VBR"[i % 3], ra_deg=places[name][0], dec_deg=places[name][1])
            for i, name in enumerate(["Far Star"] * 6 + ["Near Star"] * 4)
        ]
        self.assertEqual(
            shown(exposures),
            {
                "Far-Star-V": ["000", "003"], "Far-Star-B": ["001", "004"], "Far-Star-R": ["002", "005"],
                "Near-Star-V": ["006", "009"], "Near-Star-B": ["007"], "Near-Star-R": ["008"],
            },
        )  # fmt: skip
        self.assertEqual(find_series(exposures)[0].title, "Far Star · V")

    def test_pointing_is_believed_before_names(self) -> None:
        # Half the shorter side of 400 px of 3 arcsec is 10 arcmin.
        scale = {"scale_arcsec_px": 3.0}
        dithered = [light(i, object=f"x{i}", ra_deg=50.0, dec_deg=60.0 + 0.1 * i, **scale) for i in range(4)]
        self.assertEqual(len(shown(dithered)), 1)
        apart = [light(i, object="x", ra_deg=50.0, dec_deg=60.0 + 0.2 * i, **scale) for i in range(2)]
        self.assertEqual(shown(apart), {"x-V": ["000"], "x-2-V": ["001"]})
        self.assertEqual([s.title for s in find_series(apart)], ["x · V (x)", "x · V (x-2)"])
        # Near the pole and across 0 h degrees of right ascension are not degrees on the sky.
        across = [light(0, ra_deg=359.99, dec_deg=0.0, **scale), light(1, ra_deg=0.01, dec_deg=0.0, **scale)]
        (one,) = find_series(across)
        self.assertAlmostEqual((one.field.ra_deg or 0.0) % 360 % 359.999, 0.0, delta=0.02)
        polar = [light(0, ra_deg=0.0, dec_deg=89.95, **scale), light(1, ra_deg=180.0, dec_deg=89.95, **scale)]
        self.assertEqual(len(find_series(polar)), 1)

    def test_without_pointing_the_name_decides(self) -> None:
        exposures = [light(0, object="Tarn 7"), light(1, object="tarn-7"), light(2, object="Holt 4"), light(3)]
        self.assertEqual(shown(exposures), {"Tarn-7-V": ["000", "001"], "Holt-4-V": ["002"], "field-V": ["003"]})
        mixed = [
            light(0, object="Tarn 7", ra_deg=10.0, dec_deg=1.0), light(1, object="tarn 7"),
            light(2, object="Holt 4", ra_deg=30.0, dec_deg=1.0),
        ]  # fmt: skip
        self.assertEqual(shown(mixed), {"Tarn-7-V": ["000", "001"], "Holt-4-V": ["002"]})

    def test_a_name_that_the_user_gave_always_decides(self) -> None:
        by_hand = {"origins": {"object": "user"}}
        same = {"ra_deg": 10.0, "dec_deg": 1.0}
        exposures = [
            light(0, object="A", **same), light(1, object="B", **same, **by_hand), light(2, object="A", **same),
        ]  # fmt: skip
        self.assertEqual(shown(exposures), {"A-V": ["000", "002"], "B-V": ["001"]})
        exposures[1] = light(1, object="a", ra_deg=77.0, dec_deg=1.0, **by_hand)
        self.assertEqual(shown(exposures), {"a-V": ["000", "001", "002"]})

    def test_telescopes_are_kept_apart(self) -> None:
        exposures = [
            light(0, object="A", camera="One"), light(1, object="A", camera="Two"), light(2, object="A", camera="One"),
        ]  # fmt: skip
        series = find_series(exposures)
        self.assertEqual([s.title for s in series], ["A · V · One", "A · V · Two"])
        self.assertEqual([len(s.members) for s in series], [2, 1])
        sizes = [light(0, object="A"), light(1, object="A", width=300, height=200)]
        self.assertEqual([s.title for s in find_series(sizes)], ["A · V · 600 x 400", "A · V · 300 x 200"])
        binned = [light(0, object="A"), light(1, object="A", binning=2)]
        self.assertEqual(len(find_series(binned)), 2)

    def test_tags_that_part_stacks(self) -> None:
        exposures = [light(i, object="A", tags={"side": "east" if i < 2 else "west"}, session="e1") for i in range(3)]
        self.assertEqual(shown(exposures), {"A-V": ["000", "001", "002"]})
        self.assertEqual(shown(exposures, apart=["side"]), {"A-V-east": ["000", "001"], "A-V-west": ["002"]})
        self.assertEqual(shown(exposures, apart=["session"]), {"A-V-e1": ["000", "001", "002"]})

    def test_only_lights_count(self) -> None:
        exposures = [light(0), light(1, role=Role.DARK), light(2, is_master=True), light(3, role=Role.UNKNOWN)]
        self.assertEqual(shown(exposures), {"field-V": ["000", "003"]})
        self.assertEqual(find_series([]), [])

    def test_fields_keep_their_keys(self) -> None:
        place = {"ra_deg": 10.0, "dec_deg": 1.0}
        (first,) = find_series([light(0, object="Old", **place)])
        known = [Field.from_json(first.field.as_json())]
        self.assertEqual(known, [first.field])
        many = [light(i, object="New", **place) for i in range(1, 5)]
        (again,) = find_series([light(0, object="Old", **place), *many], known=known)
        self.assertEqual((again.key, again.title), ("Old-V", "New · V"))
        # Another field of the same name gets another key.
        other = find_series([light(9, object="Old", ra_deg=40.0, dec_deg=1.0)], known=known)
        self.assertEqual([s.key for s in other], ["Old-2-V"])
        (unplaced,) = find_series([light(9, object="old")], known=[Field("k", "Old", None, None, first.field.setup, ("old",))])
        self.assertEqual(unplaced.key, "k-V")

    def test_keys_are_file_names_and_no_two_alike(self) -> None:
        exposures = [
            light(0, object="a/b"), light(1, object="b:a"), light(2, filter="H α"), light(3, filter="H β"), light(4, filter=""),
        ]  # fmt: skip
        keys = [one.key for one in find_series(exposures)]
        self.assertEqual(len({k.casefold() for k in keys}), 5)
        self.assertTrue(all(set(k) <= set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789+.-") for k in keys))
        self.assertIn("field-nofilter", keys)
        letters = find_series([light(0, filter="r"), light(1, filter="R")])
        self.assertEqual(len({one.key.casefold() for one in letters}), 2)

    @given(st.text(max_size=60), st.text(max_size=60))
    def test_slugs(self, one: str, other: str) -> None:
        a, b = slug(one), slug(other)
        self.assertTrue(all(c.isascii() and (c.isalnum() or c in "+.-") for c in a))
        self.assertLess(len(a), 50)
        if a == b and one != other:
            self.assertTrue(len(a) >= 4, "only the four digits may ever agree by chance")


class Words(unittest.TestCase):
    def test_what_a_word_means(self) -> None:
        exposures = [
            light(i, object=name, filter=band, ra_deg=10.0 + 20 * (name == "B C"), dec_deg=0.0)
            for i, (name, band) in enumerate([("A", "V"), ("A", "R"), ("B C", "V"), ("B C", "")])
        ]
        series = find_series(exposures)
        for word, keys in (
            ("a-v", ["A-V"]), ("A · R", ["A-R"]), ("V", ["A-V", "B-C-V"]), ("b-c", ["B-C-V", "B-C-nofilter"]),
            ("nofilter", ["B-C-nofilter"]), ("v", ["A-V", "B-C-V"]),
        ):  # fmt: skip
            self.assertEqual([one.key for one in picked(series, word)], keys, word)
        for word in ("x", " "):
            with self.assertRaisesRegex(ValueError, "there are A-V, A-R"):
                picked(series, word)
