"""What a draft is expected to bring, from its rehearsal: readings against limits, the gain window, and what comes out of each step.

Of a recording that is rehearsed whole the readings are those of the very samples that a run would write, before they are encoded.
Of a longer one, levels are the recording's own, moved as the steps moved them in its typical stretch; peaks are taken where the
recording is loudest; the ribbon is likened to both stretches (`likened`).
"""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.ribbon import COLUMNS
from ispettore.core.measure.ribbon import of as ribbon_of
from ispettore.core.plan import cleaning, ending, likened
from ispettore.core.plan.window import Bar, GainWindow, Learned, bar, limits, of_bars
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, judge, reading_for, role_of
from ispettore.core.treat import pictures
from ispettore.core.treat.pictures import Picture
from ispettore.core.treat.rehearsal import Idle, Rehearsal, Sounding, Stage, Window, as_of_whole
from ispettore.core.treat.treatment import Step

LOUDEST_S = 20.0
COLUMN_S, MOST_COLUMNS = 0.5, 4_800
"""How long a column of the expected ribbon is, unless that makes too few or too many of them."""

ENCODED = "encoding"
SHOWN = ("sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "integrated_loudness_lufs", "noise_floor_dbfs", "crest_factor_db")
"""What a ledger tells besides the limits."""


class Line(BaseModel):
    """What is expected to come out of one step: each limit as it stands then, the usual readings, what the step learned, and what a
    person should know."""

    model_config = ConfigDict(frozen=True)

    kind: str
    limits: tuple[LimitVerdict, ...]
    readings: dict[str, float | None]
    learned: dict[str, Any] = {}
    warnings: tuple[str, ...] = ()


class Foretold(BaseModel):
    """What a draft is expected to bring. `whole` says that all of the recording was rehearsed.

    `lines` begins with what comes in, then tells each step that is on, and last the written file (`ENCODED`) where encoding moves
    readings. `gain_db` is the last gain, `window` what gains would do in its place: the bars of peaks that a limiter holds behind
    it are open. `leads_s` is how much later a word comes.
    """

    model_config = ConfigDict(frozen=True)

    whole: bool
    lines: tuple[Line, ...]
    window: GainWindow
    gain_db: float | None
    loudness_lufs: float | None
    leads_s: float
    rms_dbfs: tuple[float, ...] = ()
    peak_dbfs: tuple[float, ...] = ()
    """The ribbon that is expected; of a recording that is not rehearsed whole, likened to the stretches that are."""
    moved_db: tuple[float, ...] = ()
    mean_moved_db: tuple[float, ...] = ()
    """The gain that all steps together move, over the recording's time: the lowest of each column, and the mean of what is lowered;
    empty where they move none."""


def foretold(
    rehearsal: Rehearsal, basis: Basis, steps: Sequence[Step], specification: Specification, encoding: Learned | None = None
) -> Foretold:
    """What the steps are expected to bring; one that can't be started leaves everything as it is, and says why in its line.
    `encoding` is what the encoder does to readings, where that is known."""
    on = [step for step in steps if step.on]
    typical = _typical(rehearsal, basis)
    heard = rehearsal.over(*typical)
    here = rehearsal.steps(steps, heard)
    sounds = heard.through(here)
    inspections = [_inspected(rehearsal, sounds[0], sound) for sound in sounds]
    loudest: list[Sounding] = []
    if not rehearsal.whole:
        loudest = _loudest(rehearsal, basis, steps)
        inspections = _with_peaks(inspections, loudest)
    after = inspections[0]
    lines = [_line("", after, specification, None)]
    ends: dict[str, float] = {}
    told = iter(zip(inspections[1:], sounds[1:], strict=True))
    for step in on:
        sound = None
        if step.typed.at_ends and not rehearsal.whole:  # it is not heard in between, and does what it is asked for
            ends |= ending.asked(step.settings)
        else:
            after, sound = next(told)
        after = _ended(after, ends, rehearsal.known)
        lines.append(_line(step.kind, after, specification, sound))
    loudness = after.value("integrated_loudness_lufs")
    if encoding is not None and encoding != Learned():
        after = _encoded(after, encoding)
        lines.append(_line(ENCODED, after, specification, None))
    gain, window = _window(on, after, specification)
    columns = min(max(round(rehearsal.frames / rehearsal.rate / COLUMN_S), COLUMNS), MOST_COLUMNS)
    if rehearsal.whole:
        ribbon, moved = ribbon_of(sounds[-1].measured(), columns=columns), _moved(sounds)
    else:
        heard_of = (step.typed for step in on if not step.typed.at_ends)
        typed = [step if isinstance(sound, Stage) else None for step, sound in zip(heard_of, sounds[1:], strict=True)]
        stretches = [_seen(rehearsal, basis, each) for each in (loudest, sounds) if each]
        ribbon, moved = likened.expected(basis, typed, stretches, columns=columns)
    return Foretold(
        whole=rehearsal.whole,
        lines=tuple(lines),
        window=window,
        gain_db=gain,
        loudness_lufs=loudness,
        leads_s=rehearsal.leads(steps),
        rms_dbfs=tuple(ribbon.rms_dbfs.round(1).tolist()),
        peak_dbfs=tuple(ribbon.peak_dbfs.round(1).tolist()),
        moved_db=pictures.columns(moved, columns),
        mean_moved_db=pictures.columns(np.minimum(moved, 0), columns, of=np.mean),
    )


def _encoded(inspection: Inspection, encoding: Learned) -> Inspection:
    moved = {
        name: reading.model_copy(update={"value": reading.value + encoding.added(QUANTITIES[name])})
        for name, reading in inspection.readings.items()
        if reading.value is not None and name in QUANTITIES
    }
    return inspection.model_copy(update={"readings": {**inspection.readings, **moved}})


def pictured(rehearsal: Rehearsal, basis: Basis, steps: Sequence[Step]) -> tuple[Picture, ...]:
    """The pictures of the last of these steps, which is on; none of one that can't be started."""
    if not steps:
        return ()
    at_ends = steps[-1].typed.at_ends and not rehearsal.whole
    heard = rehearsal.ends() if at_ends else rehearsal.over(*_typical(rehearsal, basis))
    here = rehearsal.steps(steps, heard)
    if not here:
        return ()
    last = heard.through(here)[-1]
    return pictures.of(last) if isinstance(last, Stage) else ()


def _typical(rehearsal: Rehearsal, basis: Basis) -> tuple[int, int]:
    """Start and length in frames of what is measured: all of it, or the stretch on which cleaning would be tried."""
    if rehearsal.whole:
        return 0, rehearsal.frames
    first, last = cleaning.stretch(basis)
    return round(first * CELL_S * rehearsal.rate), round((last - first) * CELL_S * rehearsal.rate)


def _inspected(rehearsal: Rehearsal, first: Sounding, sound: Sounding) -> Inspection:
    if rehearsal.whole:
        return rehearsal.known if sound is first else sound.measured().inspection
    known, here = rehearsal.known, sound.measured().inspection
    length = {
        "frames": round(known.facts.frames * here.facts.sample_rate_hz / rehearsal.rate),
        "duration_s": known.facts.duration_s,
    }
    told = as_of_whole(known, first.measured().inspection, here)
    return told.model_copy(update={"facts": here.facts.model_copy(update=length)})


def _ended(inspection: Inspection, ends: Mapping[str, float], known: Inspection) -> Inspection:
    """With head and tail of these lengths in seconds, by quantity, in place of the recording's own (`known`)."""
    changed = {
        name: reading.model_copy(update={"value": ends[name]})
        for name, reading in inspection.readings.items()
        if name in ends and reading.value is not None
    }
    if not changed:
        return inspection
    longer = sum(ends[name] - (known.value(name) or 0.0) for name in changed)
    duration = known.facts.duration_s + longer
    length = {"duration_s": duration, "frames": round(duration * inspection.facts.sample_rate_hz)}
    facts = inspection.facts.model_copy(update=length)
    return inspection.model_copy(update={"readings": {**inspection.readings, **changed}, "facts": facts})


def _loudest(rehearsal: Rehearsal, basis: Basis, steps: Sequence[Step]) -> list[Sounding]:
    """What comes out of each step where the recording is loudest; nothing where one can't be started there."""
    cell = int(basis.highest.argmax())
    size = round(LOUDEST_S * rehearsal.rate)
    start = min(max(0, round(cell * CELL_S * rehearsal.rate) - size // 2), max(0, rehearsal.frames - size))
    loudest = rehearsal.over(start, size)
    sounds = loudest.through(rehearsal.steps(steps, loudest))
    return [] if any(isinstance(sound, Idle) for sound in sounds) else sounds


def _with_peaks(inspections: Sequence[Inspection], loudest: Sequence[Sounding]) -> list[Inspection]:
    """Peaks as they come out where the recording is loudest. Where that is not known, as they moved elsewhere."""
    if not loudest:
        return list(inspections)
    measured = [sound.measured().inspection for sound in loudest]
    return [_peaks(one, there) for one, there in zip(inspections, measured, strict=True)]


def _seen(rehearsal: Rehearsal, basis: Basis, sounds: Sequence[Sounding]) -> likened.Stretch:
    window = sounds[0]
    assert isinstance(window, Window)
    first = round(window.start / rehearsal.rate / CELL_S)
    moved = [sound.processor.reduction_db() if isinstance(sound, Stage) else np.zeros(0) for sound in sounds[1:]]
    return likened.rehearsed(first, [sound.measured() for sound in sounds], moved, cells=basis.counts.size)


def _peaks(inspection: Inspection, loudest: Inspection) -> Inspection:
    readings: dict[str, Reading] = dict(inspection.readings)
    for name, reading in inspection.readings.items():
        if name in QUANTITIES and QUANTITIES[name].is_peak and (value := loudest.value(name)) is not None:
            readings[name] = reading.model_copy(update={"value": value})
    return inspection.model_copy(update={"readings": readings})


def _line(kind: str, inspection: Inspection, specification: Specification, sound: Sounding | None) -> Line:
    stage = sound if isinstance(sound, Stage) else None
    verdict = judge(inspection, specification, role=role_of(inspection))
    return Line(
        kind=kind,
        limits=verdict.limits,
        readings={name: inspection.value(name) for name in SHOWN},
        learned=stage.processor.learned() if stage is not None else {},
        warnings=tuple(stage.processor.warnings()) if stage is not None else (sound.problem,) if isinstance(sound, Idle) else (),
    )


def _window(on: Sequence[Step], after: Inspection, specification: Specification) -> tuple[float | None, GainWindow]:
    """The last gain, and which gains in its place each limit allows by what comes out now."""
    gains = [number for number, step in enumerate(on) if step.kind == "gain"]
    gain = float(on[gains[-1]].settings["gain_db"]) if gains else None
    held = any(step.kind == "true-peak-limiter" for step in on[gains[-1] if gains else len(on) :])
    bars = []
    for limit in limits(specification):
        reading = reading_for(limit.quantity, after, specification)
        if not limit.about.moves_with_gain or not isinstance(reading, float):
            continue
        there = bar(limit, reading, reserve_db=limit.about.reserve)
        if limit.about.is_peak and held and (there.high_db is None or there.high_db >= 0):
            there = there.model_copy(update={"low_db": None, "high_db": None})
        bars.append(_from(there, gain or 0.0))
    return gain, of_bars(bars)


def _from(there: Bar, gain_db: float) -> Bar:
    low, high = (None if bound is None else bound + gain_db for bound in (there.low_db, there.high_db))
    return there.model_copy(update={"low_db": low, "high_db": high})


def _moved(sounds: Sequence[Sounding]) -> NDArray[np.float64]:
    """The gain that all steps together move in each cell, shape (cells,); empty where none moves any."""
    parts = [sound.processor.reduction_db() for sound in sounds if isinstance(sound, Stage)]
    total = np.zeros(max((part.size for part in parts), default=0))
    for part in parts:
        total[: part.size] += part
    return total
