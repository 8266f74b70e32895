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
FADE_S = 0.04
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


def fill(material: list[Block], frames: int, *, sample_rate_hz: int, seed: int = 1) -> Block:
    """`frames` of room tone from `material` (not empty): pieces in turn, laid over one another at equal power.

    Each turn starts at another place and every second one runs backwards, so that no figure repeats audibly. Seeded: the same
    recording gives the same room.
    """
    random = np.random.default_rng(seed)
    fade = max(1, round(FADE_S * sample_rate_hz))
    out = np.zeros((0, material[0].shape[1]), dtype=np.float32)
    turn = 0
    while len(out) < frames:
        piece = material[turn % len(material)]
        start = int(random.integers(0, max(1, len(piece) // 4)))
        part = piece[start:]
        if turn % 2:
            part = part[::-1]
        out = part.copy() if len(out) == 0 else join(out, part, fade=min(fade, len(part) // 2, len(out)))
        turn += 1
    return np.ascontiguousarray(out[:frames])


def join(first: Block, second: Block, *, fade: int) -> Block:
    """Two stretches of noise with `fade` frames laid over one another at equal power (they are not alike, so powers add)."""
    if fade <= 0:
        return np.concatenate((first, second))
    angle = (np.arange(fade)[:, None] + 0.5) / fade * (np.pi / 2)
    middle = first[-fade:] * np.cos(angle) + second[:fade] * np.sin(angle)
    return np.concatenate((first[:-fade], middle.astype(np.float32), second[fade:]))
