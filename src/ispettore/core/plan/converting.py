"""Conversions that are told, not run: what a recording reads on other channels or at a near sample rate, for a plan.

A wave on another number of channels is the same wave (`measure/copies.py`). At a rate that holds nearly the same band it is the
same sound on other samples: levels and loudness stay; how high its highest samples are then is looked up where it is loudest, and
what the room loses of its hiss where nobody speaks. What is written is measured, as ever.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import soxr
from numpy.typing import NDArray

from ispettore.core.edit.reading import Sound, read_sound
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.copies import copied
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Reading, Span
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat import channels
from ispettore.core.treat.channels import Channels
from ispettore.core.treat.sample_rate import SampleRate
from ispettore.core.treat.step import Block
from ispettore.core.treat.treatment import Treatment

LEAST_HZ, LEAST_OF_THE_BAND = 44_100, 0.9
"""A lower rate is near where it is no lower than this and holds so much of the band."""

NEAR_THE_TOP, MOST_CELLS = 10 ** (-1.5 / 20), 200
PLACE_CELLS = 40
PLACE_S, MARGIN_S, ROOM_S = PLACE_CELLS * CELL_S, 0.04, 10.0
OF_THE_PEAK, SIGNAL_TO_NOISE = ("sample_peak_dbfs", "crest_factor_db", "speech_crest_db"), "signal_to_noise_db"


@dataclass(frozen=True)
class Conversion:
    """From one sample rate to another, on so many channels that are alike (`channels` None: as they are)."""

    from_hz: int
    to_hz: int
    channels: int | None = None

    def read(self, sound: Sound, start_s: float, length_s: float) -> Block:
        """A part of a sound as it is after the conversion, shape (frames, channels)."""
        block = read_sound(sound, round(start_s * self.from_hz), round(length_s * self.from_hz))
        return self._at_its_rate(block if self.channels is None else channels.alike(block, self.channels))

    def told(self, sound: Sound, before: Basis) -> Basis:
        """What the whole of a sound that measured `before` reads after it."""
        basis = before if self.channels is None else copied(before, self.channels)
        return basis if self.from_hz == self.to_hz else self._resampled(sound, basis)

    def _at_its_rate(self, block: Block) -> Block:
        if self.from_hz == self.to_hz:
            return block
        return np.asarray(soxr.resample(block, self.from_hz, self.to_hz, quality="VHQ"), dtype=np.float32)

    def _resampled(self, sound: Sound, basis: Basis) -> Basis:
        inspection = basis.inspection
        peak, room = self._peak_moves_db(sound, basis), self._room_moves_db(sound, inspection.room_tone)
        moves = dict.fromkeys(OF_THE_PEAK, peak) | {SIGNAL_TO_NOISE: -room}
        moves |= {name: room for name in inspection.readings if QUANTITIES[name].is_room}
        readings = {name: _moved(reading, moves.get(name, 0.0)) for name, reading in inspection.readings.items()}
        facts = inspection.facts.model_copy(update={"sample_rate_hz": self.to_hz})
        told = inspection.model_copy(update={"facts": facts, "readings": readings})
        return Basis(told, basis.peak, basis.power, basis.k_power, basis.counts)

    def _peak_moves_db(self, sound: Sound, basis: Basis) -> float:
        """How much higher the highest sample is afterwards, by the places where one was near the top. Each is read from a moment on
        at which both rates have a sample, so that it lies on the samples that it will lie on."""
        top = float(basis.highest.max(initial=0.0))
        near = np.flatnonzero(basis.highest >= NEAR_THE_TOP * top)
        loudest = near[np.argsort(-basis.highest[near], kind="stable")[:MOST_CELLS]]
        after = 0.0
        for place in np.unique(loudest // PLACE_CELLS).tolist() if top > 0 else ():
            first = max(place - 1, 0)
            block = self.read(sound, first * PLACE_S, (place - first + 1) * PLACE_S + MARGIN_S)
            start, end = (round((each - first) * PLACE_S * self.to_hz) for each in (place, place + 1))
            after = max(after, float(np.abs(block[start:end]).max(initial=0.0)))
        return 20 * float(np.log10(after / top)) if after > 0 else 0.0

    def _room_moves_db(self, sound: Sound, room_tone: Sequence[Span]) -> float:
        """How much the room rises: it falls by what of it was above the new band."""
        was = now = heard = 0.0
        for span in room_tone:
            if heard > ROOM_S:
                break
            length = min(span.length_s, ROOM_S)
            plain = read_sound(sound, round(span.start_s * self.from_hz), round(length * self.from_hz))
            before, after = _inner(plain, self.from_hz), _inner(self._at_its_rate(plain), self.to_hz)
            if before.size and after.size:
                was += float(np.mean(np.square(before))) * length
                now += float(np.mean(np.square(after))) * length
                heard += length
        return 10 * float(np.log10(now / was)) if was > 0 and now > 0 else 0.0


def _inner(block: Block, rate: int) -> NDArray[np.float64]:
    """Without its edges, which a filter has not heard what is around of."""
    edge = round(MARGIN_S * rate)
    return block[edge : len(block) - edge].astype(np.float64)


def _moved(reading: Reading, by_db: float) -> Reading:
    if not by_db or reading.value is None:
        return reading
    each = tuple(None if value is None else value + by_db for value in reading.per_channel)
    return reading.model_copy(update={"value": reading.value + by_db, "per_channel": each})


def told(before: Inspection, prepared: Treatment, specification: Specification) -> Conversion | None:
    """The conversion that stands before a plan, where what it brings can be told and need not be run."""
    facts, number, rate = before.facts, None, before.facts.sample_rate_hz
    sampled = any(_of_the_samples(limit) for limit in specification.limits)
    for step in prepared.steps:
        made = step.typed
        if isinstance(made, Channels) and facts.channel_relation in ("one", "identical"):
            number = made.channels
        elif isinstance(made, SampleRate) and _near(facts.sample_rate_hz, made.sample_rate_hz) and not sampled:
            rate = made.sample_rate_hz
        else:
            return None
    return Conversion(facts.sample_rate_hz, rate, number) if prepared.steps else None


def none(basis: Basis) -> Conversion:
    """What leaves a recording as it is."""
    rate = basis.inspection.facts.sample_rate_hz
    return Conversion(rate, rate)


def _near(was: int, rate: int) -> bool:
    return rate >= was or rate >= max(LEAST_HZ, LEAST_OF_THE_BAND * was)


def _of_the_samples(limit: Limit) -> bool:
    """Whether a limit is on what is found in the very samples, or in the highest band: that is another thing at another rate."""
    return limit.severity == "must" and (limit.about.group == "health" or limit.about.counts is not None)
