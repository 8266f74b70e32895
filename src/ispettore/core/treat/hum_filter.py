"""Hum filter: the mains' hum is learned, followed, and subtracted; the voice between its lines stays as it is.

A notch as narrow as hum rings through every pause after a word, and one wide enough to follow the mains takes a part of the voice.
So nothing is filtered here. The recording is heard in frames of 200 ms at each multiple of the base frequency, and beside it, where
hum has nothing: that says how much of what is heard there can be hum. All multiples turn with one and the same phase of the mains,
so this phase is followed through words by whichever of them the voice leaves free at the time (least squares, each multiple
counting by its strength over what lies beside it). With it taken off, each multiple's strength changes slowly enough to be carried
over what the voice covers, but where hum starts or ends at once. What results is the hum itself, which is then subtracted sample by
sample.
"""

import os
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import scipy
import soundfile
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.kernels import kernel
from ispettore.core.measure.hum import HUM_WORTH_SAYING_DB
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

FRAME_S, STEP_S = 0.2, 0.05
BESIDE_HZ = (-20.0, -15.0, -10.0, 10.0, 15.0, 20.0)  # zeros of the window: the line itself is not heard there
HEARD_HZ = 4_000  # the rate at which the lines are heard: the highest is 20 × 70 Hz
SEARCH_HZ = 0.5
PHASE_SIGMA_S = 0.4
LINES_BY_ROUND = (3, 6, 20, 20)  # the higher a multiple, the nearer the phase must be known before it helps
MAINS_RAD_PER_S2 = 0.25  # how fast the mains' frequency may change
SURE = 3_000.0  # strength over what lies beside, as power, from which on a frame is trusted
NEAR = 3  # frames: what was beside a line just before or after may be on it now
OVERLAP = 2.7  # neighbouring frames share most of their sound
JUMP_STEPS, JUMP_SHARE, MOST_JUMPS = 4, 0.5, 20
STRETCH_S, AROUND_S = 600.0, 20.0


class HumFilter(Settings):
    """Take away hum and its multiples. Without a base frequency it is found."""

    title: ClassVar[str] = "Hum filter"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Remove mains hum and its harmonics."
    sentence: ClassVar[str] = "Filter hum at {base_hz} and {harmonics} harmonics"
    further: ClassVar[str] = "The hum may change by {width_hz}"
    needs_whole: ClassVar[bool] = True
    base_hz: float | None = Field(
        None,
        ge=40,
        le=70,
        description="Base frequency",
        json_schema_extra=about("The mains frequency: 50 Hz or 60 Hz.", unit="Hz", absent="the frequency found here"),
    )
    harmonics: int = Field(
        10, ge=1, le=20, description="Multiples", json_schema_extra=about("How many harmonics of the frequency are removed.")
    )
    width_hz: float = Field(
        0.5,
        ge=0.1,
        le=2,
        description="How fast the hum may change",
        json_schema_extra=about("How fast the hum may change and still be followed.", unit="Hz"),
    )

    def start(self, context: Context) -> "HumProcessor":
        return HumProcessor(context, self)


@dataclass(frozen=True)
class Learned:
    """The hum of a stretch from step `first` on, at moments `STEP_S` apart: `phase` off the base, radians, (steps,); `strength`,
    (lines, channels, steps). `switch` has the frame at which the strength jumps between a step and the next; −1 where it does
    not."""

    first: int
    base_hz: float
    phase: NDArray[np.float64]
    strength: NDArray[np.complex128]
    switch: NDArray[np.int64]


class HumProcessor(Processor):
    """Learns ten minutes at a time, as they come."""

    def __init__(self, context: Context, settings: HumFilter) -> None:
        super().__init__(context)
        if context.measured is None or context.working is None:
            raise ValueError("the hum filter has to know the recording")
        self._base = settings.base_hz or found(context.measured.inspection)
        self._path, self._settings = Path(context.working), settings
        self._frames, self._stretch = 0, -1
        self._hum: Learned | None = None
        self._bases: list[float] = []
        self._powers: list[NDArray[np.float64]] = []

    def feed(self, block: Block) -> Block:
        if self._base is None or len(block) == 0:
            return block
        size = round(STRETCH_S * self.sample_rate_hz)
        done, out = 0, []
        while done < len(block):
            stretch = self._frames // size
            if stretch != self._stretch:
                self._learn(stretch)
            taken = min(len(block) - done, (stretch + 1) * size - self._frames)
            out.append(self._less(block[done : done + taken]))
            done += taken
        return np.concatenate(out) if len(out) > 1 else out[0]

    def _learn(self, stretch: int) -> None:
        assert self._base is not None
        first = round((stretch * STRETCH_S - AROUND_S) / STEP_S)
        last = round(((stretch + 1) * STRETCH_S + AROUND_S) / STEP_S)
        rate = self.sample_rate_hz
        self._hum = learn(self._path, self._base, self._settings, sample_rate_hz=rate, first=max(first, 0), last=last)
        self._stretch = stretch
        self._bases.append(self._hum.base_hz)
        self._powers.append((np.abs(self._hum.strength) ** 2).mean(axis=(1, 2)) / 2)

    def _less(self, part: Block) -> Block:
        hum = self._hum
        assert hum is not None
        out = _subtract(
            np.ascontiguousarray(part.T),
            self._frames,
            hum.base_hz / self.sample_rate_hz,
            STEP_S * self.sample_rate_hz,
            hum.first,
            hum.phase,
            hum.strength,
            hum.switch,
        )
        self._frames += len(part)
        return np.ascontiguousarray(out.T)

    def learned(self) -> dict[str, Any]:
        if not self._bases:
            return {"base_hz": None}
        level = 10 * np.log10(np.maximum(np.mean(self._powers, axis=0), 1e-18))
        return {"base_hz": round(float(np.mean(self._bases)), 3), "lines_dbfs": [round(float(each), 1) for each in level]}

    def warnings(self) -> list[str]:
        return [] if self._base is not None else ["No hum was found, so nothing was removed."]


def found(inspection: Inspection) -> float | None:
    """The base frequency in Hz of the hum that the meters found; None where there is none worth saying."""
    reading = inspection.readings["hum_db"]
    if reading.value is None or reading.value <= HUM_WORTH_SAYING_DB or reading.note is None:
        return None
    return float(reading.note.split(" ")[0])


def learn(path: Path, base: float, settings: HumFilter, *, sample_rate_hz: int, first: int = 0, last: int | None = None) -> Learned:
    """The hum of a working file whose base frequency is known to half a hertz, from step `first` to `last` (exclusive)."""
    lines = max(1, min(settings.harmonics, int(0.45 * sample_rate_hz / base)))
    base = _refined(path, base, min(lines, 3), sample_rate_hz, first, last)
    heard, beside = _heard(path, base * np.arange(1, lines + 1), sample_rate_hz, first, last)
    phase = _first_phase(heard[:4], beside[:4])
    strength = _strength(heard, beside, phase, settings.width_hz)
    for most in LINES_BY_ROUND:
        phase = _followed(heard[:most], beside[:most], strength[:most], phase)
        strength = _strength(heard, beside, phase, settings.width_hz)
    switch = np.full(phase.size, -1, dtype=np.int64)
    jumps = _jumps(heard, beside, phase)
    if jumps:
        strength = _in_parts(heard, beside, phase, settings.width_hz, jumps)
    for step in jumps:
        near = max(step - JUMP_STEPS, 0), min(step + JUMP_STEPS, phase.size - 1)
        sides = strength[:, :, near].copy()
        frame = _turning_point(path, base, first, phase, sides, near, sample_rate_hz)
        at = min(max(int(frame / (STEP_S * sample_rate_hz)) - first, near[0]), near[1] - 1)
        strength[:, :, near[0] : at + 1], strength[:, :, at + 1 : near[1]] = sides[:, :, [0]], sides[:, :, [1]]
        switch[at] = frame
    return Learned(first, base, phase, strength, switch)


def _in_parts(
    heard: NDArray[np.complex128], beside: NDArray[np.float64], phase: NDArray[np.float64], width_hz: float, jumps: list[int]
) -> NDArray[np.complex128]:
    """The strength of the lines between one jump and the next, without the frames that hear both sides of one."""
    known = beside.copy()
    for step in jumps:
        known[:, :, max(step - 2, 0) : step + 3] = np.inf
    parts = [slice(begin, end) for begin, end in pairwise([0, *jumps, phase.size]) if end > begin]
    return np.concatenate([_strength(heard[:, :, part], known[:, :, part], phase[part], width_hz) for part in parts], axis=2)


def _jumps(heard: NDArray[np.complex128], beside: NDArray[np.float64], phase: NDArray[np.float64]) -> list[int]:
    """The steps from which on the hum is there at once, or gone, even under a word.

    Looked for between two moments at which the clearest line is heard without doubt, where its strength differs; of the frames
    between, those nearer to the one side are told from those nearer to the other.
    """
    still = heard * np.exp(-1j * np.arange(1, len(heard) + 1)[:, None, None] * phase)
    line, channel = _clearest(heard, beside)
    usual = float(np.percentile(np.abs(still[line, channel]), 90)) ** 2
    anchors = np.flatnonzero(beside[line, channel] * SURE < usual)
    if anchors.size < 2 * JUMP_STEPS:
        return []
    near = np.clip(np.arange(anchors.size - 1)[:, None] + np.arange(-JUMP_STEPS + 1, JUMP_STEPS + 1), 0, anchors.size - 1)
    one = still[line, channel, anchors[near]]
    before, after = (np.median(side.real, axis=1) + 1j * np.median(side.imag, axis=1) for side in np.split(one, 2, axis=1))
    change = np.abs(after - before) ** 2 / np.maximum(np.maximum(np.abs(before), np.abs(after)) ** 2, 0.1 * usual + 1e-20)
    found: list[int] = []
    while len(found) < MOST_JUMPS and change.max() > JUMP_SHARE:
        at = int(np.argmax(change))
        low, high = int(anchors[at]), int(anchors[at + 1])
        change[(anchors[1:] > low - 4 * JUMP_STEPS) & (anchors[:-1] < high + 4 * JUMP_STEPS)] = 0.0
        inside = still[:, :, low:high]
        sides = [np.median(still[:, :, anchors[part]], axis=2, keepdims=True) for part in np.split(near[at], 2)]
        floor = beside[:, :, low:high] + 0.1 * np.maximum(np.abs(sides[0]), np.abs(sides[1])) ** 2 + 1e-20
        nearer = np.tanh((np.abs(inside - sides[0]) ** 2 - np.abs(inside - sides[1]) ** 2) / floor).sum(axis=(0, 1))
        found.append(low + int(np.argmin(np.concatenate(([0.0], np.cumsum(nearer))))))
    return sorted(found)


def _turning_point(
    path: Path,
    base: float,
    first: int,
    phase: NDArray[np.float64],
    sides: NDArray[np.complex128],
    steps: tuple[int, int],
    rate: int,
) -> int:
    """The frame before which the first of two strengths, shape (lines, channels, 2), leaves less of the sound, and after which the
    second does."""
    begin, end = (round((first + each) * STEP_S * rate) for each in steps)
    frames = np.arange(begin, end)
    with soundfile.SoundFile(os.fsencode(path)) as file:
        sound = _sound(file, begin, end)
    at = frames / (STEP_S * rate) - first
    angle = 2 * np.pi * base * frames / rate + np.interp(at, np.arange(phase.size), phase)
    turned = np.exp(1j * np.arange(1, len(sides) + 1)[:, None] * angle)
    hums = np.real(np.einsum("kcs,kf->sfc", sides, turned))
    left = ((sound[None] - hums) ** 2).sum(axis=2)
    gained = np.concatenate(([0.0], np.cumsum(left[0] - left[1])))
    return begin + int(np.argmin(gained))


@lru_cache(maxsize=4)
def _low_pass(factor: int, rate: int) -> NDArray[np.float64]:
    """Taps that leave the lines and take away what would fold onto them, 80 dB down; a whole number of factors to each side."""
    kept = 1_430.0
    taps, beta = scipy.signal.kaiserord(80.0, (rate / factor - 2 * kept) / (rate / 2))
    side = -(-taps // (2 * factor)) * factor
    return np.asarray(scipy.signal.firwin(2 * side + 1, rate / factor / 2, window=("kaiser", beta), fs=rate))


def _heard(
    path: Path, lines_hz: NDArray[np.floating], rate: int, first: int, last: int | None
) -> tuple[NDArray[np.complex128], NDArray[np.float64]]:
    """Strength and phase of each line in frames around moments `STEP_S` apart, shape (lines, channels, steps), peak amplitude; and
    the mean power beside each line, of the same shape.

    Phases are those of the line's own cosine from the start of the file. Frames that reach out of the file have endless power
    beside them: nothing is read from those.
    """
    factor = max(1, rate // HEARD_HZ)
    slow = rate / factor
    taps = _low_pass(factor, rate) if factor > 1 else np.ones(1)
    side = taps.size // 2
    length = round(FRAME_S * slow) // 2 * 2
    window = np.hanning(length + 1)[:-1]
    offsets = np.array([0.0, *BESIDE_HZ])
    hz = (lines_hz[:, None] + offsets[None, :]).ravel()
    turn = np.exp(-2j * np.pi * np.arange(length)[:, None] * hz[None, :] / slow) * window[:, None] * 2 / window.sum()
    strengths, powers = [], []
    with soundfile.SoundFile(os.fsencode(path)) as file:
        end = int(file.frames / (STEP_S * rate)) + 1
        end = end if last is None else min(last, end)
        for start in range(first, end, 200):
            middles = np.round(np.arange(start, min(start + 200, end)) * STEP_S * slow).astype(np.int64)
            begins = middles - length // 2
            low, high = int(begins[0]), int(begins[-1]) + length
            sound = _sound(file, low * factor - side, high * factor + side)
            if factor > 1:
                sound = scipy.signal.upfirdn(taps, sound, down=factor, axis=0)[2 * side // factor :]
            frames = np.stack([sound[begin - low : begin - low + length] for begin in begins])
            heard = np.einsum("fnc,nk->kcf", frames, turn, optimize=True).reshape(len(lines_hz), len(offsets), sound.shape[1], -1)
            strengths.append(heard[:, 0] * np.exp(-2j * np.pi * lines_hz[:, None, None] * begins / slow))
            power = np.mean(np.abs(heard[:, 1:]) ** 2, axis=1)
            power[:, :, (begins < 0) | ((begins + length) * factor > file.frames)] = np.inf
            powers.append(power)
    return np.concatenate(strengths, axis=2), np.concatenate(powers, axis=2)


def _sound(file: soundfile.SoundFile, first: int, last: int) -> NDArray[np.float64]:
    """Samples from `first` to `last` (exclusive), zeros outside the file, shape (frames, channels)."""
    file.seek(min(max(first, 0), file.frames))
    sound = file.read(max(last - max(first, 0), 0), dtype="float64", always_2d=True)
    return np.pad(sound, ((max(-first, 0), max(0, last - max(first, 0) - len(sound))), (0, 0)))


def _refined(path: Path, base: float, lines: int, rate: int, first: int, last: int | None) -> float:
    """The base frequency from how fast the phase of its clearest line turns."""
    heard, beside = _heard(path, base * np.arange(1, lines + 1), rate, first, last)
    line, channel = _clearest(heard, beside)
    one, trust = heard[line, channel], _clear(heard[line, channel], beside[line, channel])
    turned = float(np.angle(np.sum(trust[1:] * trust[:-1] * one[1:] * np.conj(one[:-1]))))
    return base + float(np.clip(turned / (2 * np.pi * STEP_S * (line + 1)), -SEARCH_HZ, SEARCH_HZ))


def _clear(heard: NDArray[np.complex128], beside: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far each frame of a line can be trusted, 0 to 1: by how it stands over what lies beside it, and by its usual strength."""
    over = np.abs(heard) ** 2 / np.maximum(beside, 1e-20)
    trust = over / (over + SURE)
    size = np.abs(heard)
    usual = np.maximum(_middle(size, trust), 1e-12)
    return np.asarray(trust / (1 + (4 * np.maximum(size / usual - 1, 0)) ** 2))


def _middle(values: NDArray[np.float64], weights: NDArray[np.float64]) -> float:
    """Their weighted median."""
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, total[-1] / 2)]) if total[-1] > 0 else 0.0


def _clearest(heard: NDArray[np.complex128], beside: NDArray[np.float64]) -> tuple[int, int]:
    """The line and the channel that stand clear the most of the time."""
    over = np.abs(heard) ** 2 / np.maximum(beside, 1e-20)
    clear = np.log1p(over).mean(axis=2)
    line, channel = np.unravel_index(int(np.argmax(clear)), clear.shape)
    return int(line), int(channel)


def _first_phase(heard: NDArray[np.complex128], beside: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far the mains' phase is off the base frequency's at each step, in radians of the base, as its clearest line has it."""
    line, channel = _clearest(heard, beside)
    one, trust = heard[line, channel], _clear(heard[line, channel], beside[line, channel])
    total = scipy.ndimage.gaussian_filter1d(trust * one, PHASE_SIGMA_S / STEP_S, mode="constant", truncate=4)
    sure = scipy.ndimage.gaussian_filter1d(trust, PHASE_SIGMA_S / STEP_S, mode="constant", truncate=4)
    known = np.flatnonzero(sure > 0.02)
    if known.size < 2:
        return np.zeros(one.size)
    return np.asarray(np.interp(np.arange(one.size), known, np.unwrap(np.angle(total[known])) / (line + 1)))


def _followed(
    heard: NDArray[np.complex128], beside: NDArray[np.float64], strength: NDArray[np.complex128], phase: NDArray[np.float64]
) -> NDArray[np.float64]:
    """The phase drawn anew through what every line says of it, each by how exactly it can know."""
    number = np.arange(1, len(heard) + 1)[:, None]
    still = heard * np.exp(-1j * number[:, :, None] * phase)
    noise = beside + 1e-3 * np.abs(strength) ** 2 + 1e-20
    trust = 1 / (noise * (1 + np.abs(still - strength) ** 2 / (8 * noise)))
    off = np.angle((trust * still * np.conj(strength)).sum(axis=1)) / number
    exact = (trust * np.abs(strength) ** 2).sum(axis=1) * number**2 / OVERLAP
    total = exact.sum(axis=0)
    mean = (exact * off).sum(axis=0) / np.maximum(total, 1e-12)
    return _even(phase + mean, total)


def _even(values: NDArray[np.float64], exact: NDArray[np.float64]) -> NDArray[np.float64]:
    """The curve that bends least and stays near the values, each by how exact it is (E. Whittaker, Proc. Edinburgh Math. Soc. 41,
    1923)."""
    count = values.size
    if count < 4 or not exact.any():
        return values
    stiff = 1 / (MAINS_RAD_PER_S2 * STEP_S**2) ** 2
    bands = np.zeros((3, count))
    main, next_, last = np.full(count, 6.0), np.full(count - 1, -4.0), np.ones(count - 2)
    main[[0, -1]], main[[1, -2]] = 1.0, 5.0
    next_[[0, -1]] = -2.0
    bands[2] = stiff * main + np.maximum(exact, 1e-6)
    bands[1, 1:], bands[0, 2:] = stiff * next_, stiff * last
    return np.asarray(scipy.linalg.solveh_banded(bands, np.maximum(exact, 1e-6) * values))


def _strength(
    heard: NDArray[np.complex128], beside: NDArray[np.float64], phase: NDArray[np.float64], width_hz: float
) -> NDArray[np.complex128]:
    """The slowly changing strength of each line, shape (lines, channels, steps): through the frames that can be trusted, and
    straight over the others."""
    stiff = 1 / (2 * np.pi * width_hz * STEP_S) ** 2
    out = np.empty_like(heard)
    for line in range(heard.shape[0]):
        for channel in range(heard.shape[1]):
            still = heard[line, channel] * np.exp(-1j * (line + 1) * phase)
            noise = scipy.ndimage.maximum_filter1d(beside[line, channel], NEAR, mode="nearest")
            size = max(_middle(np.abs(still), _clear(still, noise)), 1e-12)
            over = size**2 / (np.minimum(noise, 1e6) + 1e-20)
            trust = np.maximum(over / (over + SURE), 1e-7)
            mean = _straight(still, trust, stiff)
            for _ in range(3):
                floor = np.minimum(noise, 1e6) + 1e-3 * np.abs(mean) ** 2 + 1e-20
                over = size**2 / floor
                trust = np.maximum(over / (over + SURE) / (1 + np.abs(still - mean) ** 2 / (8 * floor + 0.1 * size**2)), 1e-7)
                mean = _straight(still, trust, stiff)
            out[line, channel] = mean
    return out


def _straight(values: NDArray[np.complex128], trust: NDArray[np.float64], stiff: float) -> NDArray[np.complex128]:
    """The curve that moves least from one step to the next and stays near the trusted values."""
    if values.size < 2:
        return values
    bands = np.zeros((2, values.size))
    bands[1] = trust
    bands[1, :-1] += stiff
    bands[1, 1:] += stiff
    bands[0, 1:] = -stiff
    right = np.stack((trust * values.real, trust * values.imag), axis=1)
    solved = scipy.linalg.solveh_banded(bands, right)
    return np.asarray(solved[:, 0] + 1j * solved[:, 1])


@kernel
def _subtract(
    x: NDArray[np.float32],
    first: int,
    turns: float,
    step: float,
    first_step: int,
    phase: NDArray[np.float64],
    strength: NDArray[np.complex128],
    switch: NDArray[np.int64],
) -> NDArray[np.float32]:
    """x, shape (channels, frames) from frame `first` of the file, less the hum, whose steps count from `first_step`; between steps
    everything runs in straight lines, or the strength jumps at the frame in `switch`."""
    lines, channels, steps = strength.shape
    out = np.empty_like(x)
    for i in range(x.shape[1]):
        frame = first + i
        at = frame / step - first_step
        k = min(int(at), steps - 2) if steps > 1 else 0
        part = min(at - k, 1.0) if steps > 1 else 0.0
        later = k + 1 if steps > 1 else 0
        whole = frame * turns
        angle = 2.0 * np.pi * (whole - np.floor(whole)) + phase[k] * (1.0 - part) + phase[later] * part
        re, im = np.cos(angle), np.sin(angle)
        if switch[k] >= 0:
            part = 0.0 if frame < switch[k] else 1.0
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
