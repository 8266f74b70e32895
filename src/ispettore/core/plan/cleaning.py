"""Cleaning: what brings the room down far enough against the voice, the mildest first, tried on the recording's own sound.

What takes as much from under the words as from between them comes first: the hum filter where hum is found, then the rumble filter
(with linear phase, which leaves the wave its shape and the limits on peaks their headroom). What is then missing, noise reduction
takes, and what its bound leaves over, an expander takes from the pauses. Every chain is run on a stretch of the recording and
measured there by the same meters as the whole; the first that closes the gap is taken, and a step that brings next to nothing is
left out.
"""

import tempfile
from collections.abc import Callable, Iterator, Sequence
from itertools import combinations
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.writing import write_working
from ispettore.core.edit.reading import Sound
from ispettore.core.figures import exact, number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND
from ispettore.core.measure.inspecting import UNNAMED, inspect, measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Reading, Span
from ispettore.core.measure.turns import Turn
from ispettore.core.plan import converting
from ispettore.core.plan.bounds import Bounds, Given
from ispettore.core.plan.converting import Conversion
from ispettore.core.plan.foretelling import Moved
from ispettore.core.progress import Progress, no_progress
from ispettore.core.treat import runner
from ispettore.core.treat.runner import touched
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step, Treatment

STRETCH_S, EVERY_S, PASSAGE_S = 40.0, 5.0, 20.0
LEAST_ROOM_S, LEAST_SPEECH = 2.0, 0.3
WORTHWHILE_DB = 1.0
"""A steady step that brings less is left out: noise reduction takes it as well."""

MARGIN_DB, CLOSED_DB = 0.3, -0.05
"""A gap is closed by this much less than nothing; the size of a step is chosen with a margin, where it has one."""

CORNERS = ((80.0, 24), (100.0, 48))
"""Corner in Hz and slope in dB per octave of the rumble filter, mild before strong."""

OF_THE_VOICE = 0.8
"""A corner stays below this part of the voice's fundamental."""

MOST_TURNS = 3
MOST_CHAINS = 24
"""That are tried, about, where nothing closes the gap."""

SILENT_DB = -60.0

Missing = Callable[[Moved], float]
"""How many dB are missing still once readings have moved so; below 0 with room to spare."""


Trying = Callable[..., Moved]
"""Called with the steps of a chain."""

Chain = tuple[Step, ...]


class Cleaning(BaseModel):
    """Steps that close the gap, and how they move the readings; or, with `missing_db` left, what was tried in vain, and what each
    step gave."""

    model_config = ConfigDict(frozen=True)

    steps: tuple[Step, ...] = ()
    moved: Moved = {}
    given: tuple[Given, ...] = ()
    missing_db: float = CLOSED_DB
    touch: Touch = Touch()
    """Of these steps, on the stretch they were tried on."""

    @property
    def closes(self) -> bool:
        return self.missing_db <= CLOSED_DB


class Trial:
    """A stretch of a recording, and what chains of steps do to its readings once the steps that follow them (`then`) have run too.
    A chain is run once. `basis` is of the recording after its `conversion`. What was chosen as `room_tone` by hand in the recording
    is so in the stretch. `fundamental_hz` is that of the lowest voice of the whole recording. `progress` is told of each chain, and
    may raise Cancelled."""

    def __init__(
        self,
        source: Sound,
        basis: Basis,
        *,
        name: str,
        folder: Path,
        room_tone: Sequence[Span] = (),
        then: Chain = (),
        conversion: Conversion | None = None,
        progress: Progress = no_progress,
    ) -> None:
        facts, conversion = basis.inspection.facts, conversion or converting.none(basis)
        self._name, self._folder, self._then, self._progress = name, folder, then, progress
        first, last = stretch(basis)
        self._room_tone = within(room_tone, first * CELL_S, last * CELL_S)
        path = folder / "stretch.rf64"
        rate = facts.sample_rate_hz
        samples = conversion.read(source, first * CELL_S, (last - first) * CELL_S)
        self._path = write_working(path, [samples], sample_rate_hz=rate, channels=facts.channels)
        measured = self._measured(self._path)
        self._before = measured.basis
        heard = [measured.inspection.spectrum.fundamental_hz]
        for start_s, length_s in _of_each_voice(basis.inspection.turns):
            passage = conversion.read(source, start_s, length_s)
            heard.append(measure_array(passage, sample_rate_hz=rate).inspection.spectrum.fundamental_hz)
        self.fundamental_hz = min((hz for hz in heard if hz is not None), default=None)
        self._usual = self._followed(self._path, measured.basis, folder)
        self._known: dict[str, tuple[Moved, Touch]] = {}

    def __call__(self, *steps: Step) -> Moved:
        """What these steps do to each reading."""
        return self._tried(steps)[0] if steps else {}

    def touch(self, *steps: Step) -> Touch:
        """How much they touch voice and room."""
        return self._tried(steps)[1] if steps else Touch()

    def _tried(self, steps: tuple[Step, ...]) -> tuple[Moved, Touch]:
        treatment = Treatment(steps=tuple(Step(kind=step.kind, settings=step.settings) for step in steps))
        key = treatment.model_dump_json()
        if key not in self._known:
            self._progress("Trying ways to clean the room", min(len(self._known) / MOST_CHAINS, 1.0))
            with tempfile.TemporaryDirectory(dir=self._folder) as folder:
                run = self._run(self._path, treatment, Path(folder))
                after = self._measured(run.path)
                moved = _moved(self._usual, self._followed(run.path, after.basis, Path(folder)))
                self._known[key] = moved, touched(run, self._before, after)
        return self._known[key]

    def _followed(self, path: Path, basis: Basis, folder: Path) -> Inspection:
        """What a file measures after the steps that follow."""
        if not self._then:
            return basis.inspection
        with tempfile.TemporaryDirectory(dir=folder) as inner:
            run = self._run(path, Treatment(steps=self._then), Path(inner))
            return self._measured(run.path).inspection

    def _run(self, path: Path, treatment: Treatment, folder: Path) -> runner.Run:
        return runner.run(path, treatment, folder=folder, name=self._name, room_tone=self._room_tone)

    def _measured(self, path: Path) -> Measured:
        return inspect(path, name=self._name, room_tone=self._room_tone, sha256=UNNAMED)


def _of_each_voice(turns: Sequence[Turn]) -> Iterator[tuple[float, float]]:
    """Start and length in seconds of a passage of each voice, where there are two: a stretch may hold one of them alone."""
    for voice in sorted({turn.voice for turn in turns}):
        longest = max((turn for turn in turns if turn.voice == voice), key=lambda turn: turn.end_s - turn.start_s)
        yield longest.start_s, min(longest.end_s - longest.start_s, PASSAGE_S)


def stretch(basis: Basis) -> tuple[int, int]:
    """First and last cell of the stretch on which cleaning is tried: with speech and room tone, its room as loud as the whole's."""
    cells, size = basis.counts.size, round(STRETCH_S * CELLS_PER_SECOND)
    if cells <= size:
        return 0, cells
    starts = np.append(np.arange(0, cells - size, round(EVERY_S * CELLS_PER_SECOND)), cells - size)
    power = np.where(basis.room, basis.power.mean(axis=0), 0.0)
    room, speech, power = (
        np.concatenate(([0.0], np.cumsum(each, dtype=np.float64)))[[starts, starts + size]]
        for each in (basis.room, basis.speech, power)
    )
    room, speech, power = room[1] - room[0], speech[1] - speech[0], power[1] - power[0]
    fit = (room >= LEAST_ROOM_S * CELLS_PER_SECOND) & (speech >= LEAST_SPEECH * size)
    if not fit.any():
        first = int(starts[np.argmax(np.minimum(room, speech))])
        return first, first + size
    usual = basis.power.mean(axis=0)[basis.room].mean()
    away = np.abs(np.log((power / np.maximum(room, 1) + 1e-12) / (usual + 1e-12)))
    first = int(starts[np.argmin(np.where(fit, away, np.inf))])
    return first, first + size


def within(room_tone: Sequence[Span], start_s: float, end_s: float) -> tuple[Span, ...]:
    """Spans as they lie in a stretch, in seconds from its start; what is outside it is left out.

    >>> within([Span(start_s=1, end_s=2.5), Span(start_s=9, end_s=9.5)], 2.0, 5.0)
    (Span(start_s=0.0, end_s=0.5),)
    """
    cut = (Span(start_s=max(each.start_s, start_s) - start_s, end_s=min(each.end_s, end_s) - start_s) for each in room_tone)
    return tuple(each for each in cut if each.length_s >= 2 * CELL_S)


def choose(trial: Trying, missing: Missing, bounds: Bounds, *, hum: bool, fundamental_hz: float | None) -> Cleaning:
    """The mildest chain that leaves nothing missing, or the strongest that the bounds allow, and what is missing then."""
    fit = [each for each in CORNERS if fundamental_hz is None or each[0] <= OF_THE_VOICE * fundamental_hz] or [CORNERS[0]]
    rumbles = [_step("rumble-filter", corner_hz=hz, slope_db_per_octave=slope, phase="linear") for hz, slope in fit]
    hums = [_step("hum-filter")] if hum else []
    alone = [(), *((each,) for each in hums)]
    for chain in [*alone[1:], *((*others, each) for each in rumbles for others in alone)]:
        if missing(trial(*chain)) <= CLOSED_DB:
            return _found(trial, missing, chain)
    tried: list[Chain] = []
    for steady in (_worthwhile(trial, missing, hums, rumbles), (*hums, rumbles[-1])):
        tried.append(_expanded(trial, missing, _reduced(trial, missing, steady, bounds), bounds))
        if missing(trial(*tried[-1])) <= CLOSED_DB:
            return _found(trial, missing, _needed(trial, missing, tried[-1], CLOSED_DB))
    best = min(tried, key=lambda chain: missing(trial(*chain)))
    return _found(trial, missing, _needed(trial, missing, best, missing(trial(*best)) - CLOSED_DB))


def _found(trial: Trying, missing: Missing, steps: Chain) -> Cleaning:
    """With reasons, and with what each step gave after those before it."""
    given, before = [], missing({})
    for count in range(1, len(steps) + 1):
        after = missing(trial(*steps[:count]))
        given.append(Given(kind=steps[count - 1].kind, db=before - after))
        before = after
    reasoned = tuple(
        step.model_copy(update={"reason": _reason(step, each.db, last=step is steps[-1])})
        for step, each in zip(steps, given, strict=True)
    )
    return Cleaning(steps=reasoned, moved=trial(*steps), given=tuple(given), missing_db=before)


def _needed(trial: Trying, missing: Missing, steps: Chain, most_db: float) -> Chain:
    """Without the steps without which no more than `most_db` would be missing."""
    for fewer in combinations(steps, len(steps) - 1) if steps else ():
        if missing(trial(*fewer)) <= most_db:
            return _needed(trial, missing, fewer, most_db)
    return steps


def _worthwhile(trial: Trying, missing: Missing, hums: list[Step], rumbles: list[Step]) -> Chain:
    """Of hum and rumble filter those without which more than `WORTHWHILE_DB` would be missing; the stronger of two corners only
    where it brings as much over the milder."""
    mild, strong = ((*hums, each) for each in (rumbles[0], rumbles[-1]))
    kept: Chain = strong if missing(trial(*strong)) <= missing(trial(*mild)) - WORTHWHILE_DB else mild
    while kept:
        fewer = min(combinations(kept, len(kept) - 1), key=lambda chain: missing(trial(*chain)))
        if missing(trial(*fewer)) >= missing(trial(*kept)) + WORTHWHILE_DB:
            break
        kept = fewer
    return kept


def _reduced(trial: Trying, missing: Missing, steady: Chain, bounds: Bounds) -> Chain:
    """With as much noise reduction as is missing, and is allowed."""
    most = min(bounds.noise_reduction_db, bounds.pauses_db)
    return _sized(trial, missing, steady, lambda size: _step("noise-reduction", amount_db=size), most)


def _expanded(trial: Trying, missing: Missing, before: Chain, bounds: Bounds) -> Chain:
    """With as much expansion of the pauses as is missing then, and is allowed."""
    reduced = sum(float(step.settings["amount_db"]) for step in before if step.kind == "noise-reduction")
    return _sized(trial, missing, before, lambda size: _step("expander", range_db=size), bounds.pauses_db - reduced)


def _sized(trial: Trying, missing: Missing, before: Chain, made: Callable[[float], Step], most: float) -> Chain:
    """With one more step, as large as it has to be by a few trials."""
    size, chain = 0.0, before
    for turn in range(MOST_TURNS):
        left = missing(trial(*chain))
        if left <= (-MARGIN_DB if turn else CLOSED_DB) or size >= most:
            break
        size = min(_up(size + left + MARGIN_DB), most)
        chain = (*before, made(size))
    return chain


def _step(kind: str, **settings: Any) -> Step:
    return Step(kind=kind, settings=settings)


def _up(value: float) -> float:
    return float(np.ceil(value * 10 - 1e-6) / 10)


def _reason(step: Step, brought_db: float, *, last: bool) -> str:
    brought = with_unit(brought_db, "dB")
    if step.kind == "hum-filter":
        return f"Mains hum is removed, which makes the room {brought} quieter relative to the voice, also under the words."
    if step.kind == "rumble-filter":
        return f"{brought} of the room noise is below {number(step.settings['corner_hz'], 0)} Hz, where no voice is."
    if step.kind == "noise-reduction":
        amount = exact(step.settings["amount_db"])
        much = "no more than the limit requires" if last else "as much as the bounds allow"
        return f"Steady room noise is lowered by {amount} dB, {much}; this gains {brought}."
    size = exact(step.settings["range_db"])
    return f"Only the pauses are lowered, by up to {size} dB, for the {brought} that gentler steps could not gain."


def _moved(before: Inspection, after: Inspection) -> Moved:
    pairs = ((name, reading, after.readings.get(name)) for name, reading in before.readings.items())
    return {name: change for name, was, now in pairs if (change := _change(was, now)) is not None}


def _change(was: Reading, now: Reading | None) -> float | None:
    if was.value is None or now is None:
        return None
    if now.value is None:
        return SILENT_DB if now.silence else None
    return now.value - was.value
