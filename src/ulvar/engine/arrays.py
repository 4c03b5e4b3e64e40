"""Names for the few array types that flow between rooms (one dtype policy for the whole house)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

F32Array = npt.NDArray[np.float32]
F64Array = npt.NDArray[np.float64]
I64Array = npt.NDArray[np.int64]
MaskArray = npt.NDArray[np.uint16]
BoolArray = npt.NDArray[np.bool_]
