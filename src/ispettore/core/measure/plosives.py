"""Plosives: bursts of air on the microphone, seen as bursts below 70 Hz far above what the voice itself has there."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Finding, merged
from ispettore.core.measure.sections import blocker, low_pass, through
from ispettore.core.measure.speech import Passages

CORNER_HZ = 70.0
STEP_CELLS = 4  # 20 ms
STEP_S = STEP_CELLS * CELL_S
ABOVE_USUAL_DB = 10.0
BELOW_VOICE_DB = 12.0
JOIN_S = 0.1
PART_STEPS = 15_000  # 5 minutes are filtered at once


def read(heard: Heard) -> Read:
    """Bursts of air."""
    return (), findings(heard.low_rate, heard.passages, voice_dbfs=heard.voice_dbfs)


def findings(low: LowRate, passages: Passages, *, voice_dbfs: float | None) -> list[Finding]:
    """Each burst with its level below 70 Hz in dBFS. `voice_dbfs` is the active speech level."""
    if voice_dbfs is None or len(passages.speech) == 0:
        return []
    level = _levels(low)
    spoken = passages.speech_mask()[STEP_CELLS // 2 :: STEP_CELLS][: level.size]
    level = level[: spoken.size]
    if not spoken.any():
        return []
    usual = float(np.percentile(level[spoken], 90))
    bursts = level > max(usual + ABOVE_USUAL_DB, voice_dbfs - BELOW_VOICE_DB)
    each = [
        Finding(kind="plosive", start_s=k * STEP_S, end_s=(k + 1) * STEP_S, measure=float(level[k]), unit="dBFS", severity="note")
        for k in np.flatnonzero(bursts)
    ]
    return merged(each, within_s=JOIN_S)


def _levels(low: LowRate) -> NDArray[np.float64]:
    """Level below 70 Hz in dBFS every 20 ms, of the channel in which it is highest."""
    rate = low.rate_hz
    sections = np.vstack((blocker(8.0, sample_rate_hz=rate), low_pass(CORNER_HZ, sample_rate_hz=rate, order=4)))
    state = np.zeros((low.samples.rows, len(sections), 2))
    step = STEP_S * low.rate_hz
    count = int(len(low.samples) / step)
    levels = [np.zeros(0)]
    for first in range(0, count, PART_STEPS):
        edges = np.round(np.arange(first, min(first + PART_STEPS, count) + 1) * step).astype(np.int64)
        part = low.samples.part(int(edges[0]), int(edges[-1])).astype(np.float64)
        square = np.max(through(part, sections, state) ** 2, axis=0)
        levels.append(decibels.levels(np.add.reduceat(square, edges[:-1] - edges[0]) / step))
    return np.concatenate(levels)
