"""`head_s` and `tail_s`: time before the first and after the last speech. `digital_silence_s`: the sum of dead silence."""

from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.speech import Passages

NO_SPEECH = "no speech was found in this file"


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
        if end - start >= 40
    ]
