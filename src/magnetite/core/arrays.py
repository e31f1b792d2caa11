"""Types of arrays, by their content."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

#: Samples of any type, as a picture stores them.
Samples = NDArray[Any]
#: Float samples on full-scale units: 0 is black, 1 is full scale.
Pixels = NDArray[np.floating[Any]]
Float32 = NDArray[np.float32]
Float64 = NDArray[np.float64]
Complex128 = NDArray[np.complex128]
Int32 = NDArray[np.int32]
Int64 = NDArray[np.int64]
UInt8 = NDArray[np.uint8]
Indices = NDArray[np.intp]
Bools = NDArray[np.bool_]
#: Where to look: True inside, shape (h, w); None for everywhere.
Mask = Bools | None
