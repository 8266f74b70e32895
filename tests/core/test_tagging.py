"""Tags and covers in every format that is written, read by others' code too; and the same files through a second decoder."""

import tempfile
import unittest
from itertools import product
from pathlib import Path

import av
import numpy as np
import soundfile
from mutagen.flac import FLAC
from mutagen.id3 import ID3
from mutagen.oggopus import OggOpus

from ispettore.core.audio import cover, info, tagging, tags
from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.cover import Cover, CoverRefused
from ispettore.core.audio.formats import FORMAT_NAMES
from ispettore.core.audio.reading import Source
from ispettore.core.audio.tagging import NotTagged, Tags
from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.measure.inspecting import inspect
from tests import signals, speakers
from tests.covers import picture

TAGS = Tags(
    title="Die Mühle – März", album="Almanac", track=3, narrator="I. Weir", author="A. Reed", publisher="Mill & Tide",
    year="2026", language="eng",
)  # fmt: skip
SAMPLE_APART = 2e-4
"""How far two decoders' samples may lie apart: 74 dB under full scale (docs/DECISIONS.md, Delivering)."""
READING_APART = 0.01
"""And their readings, in their own units."""


def written(folder: Path, form: OutputFormat, wave: np.ndarray, rate: int) -> Path:
    path = folder / f"out.{form.written.endings[0]}"
    broadcast = Broadcast(description="one", originator="Ispettore", levels={"integrated_loudness_lufs": -20.5})
    with Sink(path, sample_rate_hz=rate, channels=wave.shape[1], form=form, broadcast=broadcast) as sink:
        sink.write(wave.astype(np.float32))
    return path


def decoded(path: Path) -> np.ndarray:
    with Source(path) as source:
        return np.concatenate([block.copy() for block in source.blocks()])


def decoded_by_another(path: Path) -> tuple[np.ndarray, dict[str, str], bytes]:
    """Samples of shape (frames, channels), what it reads of tags, and the picture."""
    with av.open(str(path)) as file:
        sound = file.streams.audio[0]
        told = {key.lower(): value for key, value in {**file.metadata, **sound.metadata}.items()}
        blocks = []
        for frame in file.decode(sound):
            block = frame.to_ndarray()
            block = block if frame.format.is_planar else block.reshape(-1, len(frame.layout.channels)).T
            blocks.append(block.T / (np.iinfo(block.dtype).max + 1.0) if block.dtype.kind == "i" else block.T)
        samples = np.concatenate(blocks).astype(np.float64)
    with av.open(str(path)) as file:
        shown = [bytes(packet) for packet in file.demux(video=0) if packet.size] if file.streams.video else []
    return samples, told, shown[0] if shown else b""


class Tagging(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.cover = cover.read(picture(), name="cover.jpg")

    def made(self, container: str, channels: int = 1) -> tuple[Path, np.ndarray, int]:
        rate = 48_000 if container == "opus" else 44_100
        wave = np.repeat(speakers.laid("wren", rate=rate).wave[: 6 * rate, None] * 0.7, channels, axis=1)
        return written(self.folder, OutputFormat(container=container), wave, rate), wave, rate

    def test_every_format_says_it_to_others_and_its_sound_is_untouched(self):
        for container, channels in product(FORMAT_NAMES, (1, 2)):
            path, wave, _ = self.made(container, channels)
            before = decoded(path)
            tagging.write(path, container, TAGS, self.cover, name="out")
            with self.subTest(container=container, channels=channels):
                np.testing.assert_array_equal(decoded(path), before)
                samples, told, shown = decoded_by_another(path)
                self.assertEqual(samples.shape, wave.shape)
                expected = {"title": TAGS.title, "album": TAGS.album, "artist": TAGS.narrator, "track": "3", "date": "2026"}
                expected |= {"album_artist": TAGS.author, "language": "eng"}
                self.assertEqual({key: told.get(key) for key in expected}, expected)
                self.assertIn(TAGS.publisher, (told.get("publisher"), told.get("organization")))
                self.assertEqual(shown, self.cover.content)
                read = tags.read(path)
                self.assertEqual((read["title"], read["album"]), ((TAGS.title,), (TAGS.album,)))
                facts = inspect(path).inspection.facts
                self.assertEqual((facts.frames, facts.tag("title")), (len(wave), TAGS.title))

    def test_mp3_has_id3_of_version_2_4_and_stays_at_its_constant_rate(self):
        path, wave, _ = self.made("mp3")
        tagging.write(path, "mp3", TAGS, self.cover, name="out")
        self.assertEqual(path.read_bytes()[:4], b"ID3\x04")
        frames = ID3(path)
        self.assertEqual(str(frames["TEXT"]), TAGS.author)
        self.assertEqual((frames["APIC:"].type, frames["APIC:"].mime), (3, "image/jpeg"))
        facts = inspect(path).inspection.facts
        self.assertEqual((facts.bit_rate_kbps, facts.bit_rate_constant, facts.frames), (192, True, len(wave)))

    def test_pictures_in_flac_and_opus_tell_their_size(self):
        for container, kind in (("flac", FLAC), ("opus", OggOpus)):
            path, _, _ = self.made(container)
            tagging.write(path, container, TAGS, self.cover, name="out")
            found = kind(path)
            if container == "flac":
                self.assertEqual((found.pictures[0].width, found.pictures[0].type), (600, 3))
            else:
                self.assertIn("metadata_block_picture", found)

    def test_a_wav_file_says_it_three_ways_and_keeps_its_stated_loudness(self):
        path, _, _ = self.made("wav")
        tagging.write(path, "wav", TAGS, self.cover, name="out")
        self.assertEqual(info.read(path)["title"], TAGS.title)
        read = tags.read(path)
        self.assertEqual((read["originator"], read["stated loudness"]), ((TAGS.publisher,), ("−20.50 LUFS",)))
        self.assertTrue(read["description"][0].startswith("Almanac - Die Muhle"), read["description"])
        with soundfile.SoundFile(path) as file:
            self.assertEqual((file.title, file.album, file.artist, file.tracknumber), (TAGS.title, TAGS.album, TAGS.narrator, "3"))
        size = path.stat().st_size
        self.assertEqual(int.from_bytes(path.read_bytes()[4:8], "little"), size - 8)

    def test_the_same_tags_give_the_same_file(self):
        for container in ("mp3", "wav", "flac", "aiff"):  # an Ogg stream has a number of its own each time
            found = []
            for _ in range(2):
                path, _, _ = self.made(container)
                tagging.write(path, container, TAGS, self.cover, name="out")
                found.append(path.read_bytes())
            self.assertEqual(found[0], found[1], container)

    def test_nothing_to_say_adds_nothing_and_what_is_no_such_file_is_refused(self):
        path, _, _ = self.made("flac")
        tagging.write(path, "flac", Tags(), None, name="out")
        self.assertEqual(tags.read(path), {})
        broken = self.folder / "broken.flac"
        broken.write_bytes(b"fLaC, but no more")
        with self.assertRaises(NotTagged) as caught:
            tagging.write(broken, "flac", TAGS, None, name="03 March.flac")
        self.assertIn("“03 March.flac”", caught.exception.sentence)

    def test_an_info_list_of_any_recording_is_read(self):
        path = self.folder / "from-elsewhere.wav"
        with soundfile.SoundFile(path, "w", 44_100, 1, subtype="PCM_16") as file:
            file.title, file.comment = "Third take", "closer to the microphone"
            file.write(signals.noise(0.5, rms_dbfs=-30, rate=44_100))
        read = tags.read(path)
        self.assertEqual((read["title"], read["comment"]), (("Third take",), ("closer to the microphone",)))
        cut = self.folder / "cut.wav"
        cut.write_bytes(path.read_bytes()[:60])
        self.assertEqual(tags.read(cut), {})


class Covers(unittest.TestCase):
    def refused(self, content: bytes) -> str:
        with self.assertRaises(CoverRefused) as caught:
            cover.read(content, name="cover.jpg")
        return caught.exception.sentence

    def test_jpeg_and_png_are_taken_as_they_are(self):
        for kind, mode in product(("JPEG", "PNG"), ("RGB", "L")):
            content = picture(kind=kind, mode=mode)
            self.assertEqual(
                cover.read(content, name="c"), Cover(kind=f"image/{kind.lower()}", width=600, height=600, content=content)
            )
        self.assertEqual(cover.read(picture(), name="c").advice, "")
        self.assertIn("800 by 600 pixels; many outlets", cover.read(picture(800, 600), name="c").advice)

    def test_what_will_not_do_is_refused_with_the_reason(self):
        self.assertIn("“cover.jpg” can't be the cover: it is 300 by 300 pixels", self.refused(picture(300, 300)))
        self.assertIn("it is 6100 by 600 pixels", self.refused(picture(6_100, 600, "PNG", "L")))
        self.assertIn("neither a JPEG nor a PNG", self.refused(picture(kind="GIF", mode="L")))
        self.assertIn("neither a JPEG nor a PNG", self.refused(b"no picture at all"))
        self.assertIn("damaged or cut off", self.refused(picture()[:9_000]))
        self.assertIn("its colours are CMYK", self.refused(picture(mode="CMYK")))
        self.assertIn("more than 8 MB", self.refused(bytes(9 * 1024**2)))


class SecondDecoder(unittest.TestCase):
    """What is certified is what others decode."""

    def test_samples_and_readings_agree_within_the_stated_tolerances(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for container, channels in product(FORMAT_NAMES, (1, 2)):
            rate = 48_000 if container == "opus" else 44_100
            laid = speakers.laid("plover", rate=rate)
            voice = laid.wave[: 12 * rate] * 0.6 + speakers.room(len(laid.wave), rate=rate, dbfs=-66)[: 12 * rate]
            wave = np.stack([voice * gain for gain in (1.0, 0.8)[:channels]], axis=1)
            path = written(folder, OutputFormat(container=container), wave, rate)
            ours, (theirs, _, _) = decoded(path), decoded_by_another(path)
            again = folder / "theirs.wav"
            soundfile.write(again, theirs, rate, subtype="FLOAT")
            one, other = inspect(path).inspection, inspect(again).inspection
            with self.subTest(container=container, channels=channels):
                self.assertEqual(ours.shape, theirs.shape)
                self.assertLessEqual(float(np.abs(ours - theirs).max()), SAMPLE_APART)
                for name, reading in one.readings.items():
                    value, second = reading.value, other.value(name)
                    if value is None or second is None:
                        self.assertEqual(value, second, name)
                    else:
                        self.assertAlmostEqual(value, second, delta=READING_APART, msg=name)
