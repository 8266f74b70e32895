"""`head_s` and `tail_s`: time before the first and after the last speech. `longest_pause_s`, and `digital_silence_s`."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.speech import Passages

NO_SPEECH = "no speech was found in this file"
OVER_LONG_S = 4.0
DEAD_WORTH_SAYING_CELLS = 40


def read(heard: Heard) -> Read:
    """Head, tail, the longest pause and dead silence."""
    pause, over_long = longest_pause(heard.passages)
    tail_s = tail(heard.passages, duration_s=heard.duration_s)
    silence = digital_silence(heard.passages, duration_s=heard.duration_s)
    return (head(heard.passages), tail_s, pause, silence), [*dead_silences(heard.passages), *over_long]


def head(passages: Passages) -> Reading:
    """Seconds before the first speech; no value where there is none."""
    found = len(passages.speech) > 0
    value = float(passages.speech[0, 0]) * CELL_S if found else None
    return Reading(
        quantity="head_s",
        value=value,
        unit="s",
        method="time before the first run of at least 100 ms of speech",
        end_s=value or 0.0,
        note=None if found else NO_SPEECH,
    )


def tail(passages: Passages, *, duration_s: float) -> Reading:
    """Seconds after the last speech; no value where there is none."""
    found = len(passages.speech) > 0
    value = max(0.0, duration_s - float(passages.speech[-1, 1]) * CELL_S) if found else None
    return Reading(
        quantity="tail_s",
        value=value,
        unit="s",
        method="time after the last run of at least 100 ms of speech",
        start_s=duration_s - value if value is not None else duration_s,
        end_s=duration_s,
        note=None if found else NO_SPEECH,
    )


def longest_pause(passages: Passages) -> tuple[Reading, list[Finding]]:
    """The longest pause between two stretches of speech, and a finding for each of more than 4 s."""
    gaps = _gaps(passages)
    lengths = (gaps[:, 1] - gaps[:, 0]) * CELL_S
    longest = int(np.argmax(lengths)) if len(gaps) else None
    reading = Reading(
        quantity="longest_pause_s",
        value=float(lengths[longest]) if longest is not None else None,
        unit="s",
        method="longest time between two stretches of speech",
        start_s=float(gaps[longest, 0]) * CELL_S if longest is not None else 0.0,
        end_s=float(gaps[longest, 1]) * CELL_S if longest is not None else passages.cells * CELL_S,
        note=None if longest is not None else "there is no pause between two stretches of speech",
    )
    return reading, [
        Finding(
            kind="long-pause",
            start_s=float(start) * CELL_S,
            end_s=float(end) * CELL_S,
            measure=float(length),
            unit="s",
            severity="note",
        )
        for (start, end), length in zip(gaps, lengths, strict=True)
        if length > OVER_LONG_S
    ]


def _gaps(passages: Passages) -> NDArray[np.int64]:
    return np.stack((passages.speech[:-1, 1], passages.speech[1:, 0]), axis=1)


def digital_silence(passages: Passages, *, duration_s: float) -> Reading:
    """Total seconds of stretches of at least 50 ms without a |sample| above −90 dBFS."""
    return Reading(
        quantity="digital_silence_s",
        value=float(passages.dead.sum()) * CELL_S,
        unit="s",
        method="stretches of at least 50 ms without a |sample| above −90 dBFS",
        end_s=duration_s,
    )


def dead_silences(passages: Passages) -> list[Finding]:
    """A finding for each stretch of dead silence of at least 0.2 s."""
    return [
        Finding(
            kind="dead-silence",
            start_s=float(start) * CELL_S,
            end_s=float(end) * CELL_S,
            measure=float(end - start) * CELL_S,
            unit="s",
        )
        for start, end in runs(passages.dead)
        if end - start >= DEAD_WORTH_SAYING_CELLS
    ]
