"""The level between the words, from the room tone in the pauses; the worst channel is shown.

`noise_floor_dbfs` is the energy mean of the room tone, DC removed, unweighted; `noise_floor_worst_pause_dbfs` that of the loudest
pause; `noise_floor_quietest_dbfs` the quietest 500 ms of the file; `signal_to_noise_db` the active speech level less the noise
floor.
"""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Cells, CellSeries
from ispettore.core.measure.grid import CELL_S, runs, stretches
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Pause, Reading
from ispettore.core.measure.speech import PAUSE_CELLS, Mask, Passages

WINDOW_CELLS = 100  # 500 ms
CLEAR_OF_VOICE_DB = 30.0
WORTHWHILE_CELLS = 20  # a pause's own level needs 100 ms of room tone
ROOM_METHOD = "energy mean of the room tone in pauses of at least 0.4 s, DC removed, unweighted, worst channel"
MARKED_METHOD = "energy mean of the room tone marked by hand, DC removed, unweighted, worst channel"
QUIETEST_METHOD = "no pause is long enough: the quietest 500 ms of the file, DC removed, worst channel"
WINDOW_METHOD = "lowest RMS of any 500 ms that touch no dead silence, moved by 10 ms, DC removed, worst channel"
PAUSE_METHOD = "energy mean of the loudest pause's room tone, DC removed, unweighted, worst channel"
RATIO_METHOD = "active speech level less noise floor, of the channel in which they lie closest"

Weighed = tuple[NDArray[np.float64], NDArray[np.float64], float]
"""Sums over samples of squares and of values, shape (channels,) each, and the number of samples."""


def read(heard: Heard) -> Read:
    """All levels of the room, and how far the voice stands above it."""
    noise = measure(heard.cells, heard.passages, voice_dbfs=heard.voice_dbfs)
    worst, heard.pauses = worst_pause(heard.cells, heard.passages)
    ratio = signal_to_noise(heard.readings["active_speech_level_dbfs"], speech_levels(heard.readings), noise)
    return (worst, noise, quietest_window(heard.cells, heard.passages), ratio), ()


def measure(cells: Cells, passages: Passages, *, voice_dbfs: float | None) -> Reading:
    """`noise_floor_dbfs`. Where every pause is dead silence it has no value and `silence` is True.

    `voice_dbfs` is the active speech level. Without pauses the quietest 500 ms bound the room from above; where they are not far
    under the voice they hold voice themselves, and there is no reading.
    """
    name = "noise_floor_dbfs"
    if passages.room.any():
        longest = max(runs(passages.room), key=lambda run: int(run[1] - run[0]))
        method = MARKED_METHOD if passages.marked else ROOM_METHOD
        power = _power(_under(cells, first, last, passages.room[first:last]) for first, last, _, _ in stretches(passages.cells))
        return _reading(name, power, longest, f"{method}; {passages.room.sum() * CELL_S:.1f} s of it", passages.cells)
    if passages.dead.any():
        return _silence(name, ROOM_METHOD, "between the words there is only dead silence", passages.cells)
    quietest_half = _window(name, cells, passages.dead, QUIETEST_METHOD)
    if quietest_half.value is None or voice_dbfs is None or quietest_half.value <= voice_dbfs - CLEAR_OF_VOICE_DB:
        return quietest_half
    note = "nobody pauses long enough for the room to be heard alone, and the quietest half second holds voice"
    return Reading(quantity=name, value=None, unit="dBFS", method=QUIETEST_METHOD, end_s=passages.cells * CELL_S, note=note)


def as_passed(cells: Cells, passages: Passages, known: dict[str, Reading]) -> Reading:
    """`noise_floor_dbfs` of sound whose pauses are known from a file it became; `known` are its level readings."""
    voice = known.get("active_speech_level_dbfs")
    return measure(cells, passages, voice_dbfs=voice.value if voice is not None else None)


def quietest_window(cells: Cells, passages: Passages) -> Reading:
    """`noise_floor_quietest_dbfs`."""
    return _window("noise_floor_quietest_dbfs", cells, passages.dead, WINDOW_METHOD)


def worst_pause(cells: Cells, passages: Passages) -> tuple[Reading, list[Pause]]:
    """`noise_floor_worst_pause_dbfs`, with the span of that pause; and every pause of at least 0.4 s with its own level."""
    name = "noise_floor_worst_pause_dbfs"
    long_enough = passages.pauses[np.diff(passages.pauses, axis=1)[:, 0] >= PAUSE_CELLS]
    power, heard_cells = _power_of_each(cells, passages.room, long_enough)
    power[:, heard_cells < WORTHWHILE_CELLS] = np.nan
    levels = [None if np.isnan(each) else decibels.of_power(float(each)) for each in power.max(axis=0)]
    pauses = [
        Pause(start_s=float(start) * CELL_S, end_s=float(end) * CELL_S, level_dbfs=level)
        for (start, end), level in zip(long_enough, levels, strict=True)
    ]
    if (heard_cells < WORTHWHILE_CELLS).all():
        note = "silence: between the words there is only dead silence" if passages.dead.any() else "no pause is long enough"
        return Reading(
            quantity=name, value=None, unit="dBFS", method=PAUSE_METHOD, end_s=passages.cells * CELL_S, note=note,
            silence=bool(passages.dead.any()),
        ), pauses  # fmt: skip
    loudest = int(np.nanargmax(power.max(axis=0)))
    return _reading(name, power[:, loudest], long_enough[loudest], PAUSE_METHOD, passages.cells), pauses


def speech_levels(known: dict[str, Reading]) -> tuple[float | None, ...]:
    """The active speech level of each channel in dBFS: its own energy over the time in which someone speaks."""
    level, activity = known["rms_dbfs"], known["speech_activity_percent"].value
    if not activity:
        return tuple(None for _ in level.per_channel)
    return tuple(None if each is None else each - 10 * float(np.log10(activity / 100)) for each in level.per_channel)


def signal_to_noise(level: Reading, channel_levels: tuple[float | None, ...], noise: Reading) -> Reading:
    """`signal_to_noise_db` of the worst channel. `channel_levels` are the speech levels of each channel in dBFS."""
    ratios = [
        (speech - floor, channel)
        for channel, (speech, floor) in enumerate(zip(channel_levels, noise.per_channel, strict=False), start=1)
        if speech is not None and floor is not None
    ]
    worst = min(ratios, default=None)
    note = "there is no speech level to hold it against" if level.value is None else f"the noise floor has no value: {noise.note}"
    return Reading(
        quantity="signal_to_noise_db",
        value=worst[0] if worst else None,
        unit="dB",
        method=RATIO_METHOD,
        channel=worst[1] if worst else None,
        start_s=noise.start_s,
        end_s=noise.end_s,
        note=None if worst else note,
        silence=noise.silence and level.value is not None,
    )


def quietest(cells: Cells, dead: Mask) -> tuple[int, int] | None:
    """First and last cell of the quietest 500 ms that touch no dead silence, or None."""
    least, found = np.inf, None
    for first, _, _, after in stretches(dead.size, around=WINDOW_CELLS):
        power = cells.power.part(first, after).mean(axis=0).astype(np.float64)
        if power.size < WINDOW_CELLS:
            continue
        total = np.concatenate(([0.0], np.cumsum(power)))
        touched = np.concatenate(([0], np.cumsum(dead[first:after])))
        starts = np.arange(0, power.size - WINDOW_CELLS + 1, 2)
        energy = total[starts + WINDOW_CELLS] - total[starts]
        energy[touched[starts + WINDOW_CELLS] > touched[starts]] = np.inf
        best = int(np.argmin(energy))
        if energy[best] < least:
            least, found = float(energy[best]), first + int(starts[best])
    return (found, found + WINDOW_CELLS) if found is not None else None


def _window(name: str, cells: Cells, dead: Mask, method: str) -> Reading:
    span = quietest(cells, dead)
    if span is None:
        if dead.any():
            return _silence(name, method, "what is not dead silence is shorter than 500 ms", dead.size)
        return Reading(quantity=name, value=None, unit="dBFS", method=method, note="the file is shorter than 500 ms")
    return _reading(name, _power([_under(cells, *span, np.ones(WINDOW_CELLS, dtype=bool))]), np.array(span), method, dead.size)


def _under(cells: Cells, first: int, last: int, mask: Mask) -> Weighed:
    if not mask.any():
        return np.zeros(cells.power.rows), np.zeros(cells.power.rows), 0.0
    part: CellSeries = cells.part(first, last)
    sizes = part.counts[mask].astype(np.float64)
    return part.power[:, mask] @ sizes, part.mean[:, mask] @ sizes, float(sizes.sum())


def _power_of_each(cells: Cells, room: Mask, spans: NDArray[np.int64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Mean square of each channel in the room tone of each span, its mean removed, shape (channels, spans); and its cells."""
    sums = np.zeros((2 * cells.power.rows + 2, len(spans)))
    for first, last, _, _ in stretches(len(cells) if len(spans) else 0):
        part, chosen = cells.part(first, last), room[first:last]
        sizes = part.counts * chosen
        running = np.cumsum(np.vstack((part.power * sizes, part.mean * sizes, sizes, chosen)), axis=1, dtype=np.float64)
        running = np.pad(running, ((0, 0), (1, 0)))
        start, end = np.clip(spans.T, first, last) - first
        sums += running[:, end] - running[:, start]
    squares, means = sums[: cells.power.rows], sums[cells.power.rows : -2]
    frames = np.maximum(sums[-2], 1.0)
    return np.maximum(squares / frames - (means / frames) ** 2, 0.0), sums[-1].astype(np.int64)


def _power(parts: Iterable[Weighed]) -> NDArray[np.float64]:
    """Mean square of each channel with the common mean removed: shape (channels,)."""
    squares, sums, sizes = (sum(each) for each in zip(*parts, strict=True))
    return np.asarray(np.maximum(squares / sizes - (sums / sizes) ** 2, 0.0))


def _reading(name: str, power: NDArray[np.float64], where: NDArray[np.int64], method: str, cells: int) -> Reading:
    worst = int(np.argmax(power))
    value = decibels.of_power(float(power[worst]))
    if value is None:
        return _silence(name, method, "the room tone is dead silence", cells)
    return Reading(
        quantity=name,
        value=value,
        unit="dBFS",
        method=method,
        channel=worst + 1,
        start_s=float(where[0]) * CELL_S,
        end_s=float(where[1]) * CELL_S,
        per_channel=tuple(decibels.of_power(float(p)) for p in power),
    )


def _silence(name: str, method: str, note: str, cells: int) -> Reading:
    return Reading(
        quantity=name, value=None, unit="dBFS", method=method, end_s=cells * CELL_S, note=f"silence: {note}", silence=True
    )
