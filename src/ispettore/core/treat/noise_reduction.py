"""Noise reduction: steady noise becomes quieter by an amount, evenly, while what stands out of it stays as it is.

A profile of the noise is learned from the room tone of every pause, so that it follows noise that drifts. In short spectra (46 ms,
Hann, moved by a quarter) the power over the profile is averaged over neighbours in time and pitch, finely and broadly; where either
mean rises above what noise alone would give, something stands out and the gain is 0 dB, elsewhere it is the amount, with a smooth
way between. The reduction in noise is thus the same everywhere: nothing twitters, and no syllable is worn thin by single bins.

The averages over neighbours take the place of decision-directed smoothing (Ephraim and Malah, IEEE Trans. ASSP 32(6), 1984), whose
gains follow each bin and so bite into quiet consonants.

What stands out takes the noise around it along, so what is left of the noise swells with the words: by more, the more is taken and
the better the voice stands out. By how much is known before anything is written (`Swelling`, from stretches of the recording
itself), is told, and can be bounded.
"""

from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core import errors
from ispettore.core.audio.writing import open_spans
from ispettore.core.figures import exact, with_unit
from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

FRAME_S = 0.046
SHORTEST_S, LONGEST_S = 0.06, 2.0
NEAR_S = 6.0  # how far in time a pause's profile counts
STEP_S = 0.5
MANY_DB = 12.0
FINE_FRAMES = 1
SWELLING_HEARD_DB, MASKED_DB = 4.0, 30.0
"""Noise that swells by more is heard to, unless the voice stands so far above it that it covers it."""

TRIED_PIECES, PIECE_S = 12, 4.0
BIN_POWERS = 5.2  # standard deviations of a mean of noise at which something begins to stand out


class NoiseReduction(Settings):
    """Lower steady noise. Learns from the room tone that was found or chosen."""

    title: ClassVar[str] = "Noise reduction"
    purpose: ClassVar[str] = "Lower hiss and other steady noise."
    sentence: ClassVar[str] = "Lower steady noise by {amount_db}, learned from room tone"
    further: ClassVar[str] = "Judged over {time_constant_ms} and {bandwidth_thirds}; swells with the words by at most {swelling_db}"
    needs_whole: ClassVar[bool] = True
    amount_db: float = Field(
        8.0,
        ge=0,
        le=18,
        description="Amount",
        json_schema_extra=about("How much the noise is lowered. From 12 dB on it can be heard on the voice.", unit="dB"),
    )
    time_constant_ms: float = Field(
        80.0,
        ge=30,
        le=300,
        description="Time constant",
        json_schema_extra=about("Over how long the noise is judged. Longer is smoother, shorter follows words faster.", unit="ms"),
    )
    bandwidth_thirds: float = Field(
        1.0,
        ge=0.2,
        le=3,
        description="Bandwidth",
        json_schema_extra=about("How wide a piece of the spectrum is judged as one.", unit="third-octaves"),
    )
    swelling_db: float = Field(
        18.0,
        ge=1,
        le=18,
        description="Swelling with the words, at most",
        json_schema_extra=about("How far the noise may come up with the words.", unit="dB"),
    )

    def said(self, inspection: Inspection) -> str:
        pauses = sum(span.length_s >= SHORTEST_S for span in inspection.room_tone)
        return self.sentence.replace("room tone", f"{pauses} pause{'s' if pauses != 1 else ''}") if pauses else self.sentence

    def lacks(self, inspection: Inspection) -> str:
        if any(span.length_s >= SHORTEST_S for span in inspection.room_tone):
            return ""
        return "There is no room tone to learn the noise from. Select a pause and use it as room tone."

    def as_spoken(self) -> "NoiseReduction":
        return self

    def start(self, context: Context) -> "NoiseProcessor":
        return NoiseProcessor(context, self)


@dataclass(frozen=True)
class Profile:
    """Noise in time: `power`, shape (pauses, bins), learned around `at_s` from so many frames each."""

    at_s: NDArray[np.float64]
    frames: NDArray[np.float64]
    power: NDArray[np.float32]

    def around(self, seconds: float) -> NDArray[np.float32]:
        """The noise at a moment: the pauses around it, the nearest counting most."""
        away = np.abs(self.at_s - seconds)
        nearest = float(away.min())
        weight = self.frames * np.exp(-np.maximum(away - nearest, 0) / NEAR_S)
        near = weight > 1e-3 * weight.max()
        return np.asarray(weight[near] @ self.power[near] / weight[near].sum(), dtype=np.float32)


class Swelling:
    """By how much noise swells with the words: how much of it a reduction leaves under them, against what it leaves in pauses.

    Of each frame and bin is kept what part of the amount it is given (in dB, so that one look answers for every amount), weighed
    with the noise that is there.
    """

    PARTS = 128

    def __init__(self) -> None:
        self._words, self._pauses = np.zeros(self.PARTS + 1), np.zeros(self.PARTS + 1)

    def add(self, part: NDArray[np.float32], noise: NDArray[np.float32], words: NDArray[np.bool_], room: NDArray[np.bool_]) -> None:
        """`part` of the amount, 0 to 1, shape (frames, bins); `noise`, shape (bins,); the frames in `words` and those in `room`."""
        index = np.round(part * self.PARTS).astype(np.int64)
        for chosen, total in ((words, self._words), (room, self._pauses)):
            weights = np.broadcast_to(noise, index[chosen].shape)
            total += np.bincount(index[chosen].ravel(), weights=weights.ravel(), minlength=self.PARTS + 1)

    def of(self, amount_db: float) -> float | None:
        """In dB, for an amount; None where words or pauses were not met."""
        if not self._words.any() or not self._pauses.any():
            return None
        left = 10 ** (-np.arange(self.PARTS + 1) / self.PARTS * amount_db / 10)
        return float(10 * np.log10((self._words @ left / self._words.sum()) / (self._pauses @ left / self._pauses.sum())))

    def most(self, swelling_db: float, amount_db: float) -> float:
        """The largest amount up to `amount_db`, in tenths of a decibel, that swells by no more than `swelling_db`."""
        amount = amount_db
        while amount > 0 and (self.of(amount) or 0.0) > swelling_db:
            amount = max(0.0, np.ceil(10 * amount - 1.001) / 10)
        return float(amount)


def frame_length(sample_rate_hz: int) -> int:
    """Samples in a frame: the power of two nearest to 46 ms."""
    return int(2 ** round(np.log2(FRAME_S * sample_rate_hz)))


def learn(path: Path, room: NDArray[np.bool_], *, sample_rate_hz: int, name: str) -> Profile:
    """Profiles of the room tone of a working file, one a pause. Raises NoRoomTone."""
    length = frame_length(sample_rate_hz)
    window = _window(length)
    at, frames, powers = [], [], []
    with open_spans(path) as samples:
        for first, last in runs(room):
            if (last - first) * CELL_S < max(SHORTEST_S, 1.25 * length / sample_rate_hz):
                continue
            count = min(int((last - first) * CELL_S * sample_rate_hz), int(LONGEST_S * sample_rate_hz))
            sound = samples(round(int(first) * CELL_S * sample_rate_hz), count)
            if len(sound) < length:
                continue
            taken = np.lib.stride_tricks.sliding_window_view(sound, length, axis=0)[:: length // 4]
            power = np.mean(np.abs(scipy.fft.rfft(taken * window, axis=2)) ** 2, axis=(0, 1))
            at.append((first + last) / 2 * CELL_S)
            frames.append(len(taken))
            powers.append(power)
    if not at:
        raise errors.NoRoomTone(file=name, least_ms=1000 * max(SHORTEST_S, 1.25 * length / sample_rate_hz))
    return Profile(np.array(at), np.array(frames, dtype=np.float64), np.array(powers, dtype=np.float32))


def _window(length: int) -> NDArray[np.float32]:
    return np.sqrt(np.hanning(length + 1)[:-1]).astype(np.float32)


class NoiseProcessor(Processor):
    """Latency: a frame and half the time constant, compensated."""

    def __init__(self, context: Context, settings: NoiseReduction) -> None:
        super().__init__(context)
        if context.measured is None or context.working is None:
            raise ValueError("noise reduction has to know the recording")
        rate = context.sample_rate_hz
        room = context.measured.passages.room
        self._profile = learn(Path(context.working), room, sample_rate_hz=rate, name=context.name)
        self._length = frame_length(rate)
        self._hop = self._length // 4
        self._window = _window(self._length)
        self._reach = max(1, round(settings.time_constant_ms / 1000 * rate / self._hop / 2))
        self._fine, self._broad = (
            _Means(self._length, rate, 0.0, FINE_FRAMES),
            _Means(self._length, rate, settings.bandwidth_thirds, self._reach),
        )
        self._swelling = self._tried(Path(context.working), context.measured)
        self._asked = settings.amount_db
        self._amount = self._swelling.most(settings.swelling_db, settings.amount_db)
        self._ratio_db = context.measured.inspection.value("signal_to_noise_db")
        # Frames start before the file, so that its first samples are as well covered as all others.
        self._sound = np.zeros((self._length - self._hop, context.channels), dtype=np.float32)
        bins = self._length // 2 + 1
        self._spectra: NDArray[np.complex64] = np.zeros((0, context.channels, bins), dtype=np.complex64)
        # Before the first frame nothing sounds.
        self._over: NDArray[np.float32] = np.zeros((self._reach, bins), dtype=np.float32)
        self._next = 0  # frame that is taken next
        self._tail = np.zeros((self._length, context.channels), dtype=np.float64)
        self._lead = self._length - self._hop
        self._seen = self._given = 0
        self._noise: tuple[int, NDArray[np.float32]] | None = None

    def _tried(self, path: Path, measured: Measured) -> Swelling:
        """How the noise swells with the words in pieces from all over the file."""
        swelling, rate = Swelling(), self.sample_rate_hz
        words, room = measured.passages.speech_mask(), measured.passages.room
        seconds = len(words) * CELL_S
        with open_spans(path) as samples:
            for piece in range(TRIED_PIECES):
                first = round(max(0.0, (piece + 0.5) / TRIED_PIECES * seconds - PIECE_S / 2) * rate)
                sound = samples(first, round(min(PIECE_S, seconds / TRIED_PIECES) * rate) + self._length)
                power = self._powers(sound)[1] if len(sound) >= self._length else np.zeros((0, self._length // 2 + 1), np.float32)
                count = len(power) - 2 * self._reach
                if count <= 0:
                    continue
                noise = self._profile.around(first / rate + PIECE_S / 2)
                over = np.minimum(power / np.maximum(noise, 1e-20), np.float32(1e6))
                part = -np.log(self._gains_of(over, count, 1.0))
                middles = first + (self._reach + np.arange(count)) * self._hop + self._length // 2
                cells = np.minimum((middles / rate / CELL_S).astype(np.int64), len(words) - 1)
                swelling.add(part, noise, words[cells], room[cells])
        return swelling

    def _powers(self, sound: NDArray[np.float32]) -> tuple[NDArray[np.complex64], NDArray[np.float32]]:
        """Spectra of the whole frames of samples, shape (frames, channels, bins), and their power, the mean of the channels."""
        taken = np.lib.stride_tricks.sliding_window_view(sound, self._length, axis=0)[:: self._hop]
        spectra = scipy.fft.rfft(taken * self._window, axis=2)
        return spectra, (spectra.real**2 + spectra.imag**2).mean(axis=1)

    def feed(self, block: Block) -> Block:
        if self._amount == 0 or len(block) == 0:
            return block
        self._seen += len(block)
        self._sound = np.concatenate((self._sound, block))
        return self._advance()

    def finish(self) -> Block:
        if self._amount == 0:
            return super().finish()
        held = self._seen
        self._sound = np.concatenate(
            (self._sound, np.zeros((self._length + (self._reach + 4) * self._hop, self.channels), dtype=np.float32))
        )
        out = self._advance()
        given = self._given
        return out[: max(len(out) - (given - held), 0)] if given > held else out

    def _advance(self) -> Block:
        ready = (len(self._sound) - self._length) // self._hop + 1
        if ready > 0:
            spectra, power = self._powers(self._sound)
            self._sound = self._sound[ready * self._hop :]
            over = self._over_noise(self._next, power)
            self._next += ready
            self._spectra = np.concatenate((self._spectra, spectra))
            self._over = np.concatenate((self._over, over))
        count = len(self._spectra) - self._reach
        if count <= 0:
            return np.zeros((0, self.channels), dtype=np.float32)
        gain = self._gains(count)
        waves = scipy.fft.irfft(self._spectra[:count] * gain[:, None, :], self._length, axis=2) * (0.5 * self._window)
        self._spectra, self._over = self._spectra[count:], self._over[count:]
        hop = self._hop
        # Each frame lies over four hops: laid down quarter by quarter.
        quartered = np.zeros((count + 3, hop, self.channels))
        quartered[:4] += self._tail.reshape(4, hop, self.channels)
        quarters = waves.reshape(count, self.channels, 4, hop)
        for part in range(4):
            quartered[part : part + count] += quarters[:, :, part].transpose(0, 2, 1)
        laid = quartered.reshape(-1, self.channels)
        out = laid[: count * hop]
        self._tail = np.concatenate((laid[count * hop :], np.zeros((hop, self.channels))))[: self._length]
        dropped = min(self._lead, len(out))
        self._lead -= dropped
        self._given += len(out) - dropped
        return np.asarray(out[dropped:], dtype=np.float32)

    def _over_noise(self, first: int, power: NDArray[np.float32]) -> NDArray[np.float32]:
        """The power of frames from `first` on, shape (frames, bins), over the noise of their time."""
        steps = ((first + np.arange(len(power)) + 0.5) * self._hop / self.sample_rate_hz / STEP_S).astype(np.int64)
        for step in np.unique(steps):
            if self._noise is None or self._noise[0] != step:
                one_over = 1 / np.maximum(self._profile.around(float(step) * STEP_S), 1e-20)
                self._noise = (int(step), np.asarray(one_over, dtype=np.float32))
            power[steps == step] *= self._noise[1]
        return np.minimum(power, np.float32(1e6))

    def _gains(self, count: int) -> NDArray[np.float32]:
        """Shape (frames, bins): 1 where something stands out, the amount elsewhere."""
        return self._gains_of(self._over[: count + 2 * self._reach], count, self._amount * np.log(10) / 20)

    def _gains_of(self, over: NDArray[np.float32], count: int, nepers: float) -> NDArray[np.float32]:
        fine, broad = self._fine, self._broad
        return _gain(
            np.ascontiguousarray(over), count, self._reach, FINE_FRAMES,
            fine.edges, fine.begins, fine.width, broad.edges, broad.begins, broad.width, nepers,
        )  # fmt: skip

    def learned(self) -> dict[str, Any]:
        mean = self._profile.frames @ self._profile.power / self._profile.frames.sum()
        scale = 2 / (self._length * float(np.sum(self._window.astype(np.float64) ** 2)))
        swelling = self._swelling.of(self._amount)
        return {
            "pauses": len(self._profile.at_s),
            "room_tone_s": round(float(self._profile.frames.sum()) * self._hop / self.sample_rate_hz, 2),
            "noise_dbfs": round(10 * float(np.log10(max(float(mean.sum() * scale), 1e-20))), 2),
            **({} if self._amount == self._asked else {"taken_db": round(self._amount, 2)}),
            **({} if swelling is None else {"swelling_db": round(swelling, 2)}),
        }

    def warnings(self) -> list[str]:
        told = []
        if self._amount > MANY_DB:
            told.append(
                f"{exact(self._amount)} dB of noise reduction becomes audible on the voice. Up to {exact(MANY_DB)} dB is safe."
            )
        swelling = self._swelling.of(self._amount)
        if swelling is not None and swelling > SWELLING_HEARD_DB and (self._ratio_db or 0.0) < MASKED_DB:
            gentle = self._swelling.most(SWELLING_HEARD_DB, self._amount)
            told.append(
                f"The remaining noise swells by {with_unit(swelling, 'dB')} with the words, and the voice does not mask it."
                f" With {with_unit(gentle, 'dB')} of noise reduction it swells by {exact(SWELLING_HEARD_DB)} dB."
            )
        return told


class _Means:
    """Which bins are averaged around each, and how far their mean has to rise above what noise alone gives."""

    def __init__(self, length: int, rate: int, thirds: float, reach: int) -> None:
        bins = length // 2 + 1
        frames = 2 * reach + 1
        index = np.arange(bins)
        half = np.maximum(1, np.round(index * (2 ** (thirds / 6) - 1))).astype(np.int64) if thirds > 0 else np.ones(bins, np.int64)
        low, high = np.maximum(index - half, 0), np.minimum(index + half + 1, bins)
        # Neighbouring frames and bins of a Hann window are not independent: so many of them are.
        free = np.maximum(1.0, (high - low) / 1.5) * max(1.0, frames / 2.2)
        spread = 1 / np.sqrt(free)
        # Bins `edges[0]` to `edges[1]` (exclusive) are averaged; something begins to stand out where their mean passes `begins`,
        # and does so wholly `width` above that.
        self.edges: NDArray[np.int64] = np.stack((low, high))
        self.begins = (1 + BIN_POWERS * spread + 1.5 * spread**2).astype(np.float32)
        self.width = (0.35 + 1.5 * spread).astype(np.float32)


@kernel
def _gain(
    over: NDArray[np.float32],
    count: int,
    reach: int,
    fine_frames: int,
    fine: NDArray[np.int64],
    fine_begins: NDArray[np.float32],
    fine_width: NDArray[np.float32],
    broad: NDArray[np.int64],
    broad_begins: NDArray[np.float32],
    broad_width: NDArray[np.float32],
    amount: float,
) -> NDArray[np.float32]:
    """Gain of each bin, shape (count, bins), from power over the noise in the frames around, shape (count + 2 · reach, bins)."""
    bins = over.shape[1]
    out = np.empty((count, bins), dtype=np.float32)
    rows = np.empty((2, bins), dtype=np.float32)
    near = np.empty(bins + 1)
    wide = np.empty(bins + 1)
    lowest = np.float32(np.exp(-amount))
    for n in range(count):
        rows[:] = 0.0
        for m in range(2 * reach + 1):
            row = over[n + m]
            for k in range(bins):
                rows[1, k] += row[k]
            if reach - fine_frames <= m <= reach + fine_frames:
                for k in range(bins):
                    rows[0, k] += row[k]
        near[0] = 0.0
        wide[0] = 0.0
        for k in range(bins):
            near[k + 1] = near[k] + rows[0, k]
            wide[k + 1] = wide[k] + rows[1, k]
        for k in range(bins):
            low, high = fine[0, k], fine[1, k]
            mean = (near[high] - near[low]) / ((high - low) * (2 * fine_frames + 1))
            part = (mean - fine_begins[k]) / fine_width[k]
            low, high = broad[0, k], broad[1, k]
            mean = (wide[high] - wide[low]) / ((high - low) * (2 * reach + 1))
            part = max(part, (mean - broad_begins[k]) / broad_width[k])
            if part <= 0.0:
                out[n, k] = lowest
            elif part >= 1.0:
                out[n, k] = np.float32(1.0)
            else:
                out[n, k] = np.exp((part * part * (3.0 - 2.0 * part) - 1.0) * amount)
    return out
