"""A recording that was measured is not measured again to be conformed, and no file is hashed twice: what is known travels with
it."""

import io
import tempfile
import unittest
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from unittest.mock import patch

import numpy as np

from ispettore.core.audio.facts import sha256_of
from ispettore.core.certify import certificate
from ispettore.core.certify.certificate import certify
from ispettore.core.measure import inspecting, span_levels
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import conform as conforming
from ispettore.core.plan.conform import conform
from ispettore.core.spec.catalogue import shipped
from tests import signals

RATE = 44_100
RETAIL = shipped()["audiobook-retail"]


class Known(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        wave = signals.voice_like(14, rms_dbfs=-29, rate=RATE, room_dbfs=-76)
        wave[6 * RATE] = 0.5
        cls.paths = {
            "mono.wav": signals.write(folder / "mono.wav", wave, RATE),
            "stereo.wav": signals.write(folder / "stereo.wav", signals.stereo(wave) * [1.0, 0.8], 48_000),
            "coded.mp3": folder / "coded.mp3",
        }
        signals.write(cls.paths["coded.mp3"], wave, RATE, subtype="MPEG_LAYER_III")
        cls.folder = folder
        cls.measured = {name: inspect(path) for name, path in cls.paths.items()}

    def kept(self, name: str) -> Basis:
        """What is read back of what was kept beside an inspection."""
        file = io.BytesIO()
        span_levels.write(self.measured[name], file)
        file.seek(0)
        return span_levels.basis(self.measured[name].inspection, file)

    @contextmanager
    def watched(self):
        """The files that are measured and hashed meanwhile."""
        measured, hashed = [], []

        def measuring(path, **how):
            measured.append(path)
            return inspect(path, **how)

        def hashing(path, **how):
            hashed.append(path)
            return sha256_of(path, **how)

        with (
            patch.object(conforming, "inspect", measuring),
            patch.object(certificate, "inspect", measuring),
            patch.object(certificate, "sha256_of", hashing),
            patch.object(inspecting, "sha256_of", hashing),
        ):
            yield measured, hashed

    def test_what_a_plan_is_read_from_comes_back_to_half_a_step(self):
        for name, measured in self.measured.items():
            with self.subTest(name=name):
                fresh, kept = measured.basis, self.kept(name)
                self.assertEqual(kept.inspection, fresh.inspection)
                np.testing.assert_array_equal(kept.counts, fresh.counts)
                np.testing.assert_array_equal(kept.speech, measured.speech_mask)
                np.testing.assert_array_equal(kept.room, measured.passages.room)
                for field, factor in (("peak", 20), ("power", 10), ("k_power", 10)):
                    one, other = (np.maximum(getattr(each, field), 1e-15) for each in (fresh, kept))
                    self.assertEqual(one.shape, other.shape)
                    self.assertLess(np.abs(factor * np.log10(one / other)).max(), 0.0026, field)

    def test_a_known_recording_is_conformed_the_same_without_being_measured_or_hashed(self):
        for name, path in self.paths.items():
            with self.subTest(name=name):
                fresh = conform(path, RETAIL, self.folder / "fresh.mp3")
                with self.watched() as (measured, hashed):
                    known = conform(path, RETAIL, self.folder / "known.mp3", known=self.kept(name))
                self.assertTrue(fresh.passes and known.passes, (fresh.obstacles, known.obstacles))
                self.assertNotIn(path, measured)
                self.assertEqual(len(hashed), 1, hashed)  # the deliverable, once
                self.assertEqual(known.before, fresh.before)
                self.assertEqual([step.kind for step in known.treatment.steps], [step.kind for step in fresh.treatment.steps])
                for one, other in zip(known.treatment.steps, fresh.treatment.steps, strict=True):
                    for setting, value in other.settings.items():
                        self.assertAlmostEqual(one.settings[setting], value, delta=0.02)
                self.assertEqual(known.after.sha256, sha256_of(self.folder / "known.mp3"))

    def test_a_deliverable_is_certified_by_what_its_own_bytes_measured(self):
        out = self.folder / "delivered.mp3"
        result = conform(self.paths["mono.wav"], RETAIL, out)
        with self.watched() as (measured, hashed):
            paper, found, _ = certify(out, RETAIL, issued=datetime.now(UTC), issuer="test", known=result.measured)
        self.assertEqual((measured, hashed), ([], [out]))
        self.assertEqual(paper.file.sha256, sha256_of(out))
        self.assertEqual(found.inspection.readings, inspect(out).inspection.readings)

    def test_other_bytes_than_those_that_were_measured_are_measured_anew(self):
        out = self.folder / "changed.wav"
        result = conform(self.paths["mono.wav"], RETAIL, out)
        signals.write(out, signals.voice_like(14, rms_dbfs=-20.5, rate=RATE, room_dbfs=-76), RATE)
        with self.watched() as (measured, _):
            _, found, _ = certify(out, RETAIL, issued=datetime.now(UTC), issuer="test", known=result.measured)
        self.assertEqual(measured, [out])
        self.assertEqual(found.inspection.sha256, sha256_of(out))
        self.assertNotEqual(found.inspection.sha256, result.after.sha256)

    def test_without_a_known_hash_a_file_is_hashed(self):
        with self.watched() as (_, hashed):
            found = inspect(self.paths["mono.wav"])
        self.assertEqual((len(hashed), found.inspection.sha256), (1, sha256_of(self.paths["mono.wav"])))


if __name__ == "__main__":
    unittest.main()
