"""The level ribbon at every zoom, against plain arithmetic over all samples."""

import io
import json
import unittest
from types import SimpleNamespace

import numpy as np

from ispettore.core.measure import pyramid
from ispettore.core.measure.grid import STRETCH_CELLS, Series
from ispettore.core.measure.inspecting import measure_array
from tests import signals

STEP_DB = 80 / 255


def read(packed: bytes) -> list[tuple[np.ndarray, np.ndarray]]:
    """All levels of a packed pyramid, tile after tile, as the interface fetches them."""
    line, body = packed.split(b"\n", 1)
    header = json.loads(line)
    found = []
    for level, ends in enumerate(header["ends"]):
        tiles = [body[slice(*pyramid.place(header, level, index))] for index in range(len(ends))]
        parts = [pyramid.unpacked(tile) for tile in tiles]
        assert all(len(part[0]) == pyramid.TILE for part in parts[:-1])
        found.append(tuple(np.concatenate([part[which] for part in parts]) for which in (0, 1)))
        assert len(found[-1][0]) == header["columns"][level]
    return found


def written(measured) -> bytes:
    file = io.BytesIO()
    pyramid.write(measured, file)
    return file.getvalue()


class Pyramid(unittest.TestCase):
    def test_every_column_of_every_level_is_what_its_samples_say(self):
        rate = 44_100
        for channels in (1, 2):
            voices = [
                signals.voice_like(37.3, rate=rate, rms_dbfs=-20 - 6 * channel, room_dbfs=-70, seed=channel)
                for channel in range(channels)
            ]
            wave = np.stack(voices, axis=1)
            levels = read(written(measure_array(wave, sample_rate_hz=rate)))
            self.assertEqual([len(rms) for rms, _ in levels], [7_460, 1_865, 467])
            for depth, (rms, peak) in enumerate(levels):
                cells = 4**depth
                for column in (0, 1, len(rms) // 2, len(rms) - 2):
                    edges = [round((column + side) * cells * 0.005 * rate) for side in (0, 1)]
                    samples = wave[edges[0] : edges[1]].astype(np.float32)
                    with self.subTest(channels=channels, depth=depth, column=column):
                        highest = 20 * np.log10(np.abs(samples).max())
                        power = 10 * np.log10((samples.astype(float) ** 2).mean())
                        self.assertAlmostEqual(peak[column], max(highest, -80), delta=STEP_DB)
                        self.assertAlmostEqual(rms[column], max(power, -80), delta=STEP_DB)

    def test_a_file_longer_than_a_stretch_has_no_seam(self):
        count = 2 * STRETCH_CELLS + 12_345
        power, peak = Series(1), Series(1)
        amplitude = (0.01 + 0.5 * (np.arange(count) % 5_003 == 0)).astype(np.float32)
        for first in range(0, count, 200):
            peak.append(amplitude[None, first : first + 200])
            power.append(amplitude[None, first : first + 200] ** 2 / 2)

        class Cells(SimpleNamespace):
            def __len__(self):
                return count

        levels = read(written(SimpleNamespace(meters=SimpleNamespace(cells=Cells(power=power, peak=peak)))))
        for depth, (rms, peaks) in enumerate(levels):
            size = 4**depth
            parts = [amplitude[first : first + size] for first in range(0, count, size)]
            wanted = 20 * np.log10([part.max() for part in parts])
            self.assertLess(np.abs(peaks - wanted).max(), STEP_DB, depth)
            wanted = 10 * np.log10([(part.astype(float) ** 2).mean() / 2 for part in parts])
            self.assertLess(np.abs(rms - np.maximum(wanted, -80)).max(), STEP_DB, depth)

    def test_short_silent_and_absent(self):
        for seconds in (0.003, 0.05):
            [(rms, peak)] = read(written(measure_array(np.zeros((int(44_100 * seconds), 1)), sample_rate_hz=44_100)))
            self.assertTrue((rms == -80).all() and (peak == -80).all())
        header = json.loads(written(measure_array(np.zeros((4_410, 1)), sample_rate_hz=44_100)).split(b"\n")[0])
        for level, index in ((0, 1), (1, 0), (-1, 0), (0, -1)):
            self.assertIsNone(pyramid.place(header, level, index))
