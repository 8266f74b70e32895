"""What plain level meters need to know of a stretch of sound."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray


class Totals(Protocol):
    """Shape (channels,) each: the sum of squares, the largest |sample| and the frame at which it stands; and how many frames."""

    @property
    def sum_of_squares(self) -> NDArray[np.float64]: ...
    @property
    def peak_amplitude(self) -> NDArray[np.float64]: ...
    @property
    def peak_frame(self) -> NDArray[np.int64]: ...
    @property
    def frames(self) -> int: ...
