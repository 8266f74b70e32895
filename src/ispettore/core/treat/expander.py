"""Expander and gate: lets what is quieter than a threshold become quieter still, never by more than the range.

The level is the largest |sample| within 10 ms, as in the compressor. Above the threshold the step is open; it closes only when the
level has stayed below the threshold less the hysteresis for the hold. Closed, each decibel below the threshold becomes `ratio`
decibels (a gate has a high one), down to the range. It looks ahead, so that the first consonant finds it open;
a threshold that it proposes itself was tried on every phrase start of the recording first.
"""

from typing import Any, ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.meters import Measured
from ispettore.core.treat.control import TickedProcessor
from ispettore.core.treat.step import Context, Settings, about

HOLD_MS = 5.0  # to each side
FLOOR = 1e-8
BETWEEN = 0.35
"""Where the proposed threshold lies between the loudest breath (0) and the softest speech (1)."""
START_LOSS_DB, START_CELLS = 0.5, 10
"""So much may be taken from the first 50 ms of a phrase, on the cells' coarse grid."""
CLEAR_DB = 6.0
PROPOSED_AHEAD_MS = 40.0
STANDS_OUT = 1.6
BEFORE_CELLS = 30  # 150 ms without speech come before a phrase


class Expander(Settings):
    """Lower what is quieter than the threshold. Without a threshold it is proposed from the recording. Channels are linked."""

    title: ClassVar[str] = "Expander"
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Lower the pauses part of the way."
    sentence: ClassVar[str] = "Lower pauses below {threshold_dbfs} by up to {range_db}"
    further: ClassVar[str] = (
        "Ratio {ratio}, attack {attack_ms}, hold {hold_ms}, release {release_ms}, hysteresis {hysteresis_db}, "
        "look-ahead {look_ahead_ms}"
    )
    threshold_dbfs: float | None = Field(
        None,
        ge=-90,
        le=-10,
        description="Threshold",
        json_schema_extra=about(
            "What is quieter is lowered: between the loudest breath and the softest speech.",
            unit="dBFS",
            absent="a threshold proposed for this recording",
        ),
    )
    ratio: float = Field(
        2.0, ge=1, le=20, description="Ratio", json_schema_extra=about("How fast the level falls below the threshold.", unit=": 1")
    )
    range_db: float = Field(
        12.0, ge=0, le=60, description="Range", json_schema_extra=about("The most that a pause is lowered.", unit="dB")
    )
    attack_ms: float = Field(
        5.0, ge=0.5, le=50, description="Attack", json_schema_extra=about("How fast it opens for a word.", unit="ms")
    )
    hold_ms: float = Field(
        120.0, ge=0, le=2_000, description="Hold", json_schema_extra=about("How long it stays open after a word.", unit="ms")
    )
    release_ms: float = Field(
        150.0, ge=10, le=3_000, description="Release", json_schema_extra=about("How fast it closes after that.", unit="ms")
    )
    hysteresis_db: float = Field(
        4.0,
        ge=0,
        le=20,
        description="Hysteresis",
        json_schema_extra=about("How far below the threshold a word has to fall before it closes.", unit="dB"),
    )
    look_ahead_ms: float | None = Field(
        None,
        ge=0,
        le=50,
        description="Look-ahead",
        json_schema_extra=about("How long before a word it opens.", unit="ms", absent="chosen by itself"),
    )

    @property
    def ahead_ms(self) -> float:
        """The look-ahead; of itself twice the attack, and with a threshold of its own 40 ms, so that soft consonants need no low
        one."""
        if self.look_ahead_ms is not None:
            return self.look_ahead_ms
        return 2 * self.attack_ms if self.threshold_dbfs is not None else PROPOSED_AHEAD_MS

    def learns(self) -> bool:
        return self.threshold_dbfs is None

    def meets_level(self) -> bool:
        return self.threshold_dbfs is not None

    def start(self, context: Context) -> "ExpanderProcessor":
        return ExpanderProcessor(context, self)


class ExpanderProcessor(TickedProcessor):
    """Latency: half the hold of the detector and the look-ahead, compensated."""

    def __init__(self, context: Context, settings: Expander) -> None:
        super().__init__(context, hold_ms=HOLD_MS, ahead_ms=settings.ahead_ms)
        self._settings = settings
        self._learned: dict[str, Any] = {}
        threshold = settings.threshold_dbfs
        if threshold is None:
            if context.measured is None:
                raise ValueError("without a threshold the expander has to know the recording")
            threshold, self._learned = propose(context.measured, settings)
        self._threshold = threshold
        self._state = np.array([0.0, 1.0, 0.0])  # gain in dB, open or not, ticks below so far
        tick_ms = 1000 * self._tick / context.sample_rate_hz
        self._attack, self._release = (float(np.exp(-tick_ms / ms)) for ms in (settings.attack_ms, settings.release_ms))
        self._stay = round(settings.hold_ms / tick_ms)

    def factors(self, levels: NDArray[np.float64]) -> NDArray[np.float64]:
        level, s = 20 * np.log10(np.maximum(levels, FLOOR)), self._settings
        gain_db = _expand(
            level, self._threshold, s.ratio, s.range_db, s.hysteresis_db, self._stay, self._attack, self._release, self._state
        )
        return np.asarray(10 ** (gain_db / 20))

    def learned(self) -> dict[str, Any]:
        return self._learned


def propose(measured: Measured, settings: Expander) -> tuple[float, dict[str, Any]]:
    """A threshold in dBFS between the loudest breath and the softest speech, and what it was read from.

    Softest speech: the level that a tenth of speech does not reach (peaks held for 100 ms). Without breaths the room tone's peaks
    stand for them. What that would take from the recording's own phrase starts is worked out on the meters' cells, and the
    threshold lowered until no start loses more than `START_LOSS_DB`.
    """
    peaks = 20 * np.log10(np.maximum(measured.cells.peak.max(axis=0).astype(np.float64), FLOOR))
    held = scipy.ndimage.maximum_filter1d(peaks, 20, mode="nearest")
    speech = measured.speech_mask
    breaths = [find for find in measured.inspection.findings if find.kind == "breath"]
    room = measured.passages.room
    soft = float(np.percentile(held[speech], 10)) if speech.any() else -40.0
    if breaths:
        loud = max(float(peaks[round(one.start_s * 200) : round(one.end_s * 200) + 1].max()) for one in breaths)
        source = "loudest_breath_dbfs"
    else:
        loud = float(np.percentile(held[room], 99)) if room.any() else soft - 20
        source = "room_tone_peaks_dbfs"
    threshold = float(np.clip(loud + BETWEEN * (soft - loud) if soft > loud else soft - 1, -90, -10))
    if room.any() and settings.ratio > 1:  # so high that the room falls by the whole range, where speech stays clear of it
        whole = float(np.median(held[room])) + settings.range_db / (settings.ratio - 1)
        threshold = max(threshold, min(whole, soft - CLEAR_DB))
    power = measured.cells.power.mean(axis=0).astype(np.float64)
    starts = phrase_starts(measured)
    if room.any():
        starts = _earlier(starts, power, float(np.median(power[room])))
    lost = start_losses_db(peaks, power, starts, threshold, settings)
    while lost.max(initial=0.0) > START_LOSS_DB and threshold > -90:
        threshold = max(threshold - 1.0, -90.0)
        lost = start_losses_db(peaks, power, starts, threshold, settings)
    return threshold, {
        "threshold_dbfs": round(threshold, 2),
        source: round(loud, 2),
        "softest_speech_dbfs": round(soft, 2),
        "phrase_starts": len(starts),
        "most_lost_at_a_start_db": round(float(lost.max(initial=0.0)), 2),
        "signal_to_noise_db": measured.inspection.value("signal_to_noise_db"),
    }


def phrase_starts(measured: Measured) -> NDArray[np.int64]:
    """The cells at which someone starts to speak after a pause, shape (starts,)."""
    speech = measured.passages.speech
    if not len(speech):
        return np.zeros(0, dtype=np.int64)
    after = np.concatenate(([True], speech[1:, 0] - speech[:-1, 1] >= BEFORE_CELLS))
    return np.asarray(speech[after, 0])


def _earlier(starts: NDArray[np.int64], power: NDArray[np.float64], room: float) -> NDArray[np.int64]:
    """The starts, brought forward by steps of 20 ms, three at the most, while what lies before them stands out of the room."""
    found = starts.copy()
    for _ in range(3):
        before = np.maximum(found[:, None] - np.arange(1, 5), 0)
        found = np.where(power[before].mean(axis=1) > STANDS_OUT * room, np.maximum(found - 4, 0), found)
    return found


def start_losses_db(
    peaks_db: NDArray[np.float64], power: NDArray[np.float64], starts: NDArray[np.int64], threshold: float, settings: Expander
) -> NDArray[np.float64]:
    """What the first 50 ms of each phrase would lose, in dB, shape (starts,): the step on the grid of 5 ms cells, no audio
    touched."""
    tick_ms = 1_000 * CELL_S
    held = scipy.ndimage.maximum_filter1d(peaks_db, 3, mode="nearest")
    attack, release = (float(np.exp(-tick_ms / ms)) for ms in (settings.attack_ms, settings.release_ms))
    state = np.array([0.0, 1.0, 0.0])
    gain_db = _expand(
        held, threshold, settings.ratio, settings.range_db, settings.hysteresis_db, round(settings.hold_ms / tick_ms), attack,
        release, state,
    )  # fmt: skip
    ahead = round(settings.ahead_ms / tick_ms)
    gain_db = np.append(gain_db[ahead:], np.full(min(ahead, gain_db.size), gain_db[-1]))
    within = np.minimum(starts[:, None] + np.arange(START_CELLS), power.size - 1)
    before = power[within].sum(axis=1)
    after = (power[within] * 10 ** (gain_db[within] / 10)).sum(axis=1)
    return np.asarray(-10 * np.log10(np.maximum(after, 1e-30) / np.maximum(before, 1e-30)))


@kernel
def _expand(  # type: ignore[no-untyped-def]
    level: NDArray[np.float64],
    threshold: float,
    ratio: float,
    deepest: float,
    hysteresis: float,
    hold: int,
    attack: float,
    release: float,
    state: NDArray[np.float64],
):
    """Gain in dB of each tick; `state` is moved on."""
    out = np.empty(level.size)
    gain, opened, below = state[0], state[1], state[2]
    for n in range(level.size):
        if level[n] >= threshold:
            opened, below = 1.0, 0.0
        elif level[n] < threshold - hysteresis:
            below += 1.0
            if below > hold:
                opened = 0.0
        else:
            below = 0.0
        target = 0.0
        if opened == 0.0:
            target = max(-deepest, min(0.0, (level[n] - threshold) * (ratio - 1.0)))
        keep = attack if target > gain else release
        gain = keep * gain + (1.0 - keep) * target
        out[n] = gain if gain < -1e-4 else 0.0
    state[0], state[1], state[2] = gain, opened, below
    return out
