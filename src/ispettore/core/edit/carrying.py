"""Edits of a file carried over to a newer one of the same reading: exported anew, trimmed, or with some of it recorded again.

Nothing is guessed by time alone: what is heard before an edit and behind it has to be heard in the newer file as well.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.edit.edits import Edit, Edits, merged

WINDOWS = ((4.0, 0.9), (2.0, 0.95))
"""So many seconds beside an edit are compared, and so alike they have to be: the shorter where the longer finds nothing."""
LEAST_S = 0.8
"""Less says nothing."""
REACH_S = 20.0
FLOOR_DB = 40.0
"""Levels further under the loudest of a window count alike: a noise has no shape that comes again."""


@dataclass(frozen=True)
class Carried:
    """The edits as they are in the newer file, and those of the older that have no place there."""

    edits: Edits
    lost: tuple[Edit, ...]


def carried(edits: Edits, was: NDArray[np.floating], onto: Edits, now: NDArray[np.floating], *, cell_s: float) -> Carried:
    """`was` and `now` are the mean powers of the cells of both files, of `cell_s` seconds each, shape (cells,); `onto` is the newer
    file without edits. Both have the same sample rate. Positions are found to a cell.

    Retakes are lost: they were made to fit the older file.
    """
    cell = cell_s * edits.sample_rate_hz
    found: list[Edit] = []
    lost: list[Edit] = []
    shift, heard = 0, 0
    for edit in edits.edits:
        before = _moved(was, now, round(edit.start / cell), shift, cell_s, behind=False, floor=heard)
        after = _moved(was, now, round(edit.end / cell), before if before is not None else shift, cell_s, behind=True, floor=0)
        # At the very start or end of a file there is one side alone.
        if before is None and edit.start < LEAST_S * edits.sample_rate_hz:
            before = after
        if after is None and edits.frames - edit.end < LEAST_S * edits.sample_rate_hz:
            after = before
        if before is None or after is None or any(one.take for one in edit.put):
            lost.append(edit)
            continue
        start, end = edit.start + round(before * cell), edit.end + round(after * cell)
        if not 0 <= start <= end <= onto.frames or (start == end and not edit.put):
            lost.append(edit)
            continue
        found.append(edit.model_copy(update={"start": start, "end": end}))
        shift, heard = after, round(end / cell)
    kept = onto.model_copy(update={"edits": merged(found)}) if onto.tone or not any(one.room for one in found) else onto
    return Carried(kept, tuple(lost) if kept is not onto or not found else edits.edits)


def moments(at_s: Sequence[float], was: NDArray[np.floating], now: NDArray[np.floating], *, cell_s: float) -> list[float | None]:
    """Where in the newer file what follows moments of the older, in their order, is heard, in seconds to a cell; None where it is
    not."""
    found: list[float | None] = []
    shift = floor = 0
    for at in at_s:
        cell = round(at / cell_s)
        moved = _moved(was, now, cell, shift, cell_s, behind=True, floor=floor)
        if moved is not None:
            shift, floor = moved, cell + moved + 1
        found.append(max(at + moved * cell_s, 0.0) if moved is not None else None)
    return found


def _moved(
    was: NDArray[np.floating], now: NDArray[np.floating], at: int, shift: int, cell_s: float, *, behind: bool, floor: int
) -> int | None:
    """By how many cells what lies before a cell, or `behind` it, comes later in the newer file; None where it is not heard there,
    or there is too little of it. Looked for around a `shift`, and where it ends not before the cell `floor` of the newer, or
    begins not before it where it is `behind`."""
    reach = round(REACH_S / cell_s)
    for length_s, alike in WINDOWS:
        size = round(length_s / cell_s)
        first, last = (at, min(at + size, was.size)) if behind else (max(at - size, 0), at)
        begin = max(first + shift - reach, floor if behind else floor - (last - first), 0)
        window = now[begin : max(last + shift + reach, begin)]
        if last - first >= LEAST_S / cell_s and window.size >= last - first:
            found, how = _found(was[first:last], window)
            if how >= alike:
                return begin + found - first
    return None


def _found(part: NDArray[np.floating], window: NDArray[np.floating]) -> tuple[int, float]:
    """Where in a window a part comes again, and how alike it is there: 1 at the most."""
    pattern = _levels(part, part)
    pattern -= pattern.mean()
    length = float(np.sqrt(pattern @ pattern))
    if length <= part.size**0.5:  # nothing moves in it
        return 0, 0.0
    levels, ones = _levels(window, part), np.ones(part.size)
    mean = np.convolve(levels, ones, mode="valid") / part.size
    spread = np.convolve(levels**2, ones, mode="valid") - part.size * mean**2
    alike = np.correlate(levels, pattern / length, mode="valid") / np.sqrt(np.maximum(spread, 1e-9))
    best = int(np.argmax(alike))
    return best, float(alike[best])


def _levels(power: NDArray[np.floating], like: NDArray[np.floating]) -> NDArray[np.float64]:
    """In dB, with everything far under the loudest alike: the loudest of these, or of what they are compared with (`like`)."""
    level = 10 * np.log10(np.maximum(power.astype(np.float64), 1e-14))
    loudest = 10 * np.log10(max(float(like.max(initial=0.0)), 1e-14))
    floor = max(loudest, float(level.max())) - FLOOR_DB
    return np.asarray(np.maximum(level, floor), dtype=np.float64)
