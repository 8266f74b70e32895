"""What a plan is read from: an inspection, and the levels of its cells in memory.

It comes of a file just measured (`Measured.basis`), or of what was kept beside its inspection (`span_levels.basis`): a recording is
not measured again to be conformed.
"""

import functools
from collections.abc import Hashable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span


@dataclass(frozen=True)
class Basis:
    """Of each cell the largest |sample| (`peak`, amplitude) and the mean square (`power`), both of shape (channels, cells); the
    K-weighted power (`k_power`) and the number of samples (`counts`), of shape (cells,)."""

    inspection: Inspection
    peak: NDArray[np.float32]
    power: NDArray[np.float32]
    k_power: NDArray[np.float32]
    counts: NDArray[np.int64]

    @property
    def highest(self) -> NDArray[np.float32]:
        """Of each cell the largest |sample| of all channels, shape (cells,)."""
        highest: NDArray[np.float32] = self.peak[0] if len(self.peak) == 1 else self.peak.max(axis=0)
        return highest

    @functools.cached_property
    def speech(self) -> NDArray[np.bool_]:
        """True in the cells in which someone speaks, shape (cells,)."""
        return mask(self.inspection.speech, self.counts.size)

    @functools.cached_property
    def room(self) -> NDArray[np.bool_]:
        """True in the cells of room tone, shape (cells,)."""
        return mask(self.inspection.room_tone, self.counts.size)

    @functools.cached_property
    def told(self) -> dict[Hashable, float | None]:
        """What these cells were found to tell, by quantity (or by what else it is told of): worked out once."""
        return {}

    def times(self, factor: NDArray[np.floating], *, told: dict[Hashable, float | None] | None = None) -> "Basis":
        """As if each cell had been multiplied by its own factor, shape (cells,). Speech and room stay where they are. `told` is
        what is known of the outcome already, and takes up what is found out."""
        return _Multiplied(self, np.asarray(factor, dtype=np.float32), {} if told is None else told)

    def at(self, peak: NDArray[np.float32], power: NDArray[np.float32], k_power: NDArray[np.float32]) -> "Basis":
        """The same cells at other levels. Speech and room stay where they are."""
        return self._of(peak, power, k_power, slice(None))

    def part(self, cells: NDArray[np.bool_]) -> "Basis":
        """Some of its cells, as if they were all; `cells` is a mask of shape (cells,)."""
        return self._of(self.peak[:, cells], self.power[:, cells], self.k_power[cells[: self.k_power.size]], cells)

    def as_spoken(self, voice: "Basis") -> "Basis":
        """The same cells with speech and room where they are in a voice that passed at the same time."""
        other = Basis(self.inspection, self.peak, self.power, self.k_power, self.counts)
        cells = self.counts.size
        other.__dict__.update(speech=_fitted(voice.speech, cells), room=_fitted(voice.room, cells))
        return other

    def _of(
        self,
        peak: NDArray[np.float32],
        power: NDArray[np.float32],
        k_power: NDArray[np.float32],
        cells: NDArray[np.bool_] | slice,
    ) -> "Basis":
        other = Basis(self.inspection, peak, power, k_power, self.counts[cells])
        other.__dict__.update(speech=self.speech[cells], room=self.room[cells])
        return other


class _Multiplied(Basis):
    """Cells times a factor each: worked out of what is asked for alone, as most of what is tried is asked for one level."""

    _before: Basis
    _factor: NDArray[np.float32]

    def __init__(self, before: Basis, factor: NDArray[np.float32], told: dict[Hashable, float | None]) -> None:
        known = {"inspection": before.inspection, "counts": before.counts, "speech": before.speech, "room": before.room}
        self.__dict__.update(known, told=told, _before=before, _factor=factor)

    @functools.cached_property
    def peak(self) -> NDArray[np.float32]:
        return np.asarray(self._before.peak * self._factor)

    @functools.cached_property
    def power(self) -> NDArray[np.float32]:
        return np.asarray(self._before.power * self._factor**2)

    @functools.cached_property
    def k_power(self) -> NDArray[np.float32]:
        was = self._before.k_power
        return np.asarray(was * self._factor[: was.size] ** 2)


def _fitted(mask: NDArray[np.bool_], cells: int) -> NDArray[np.bool_]:
    return mask if mask.size == cells else np.pad(mask[:cells], (0, max(cells - mask.size, 0)))


def mask(spans: list[Span], cells: int) -> NDArray[np.bool_]:
    """True in the cells of some spans, shape (cells,).

    >>> mask([Span(start_s=0.005, end_s=0.015)], 4).tolist()
    [False, True, True, False]
    """
    found = np.zeros(cells, dtype=bool)
    for span in spans:
        found[round(span.start_s * CELLS_PER_SECOND) : round(span.end_s * CELLS_PER_SECOND)] = True
    return found
