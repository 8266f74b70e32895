"""Each step against the same arithmetic written as plainly as it can be: whole waves at once, one loop or one library call."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import interpolate, signal

from ispettore.core.measure.grid import runs
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.true_peak import HALF_TAPS, TAPS, interpolator
from ispettore.core.treat import hum_filter, level_riding, noise_reduction
from ispettore.core.treat.clip_repair import ORDER, ClipRepair, cut_off, repaired
from ispettore.core.treat.compressor import Compressor, static_curve
from ispettore.core.treat.control import apply_lines, tick_levels
from ispettore.core.treat.fir import low_pass
from ispettore.core.treat.limiter import BETAS, HOLD_MS
from ispettore.core.treat.sections import cascade
from ispettore.core.treat.trace import lowest_of_cells
from tests import signals
from tests.treating import RATE, fed

SEEDS = st.integers(0, 2**32 - 1)
SLOW = 8_000


def some(seed: int, frames: int, channels: int = 1) -> np.ndarray:
    """Noise that swells and fades, shape (frames, channels)."""
    random = np.random.default_rng(seed)
    swell = 0.05 + 0.4 * np.sin(np.linspace(0, random.uniform(3, 9), frames)) ** 4
    return (random.standard_normal((frames, channels)) * swell[:, None]).astype(np.float32)


def filtered(wave: np.ndarray, taps: np.ndarray) -> np.ndarray:
    """Each channel convolved with a symmetric filter, in place."""
    return np.stack([np.convolve(channel, taps, "same") for channel in wave.T.astype(np.float64)], axis=1)


def smoothed(wanted: np.ndarray, attack: float, release: float) -> np.ndarray:
    last, out = 0.0, []
    for value in wanted:
        keep = attack if value < last else release
        last = keep * last + (1 - keep) * value
        out.append(last)
    return np.array(out)


def largest_near(values: np.ndarray, before: int, after: int) -> np.ndarray:
    return np.array([values[max(n - before, 0) : n + after + 1].max() for n in range(len(values))])


class StepsAgainstReferences(unittest.TestCase):
    def near(self, out: np.ndarray, expected: np.ndarray, least: float = 2e-6) -> None:
        self.assertEqual(out.shape, expected.shape)
        self.assertLess(np.abs(out - expected).max(), least)

    @settings(max_examples=12, deadline=None)
    @given(SEEDS, st.sampled_from((6, 12, 24, 42, 48)), st.sampled_from((SLOW, RATE)), st.integers(1, 3), st.integers(1, 5_000))
    def test_rumble_filter_of_minimum_phase(self, seed, slope, rate, channels, size):
        wave = some(seed, 6_000, channels)
        sections = signal.butter(slope // 6, 90, "highpass", fs=rate, output="sos")
        out = fed("rumble-filter", wave, size, rate=rate, corner_hz=90, slope_db_per_octave=slope)
        self.near(out, signal.sosfilt(sections, wave.astype(np.float64), axis=0))

    def test_rumble_filter_of_linear_phase_is_the_magnitude_alone(self):
        wave = np.concatenate((np.zeros((RATE, 1)), some(1, RATE), np.zeros((RATE, 1))))
        size = 1 << 18
        with np.errstate(divide="ignore"):
            magnitude = 1 / np.sqrt(1 + (80 / np.fft.rfftfreq(size, 1 / RATE)) ** 8)
        expected = np.fft.irfft(np.fft.rfft(wave[:, 0], size) * magnitude)[: len(wave), None]
        out = fed("rumble-filter", wave, 4_096, corner_hz=80, slope_db_per_octave=24, phase="linear")
        self.near(out, expected, 2e-4)

    def test_tone_is_the_analogue_circuit_brought_over_by_the_bilinear_transform(self):
        wave = some(2, 9_000, 2)
        a, q = 10 ** (5 / 40), 1.3
        analogue = {
            "high-pass": ([1, 0, 0], [1, 1 / q, 1]),
            "notch": ([1, 0, 1], [1, 1 / q, 1]),
            "bell": ([1, a / q, 1], [1, 1 / (a * q), 1]),
            "low-shelf": ([a, a * np.sqrt(a) / q, a * a], [a, np.sqrt(a) / q, 1]),
            "high-shelf": ([a * a, a * np.sqrt(a) / q, a], [1, np.sqrt(a) / q, a]),
        }
        for kind, (above, below) in analogue.items():
            with self.subTest(kind):
                # In units of the corner's own frequency: s = (z − 1) / (z + 1) / tan(ω / 2).
                digital = signal.bilinear(above, below, fs=0.5 / np.tan(np.pi * 1_500 / RATE))
                band = {"kind": kind, "frequency_hz": 1_500, "q": q}
                band |= {} if kind in ("high-pass", "notch") else {"gain_db": 5}
                out = fed("tone", wave, 1_000, bands=[band])
                self.near(out, signal.lfilter(*digital, wave.astype(np.float64), axis=0))

    @settings(max_examples=6, deadline=None)
    @given(SEEDS, st.integers(1, 2), st.integers(300, 6_000))
    def test_the_limiter(self, seed, channels, size):
        wave = some(seed, 3_000, channels)
        ceiling = 10 ** (-9 / 20) * (1 - 2e-5)
        expected = wave.astype(np.float64)
        for number, beta in enumerate(BETAS):
            expected = self.limited(expected, beta, ceiling, HOLD_MS if number == 0 else 1.0)
        self.near(fed("true-peak-limiter", wave, size, rate=SLOW, ceiling_dbtp=-9), expected, 3e-5)

    def limited(self, wave: np.ndarray, beta: float, ceiling: float, hold_ms: float) -> np.ndarray:
        """One pass: the gain that each stretch between samples needs, held, released and smoothed."""
        frames, taps = len(wave), interpolator(beta).astype(np.float64)
        ahead, hold = round(3 * SLOW / 1000), round(hold_ms * SLOW / 1000)
        padded = np.pad(wave, ((HALF_TAPS - 1, TAPS), (0, 0)))
        needed = np.ones(frames)
        for n in range(frames):
            between = np.abs(taps @ padded[n : n + TAPS]).max()
            needed[n] = min(1.0, ceiling / max(between, np.abs(wave[n]).max(), 1e-9))
        # From here on, moments lie a look-ahead before the frames, which lets the gain be there in time.
        needed = np.concatenate((np.ones(hold + ahead), needed, np.ones(ahead)))
        lowest = [needed[n : n + hold + ahead + 1].min() for n in range(frames + ahead)]
        keep, last, released = np.exp(-1000 / (60 * SLOW)), 1.0, [1.0] * ahead
        for value in lowest:
            last = min(value, 1 - (1 - last) * keep)
            released.append(last)
        window = np.hanning(ahead + 3)[1:-1]
        gain = np.convolve(released, window / window.sum(), "valid")[ahead:]
        return wave * gain[:frames, None]

    @settings(max_examples=6, deadline=None)
    @given(SEEDS, st.integers(1, 2), st.integers(500, 9_000))
    def test_the_de_esser(self, seed, channels, size):
        wave = some(seed, 9_000, channels)
        band = wave - filtered(wave, low_pass(4_000, transition_hz=1_000, sample_rate_hz=RATE))
        half = round(0.002 * RATE)
        held = largest_near(np.abs(band).max(axis=1), half, half)
        over = np.maximum(20 * np.log10(np.maximum(held, 1e-8)) + 24, 0)
        # The detector hears the first half of its hold before the file begins.
        gain = smoothed(-np.minimum(over, 5), np.exp(-1000 / RATE), np.exp(-1000 / (40 * RATE)))
        expected = wave - (1 - 10 ** (gain / 20))[:, None] * band
        out = fed("de-esser", wave, size, frequency_hz=4_000, threshold_dbfs=-24, range_db=5)
        self.near(out, expected, 3e-5)

    def test_the_multiband_compressor_is_its_bands_compressed_and_summed(self):
        wave = some(5, 40_000, 2)
        lows = [filtered(wave, low_pass(hz, transition_hz=0.8 * hz, sample_rate_hz=RATE)) for hz in (200, 3_000)]
        bands = (lows[0], lows[1] - lows[0], wave - lows[1])
        compressor = Compressor(threshold_dbfs=-40, ratio=3).model_dump()
        expected = bands[0] + sum(fed("compressor", band, 50_000, **compressor) for band in bands[1:])
        choice = [{"on": False, "compressor": compressor}, {"compressor": compressor}, {"compressor": compressor}]
        how = {"crossovers_hz": (200, 3_000), "bands": choice}
        self.near(fed("multiband-compressor", wave, 7_000, **how, rests_in_pauses=False), expected, 3e-5)
        # Nothing here is far under the thresholds but for the ends: resting changes nothing while a band works.
        self.near(fed("multiband-compressor", wave, 7_000, **how)[9_000:30_000], expected[9_000:30_000], 3e-5)

    def test_the_compressors_curve_as_the_paper_has_it(self):
        levels = np.linspace(-60, 0, 601)
        for knee in (0.0, 4.0, 12.0):
            chosen = Compressor(threshold_dbfs=-25, ratio=3.5, knee_db=knee)
            for level, gain in zip(levels, static_curve(levels, chosen), strict=True):
                over = level + 25
                out = level
                if 2 * over > knee:
                    out = -25 + over / 3.5
                elif 2 * abs(over) <= knee and knee > 0:
                    out = level + (1 / 3.5 - 1) * (over + knee / 2) ** 2 / (2 * knee)
                self.assertAlmostEqual(gain, out - level, places=9)

    def test_spot_gain(self):
        wave = some(6, 20_000, 2)
        spots = [
            {"start_s": 0.05, "end_s": 0.2, "gain_db": -7.0, "fade_s": 0.03},
            {"start_s": 0.15, "end_s": 0.4, "gain_db": 3, "fade_s": 1},
        ]
        gain_db = np.zeros(len(wave))
        for spot in spots:
            fade = min(spot["fade_s"], (spot["end_s"] - spot["start_s"]) / 2)
            for n in range(len(wave)):
                inside = min((n + 0.5) / RATE - spot["start_s"], spot["end_s"] - (n + 0.5) / RATE)
                gain_db[n] += spot["gain_db"] * (0.5 - 0.5 * np.cos(np.pi * min(max(inside / fade, 0), 1)))
        self.near(fed("spot-gain", wave, 3_333, spots=spots), wave * (10 ** (gain_db / 20))[:, None])

    def test_the_breath_softening_draws_its_gain_where_the_meters_found_breaths(self):
        wave = signals.voice_like(20, rms_dbfs=-22, rate=RATE, room_dbfs=-75)
        rise = np.hanning(round(0.3 * RATE))
        quiet = measure_array(wave, sample_rate_hz=RATE).inspection.pauses[2]
        start = round((quiet.start_s + quiet.end_s) / 2 * RATE) - len(rise) // 2
        breath = signal.sosfilt(
            signal.butter(2, [600, 5_000], "bandpass", fs=RATE, output="sos"), np.random.default_rng(3).standard_normal(len(rise))
        )
        wave[start : start + len(rise)] += 0.004 * rise * breath / breath.std()
        found = measure_array(wave, sample_rate_hz=RATE)
        breaths = [one for one in found.inspection.findings if one.kind == "breath"]
        self.assertGreaterEqual(len(breaths), 1)
        gain = np.zeros(found.passages.cells)
        for one in breaths:
            gain[round(one.start_s * 200) - 4 : round(one.end_s * 200) + 4] = -9
        for _ in range(2):
            gain = np.convolve(np.pad(gain, 4, "edge"), np.full(4, 0.25), "full")[5 : 5 + len(gain)]
        gain[found.speech_mask] = 0
        at = (np.arange(len(wave)) + 0.5) / RATE * 200 - 0.5
        expected = wave * 10 ** (np.interp(at, np.arange(len(gain)), gain) / 20)
        self.near(fed("breath-softening", wave[:, None], 30_000, amount_db=9), expected[:, None])

    def test_level_riding_weighs_speech_around_each_moment(self):
        wave = signals.voice_like(24, rms_dbfs=-24, rate=RATE, room_dbfs=-75)
        wave[len(wave) // 2 :] *= 2
        found = measure_array(wave, sample_rate_hz=RATE)
        chosen = level_riding.LevelRiding(target_lufs=-22, up_db=15, down_db=15, speed_s=2)
        gain, target = level_riding.draw(found.k_power, found.speech_mask, found.passages.room, chosen)
        self.assertEqual(target, -22)
        power, speech = found.k_power.astype(np.float64), found.speech_mask

        def around(values: np.ndarray, sigma: float, reach: int, edge: str) -> np.ndarray:
            weight = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
            return np.convolve(np.pad(values, reach, edge), weight / weight.sum(), "valid")

        level = around(power * speech, 200, 600, "constant") / np.maximum(around(speech * 1.0, 200, 600, "constant"), 1e-12)
        wanted = np.clip(-22 - (-0.691 + 10 * np.log10(np.maximum(level, 1e-14))), -15, 15)
        cells = np.arange(len(speech))
        starts = [k for k in cells if speech[k] and not speech[max(k - 80, 0) : k].any()]
        ends = [k + 1 for k in cells if speech[k] and not speech[k + 1 : k + 81].any()]
        for start, end in zip(starts, ends, strict=True):
            ahead = start + min(200, (end - start) // 2)
            wanted[start:ahead] = wanted[ahead]
        known = np.flatnonzero(speech)
        riding = wanted[[known[::-1][np.argmin(np.abs(known[::-1] - k))] for k in cells]]
        expected = around(riding, 400 / 6, 200, "edge")
        for start, end in zip([0, *ends], [*starts, len(speech)], strict=True):
            first, last = start + 7 * (start > 0), end - 7 * (end < len(speech))
            expected[first:last] = np.minimum(expected[first:last], 0)
        for _ in range(2):
            expected = np.convolve(np.pad(expected, 3, "edge"), np.full(7, 1 / 7), "valid")
        expected[found.passages.room] = np.minimum(expected[found.passages.room], 0)
        self.assertGreater(np.ptp(expected[speech]), 3)
        self.near(gain, expected, 0.02)

    def test_clip_repair_errs_least_by_its_model(self):
        random = np.random.default_rng(8)
        wave = signal.lfilter([1], [1, -1.7, 0.8], random.standard_normal(1_400))
        wave /= np.abs(wave).max() * 1.05
        level = 0.75
        cut = np.clip(wave, -level, level)
        missing = cut_off(cut, level)
        [first, *_] = np.flatnonzero(missing)
        missing[first + 40 :] = False
        last = int(np.flatnonzero(missing)[-1]) + 1
        found = repaired(cut, missing, np.array([[first, last]]))
        expected = self.least_error(cut, missing)
        self.near(found[missing], expected[missing], 1e-6)
        self.assertTrue(np.array_equal(found[~missing], cut[~missing]))
        self.assertEqual(ClipRepair().threshold_dbfs, None)

    def least_error(self, cut: np.ndarray, missing: np.ndarray) -> np.ndarray:
        """Dense matrices: the samples that make the prediction error of the whole stretch smallest."""
        unknown = np.flatnonzero(missing)
        first, last = max(unknown[0] - 512, 0), min(unknown[-1] + 1 + 512, len(cut))
        part, gap = cut[first:last].copy(), unknown - first
        sign, level = np.sign(part[gap]), np.abs(part[gap])
        most = np.zeros(part.size)
        for start, end in runs(missing[first:last]):
            edges, side = np.array([start - 1, end]), np.sign(part[start])
            slopes = np.maximum(side * np.array([part[start - 1] - part[start - 2], part[end] - part[end + 1]]), 0) * [1, -1]
            smooth = interpolate.CubicHermiteSpline(edges, side * part[edges], slopes)(np.arange(start, end))
            tangents = side * part[edges][:, None] + slopes[:, None] * (np.arange(start, end) - edges[:, None])
            top = np.abs(part[start:end]).max()
            most[start:end] = np.maximum(np.minimum(top + 1.5 * (smooth - top), tangents.min(axis=0)), top)
        for _ in range(3):
            windowed = part * np.hanning(part.size)
            correlation = np.array([windowed[: part.size - k] @ windowed[k:] for k in range(ORDER + 1)])
            correlation[0] = correlation[0] * (1 + 1e-6) + 1e-12
            matrix = np.array([[correlation[abs(i - j)] for j in range(ORDER)] for i in range(ORDER)])
            model = np.concatenate(([1.0], -np.linalg.solve(matrix, correlation[1:])))
            # Rows of prediction errors over a stretch that has silence around it.
            rows = np.zeros((part.size + ORDER, part.size))
            for k, weight in enumerate(model):
                rows[np.arange(part.size) + k, np.arange(part.size)] = weight
            known = part.copy()
            known[gap] = 0
            weak = np.sqrt(1e-9 * model @ model)
            columns = np.vstack((rows[:, gap], weak * np.eye(gap.size)))
            solved = np.linalg.lstsq(columns, np.concatenate((-rows @ known, np.zeros(gap.size))), rcond=None)[0]
            part[gap] = sign * np.clip(sign * solved, level, most[gap])
        out = cut.copy()
        out[first:last] = part
        return out

    def test_the_hum_filter_subtracts_the_lines_it_learned(self):
        wave = signals.voice_like(8, rms_dbfs=-24, rate=RATE, room_dbfs=-75)
        at = np.arange(len(wave)) / RATE
        wave += 0.004 * np.sin(2 * np.pi * 50.02 * at) + 0.002 * np.sin(2 * np.pi * 150.06 * at + 1)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "hum.wav"
            soundfile.write(path, wave, RATE, subtype="FLOAT")
            chosen = hum_filter.HumFilter(base_hz=50)
            hum = hum_filter.learn(path, 50, chosen, sample_rate_hz=RATE)
        steps = np.arange(hum.phase.size) * 0.05
        angle = 2 * np.pi * hum.base_hz * at + np.interp(at, steps, hum.phase)
        away = np.zeros(len(wave))
        for line, strength in enumerate(hum.strength[:, 0], start=1):
            away += np.real(np.interp(at, steps, strength) * np.exp(1j * line * angle))
        self.near(fed("hum-filter", wave[:, None], 10_000, base_hz=50), (wave - away)[:, None].astype(np.float32), 2e-6)

    def test_noise_reduction_frame_by_frame(self):
        wave = signals.voice_like(5, rms_dbfs=-24, rate=SLOW, room_dbfs=-50)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "noise.wav"
            soundfile.write(path, wave, SLOW, subtype="FLOAT")
            room = measure_array(wave, sample_rate_hz=SLOW).passages.room
            profile = noise_reduction.learn(path, room, sample_rate_hz=SLOW, name="noise")
        length = noise_reduction.frame_length(SLOW)
        hop, bins = length // 4, length // 2 + 1
        reach = round(0.08 * SLOW / hop / 2)
        window = np.sqrt(np.hanning(length + 1)[:-1])
        padded = np.pad(wave, (length - hop, 2 * length))
        count = (len(padded) - length) // hop + 1
        spectra = np.array([np.fft.rfft(padded[n * hop : n * hop + length] * window) for n in range(count)])
        noise = [profile.around(int((n + 0.5) * hop / SLOW / 0.5) * 0.5) for n in range(count)]
        over = np.minimum(np.abs(spectra) ** 2 / np.maximum(noise, 1e-20), 1e6)
        over = np.pad(over, ((reach, reach), (0, 0)))
        out = np.zeros(len(padded))
        for n in range(count):
            gain = [self.standing_out(over, n + reach, k, reach, bins) for k in range(bins)]
            gain = np.exp((np.array(gain) - 1) * 9 * np.log(10) / 20)
            out[n * hop : n * hop + length] += np.fft.irfft(spectra[n] * gain) * window * 0.5
        expected = out[length - hop :][: len(wave), None]
        self.near(fed("noise-reduction", wave[:, None], 5_000, rate=SLOW, amount_db=9), expected, 2e-5)

    def standing_out(self, over: np.ndarray, frame: int, k: int, reach: int, bins: int) -> float:
        """How far a bin stands out of the noise, 0 to 1: by its nearest neighbours or by a third-octave for longer."""
        found = 0.0
        third = max(1, round(k * (2 ** (1 / 6) - 1)))
        for half, frames in ((1, 1), (third, reach)):
            low, high = max(k - half, 0), min(k + half + 1, bins)
            mean = over[frame - frames : frame + frames + 1, low:high].mean()
            free = max(1.0, (high - low) / 1.5) * max(1.0, (2 * frames + 1) / 2.2)
            spread = free**-0.5
            begins, width = 1 + 5.2 * spread + 1.5 * spread**2, 0.35 + 1.5 * spread
            found = max(found, (mean - begins) / width)
        found = min(found, 1.0)
        return found * found * (3 - 2 * found)

    @settings(max_examples=6, deadline=None)
    @given(SEEDS, st.integers(1, 2), st.integers(200, 5_000))
    def test_conversions(self, seed, channels, size):
        wave = some(seed, 6_000, channels)
        self.near(fed("gain", wave, size, gain_db=-4.5), wave * 10 ** (-4.5 / 20))
        self.near(fed("sample-rate", wave, size, sample_rate_hz=48_000), soxr.resample(wave, RATE, 48_000, quality="VHQ"))
        mixed = fed("channels", wave, size, channels=1)
        self.near(mixed, wave.astype(np.float64).mean(axis=1, keepdims=True))

    def test_levels_are_one_gain(self):
        wave = signals.voice_like(8, rms_dbfs=-27, rate=RATE)[:, None]
        found = measure_array(wave, sample_rate_hz=RATE).inspection
        for kind, quantity in (("reference-level", "rms_dbfs"), ("final-level", "integrated_loudness_lufs")):
            gain = 10 ** ((-25 - found.value(quantity)) / 20)
            self.near(fed(kind, wave, 9_000, quantity=quantity, target_db=-25), wave * gain)


class LoopsAgainstReferences(unittest.TestCase):
    """The compiled loops that steps share."""

    @settings(max_examples=30, deadline=None)
    @given(SEEDS, st.integers(1, 5), st.integers(1, 3), st.integers(1, 900))
    def test_sections_one_after_another(self, seed, pairs, channels, frames):
        random = np.random.default_rng(seed)
        wave = random.standard_normal((frames, channels)).astype(np.float32)
        made = np.vstack([signal.butter(4, random.uniform(0.01, 0.4), output="sos") for _ in range(pairs)])
        state = random.standard_normal((channels, 2 * pairs, 2))
        expected, after = signal.sosfilt(made, wave.astype(np.float64), axis=0, zi=np.moveaxis(state, 0, 2))
        out = cascade(wave, made, state)
        np.testing.assert_allclose(out, expected, atol=1e-5)
        np.testing.assert_allclose(np.moveaxis(state, 0, 2), after, atol=1e-9)

    @settings(max_examples=40, deadline=None)
    @given(SEEDS, st.integers(1, 40), st.integers(1, 3), st.integers(0, 700))
    def test_levels_and_lines_of_ticks(self, seed, tick, channels, frames):
        wave = some(seed, frames, channels)
        whole = wave[: frames // tick * tick].reshape(-1, tick * channels).astype(np.float64)
        if whole.size:
            np.testing.assert_array_equal(tick_levels(wave, tick, False), np.abs(whole).max(axis=1))
            np.testing.assert_allclose(tick_levels(wave, tick, True), np.mean(whole**2, axis=1), rtol=1e-9)
        gain = np.random.default_rng(seed).choice([1.0, 1.0, 0.5, 0.25], frames // tick + 2)
        lines = np.interp(np.arange(frames) / tick, np.arange(gain.size), gain)
        np.testing.assert_allclose(apply_lines(wave, gain, tick), wave * lines[:, None], atol=1e-6)

    @settings(max_examples=60, deadline=None)
    @given(SEEDS, st.sampled_from((8_000, 11_025, 44_100, 192_000)), st.integers(1, 90), st.integers(1, 200), st.integers(0, 10**6))
    def test_the_lowest_gain_of_each_cell(self, seed, rate, frames, ticks, start):
        gain = np.random.default_rng(seed).random(ticks)
        first, last = start * 200 // rate, (start + ticks * frames - 1) * 200 // rate
        expected = np.ones(last - first + 1)
        for n, value in enumerate(gain):
            begin, end = (at * 200 // rate - first for at in (start + n * frames, start + (n + 1) * frames - 1))
            expected[begin : end + 1] = np.minimum(expected[begin : end + 1], value)
        np.testing.assert_array_equal(lowest_of_cells(gain, frames, start, rate, first), expected)


if __name__ == "__main__":
    unittest.main()
