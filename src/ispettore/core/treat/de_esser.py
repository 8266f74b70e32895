"""De-esser: turns the band of harsh sibilance down while it is louder than a threshold, and leaves the rest of the voice alone.

The band above a corner is split off by a linear-phase filter and its complement, whose sum is the signal itself; only the band's
gain moves, never by more than the range.
"""

from typing import ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.treat.control import ballistics
from ispettore.core.treat.fir import Delay, Symmetric, low_pass
from ispettore.core.treat.step import Block, Context, Processor, Settings, about
from ispettore.core.treat.trace import Trace

ATTACK_MS, RELEASE_MS, HOLD_MS = 1.0, 40.0, 2.0
FLOOR = 1e-8
TRANSITION_HZ = 1_000.0
NOTHING_DB = -1e-4


class DeEsser(Settings):
    """Lower the band above a frequency while it exceeds a threshold. Channels are linked."""

    title: ClassVar[str] = "De-esser"
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Soften sharp s sounds."
    sentence: ClassVar[str] = "Soften sibilance above {frequency_hz} by up to {range_db}"
    further: ClassVar[str] = "While the band is over {threshold_dbfs}"
    frequency_hz: float = Field(
        5_000.0,
        ge=2_000,
        le=12_000,
        description="Band from",
        json_schema_extra=about("Sibilance lies above it: 4 to 8 kHz for most voices.", unit="Hz"),
    )
    threshold_dbfs: float = Field(
        -30.0,
        ge=-80,
        le=0,
        description="Threshold of the band",
        json_schema_extra=about("The band is lowered while it is louder.", unit="dBFS"),
    )
    range_db: float = Field(
        6.0, ge=0, le=24, description="Range", json_schema_extra=about("The most that the band is lowered.", unit="dB")
    )

    def meets_level(self) -> bool:
        return True

    def start(self, context: Context) -> "DeEsserProcessor":
        return DeEsserProcessor(context, self)


class DeEsserProcessor(Processor):
    """Latency: half the filter and half the detector's hold, compensated."""

    def __init__(self, context: Context, settings: DeEsser) -> None:
        super().__init__(context)
        rate = context.sample_rate_hz
        self._settings = settings
        self._idle = settings.frequency_hz >= 0.49 * rate
        taps = low_pass(min(settings.frequency_hz, 0.49 * rate), transition_hz=TRANSITION_HZ, sample_rate_hz=rate)
        self._rest = Symmetric(taps, context.channels)
        self._sound = Delay(context.channels)
        # What waits for the detector: the sound and its band.
        self._held, self._bands = np.zeros((0, context.channels)), np.zeros((0, context.channels))
        self._half = max(1, round(HOLD_MS * rate / 1000))
        self._peaks = np.zeros(self._half)
        self._keep = np.exp(-1000 / (np.array([ATTACK_MS, RELEASE_MS]) * rate))
        self._gain_db = 0.0
        self._trace = Trace(sample_rate_hz=rate)

    def feed(self, block: Block) -> Block:
        if self._idle or len(block) == 0:
            return block
        self._sound.put(block)
        return self._advance(self._rest.feed(block))

    def finish(self) -> Block:
        if self._idle:
            return super().finish()
        return np.concatenate((self._advance(self._rest.finish()), self._advance(np.zeros((0, self.channels)), last=True)))

    def _advance(self, rest: NDArray[np.float64], *, last: bool = False) -> Block:
        sound = self._sound.take(len(rest)).astype(np.float64)
        self._bands = np.concatenate((self._bands, sound - rest))
        peaks = np.abs(sound - rest).max(axis=1) if len(rest) else np.zeros(0)
        self._held = np.concatenate((self._held, sound))
        joined = np.concatenate((self._peaks, peaks, np.zeros(self._half if last else 0)))
        width = 2 * self._half + 1
        count = min(len(joined) - width + 1, len(self._bands))
        if count <= 0:
            self._peaks = joined
            return np.zeros((0, self.channels), dtype=np.float32)
        held = scipy.ndimage.maximum_filter1d(joined, width, mode="nearest")[self._half : self._half + count]
        self._peaks = joined[count:]
        over = np.maximum(20 * np.log10(np.maximum(held, FLOOR)) - self._settings.threshold_dbfs, 0.0)
        wanted = -np.minimum(over, self._settings.range_db)
        gain_db, self._gain_db = ballistics(wanted, self._keep[0], self._keep[1], self._gain_db)
        factor = np.where(gain_db < NOTHING_DB, 10 ** (gain_db / 20), 1.0)
        out = self._held[:count] - (1 - factor[:, None]) * self._bands[:count]
        self._held, self._bands = self._held[count:], self._bands[count:]
        self._trace.feed(factor)
        return np.asarray(out, dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        return np.asarray(self._trace.decibels(), dtype=np.float32)
