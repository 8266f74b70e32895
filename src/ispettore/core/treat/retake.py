"""A retake made to sound like the recording that it goes into: its rate and channels, its tone by one gentle curve, the level of
its voice where it is put, and as much of its room as the retake's own room lacks.
"""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.reading import Block, Source
from ispettore.core.audio.writing import write_working
from ispettore.core.edit import filling
from ispettore.core.edit.edits import Put
from ispettore.core.errors import IspettoreError
from ispettore.core.figures import number
from ispettore.core.measure import decibels, voice_tone
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.inspecting import UNNAMED, inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.progress import Progress, no_progress
from ispettore.core.treat import channels, runner
from ispettore.core.treat.treatment import Step, Treatment

LONGEST_S = 300.0
SHORTEST_SPEECH_S = 0.2
NEAR_S, LEAST_NEAR_S = 20.0, 2.0
TONE_FROM_S, TONE_MOST_DB = 2.0, 3.0
"""A shorter retake says too little of its tone; no band is moved by more."""
PEAK_DBFS = -0.1
ROOM_APART_DB, LOUDER_ROOM_DB = 0.5, 2.0
MARGIN_S = 0.02
REACH_S, ALIKE = 0.01, 0.3
"""Two periods of the lowest voice; what is less alike does not swing together."""


class RetakeTooLong(IspettoreError):
    """“{file}” is {minutes:.0f} minutes long; a retake may be up to {longest_min:.0f}. Cut it to the words that are to be
    replaced."""

    file: str
    minutes: float
    longest_min: float


class RetakeWithoutSpeech(IspettoreError):
    """Nobody speaks in “{file}”, so it can't be used as a retake. Nothing was changed."""

    file: str


class RetakeUnfit(IspettoreError):
    """“{file}” has {has} channels and the recording {wanted}, so it can't be put in. Export it with as many as the recording
    has."""

    file: str
    has: int
    wanted: int


class Into(BaseModel):
    """What a retake is brought to: rate, channels, level of the voice beside it, room in the pauses, tone of the voice
    (third-octaves from 100 Hz to 8 kHz about their mean; empty where it is not known)."""

    model_config = ConfigDict(frozen=True)

    sample_rate_hz: int
    channels: int
    speech_dbfs: float
    room_dbfs: float | None
    tone_db: tuple[float, ...] = ()


class Matched(BaseModel):
    """What was done to a retake, and where someone speaks in it: gain, the most that any band of its tone was moved by, how much
    of the gain a peak at full scale forbade, by how much its room was below the recording's and was filled up, or is above it."""

    model_config = ConfigDict(frozen=True)

    duration_s: float
    speech: Span
    gain_db: float
    tone_db: float = 0.0
    withheld_db: float = 0.0
    filled_db: float = 0.0
    louder_room_db: float = 0.0

    @property
    def told(self) -> str:
        """In words.

        >>> Matched(duration_s=3, speech=Span(start_s=0.5, end_s=2), gain_db=2.13, tone_db=1.5, louder_room_db=4).told
        'raised by 2.1 dB, tone moved by up to 1.5 dB; its room is 4.0 dB louder than the recording’s'
        """
        level = f"{'raised' if self.gain_db > 0 else 'lowered'} by {number(abs(self.gain_db), 1)} dB"
        done = [level if abs(self.gain_db) >= 0.05 else "level as it was"]
        if self.tone_db >= 0.1:
            done.append(f"tone moved by up to {number(self.tone_db, 1)} dB")
        if self.filled_db:
            done.append(f"room tone filled up by {number(self.filled_db, 1)} dB")
        said = ", ".join(done)
        if self.withheld_db:
            said += f"; {number(self.withheld_db, 1)} dB short of the recording’s level, as its peaks would clip"
        if self.louder_room_db:
            said += f"; its room is {number(self.louder_room_db, 1)} dB louder than the recording’s"
        return said


def into(basis: Basis, span: Span) -> Into | None:
    """What a retake for a span of a recording is brought to: the voice counts that is heard within `NEAR_S` of it, or all where
    that is too little. None where nobody speaks."""
    inspection = basis.inspection
    cells = np.arange(basis.counts.size) / CELLS_PER_SECOND
    outside = (cells < span.start_s) | (cells >= span.end_s)
    near = basis.speech & outside & (cells >= span.start_s - NEAR_S) & (cells < span.end_s + NEAR_S)
    if near.sum() < LEAST_NEAR_S * CELLS_PER_SECOND:
        near = basis.speech
    level = _level(basis, near)
    if level is None:
        return None
    tone = voice_tone.of(inspection.spectrum)
    return Into(
        sample_rate_hz=inspection.facts.sample_rate_hz,
        channels=inspection.facts.channels,
        speech_dbfs=level,
        room_dbfs=inspection.value("noise_floor_dbfs"),
        tone_db=tuple(float(one) for one in tone) if tone is not None else (),
    )


def prepare(
    take: Path, into: Into, target: Path, *, name: str, room: Sequence[Block], folder: Path, progress: Progress = no_progress
) -> Matched:
    """Write what a retake is to sound like to a float file, as long as the retake. `room` are pieces of the recording's room tone,
    (frames, channels).

    Raises RetakeTooLong, RetakeWithoutSpeech, RetakeUnfit and what reading raises.
    """
    with Source(take, name=name) as source:
        length_s = source.claimed_frames / source.sample_rate_hz
    if length_s > LONGEST_S:
        raise RetakeTooLong(file=name, minutes=length_s / 60, longest_min=LONGEST_S / 60)
    before = inspect(take, name=name, sha256=UNNAMED, progress=progress).inspection
    spoken = sum(span.length_s for span in before.speech)
    if spoken < SHORTEST_SPEECH_S:
        raise RetakeWithoutSpeech(file=name)
    run = runner.run(take, Treatment(steps=_steps(before, into, spoken, name)), folder=folder, name=name, progress=progress)
    after = inspect(run.path, name=name, sha256=UNNAMED)
    level = _level(after.basis, after.basis.speech)
    peak = after.inspection.value("sample_peak_dbfs")
    wanted = into.speech_dbfs - level if level is not None else 0.0
    gain = min(wanted, PEAK_DBFS - peak) if peak is not None else wanted
    own = after.inspection.value("noise_floor_dbfs")
    own = own if own is not None else after.inspection.value("noise_floor_quietest_dbfs")
    added = 0.0
    below = into.room_dbfs - own - gain if into.room_dbfs is not None and own is not None else 0.0
    if below > ROOM_APART_DB and room and into.room_dbfs is not None:
        added = float(np.sqrt(10 ** (into.room_dbfs / 10) - 10 ** ((into.room_dbfs - below) / 10)))
    write_working(target, _mixed(run.path, gain, added, room), sample_rate_hz=run.sample_rate_hz, channels=run.channels)
    run.path.unlink()
    speech = after.inspection.speech
    bands = [line.learned.get("bands_db", {}) for line in run.ledger if line.kind == "tone-match"]
    return Matched(
        duration_s=after.inspection.facts.duration_s,
        speech=Span(start_s=speech[0].start_s, end_s=speech[-1].end_s),
        gain_db=round(gain, 2),
        tone_db=max((abs(db) for found in bands for db in found.values()), default=0.0),
        withheld_db=round(wanted - gain, 2),
        filled_db=round(below, 1) if added else 0.0,
        louder_room_db=round(-below, 1) if -below > LOUDER_ROOM_DB else 0.0,
    )


def laid(matched: Matched, take: str, *, lead_s: float, trail_s: float, sample_rate_hz: int) -> tuple[Put, ...]:
    """A retake with so much before its first word and behind its last: what it has itself, and room tone where it has less.

    >>> matched = Matched(duration_s=3, speech=Span(start_s=0.5, end_s=2), gain_db=0)
    >>> [(one.take, one.start, one.frames) for one in laid(matched, "t", lead_s=0.75, trail_s=0.25, sample_rate_hz=1_000)]
    [('', 0, 250), ('t', 0, 2250)]
    """
    first = round((matched.speech.start_s - lead_s) * sample_rate_hz)
    last = round((matched.speech.end_s + trail_s) * sample_rate_hz)
    start, end = max(first, 0), min(last, round(matched.duration_s * sample_rate_hz))
    parts = (Put(frames=end - start, take=take, start=start),)
    before = (Put(frames=start - first),) if start > first else ()
    after = (Put(frames=last - end),) if last > end else ()
    return (*before, *parts, *after)


def around(inspection: Inspection, span: Span) -> tuple[float, float]:
    """How long nobody speaks at the start and at the end of a span, in seconds: a retake's words come and go as those did."""
    spoken = [one for one in inspection.speech if one.end_s > span.start_s and one.start_s < span.end_s]
    if not spoken:
        return min(span.length_s / 2, 0.25), min(span.length_s / 2, 0.25)
    return max(spoken[0].start_s - span.start_s, MARGIN_S), max(span.end_s - spoken[-1].end_s, MARGIN_S)


def swings_with(there: Block, take: Block, at: int, *, sample_rate_hz: int) -> int:
    """By how many frames a join at frame `at` of a take is best moved where there is no pause to join in, so that both sides swing
    together: up to `REACH_S` either way. `there` is what is heard around the join before, (frames, channels), as long as one is.

    0 where nothing swings together, or the take ends too near.
    """
    reach, size = round(REACH_S * sample_rate_hz), len(there)
    first = at - size // 2 - reach
    window = take[max(first, 0) : first + size + 2 * reach].mean(axis=1, dtype=np.float64)
    if first < 0 or len(window) < size + 2 * reach or not size:
        return 0
    wave = there.mean(axis=1, dtype=np.float64)
    energy = np.convolve(window**2, np.ones(size), mode="valid")
    alike = np.correlate(window, wave, mode="valid") / np.sqrt(np.maximum(energy * (wave @ wave), 1e-20))
    best = int(np.argmax(alike))
    return best - reach if alike[best] >= ALIKE else 0


def _steps(before: Inspection, into: Into, spoken_s: float, name: str) -> tuple[Step, ...]:
    facts, steps = before.facts, []
    if facts.channels != into.channels:
        if into.channels > 2:
            raise RetakeUnfit(file=name, has=facts.channels, wanted=into.channels)
        decided = channels.decided(before, into.channels)
        steps.append(Step(kind="channels", settings=decided.model_dump()))
    if facts.sample_rate_hz != into.sample_rate_hz:
        steps.append(Step(kind="sample-rate", settings={"sample_rate_hz": into.sample_rate_hz}))
    if into.tone_db and spoken_s >= TONE_FROM_S:
        steps.append(Step(kind="tone-match", settings={"voice_db": into.tone_db, "most_db": TONE_MOST_DB}))
    return tuple(steps)


def _level(basis: Basis, cells: "np.ndarray[tuple[int], np.dtype[np.bool_]]") -> float | None:
    if not cells.any():
        return None
    return decibels.of_power(float(basis.power[..., cells].mean(dtype=np.float64)))


def _mixed(path: Path, gain_db: float, added: float, room: Sequence[Block]) -> list[Block]:
    with Source(path) as source:
        found = np.concatenate([block.copy() for block in source.blocks()]) * np.float32(10 ** (gain_db / 20))
        rate = source.sample_rate_hz
    if added:
        filled = filling.fill(list(room), len(found), sample_rate_hz=rate, seed=len(found) & 0x7FFF_FFFF)
        loudness = float(np.sqrt(np.mean(np.square(filled - filled.mean(axis=0)), dtype=np.float64)))
        found = found + filled * np.float32(added / loudness if loudness > 0 else 0.0)
    return [np.clip(found, -1.0, 1.0).astype(np.float32)]
