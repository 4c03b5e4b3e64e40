"""The table of findings: every kind that the code raises stands in it, and every kind in it is raised."""

import ast
import re
import unittest
from pathlib import Path

from ulvar.frames import Role
from ulvar.inspection import CODES, OF_A_SERIES, Finding, Mend, Severity, notice, sort_findings
from ulvar.night import STATIONS

SOURCE = Path(__file__).resolve().parents[2] / "src" / "ulvar"


class Table(unittest.TestCase):
    """Codes, their severity and station."""

    def test_codes_in_the_code_and_in_the_table_are_the_same(self) -> None:
        raised: set[str] = set()
        for path in SOURCE.rglob("*.py"):
            if path.name == "findings.py":
                continue
            text = path.read_text(encoding="utf-8")
            if "notice(" not in text and "Finding(" not in text:
                continue
            for call in ast.walk(ast.parse(text)):
                if not isinstance(call, ast.Call) or not isinstance(call.func, ast.Name):
                    continue
                self.assertFalse(call.func.id == "Finding" and path.name != "coding.py", f"{path}: findings are made by notice()")
                if call.func.id == "notice":
                    raised |= {
                        node.value for node in ast.walk(call.args[0])
                        if isinstance(node, ast.Constant) and isinstance(node.value, str)
                    }  # fmt: skip
            # Codes that are put together stand in the file as texts of their own.
            raised |= {code for code in CODES if re.search(rf'"{code}"', text) and "notice(" in text}
        made = {"gain", "offset"}, {"bias", "dark", "dark_flat", "flat"}
        raised |= {f"{role}_{name}" for name in made[0] for role in made[1]}
        raised |= {"other_software", "other_driver", "no_dark", "no_flat", "flat_over", "flat_under"}
        raised |= {"not_solved", "not_measured", "no_pixels", "constant"}
        self.assertEqual(set(CODES) - raised, set(), "these are raised nowhere")

    def test_which_leave_no_mark_at_exposures(self) -> None:
        """Those of masters, stars, the whole night: no exposure is to blame, or far too many."""
        without = {
            "bit_depth", "body_long", "catalogue", "centre_jumped", "comparison_varies", "damaged", "dark_below_bias", "few_frames", "film_note",
            "flat_follows", "flat_not_subtracted", "flat_over", "flat_under", "flip", "frame_left_out", "frames_doubled", "frames_jitter",
            "frames_missing", "frames_still", "frames_undated", "gain_missing", "job_failed", "level_drift", "much_rejected", "near_match",
            "night_rebuilt", "no_agreement", "no_body", "no_calibration", "no_curve", "no_dark", "no_egain", "no_error_bars", "no_fit", "no_flat",
            "no_safe_bias", "no_safe_dark", "no_safe_flat", "no_site", "noise_over", "not_calibrated", "not_measured", "not_solved", "not_used",
            "not_written", "outliers", "several_images", "sky_covered", "small_aperture", "star_blended", "star_full", "star_left", "star_lost",
            "stated_wrong", "times_by_day", "times_of_end", "tracking_lost", "trail", "uneven_drops", "worker_died",
        }  # fmt: skip
        self.assertEqual({code for code, entry in CODES.items() if not entry.dots}, without)

    def test_entries_are_whole(self) -> None:
        for code, entry in CODES.items():
            self.assertIsInstance(code, str)
            self.assertIsInstance(entry.severity, Severity, code)
            with self.subTest(code=code):
                self.assertEqual(code, entry.code)
                self.assertIn(entry.station, STATIONS)
                self.assertTrue(entry.meaning[:1].isupper() and not entry.meaning.endswith("."))
        self.assertEqual({c for c in OF_A_SERIES if CODES[c].station != "combine"}, set())
        self.assertEqual({c for c in OF_A_SERIES if not CODES[c].line}, {"outliers"}, "where nothing is known to have been")

    def test_notice(self) -> None:
        made = notice("cloud", "Cloud", "Stars lost 40 %.", ["a", "b"], {"loss": 0.4}, Mend.leave_out(["a"]))
        self.assertEqual(
            made,
            Finding(
                Severity.CHECK, "cloud", "Cloud", "Stars lost 40 %.", ("a", "b"), {"loss": 0.4},
                Mend("Leave out 1", "leave_out", ("a",)), "combine",
            ),
        )  # fmt: skip
        other = notice("cloud", "t", "x", severity=Severity.BLOCKS, station="curve")
        self.assertEqual((other.severity, other.station, other.files), (Severity.BLOCKS, "curve", ()))
        with self.assertRaises(KeyError):
            notice("no such code", "t", "x")
        self.assertEqual(sort_findings([made, other]), [other, made])

    def test_offers(self) -> None:
        self.assertEqual(Mend.make(Role.DARK, ["a", "b"]), Mend("Make 2 darks", "role:dark", ("a", "b")))
        self.assertEqual(Mend.leave_out_star("c"), Mend("Leave out c", "leave_out_star", ("c",)))
