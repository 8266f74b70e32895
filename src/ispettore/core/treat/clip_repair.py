"""Clip repair: the flat tops of clipped waves are rebuilt from the sound around them; no other sample changes.

Missing samples are those that an autoregressive model of the surroundings errs least by (`interpolation.py`), never below the
level at which they were cut off, and never beyond what both sides lead up to: half as high again above that level as the cubic
through both edges with their slopes, and under both edges' tangents. Where it was cut is known for each run, channel and sign, as
the meters found it.
"""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.measure.clipping import NOWHERE
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.reading import Span
from ispettore.core.treat.interpolation import ORDER, SecondsProcessor, missing_samples
from ispettore.core.treat.step import Context, Settings, about, spans_later

SHORTEST = 3
AROUND = 512
ROUNDS = 3
HIGHEST = 1.5  # times as far above the cut as the smooth way between both edges goes
NEAR_S = 0.012  # around where the meters saw a flat top, which they know to the cell
ALIKE = 1.2e-4


class ClipRepair(Settings):
    """Rebuild what was clipped. Without a threshold each run's own level is used, where the meters found it."""

    title: ClassVar[str] = "Clip repair"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Rebuild peaks that were cut off in recording."
    sentence: ClassVar[str] = "Rebuild clipped peaks above {threshold_dbfs}"
    filled: ClassVar[str] = "Rebuild clipped peaks above {threshold_dbfs}, in these spots only"
    each: ClassVar[tuple[str, str]] = ("spans", "{start_s} to {end_s}")
    threshold_dbfs: float | None = Field(
        None,
        ge=-20,
        le=0,
        description="Threshold",
        json_schema_extra=about("What lies above counts as clipped.", unit="dBFS", absent="each run's own level"),
    )

    spans: tuple[Span, ...] = Field((), max_length=1_000, description="Spots")

    def learns(self) -> bool:
        return self.threshold_dbfs is None

    def elsewhere(self) -> "ClipRepair | None":
        return None if self.spans else self

    def later(self, by_s: float) -> "ClipRepair":
        return self.model_copy(update={"spans": spans_later(self.spans, by_s)})

    def start(self, context: Context) -> "ClipProcessor":
        return ClipProcessor(context, self)


class ClipProcessor(SecondsProcessor):
    """Where it was told spots, what is cut off elsewhere stays."""

    def __init__(self, context: Context, settings: ClipRepair) -> None:
        super().__init__(context)
        self._level = None if settings.threshold_dbfs is None else 10 ** (settings.threshold_dbfs / 20)
        if self._level is None and context.measured is None:
            raise ValueError("without a threshold clip repair has to know the recording")
        self._cuts = context.measured.meters.clipping.cuts() if self._level is None and context.measured is not None else NOWHERE
        self._spots = np.array([(span.start_s, span.end_s) for span in settings.spans]).reshape(-1, 2)
        self._repaired = 0

    def work(self, line: NDArray[np.float32], first: int, last: int, channel: int) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        missing = self._missing(line, channel)
        if len(self._spots):
            chosen = np.zeros(line.size, dtype=bool)
            for start, end in self.within(self._spots, line.size).tolist():
                chosen[start:end] = True
            for start, end in runs(missing):
                missing[start:end] &= chosen[start:end].any()
        inside = runs(missing)
        inside = inside[(inside[:, 1] > first) & (inside[:, 0] < last)]
        whole = line.astype(np.float64)
        if not len(inside):
            return whole, np.zeros(line.size, dtype=bool)
        self._repaired += int((inside[:, 0] >= first).sum())
        return repaired(whole, missing, inside), missing

    def _missing(self, line: NDArray[np.float32], channel: int) -> NDArray[np.bool_]:
        """Which samples of what is held were cut off, shape (frames,)."""
        if self._level is not None:
            return cut_off(line, self._level)
        missing = np.zeros(line.size, dtype=bool)
        near = round(NEAR_S * self.sample_rate_hz)
        mine = self._cuts[:, self._cuts[2] == channel + 1]
        at = np.round(mine[0] * CELL_S * self.sample_rate_hz).astype(np.int64) - self._position
        for place, level in zip(at.tolist(), mine[1].tolist(), strict=True):
            first, last = max(place - near, 0), place + near + self._margin // 4
            if last <= 0 or first >= line.size:
                continue
            missing[first:last] |= line[first:last] * np.sign(level) >= abs(level) * (1 - ALIKE) - ALIKE / 4
        return _long_enough(missing)

    def learned(self) -> dict[str, Any]:
        levels = [self._level] if self._level is not None else np.abs(self._cuts[1]).tolist()
        at_most = 20 * float(np.log10(max(levels))) if levels else None
        return {"threshold_dbfs": None if at_most is None else round(at_most, 2), "repaired_runs": self._repaired}


def cut_off(line: NDArray[np.floating], level: float) -> NDArray[np.bool_]:
    """Which samples lie in runs of at least three at or beyond the level, shape (frames,)."""
    return _long_enough(np.abs(line) >= level)


def _long_enough(missing: NDArray[np.bool_]) -> NDArray[np.bool_]:
    for start, end in runs(missing):
        if end - start < SHORTEST:
            missing[start:end] = False
    return missing


def repaired(line: NDArray[np.float64], missing: NDArray[np.bool_], spans: NDArray[np.int64]) -> NDArray[np.float64]:
    """The line with the missing samples of these runs rebuilt; runs that lie close together are rebuilt as one."""
    out, most = line.copy(), highest(line, missing)
    groups: list[list[int]] = []
    for start, end in spans.tolist():
        if groups and start - groups[-1][1] < AROUND // 4 and end - groups[-1][0] < 4 * AROUND:
            groups[-1][1] = end
        else:
            groups.append([start, end])
    for start, end in groups:
        first, last = max(start - AROUND, 0), min(end + AROUND, line.size)
        part, unknown = out[first:last], np.flatnonzero(missing[first:last])
        if part.size <= 3 * ORDER or unknown.size == 0:
            continue
        out[first:last] = _rebuilt(part, unknown, most[first:last][unknown])
    return out


def highest(line: NDArray[np.float64], missing: NDArray[np.bool_]) -> NDArray[np.float64]:
    """How high the wave may have gone where it was cut off, as an amplitude; shape (frames,), 0 elsewhere."""
    most = np.zeros(line.size)
    for start, end in runs(missing):
        level = np.abs(line[start:end]).max()
        most[start:end] = level
        if start < 2 or end + 2 > line.size:
            continue
        sign, size = np.sign(line[start]), end - start + 1
        left, right = sign * line[start - 1], sign * line[end]
        rise, fall = max(left - sign * line[start - 2], 0.0), max(right - sign * line[end + 1], 0.0)
        t = np.arange(1, size) / size
        smooth = (
            (2 * t**3 - 3 * t**2 + 1) * left
            + (t**3 - 2 * t**2 + t) * size * rise
            + (3 * t**2 - 2 * t**3) * right
            + (t**2 - t**3) * size * fall
        )
        tangents = np.minimum(left + rise * size * t, right + fall * size * (1 - t))
        most[start:end] = np.maximum(np.minimum(level + HIGHEST * (smooth - level), tangents), level)
    return most


def _rebuilt(part: NDArray[np.float64], unknown: NDArray[np.int64], most: NDArray[np.float64]) -> NDArray[np.float64]:
    """Missing samples by the least prediction error, the model made anew from what was rebuilt, three times; none beyond `most`."""
    cut = part.copy()
    found = part.copy()
    sign, level = np.sign(cut[unknown]), np.abs(cut[unknown])
    for _ in range(ROUNDS):
        solved = missing_samples(found, unknown)
        found[unknown] = sign * np.clip(sign * solved, level, np.maximum(most, level))
    return found
