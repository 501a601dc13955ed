"""Arrays by what they hold."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
Float32Array = NDArray[np.float32]
ComplexArray = NDArray[np.complex128]
Complex64Array = NDArray[np.complex64]

# A state that has fallen so far has died. What falls on and on in silence ends in numbers that processors reckon with
# twenty times slower, and no voltage is that small.
DEAD = 1e-30
