"""How often random pairs of star lists are matched, refused, or matched wrongly, and what a match costs.

Usage: alignment.py [--trials N] [--seed S]

See docs/numerics.md for what was measured.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from bench.made_lists import make_trial, outcome

# With so many stars in common a pair should be matched.
_ENOUGH = 8


def main() -> int:
    """Try, count, print; an exit code other than 0 for a wrong match."""
    parser = argparse.ArgumentParser(prog="./run bench alignment")
    parser.add_argument("--trials", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1000)
    given = parser.parse_args()
    counts: dict[bool, Counter[str]] = {True: Counter(), False: Counter()}
    spent = 0.0
    for seed in range(given.seed, given.seed + given.trials):
        trial = make_trial(seed)
        begun = time.process_time()
        result = outcome(trial)
        spent += time.process_time() - begun
        counts[len(trial.common) >= _ENOUGH][result] += 1
        if result == "wrong" or (result == "refused" and len(trial.common) >= _ENOUGH):
            print(
                f"  seed {seed}: {result}, {len(trial.common)} stars in common of {len(trial.source)} and {len(trial.target)}, "
                f"scale {trial.scale:.2f}, overlap {trial.overlap:.0%}, spurious {trial.spurious:.0%}"
            )
    for enough, words in ((True, f"{_ENOUGH} and more stars in common"), (False, "fewer")):
        made = counts[enough]
        total = sum(made.values())
        print(
            f"{words}: {total} pairs, {made['right'] / max(1, total):.2%} right, {made['refused']} refused, {made['wrong']} wrong"
        )
    print(f"{1000 * spent / given.trials:.0f} ms of a processor a pair")
    return 1 if counts[True]["wrong"] or counts[False]["wrong"] else 0


if __name__ == "__main__":
    sys.exit(main())
