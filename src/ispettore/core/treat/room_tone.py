"""Any length of the recording's own room tone, from the pieces of it that the meters found."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.reading import Block
from ispettore.core.audio.writing import read_span
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.reading import Span

SHORTEST_S = 0.12
LONGEST_S = 4.0


def pieces(room: NDArray[np.bool_], path: Path, *, sample_rate_hz: int) -> list[Block]:
    """The longest stretches of room tone in a PCM file, longest first, each (frames, channels); `room` has shape (cells,)."""
    spans = sorted(runs(room), key=lambda run: int(run[0] - run[1]))[:8]
    found = []
    for start, end in spans:
        if (end - start) * CELL_S < SHORTEST_S:
            break
        frames = int(min((end - start) * CELL_S, LONGEST_S) * sample_rate_hz)
        found.append(read_span(path, round(start * CELL_S * sample_rate_hz), frames))
    return found


def lacking(spans: Sequence[Span]) -> str:
    """That no stretch of room tone is long enough to be used, in a sentence; empty where one is."""
    if any(span.length_s >= SHORTEST_S for span in spans):
        return ""
    return f"There is no room tone of {SHORTEST_S * 1000:.0f} ms or more to use. Select a pause and use it as room tone."
