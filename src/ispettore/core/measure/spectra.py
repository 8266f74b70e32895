"""What the sound is made of, in time: third-octave bands (IEC 61260-1) of short frames, and the long-term spectrum of the file.

Frames of about 20 ms, one in every 40 ms or so, Hann-windowed; every frame's bands are kept, so that the spectrum of speech, of
room tone or of one noise can be asked for when the file has passed and it is known which is where.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELL_S, Seconds, Series

FIRST_BAND, LAST_BAND = -10, 13  # 100 Hz to 20 kHz, numbered from 1 kHz
FRAME_S = 0.022


def centres_hz(sample_rate_hz: int) -> NDArray[np.float64]:
    """The exact middle frequencies of the bands whose middle lies below half the sample rate, shape (bands,).

    >>> [round(float(hz)) for hz in centres_hz(8_000)[-3:]]
    [2512, 3162, 3981]
    """
    centres = 1_000 * 10 ** (np.arange(FIRST_BAND, LAST_BAND + 1) / 10)
    return np.asarray(centres[centres < sample_rate_hz / 2])


def frame_length(sample_rate_hz: int) -> int:
    """Samples in a frame: the power of two nearest to 22 ms.

    >>> frame_length(44_100), frame_length(16_000)
    (1024, 256)
    """
    return int(2 ** round(np.log2(FRAME_S * sample_rate_hz)))


class Spectra:
    """Feed seconds; `bands` grows by a column of mean squares for each frame, the mean of the channels."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self.sample_rate_hz = sample_rate_hz
        self.length = frame_length(sample_rate_hz)
        window = np.hanning(self.length + 1)[:-1]
        self._window = (window * np.sqrt(2 / (self.length * np.sum(window**2)))).astype(np.float32)
        of_band = _of_band(self.length, sample_rate_hz)
        self._share = np.ascontiguousarray(of_band.T)
        self._reach = np.array([(np.flatnonzero(band)[0], np.flatnonzero(band)[-1] + 1) for band in self._share])
        self._waiting = 0  # frames before the sound that is fed next which belong to the next step
        self._taken = np.empty((0, self.length), dtype=np.float32)
        self._sum = np.zeros(self.length // 2 + 1)
        self.bands = Series(len(self._share))

    @property
    def step_s(self) -> float:
        """From the start of one frame to that of the next, in seconds."""
        return 2 * self.length / self.sample_rate_hz

    def feed(self, sound: Seconds) -> None:
        """Take in seconds."""
        first, step = sound.past - self._waiting, 2 * self.length
        frames, self._waiting = divmod(self._waiting + sound.frames, step)
        if len(self._taken) < frames:
            self._taken = np.empty((frames, self.length), dtype=np.float32)
        taken = self._taken[:frames]
        bands = np.zeros((frames, len(self._share)), dtype=np.float32)
        for wave in sound.looked_at[:, first : first + frames * step]:
            np.multiply(wave.reshape(frames, step)[:, : self.length], self._window, out=taken)
            _add_bands(scipy.fft.rfft(taken, axis=1, overwrite_x=True), self._share, self._reach, sound.distinct, self._sum, bands)
        self.bands.append(bands.T)

    def long_term(self) -> NDArray[np.float64]:
        """Mean square of each bin over the whole file, shape (bins,); bin k stands at k · rate / length."""
        return np.asarray(self._sum / max(len(self.bands), 1))

    def frame_at(self, cells: NDArray[np.int64]) -> NDArray[np.int64]:
        """The frame whose middle is nearest to the middle of each cell, the last where there are no more; shape of `cells`."""
        nearest = np.round(((cells + 0.5) * CELL_S - self.step_s / 4) / self.step_s).astype(np.int64)
        return np.clip(nearest, 0, len(self.bands) - 1)

    def frames_of(self, first_cell: int, last_cell: int) -> tuple[int, int]:
        """The frames that lie mostly within the cells `first_cell` to `last_cell`: first and last (exclusive)."""
        first = round(first_cell * CELL_S / self.step_s)
        return first, max(round(last_cell * CELL_S / self.step_s), first + 1)

    def within(self, first_cell: int, last_cell: int) -> NDArray[np.float32]:
        """The bands of the frames mostly within these cells, shape (bands, frames); at least one frame but at the file's end."""
        return self.bands.part(*self.frames_of(first_cell, last_cell))


def _of_band(length: int, rate: int) -> NDArray[np.float32]:
    """How much of each bin belongs to each band, shape (bins, bands)."""
    width = rate / length
    low = (np.arange(length // 2 + 1) - 0.5) * width
    centres = centres_hz(rate)
    first, last = centres * 10 ** (-1 / 20), np.minimum(centres * 10 ** (1 / 20), rate / 2)
    shared = np.minimum(low[:, None] + width, last[None, :]) - np.maximum(low[:, None], first[None, :])
    return np.asarray(np.maximum(shared / width, 0), dtype=np.float32)


@kernel
def _add_bands(
    spectra: NDArray[np.complex64],
    share: NDArray[np.float32],
    reach: NDArray[np.int64],
    channels: int,
    total: NDArray[np.float64],
    bands: NDArray[np.float32],
) -> None:
    """Add the mean squares of one channel's frames, shape (frames, bins), to their bands and to the long-term total."""
    power = np.empty(spectra.shape[1], dtype=np.float32)
    part = np.float32(1.0 / channels)
    all_frames = np.zeros(spectra.shape[1], dtype=np.float32)
    for frame in range(spectra.shape[0]):
        row = spectra[frame]
        for k in range(row.size):
            power[k] = (row[k].real * row[k].real + row[k].imag * row[k].imag) * part
            all_frames[k] += power[k]
        for band in range(share.shape[0]):
            first, last = reach[band]
            near, weight = power[first:last], share[band, first:last]
            s = np.float32(0.0)
            for k in range(near.size):
                s += near[k] * weight[k]
            bands[frame, band] += s
    total += all_frames
