"""Hum filter: the mains' hum is learned, followed, and subtracted; the voice between its lines stays as it is.

A notch as narrow as hum rings through every pause after a word, and one wide enough to follow the mains takes a part of the voice.
So nothing is filtered here. Before the step starts, the recording is heard in frames of 100 ms at each multiple of the base
frequency. How the mains' phase wanders is read from the multiple that stands clearest of the voice; with it taken off, each
multiple's strength and phase change slowly enough to be read where nobody speaks and carried over the words between. What results
is the hum itself, which is then subtracted sample by sample.
"""

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import scipy
import soundfile
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.hum import HUM_WORTH_SAYING_DB
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.step import Block, Context, Processor, Settings

FRAME_S, STEP_S = 0.1, 0.05
SEARCH_HZ = 0.5
PHASE_SIGMA_S = 0.4
ROUNDS = 4
MAINS_HZ = 0.5  # how fast the mains' frequency may change
DOUBTED = 0.03  # radians off what is usual at which a frame begins to count less
SPOKEN = 1e-4  # weight of frames in which someone speaks


class HumFilter(Settings):
    """Take away hum and its multiples. Without a base frequency it is found."""

    title: ClassVar[str] = "Hum filter"
    needs_whole: ClassVar[bool] = True
    base_hz: float | None = Field(None, ge=40, le=70, description="Base frequency", json_schema_extra={"unit": "Hz"})
    harmonics: int = Field(10, ge=1, le=20, description="Multiples")
    width_hz: float = Field(0.5, ge=0.1, le=2, description="How fast the hum may change", json_schema_extra={"unit": "Hz"})

    def start(self, context: Context) -> "HumProcessor":
        return HumProcessor(context, self)


@dataclass(frozen=True)
class Learned:
    """The hum at moments `STEP_S` apart: `phase` off the base, radians, (steps,); `strength`, (lines, channels, steps)."""

    base_hz: float
    phase: NDArray[np.float64]
    strength: NDArray[np.complex128]
    level_db: tuple[float, ...]


class HumProcessor(Processor):
    def __init__(self, context: Context, settings: HumFilter) -> None:
        super().__init__(context)
        if context.measured is None or context.working is None:
            raise ValueError("the hum filter has to know the recording")
        base = settings.base_hz or found(context.measured.inspection)
        room = context.measured.passages.room
        self._hum = learn(Path(context.working), room, base, settings, sample_rate_hz=context.sample_rate_hz) if base else None
        self._frames = 0

    def feed(self, block: Block) -> Block:
        if self._hum is None or len(block) == 0:
            return block
        hum = self._hum
        out = _subtract(
            np.ascontiguousarray(block.T),
            self._frames,
            hum.base_hz / self.sample_rate_hz,
            STEP_S * self.sample_rate_hz,
            hum.phase,
            hum.strength,
        )
        self._frames += len(block)
        return np.ascontiguousarray(out.T)

    def learned(self) -> dict[str, Any]:
        if self._hum is None:
            return {"base_hz": None}
        return {"base_hz": round(self._hum.base_hz, 3), "lines_dbfs": [round(level, 1) for level in self._hum.level_db]}

    def warnings(self) -> list[str]:
        return [] if self._hum is not None else ["No hum was found, so nothing was taken away."]


def found(inspection: Inspection) -> float | None:
    """The base frequency in Hz of the hum that the meters found; None where there is none worth saying."""
    reading = inspection.readings["hum_db"]
    if reading.value is None or reading.value <= HUM_WORTH_SAYING_DB or reading.note is None:
        return None
    return float(reading.note.split(" ")[0])


def learn(path: Path, room: NDArray[np.bool_], base: float, settings: HumFilter, *, sample_rate_hz: int) -> Learned:
    """The hum of a working file whose base frequency is known to half a hertz."""
    weight = _weights(room)
    base = _refined(path, base, weight, sample_rate_hz)
    count = max(1, min(settings.harmonics, int(0.45 * sample_rate_hz / base)))
    heard = _heard(path, base * np.arange(1, count + 1), sample_rate_hz)
    steps = heard.shape[2]
    weight = np.resize(weight, steps) if weight.size >= steps else np.pad(weight, (0, steps - weight.size), mode="edge")
    phase = _phase(heard, weight)
    sigma = 0.28 / settings.width_hz / STEP_S
    strength = np.empty_like(heard)
    for line in range(count):
        still = heard[line] * np.exp(-1j * (line + 1) * phase)
        strength[line] = _smooth(still, weight, sigma)
    level = 20 * np.log10(np.maximum(np.abs(strength).mean(axis=(1, 2)) / np.sqrt(2), 1e-9))
    return Learned(base, phase, strength, tuple(float(each) for each in level))


def _weights(room: NDArray[np.bool_]) -> NDArray[np.float64]:
    """How far each frame can be trusted: 1 where all of it is room tone."""
    width = round(FRAME_S * CELLS_PER_SECOND)
    share = scipy.ndimage.uniform_filter1d(np.pad(room.astype(np.float64), (width // 2, width)), width)
    middles = np.arange(0, room.size, round(STEP_S * CELLS_PER_SECOND)) + width // 2
    return np.where(share[np.minimum(middles, share.size - 1)] > 0.95, 1.0, SPOKEN)


def _heard(path: Path, lines_hz: NDArray[np.floating], rate: int) -> NDArray[np.complex128]:
    """Strength and phase of each line in frames around moments `STEP_S` apart: shape (lines, channels, steps), peak amplitude.

    Phases are those of the line's own cosine from the start of the file.
    """
    length, step = round(FRAME_S * rate) // 2 * 2, STEP_S * rate
    window = np.hanning(length + 1)[:-1]
    turn = np.exp(-2j * np.pi * np.arange(length)[:, None] * lines_hz[None, :] / rate) * window[:, None] * 2 / window.sum()
    found = []
    with soundfile.SoundFile(os.fsencode(path)) as file:
        steps = int(file.frames / step) + 1
        for first in range(0, steps, 200):
            starts = np.round(np.arange(first, min(first + 200, steps)) * step).astype(np.int64) - length // 2
            begin, end = int(starts[0]), int(starts[-1]) + length
            file.seek(min(max(begin, 0), file.frames))
            sound = file.read(end - max(begin, 0), dtype="float64", always_2d=True)
            sound = np.pad(sound, ((max(-begin, 0), max(0, end - max(begin, 0) - len(sound))), (0, 0)))
            frames = np.stack([sound[start - begin : start - begin + length] for start in starts])
            heard = np.einsum("fnc,nk->kcf", frames, turn, optimize=True)
            found.append(heard * np.exp(-2j * np.pi * lines_hz[:, None, None] * starts[None, None, :] / rate))
    return np.concatenate(found, axis=2)


def _refined(path: Path, base: float, weight: NDArray[np.float64], rate: int) -> float:
    """The base frequency from how fast the phase of its clearest line turns, over the whole file."""
    heard = _heard(path, base * np.arange(1, 4), rate)
    trusted = np.resize(weight, heard.shape[2]) if weight.size < heard.shape[2] else weight[: heard.shape[2]]
    line = _clearest(heard, trusted)
    one = heard[line].sum(axis=0) if heard.shape[1] == 1 else heard[line][int(np.argmax(np.abs(heard[line]).mean(axis=1)))]
    both = trusted[1:] * trusted[:-1]
    turned = float(np.angle(np.sum(both * one[1:] * np.conj(one[:-1]))))
    return base + float(np.clip(turned / (2 * np.pi * STEP_S * (line + 1)), -SEARCH_HZ, SEARCH_HZ))


def _clearest(heard: NDArray[np.complex128], weight: NDArray[np.float64]) -> int:
    """Which of the first three lines stands clearest: strong where nobody speaks, and no stronger where someone does."""
    quiet = weight >= 1
    power = np.abs(heard[:3]) ** 2
    still = power[:, :, quiet].mean(axis=(1, 2)) if quiet.any() else power.mean(axis=(1, 2))
    spoken = power[:, :, ~quiet].mean(axis=(1, 2)) if (~quiet).any() else still
    return int(np.argmax(still**1.5 / np.maximum(spoken, 1e-20)))


def _phase(heard: NDArray[np.complex128], weight: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far the mains' phase is off the base frequency's at each step, in radians of the base."""
    line = _clearest(heard, weight)
    channel = int(np.argmax(np.abs(heard[line]).mean(axis=1)))
    one = heard[line, channel]
    # Frames in which the voice reaches this line are told by their strength.
    usual = np.median(np.abs(one[weight >= 1])) if (weight >= 1).any() else np.median(np.abs(one))
    astray = np.abs(np.abs(one) - usual) > 0.5 * usual
    trust = np.where(astray, SPOKEN, np.maximum(weight, 0.05))
    phase = np.zeros(one.size)
    # What is left is small after the first round, so that no turn can be missed.
    total = scipy.ndimage.gaussian_filter1d(trust * one, PHASE_SIGMA_S / STEP_S, mode="constant", truncate=4)
    sure = scipy.ndimage.gaussian_filter1d(trust, PHASE_SIGMA_S / STEP_S, mode="constant", truncate=4)
    known = np.flatnonzero(sure > 0.02)
    if known.size < 2:
        return phase
    phase = np.interp(np.arange(one.size), known, np.unwrap(np.angle(total[known])) / (line + 1))
    for number in range(ROUNDS):
        rest = np.angle(one * np.exp(-1j * (line + 1) * phase)) / (line + 1)
        doubt = 1.0 if number == 0 else 1 + (rest / max(3 * float(np.median(np.abs(rest))), DOUBTED)) ** 2
        # What was known before only counts the turns; the curve is drawn anew through what was heard.
        phase = _even(phase + rest, trust / doubt)
    return phase


def _even(values: NDArray[np.float64], trust: NDArray[np.float64]) -> NDArray[np.float64]:
    """The curve that bends least and stays near the trusted values (E. Whittaker, Proc. Edinburgh Math. Soc. 41, 1923)."""
    count = values.size
    if count < 3:
        return values
    stiff = 1 / (2 * np.pi * MAINS_HZ * STEP_S) ** 4
    bands = np.zeros((3, count))
    main, next_, last = np.full(count, 6.0), np.full(count - 1, -4.0), np.ones(count - 2)
    main[[0, -1]], main[[1, -2]] = 1.0, 5.0
    if count == 3:
        main[1] = 4.0
    next_[[0, -1]] = -2.0
    bands[2] = stiff * main + trust
    bands[1, 1:], bands[0, 2:] = stiff * next_, stiff * last
    return np.asarray(scipy.linalg.solveh_banded(bands, trust * values))


def _smooth(still: NDArray[np.complex128], weight: NDArray[np.float64], sigma: float) -> NDArray[np.complex128]:
    """Means over time of shape (channels, steps), weighted; frames far from what is usual count little."""
    trust = np.broadcast_to(weight, still.shape).copy()
    mean = np.zeros_like(still)
    for _ in range(3):
        for channel in range(len(still)):
            total = scipy.ndimage.gaussian_filter1d(trust[channel] * still[channel], sigma, mode="nearest", truncate=4)
            sure = scipy.ndimage.gaussian_filter1d(trust[channel], sigma, mode="nearest", truncate=4)
            mean[channel] = total / np.maximum(sure, 1e-12)
        away = np.abs(still - mean) ** 2
        usual = np.maximum(np.median(away[:, weight >= 1]) if (weight >= 1).any() else np.median(away), 1e-20)
        trust = weight / (1 + away / (4 * usual))
    return mean


@kernel
def _subtract(
    x: NDArray[np.float32],
    first: int,
    turns: float,
    step: float,
    phase: NDArray[np.float64],
    strength: NDArray[np.complex128],
) -> NDArray[np.float32]:
    """x, shape (channels, frames) from frame `first` of the file, less the hum; between steps everything runs in straight lines."""
    lines, channels, steps = strength.shape
    out = np.empty_like(x)
    for i in range(x.shape[1]):
        frame = first + i
        at = frame / step
        k = min(int(at), steps - 2) if steps > 1 else 0
        part = min(at - k, 1.0) if steps > 1 else 0.0
        later = k + 1 if steps > 1 else 0
        whole = frame * turns
        angle = 2.0 * np.pi * (whole - np.floor(whole)) + phase[k] * (1.0 - part) + phase[later] * part
        re, im = np.cos(angle), np.sin(angle)
        for c in range(channels):
            z_re, z_im = re, im
            hum = 0.0
            for line in range(lines):
                s = strength[line, c, k]
                t = strength[line, c, later]
                hum += (s.real * (1.0 - part) + t.real * part) * z_re - (s.imag * (1.0 - part) + t.imag * part) * z_im
                z_re, z_im = z_re * re - z_im * im, z_re * im + z_im * re
            out[c, i] = x[c, i] - np.float32(hum)
    return out
