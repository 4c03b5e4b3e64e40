"""Ulvar: from a night of raw telescope exposures to a stack, a plate solution and a light curve."""

import os

# Ulvar spreads its work over threads and processes itself. Those of the linear algebra would only wait for each other
# in loops: beside another program a small matrix took ten times as long. It reads this once, when NumPy is imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
