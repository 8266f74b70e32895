"""A desk that is sometimes busy, or drops a connection: drawn from a seed, so that whoever hands in is tried in the same way."""

import random
from typing import Literal

Fault = Literal["none", "busy", "drop"]


class Faults:
    """What befalls each request, one after the other. `patience` of them in a row at the most end badly."""

    def __init__(self, seed: int | None, *, busy: float = 0.2, drop: float = 0.15, patience: int = 3) -> None:
        self._random = random.Random(seed) if seed is not None else None
        self._busy, self._drop, self._patience, self._bad = busy, drop, patience, 0

    def next(self) -> Fault:
        """What befalls the next request; without a seed nothing ever does."""
        if self._random is None:
            return "none"
        drawn = self._random.random()
        fault: Fault = "busy" if drawn < self._busy else "drop" if drawn < self._busy + self._drop else "none"
        self._bad = self._bad + 1 if fault != "none" else 0
        if self._bad > self._patience:
            self._bad = 0
            return "none"
        return fault
