"""Delivery: every format that is written, its rates and channels, dither, mixing, and what a certificate may rest on."""

import struct
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core import errors
from ispettore.core.audio.broadcast import STATED, Broadcast
from ispettore.core.audio.formats import WRITABLE
from ispettore.core.audio.tags import STATED_AS
from ispettore.core.audio.writing import OutputFormat, Sink, format_for, read_span
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import role_for
from ispettore.core.spec import catalogue, delivery
from ispettore.core.spec.objections import objections, refusal
from ispettore.core.spec.specification import Specification
from tests import signals
from tests.treating import RATE, treated


class Formats(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def written(self, container: str, wave: np.ndarray, rate: int) -> Path:
        path = self.folder / f"out.{container}"
        with Sink(path, sample_rate_hz=rate, channels=wave.shape[1], form=format_for(path)) as sink:
            sink.write(wave.astype(np.float32))
        return path

    def test_every_format_comes_back_as_it_says(self):
        for container, codec, rate in (
            ("wav", "pcm", 44_100),
            ("flac", "flac", 44_100),
            ("mp3", "mp3", 44_100),
            ("ogg", "vorbis", 44_100),
            ("opus", "opus", 48_000),
            ("aiff", "pcm", 44_100),
        ):
            wave = np.stack([signals.voice_like(6, rms_dbfs=-22, rate=rate)] * 2, axis=1)
            found = inspect(self.written(container, wave, rate)).inspection
            form = OutputFormat(container=container)
            with self.subTest(container=container):
                self.assertEqual((found.facts.codec, found.facts.container), (codec, form.file_container))
                self.assertEqual((found.facts.sample_rate_hz, found.facts.channels), (rate, 2))
                before = measure_array(wave, sample_rate_hz=rate).inspection
                self.assertAlmostEqual(found.value("rms_dbfs"), before.value("rms_dbfs"), delta=0.3 if form.lossy else 0.001)
                self.assertAlmostEqual(found.facts.duration_s, 6, delta=0.06)

    def test_constant_mp3_is_constant(self):
        found = inspect(self.written("mp3", signals.voice_like(5, rms_dbfs=-20, rate=RATE)[:, None], RATE)).inspection.facts
        self.assertEqual((found.bit_rate_kbps, found.bit_rate_constant), (192, True))

    def test_rates_and_channels_that_a_format_can_not_hold_are_refused_in_words(self):
        wave = np.zeros((1_000, 1))
        for container, rate, words in (
            ("mp3", 96_000, "MP3 is written at 32 or 44.1 or 48 kHz"),
            ("opus", 44_100, "Opus is written at 8"),
        ):
            with self.assertRaises(errors.UnsupportedOutput) as raised:
                self.written(container, wave, rate)
            self.assertIn(words, raised.exception.sentence)
        with self.assertRaises(errors.UnsupportedOutput):
            self.written("mp3", np.zeros((1_000, 3)), 44_100)
        with self.assertRaises(errors.UnsupportedOutput):
            format_for(Path("out.aac"))
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_each_lossy_format_has_a_rate_for_every_recording(self):
        for container, written in WRITABLE.items():
            form = OutputFormat(container=container)
            if not written.lossy:
                continue
            for rate in (8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 48_000, 88_200, 96_000, 192_000):
                fitting = form.rate_for(rate)
                self.assertTrue(not written.rates_hz or fitting in written.rates_hz)
                self.assertGreaterEqual(fitting, min(rate, 44_100 if container == "mp3" else 48_000))

    def test_an_opus_deliverable_is_conformed_measured_and_heard_exactly(self):
        source = self.folder / "in.wav"
        soundfile.write(source, signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-75), RATE, subtype="PCM_24")
        streaming = next(one for one in catalogue.shipped().values() if one.limit("integrated_loudness_lufs"))
        loudness = streaming.limit("integrated_loudness_lufs")
        specification = Specification(id="x", version=1, name="Stream", limits=[loudness, streaming.limit("true_peak_dbtp")])
        for container in ("opus", "ogg"):
            out = self.folder / f"done.{container}"
            result = conform(source, specification, out)
            self.assertTrue(result.passes, result.obstacles)
            self.assertEqual(result.role, "deliverable")
            found = inspect(out).inspection
            self.assertTrue(loudness.low <= found.value("integrated_loudness_lufs") <= loudness.high)
        whole, _ = soundfile.read(self.folder / "done.opus", dtype="float32", always_2d=True)
        for start in (0, 48_000, 100_001):
            piece = read_span(self.folder / "done.opus", start, 4_800)
            np.testing.assert_allclose(piece, whole[start : start + 4_800], atol=2e-3)

    def test_the_role_goes_by_the_container_of_the_file(self):
        ogg = Specification.model_validate(
            {"id": "x", "version": 1, "name": "x", "limits": [{"quantity": "container", "one_of": ["ogg"]}]}
        )
        for container, role in (("opus", "deliverable"), ("flac", "master"), ("mp3", "deliverable")):
            self.assertEqual(role_for(OutputFormat(container=container), ogg), role)

    def test_one_table_decides_what_is_chosen_objected_to_and_written(self):
        def asking(*limits: dict) -> Specification:
            data = {"id": "x", "name": "Harbour", "limits": [{"applies_to": "deliverable", **limit} for limit in limits]}
            self.assertEqual(refusal(data), "", "it can be kept")
            return Specification.model_validate(data)

        aiff = {"quantity": "container", "one_of": ["aiff"]}
        ogg = {"quantity": "container", "one_of": ["ogg"]}
        wav = {"quantity": "container", "one_of": ["caf", "wav"]}
        for limits, expected in (
            ((aiff,), ("aiff", 24, None)),
            ((ogg, {"quantity": "codec", "one_of": ["opus"]}), ("opus", None, None)),
            ((ogg, {"quantity": "codec", "one_of": ["vorbis"]}), ("ogg", None, None)),
            ((ogg, {"quantity": "sample_rate_hz", "low": 44_100, "high": 44_100}), ("ogg", None, None)),
            ((wav, {"quantity": "bit_depth", "low": 16, "high": 16}), ("wav", 16, None)),
            (({"quantity": "codec", "one_of": ["flac"]},), ("flac", 24, None)),
            (({"quantity": "bit_rate_kbps", "low": 250},), ("mp3", None, 256)),
            (({"quantity": "bit_rate_kbps", "low": 64, "high": 130},), ("mp3", None, 128)),
            (({"quantity": "rms_dbfs", "high": -10},), ("mp3", None, 192)),
        ):
            form = delivery.asked_for(asking(*limits))
            with self.subTest(limits=limits):
                self.assertEqual((form.container, form.bit_depth, form.bit_rate_kbps), expected)
        for limits in (
            ({"quantity": "container", "one_of": ["caf", "w64"]},),
            (ogg, {"quantity": "codec", "one_of": ["flac"]}),
            (wav, {"quantity": "bit_depth", "low": 32}),
        ):
            specification = asking(*limits)
            with self.subTest(limits=limits):
                with self.assertRaises(delivery.NotWritable) as raised:
                    delivery.asked_for(specification)
                self.assertIn("“Harbour” asks for", raised.exception.sentence)
                [said] = objections(specification.model_dump(mode="json"))
                self.assertIn("can check files against this but can't make them", said.sentence)
                self.assertFalse(said.blocks)

    def test_what_is_asked_for_is_what_is_written(self):
        source = self.folder / "in.wav"
        soundfile.write(source, signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-75), RATE, subtype="PCM_24")
        loud = {"quantity": "rms_dbfs", "low": -40, "high": -10}
        for name, limits in (
            ("a.aiff", [{"quantity": "container", "one_of": ["aiff"]}, {"quantity": "bit_depth", "low": 16, "high": 16}]),
            ("a.opus", [{"quantity": "container", "one_of": ["ogg"]}, {"quantity": "codec", "one_of": ["opus"]}]),
            ("a.mp3", [{"quantity": "bit_rate_kbps", "low": 320}, {"quantity": "bit_rate_kind", "one_of": ["constant"]}]),
        ):
            limits = [{"applies_to": "deliverable", **limit} for limit in limits]
            specification = Specification.model_validate({"id": "x", "name": "Harbour", "limits": [loud, *limits]})
            result = conform(source, specification, self.folder / name)
            with self.subTest(name=name):
                self.assertTrue(result.passes, result.obstacles)
                self.assertEqual(result.role, "deliverable")

    def test_every_bit_rate_of_the_table_is_the_one_that_is_written(self):
        wave = signals.noise(1, rms_dbfs=-30, rate=RATE)[:, None].astype(np.float32)
        for kbps in WRITABLE["mp3"].bit_rates_kbps:
            for rate in WRITABLE["mp3"].rates_hz:
                path = self.folder / "rate.mp3"
                with Sink(path, sample_rate_hz=rate, channels=1, form=OutputFormat(container="mp3", bit_rate_kbps=kbps)) as sink:
                    sink.write(wave)
                facts = inspect(path).inspection.facts
                with self.subTest(kbps=kbps, rate=rate):
                    self.assertEqual((facts.bit_rate_kbps, facts.bit_rate_constant), (kbps, True))

    def test_the_longest_name_a_file_can_have_can_be_conformed_to(self):
        source = self.folder / f"{'n' * 251}.wav"
        soundfile.write(source, signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-75), RATE, subtype="PCM_24")
        out = self.folder / f"{'n' * 250}.flac"
        self.assertTrue(conform(source, catalogue.find("speech-streaming-aes77"), out).passes)
        self.assertEqual(sorted(path.name for path in self.folder.iterdir()), sorted((source.name, out.name)))

    def test_a_wav_master_states_where_it_comes_from_and_how_loud_it_is(self):
        source, out = self.folder / "Kapitel – Fähre.wav", self.folder / "master.wav"
        soundfile.write(source, signals.voice_like(14, rms_dbfs=-27, rate=RATE, room_dbfs=-75), RATE, subtype="PCM_24")
        at = datetime(2026, 11, 25, 18, 30, 5, tzinfo=UTC)
        result = conform(source, catalogue.find("speech-streaming-aes77"), out, written_at=at)
        self.assertTrue(result.passes)
        found = inspect(out).inspection
        tags = found.facts.tags
        self.assertEqual((tags["description"], tags["originator"]), (("Kapitel ? Fahre.wav",), ("Ispettore",)))
        self.assertEqual(tags["reference"], (inspect(source).inspection.sha256[:32],))
        self.assertEqual((tags["date"], tags["time"]), (("2026-11-25",), ("18:30:05",)))
        for quantity in STATED:
            title, unit = STATED_AS[quantity]
            figure, written = tags[title][0].split()
            self.assertEqual(written, unit)
            self.assertAlmostEqual(float(figure.replace("−", "-")), found.value(quantity), delta=0.011)
        # The chunk by the standard's own offsets: before the samples, version 2.
        content = out.read_bytes()
        place = content.index(b"bext")
        self.assertLess(place, content.index(b"data"))
        self.assertEqual(struct.unpack_from("<H", content, place + 8 + 346), (2,))
        loudness = struct.unpack_from("<h", content, place + 8 + 412)[0] / 100
        self.assertAlmostEqual(loudness, found.value("integrated_loudness_lufs"), delta=0.011)
        self.assertIn(b"A=PCM,F=44100,W=24,M=mono,T=Ispettore\r\n", content[place : place + 900])
        # A second time gives the same file, and what a file states is passed on.
        again = self.folder / "again.wav"
        conform(source, catalogue.find("speech-streaming-aes77"), again, written_at=at)
        self.assertEqual(again.read_bytes(), content)
        conform(out, catalogue.find("broadcast-r128"), again, written_at=at)
        self.assertEqual(inspect(again).inspection.facts.tags["description"], ("Kapitel ? Fahre.wav",))

    def test_what_has_no_loudness_states_none(self):
        path = self.folder / "silence.wav"
        with Sink(
            path, sample_rate_hz=RATE, channels=2, form=format_for(path), broadcast=Broadcast(levels={STATED[0]: -120})
        ) as sink:
            sink.write(np.zeros((RATE, 2), np.float32))
        self.assertEqual([key for key in inspect(path).inspection.facts.tags if key.startswith("stated")], [])

    def test_bits_that_are_lost_are_dithered(self):
        wave = signals.sine(1_000, peak_dbfs=-100, seconds=4, rate=RATE)[:, None]
        path = self.folder / "out.wav"
        with Sink(path, sample_rate_hz=RATE, channels=1, form=OutputFormat(container="wav", bit_depth=16)) as sink:
            sink.write(wave.astype(np.float32))
        out, _ = soundfile.read(path, dtype="float64")
        line = np.exp(-2j * np.pi * 1_000 * np.arange(out.size) / RATE)
        # Below the last bit the tone is still there, and the error does not follow it: its variance is that of TPDF dither.
        self.assertAlmostEqual(20 * np.log10(2 * abs(np.mean(out * line))), -100, delta=0.5)
        self.assertAlmostEqual(np.var(out - wave[:, 0]) * 2**30, 0.25, delta=0.02)


class Mixing(unittest.TestCase):
    def test_channels_that_differ_or_cancel_are_told_of(self):
        voice = signals.voice_like(5, rms_dbfs=-22, rate=RATE)
        other = signals.voice_like(5, rms_dbfs=-22, rate=RATE, seed=8)
        for second, words in (
            (voice, None),
            (-voice, "cancel each other"),
            (other, "The channels differ"),
            (0 * voice, "The channels differ"),
        ):
            _, done = treated(np.stack((voice, second), axis=1), ("channels", {"channels": 1, "live": [1, 2]}))
            told = done.ledger[0].warnings
            if words is None:
                self.assertEqual(told, ())
                self.assertAlmostEqual(done.ledger[0].learned["level_change_db"], 0, delta=0.01)
            else:
                self.assertIn(words, told[0])


if __name__ == "__main__":
    unittest.main()
