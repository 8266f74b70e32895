"""`hum_db` and `rumble_db`: what the mains and the ground add to the room tone, from the sound below 400 Hz.

Hum: power spectra of the room tone (Hann windows of 0.25 to 1 s, the longest first, up to a minute) are averaged; the power within
6 Hz of the first eight multiples of 50 Hz, and of 60 Hz, stands against what their surroundings would put there. Rumble: the room
tone's energy below 60 Hz against the rest of the noise floor.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure.filtered import voice_band
from ispettore.core.measure.grid import CELL_S, Series, runs, stretches
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.sections import power_response
from ispettore.core.measure.speech import Passages

BASES_HZ = (50.0, 60.0)
MULTIPLES = 8
HIGHEST_HZ = 400.0
HALF_WIDTH_HZ = 6.0
SHORTEST_S, LONGEST_S, ENOUGH_S = 0.25, 1.0, 60.0
BINS_HZ = 1.0
RUMBLE_HZ, LOWEST_HZ = 60.0, 6.0
HUM_WORTH_SAYING_DB = 6.0
RUMBLE_WORTH_SAYING_DB = 3.0


def read(heard: Heard) -> Read:
    """Hum and rumble, out of one spectrum."""
    low = spectrum(heard.low_rate, heard.passages)
    hums, hum_findings = hum(low, duration_s=heard.duration_s)
    rumbles, rumble_findings = rumble(
        low,
        heard.levels.filtered.voice_power,
        heard.passages,
        sample_rate_hz=heard.facts.sample_rate_hz,
        duration_s=heard.duration_s,
    )
    return (hums, rumbles), hum_findings or rumble_findings  # hum of 50 Hz is no rumble


def spectrum(low: LowRate, passages: Passages) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """Frequencies in Hz, shape (bins,), and the room tone's mean square per Hz, shape (channels, bins).

    None without a quarter second of room tone in one piece.
    """
    frequency = np.arange(0, HIGHEST_HZ + 20, BINS_HZ)
    size = round(low.rate_hz / BINS_HZ)
    # Pieces of one length are transformed together: the size is seldom one that suits a transform.
    pieces: dict[int, list[NDArray[np.float64]]] = {}
    weight = 0.0
    spans = sorted(runs(passages.room).tolist(), key=lambda run: run[0] - run[1])
    for first, last in spans:
        if (last - first) * CELL_S < SHORTEST_S or weight >= ENOUGH_S:
            break
        step = int(LONGEST_S / CELL_S)
        for start in range(first, last, step):
            end = min(start + step, last)
            if (end - start) * CELL_S < SHORTEST_S:
                continue
            wave = low.within(start, end).astype(np.float64)
            pieces.setdefault(wave.shape[1], []).append(wave)
            weight += (end - start) * CELL_S
    if not pieces:
        return None
    total = np.zeros((low.samples.rows, frequency.size))
    for length, some in pieces.items():
        waves, window = np.stack(some), np.hanning(length + 2)[1:-1]
        waves = (waves - (waves @ window / window.sum())[..., None]) * window
        spectra = scipy.fft.rfft(waves, size, axis=2)[..., : frequency.size]
        power = np.abs(spectra) ** 2 * 2 / (low.rate_hz * np.sum(window**2))
        total += power.sum(axis=0) * length
    return frequency, total / sum(length * len(some) for length, some in pieces.items())


def hum(found: tuple[NDArray[np.float64], NDArray[np.float64]] | None, *, duration_s: float) -> tuple[Reading, list[Finding]]:
    """The family that stands out more, 50 or 60 Hz, in dB over its surroundings."""
    method = "room tone within 6 Hz of the first eight multiples of 50 or 60 Hz against its surroundings"
    if found is None:
        return _nothing("hum_db", method, duration_s), []
    frequency, power = found
    ratio, base = max((_family(frequency, channel, base), base) for base in BASES_HZ for channel in power)
    reading = Reading(
        quantity="hum_db",
        value=ratio,
        unit="dB",
        method=f"{method}; here {base:g} Hz",
        end_s=duration_s,
        note=f"{base:g} Hz and its multiples",
    )
    if ratio <= HUM_WORTH_SAYING_DB:
        return reading, []
    detail = f"{base:g} Hz"
    return reading, [Finding(kind="hum", start_s=0, end_s=duration_s, measure=ratio, unit="dB", severity="warning", detail=detail)]


def _family(frequency: NDArray[np.float64], power: NDArray[np.float64], base: float) -> float:
    found = _lines(frequency, power, base)
    lines, around = sum(line for line, _ in found), sum(around for _, around in found)
    return max(0.0, 10 * float(np.log10(max(lines, 1e-30) / max(around, 1e-30))))


def _lines(frequency: NDArray[np.float64], power: NDArray[np.float64], base: float) -> list[tuple[float, float]]:
    """The power around each multiple of a frequency, and what the surroundings would put there."""
    found = []
    for multiple in range(1, MULTIPLES + 1):
        line = multiple * base
        if line > HIGHEST_HZ:
            break
        away = np.abs(frequency - line)
        near = away <= HALF_WIDTH_HZ
        beside = (away > HALF_WIDTH_HZ) & (away < base / 2 - 1)
        found.append((float(power[near].sum()), float(np.median(power[beside])) * int(near.sum())))
    return found


def family_power(found: tuple[NDArray[np.float64], NDArray[np.float64]], base_hz: float) -> NDArray[np.float64]:
    """What a mains of `base_hz` adds to the room tone of each channel: a mean square, shape (channels,)."""
    frequency, power = found
    lines = [_lines(frequency, channel, base_hz) for channel in power]
    return np.array([max(0.0, sum(line - around for line, around in each)) * BINS_HZ for each in lines])


def rumble(
    found: tuple[NDArray[np.float64], NDArray[np.float64]] | None,
    voice_power: Series,
    passages: Passages,
    *,
    sample_rate_hz: int,
    duration_s: float,
) -> tuple[Reading, list[Finding]]:
    """Room-tone energy from 6 to 60 Hz against the rest of it, in dB, channels averaged.

    The rest is what passed the voice band's high-pass, less the rumble in it, and what of the spectrum did not pass.
    """
    method = "room-tone energy from 6 to 60 Hz against the rest of the noise floor"
    if found is None:
        return _nothing("rumble_db", method, duration_s), []
    frequency, power = found[0], found[1].mean(axis=0) * BINS_HZ
    passing = power_response(voice_band(sample_rate_hz), frequency, sample_rate_hz=sample_rate_hz)
    rumbling = frequency < RUMBLE_HZ
    low = float(power[rumbling & (frequency >= LOWEST_HZ)].sum())
    passed = _mean_where(voice_power, passages)
    rest = passed - float((passing * power)[rumbling].sum()) + float(((1 - passing) * power)[~rumbling].sum())
    ratio = 10 * float(np.log10(max(low, 1e-20) / max(rest, low * 1e-4, 1e-20)))
    reading = Reading(quantity="rumble_db", value=ratio, unit="dB", method=method, end_s=duration_s)
    if ratio <= RUMBLE_WORTH_SAYING_DB:
        return reading, []
    return reading, [Finding(kind="rumble", start_s=0, end_s=duration_s, measure=ratio, unit="dB", severity="warning")]


def _mean_where(voice_power: Series, passages: Passages) -> float:
    """The mean over the room tone."""
    total = sum(
        float(voice_power.part(first, last)[0][passages.room[first:last]].sum(dtype=np.float64))
        for first, last, _, _ in stretches(passages.cells)
    )
    return total / max(int(passages.room.sum()), 1)


def _nothing(quantity: str, method: str, duration_s: float) -> Reading:
    note = "no stretch of room tone is as long as a quarter of a second"
    return Reading(quantity=quantity, value=None, unit="dB", method=method, end_s=duration_s, note=note)
