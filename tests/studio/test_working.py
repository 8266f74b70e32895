"""Background work: done once and wholly, whatever dies; cancelled when asked; errors in words."""

import asyncio
import io
import json
import os
import signal
import sys
import threading
import unittest
import urllib.request
from datetime import UTC, datetime, timedelta
from unittest.mock import patch
from uuid import UUID

import numpy as np
import soundfile
import sqlalchemy
from PIL import Image
from procrastinate.jobs import Status
from sqlalchemy.exc import OperationalError

from ispettore.core import errors
from ispettore.core.audio.facts import sha256_of
from ispettore.core.errors import RoomToneLength, RoomToneOutside
from ispettore.core.measure import pyramid
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.methods_history import current
from ispettore.core.measure.reading import Span
from ispettore.core.spec.delivery import NotWritable
from ispettore.core.treat import trace
from ispettore.studio.catalogue import (
    conformings,
    pictures,
    productions,
    recordings,
    room_tones,
    sheets,
    specifications,
)
from ispettore.studio.certifying import verifyings
from ispettore.studio.database import transaction
from ispettore.studio.errors import NoSuchSpan, NotFound, NotReady
from ispettore.studio.jobs import attempts, isolation, retrying, works
from ispettore.studio.running.launching import Supervisor
from ispettore.studio.settings import settings
from ispettore.studio.store import blobs
from ispettore.studio.tables import CertificateRecord, Conforming, InspectionRecord, Work, WorkState
from ispettore.studio.worker import doing
from ispettore.studio.worker import process as worker
from ispettore.studio.worker.doing import do
from tests import signals
from tests.support import Application, ApplicationCase, answers, until, work_for

RATE = 44_100


class Working(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.store = cls.application.store

    def setUp(self):
        self.production = productions.create("Almanac", "audiobook-retail")

    def bring_in(self, name: str, wave: np.ndarray | None = None, content: bytes = b"", subtype: str = "PCM_16"):
        """A recording in the store and in the production; the work that inspects it waits."""
        if wave is not None:
            path = self.application.folder / "made.wav"
            soundfile.write(path, wave, RATE, subtype=subtype)
            content = path.read_bytes()
        blob = self.store.put([content], name=name)
        return recordings.add(self.production, name, blob)

    def done(self, subject) -> Work:
        do(work_for(subject).id, self.store)
        return work_for(subject)

    def row(self, recording):
        return next(row for row in sheets.sheet(self.production).recordings if row.id == recording)

    def test_a_recording_from_before_there_were_tiles_gets_them_when_measured_again(self):
        recording = self.bring_in("old.wav", signals.voice_like(8, rms_dbfs=-24, rate=RATE, room_dbfs=-70, seed=71))
        self.done(recording)
        key = (recordings.detail(recording).sha256, current(), "")
        with transaction() as session:
            record = session.get_one(InspectionRecord, key)
            kept, readings = record.pyramid_sha256, record.data["readings"]
            record.pyramid_sha256 = record.levels_sha256 = None
            session.add(record)
        with self.assertRaises(NotFound):
            pictures.pyramid_of_recording(recording)
        recordings.inspect_again(recording)
        self.assertEqual(self.done(recording).state, WorkState.DONE)
        with transaction() as session:
            record = session.get_one(InspectionRecord, key)
        self.assertEqual((record.pyramid_sha256, record.data["readings"]), (kept, readings))
        self.assertEqual(pictures.shape(pictures.pyramid_of_recording(recording), self.store), [1_600, 400])

    def test_a_file_is_hashed_once_more_for_its_certificate_and_never_measured_again_on_its_way_through(self):
        recording = self.bring_in("a.wav", signals.voice_like(12, rms_dbfs=-27, rate=RATE, room_dbfs=-76, seed=91))
        asked = []

        def watched(compute, request, **how):
            asked.append(request)
            return run(compute, request, **how)

        run = isolation.run
        with patch.object(isolation, "run", watched), patch.object(blobs, "sha256_of", wraps=sha256_of) as hashing:
            self.done(recording)
            attempt = conformings.ask(recording)
            self.assertEqual(self.done(attempt).state, WorkState.DONE)
        inspection, conforming = asked
        self.assertEqual([call.args[0].name for call in hashing.call_args_list], [inspection.source.sha256])
        self.assertEqual(inspection.source.sha256, conforming.source.sha256)
        self.assertEqual(conforming.known.inspection, recordings.detail(recording).inspection)
        with transaction() as session:
            made = session.get_one(Conforming, attempt)
            paper = session.get_one(CertificateRecord, made.certificate_id).sealed["certificate"]
        self.assertEqual(paper["file"]["sha256"], made.sha256)
        self.assertEqual(sha256_of(self.store.local(made.sha256)), made.sha256)
        self.assertEqual(paper["origin"]["sha256"], inspection.source.sha256)

    def test_what_was_measured_by_older_methods_is_measured_again_at_the_next_start(self):
        recording = self.bring_in("older.wav", signals.voice_like(6, rms_dbfs=-24, rate=RATE))
        self.done(recording)
        recordings.catch_up()
        self.assertEqual(work_for(recording).state, WorkState.DONE)
        with transaction() as session:
            record = session.get_one(InspectionRecord, (recordings.detail(recording).sha256, current(), ""))
            record.methods_version = current() - 1
            record.data = {**record.data, "methods_version": current() - 1}
            session.add(record)
        # Until then it is judged by what it read then, and says so.
        row, detail = self.row(recording), recordings.detail(recording)
        self.assertTrue(row.verdict is not None and row.older_methods and detail.older_methods)
        self.assertIsNotNone(detail.inspection)
        recordings.catch_up()
        recordings.catch_up()
        self.assertEqual(self.done(recording).state, WorkState.DONE)
        self.assertFalse(self.row(recording).older_methods)

    def test_any_span_reads_as_the_core_reads_it_and_spectrograms_are_drawn(self):
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE)
        recording = self.bring_in("span.wav", wave)
        self.done(recording)
        found = pictures.span_readings(recording, self.store, start_s=2, end_s=9)
        expected = measure_array(wave[2 * RATE : 9 * RATE], sample_rate_hz=RATE).inspection
        for quantity in ("rms_dbfs", "integrated_loudness_lufs", "active_speech_level_dbfs", "true_peak_dbtp"):
            self.assertAlmostEqual(found[quantity].value, expected.value(quantity), delta=0.05)
        for start, end in ((5, 30), (-1, 2)):
            with self.assertRaises(NoSuchSpan):
                pictures.span_readings(recording, self.store, start_s=start, end_s=end)
            with self.assertRaises(NoSuchSpan):
                pictures.spectrogram_of(recording, self.store, start_s=start, end_s=end, columns=50, rows=40)
        png, where = pictures.spectrogram_of(recording, self.store, start_s=1, end_s=4, columns=50, rows=40)
        picture = Image.open(io.BytesIO(png))
        self.assertEqual((picture.size, picture.mode, where.start_s, where.end_s), ((50, 40), "LA", 1, 4))
        self.assertGreater(np.asarray(picture)[..., 1].max(), 100)

    def test_room_tone_is_looked_at_chosen_and_left_to_the_meters_again(self):
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE, room_dbfs=-70, head=1.5)
        wave[: RATE // 2] += signals.noise(0.5, rms_dbfs=-50, rate=RATE, seed=9)
        recording = self.bring_in("tone.wav", wave)
        self.done(recording)
        found = recordings.detail(recording).inspection
        look = room_tones.look(recording, Span(start_s=0.05, end_s=0.45), self.store)
        self.assertAlmostEqual(look.level_dbfs, -50, delta=0.5)
        self.assertEqual(look.was["noise_floor_dbfs"], found.readings["noise_floor_dbfs"])
        [noise] = [each for each in look.limits if each.before.quantity == "noise_floor_dbfs"]
        self.assertEqual((noise.before.passes, noise.after.passes), (True, False))

        room_tones.choose(recording, Span(start_s=0.05, end_s=0.45))
        self.assertEqual(recordings.detail(recording).inspection, found, "until it is measured, what was before is shown")
        self.assertEqual(self.done(recording).state, WorkState.DONE)
        detail = recordings.detail(recording)
        self.assertTrue(detail.room_tone_chosen)
        self.assertAlmostEqual(detail.inspection.value("noise_floor_dbfs"), look.level_dbfs, delta=0.02)
        self.assertIn("marked by hand", detail.inspection.readings["noise_floor_dbfs"].method)
        self.assertFalse(self.row(recording).verdict.passes)

        room_tones.choose(recording, None)
        self.assertEqual(recordings.detail(recording).inspection, found)
        # A long stretch is looked at whole: its louder end counts.
        steady = np.concatenate((signals.noise(24, rms_dbfs=-60, rate=RATE), signals.noise(26, rms_dbfs=-40, rate=RATE)))
        longer = self.bring_in("longer.wav", steady)
        self.done(longer)
        look = room_tones.look(longer, Span(start_s=0, end_s=50), self.store)
        self.assertAlmostEqual(look.level_dbfs, -42.8, delta=0.1)
        for span, error in ((Span(start_s=11, end_s=13), RoomToneOutside), (Span(start_s=1, end_s=1.01), RoomToneLength)):
            with self.assertRaises(error):
                room_tones.choose(recording, span)

    def test_a_treated_version_is_drawn_from_tiles_with_the_gain_that_moved(self):
        wave = signals.voice_like(12, rms_dbfs=-21, rate=RATE, room_dbfs=-78)
        wave[3 * RATE : 3 * RATE + 40] = 0.95
        recording = self.bring_in("dense.wav", wave)
        self.done(recording)
        conforming = conformings.ask(recording)
        self.assertEqual(self.done(conforming).state, WorkState.DONE)
        [attempt] = recordings.detail(recording).conformings
        self.assertTrue(attempt.passes)
        sha256 = pictures.pyramid_of_deliverable(conforming)
        self.assertAlmostEqual(pictures.shape(sha256, self.store)[0], attempt.result.frames / 220.5, delta=1)
        rms, _ = pyramid.unpacked(pictures.tile(sha256, self.store, level=1, index=0))
        self.assertGreater(rms.max(), -30)
        gain = trace.unpacked(pictures.reduction(conforming))
        self.assertAlmostEqual(-gain.min(), attempt.touch.depth_max_db, delta=0.02)
        self.assertAlmostEqual(float(np.argmin(gain)) * 0.05, 3.0, delta=0.06)

    def test_the_whole_way_in_the_application(self):
        recording = self.bring_in("02 February.wav", signals.voice_like(12, rms_dbfs=-30, rate=RATE, room_dbfs=-78))
        self.assertIsNone(self.row(recording).verdict)
        with self.assertRaises(NotReady):
            conformings.ask(recording)
        self.assertEqual(self.done(recording).state, WorkState.DONE)
        row = self.row(recording)
        self.assertFalse(row.verdict.passes)
        self.assertEqual(len(row.ribbon.peak_dbfs), 132, "as wide as a row draws it")
        self.assertEqual(len(recordings.detail(recording).ribbon.peak_dbfs), 480)

        conforming = conformings.ask(recording)
        self.assertEqual(self.done(conforming).state, WorkState.DONE)
        view = recordings.detail(recording).conformings[0]
        self.assertTrue(view.passes and view.certified)
        self.assertEqual(view.file_name, "02 February.mp3")
        self.assertEqual([step.kind for step in view.steps], ["gain"])
        self.assertTrue(view.after.passes)

        kept = conformings.get(conforming)
        self.assertTrue(self.store.has(kept.sha256))
        with transaction() as session:
            sealed = session.get_one(CertificateRecord, kept.certificate_id).sealed
        self.assertEqual(sealed["certificate"]["file"]["sha256"], kept.sha256)
        self.assertEqual(sealed["certificate"]["origin"]["name"], "02 February.wav")
        for text, genuine in ((json.dumps(sealed), True), (json.dumps(sealed).replace("-20.", "-19."), False)):
            check = verifyings.create("02 February.mp3", "c.json", text)
            verifyings.attach(check, self.store.put(self.store.read(kept.sha256, name="made"), name="again"))
            self.assertEqual(self.done(check).state, WorkState.DONE)
            report = verifyings.view(check).report
            self.assertEqual((report.genuine, report.key), (genuine, "known"))

    def test_what_cannot_be_conformed_says_why(self):
        recording = self.bring_in("noisy.wav", signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-34))
        self.done(recording)
        conforming = conformings.ask(recording)
        self.assertEqual(self.done(conforming).state, WorkState.DONE)
        view = recordings.detail(recording).conformings[0]
        self.assertEqual((view.refused, view.passes, view.certified, view.sha256), (True, None, False, None))
        self.assertIn("too loud relative to the voice", view.obstacles[0].advice)

    def test_a_kept_verdict_belongs_to_its_own_specification(self):
        recording = self.bring_in("b.wav", signals.voice_like(12, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=81))
        self.done(recording)
        retail = conformings.ask(recording)
        self.done(retail)
        row = self.row(recording)
        self.assertEqual((row.delivered.id, row.delivered.certified, row.delivered.current), (retail, True, True))

        productions.change(self.production, specification_id="broadcast-r128")
        row = self.row(recording)
        kept = row.delivered
        self.assertEqual((kept.id, kept.current, kept.certified), (retail, False, False))
        self.assertEqual((kept.made_for.id, kept.certificate_for.name), ("audiobook-retail", "Audiobook, retail"))
        self.assertEqual(kept.after.specification, "broadcast-r128")
        loudness = next(limit for limit in kept.after.limits if limit.quantity == "integrated_loudness_lufs")
        read = recordings.detail(recording).conformings[0].result.readings["integrated_loudness_lufs"].value
        self.assertAlmostEqual(loudness.reading, read + 3.0103, places=3, msg="nothing was measured again, mono is on two")
        self.assertIs(kept.passes, kept.after.passes)
        self.assertEqual(sheets.printed(sheets.sheet(self.production)).rows[0].delivered, kept.file_name if kept.passes else "")

        broadcast = conformings.ask(recording)
        self.done(broadcast)
        row = self.row(recording)
        self.assertEqual((row.delivered.id, row.delivered.certified), (broadcast, True))
        productions.change(self.production, specification_id="audiobook-retail")
        self.assertEqual((self.row(recording).delivered.id, self.row(recording).delivered.certified), (retail, True))

    def test_an_attempt_that_brings_nothing_takes_nothing_away(self):
        recording = self.bring_in("c.wav", signals.voice_like(12, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=82))
        self.done(recording)
        first = conformings.ask(recording)
        self.done(first)
        again = conformings.ask(recording, preference="even")
        with patch.object(isolation, "run", side_effect=errors.FileEmpty(file="c.wav")):
            self.assertEqual(self.done(again).state, WorkState.FAILED)
        row = self.row(recording)
        self.assertEqual((row.conforming.id, row.conforming.work.state), (again, "failed"))
        self.assertEqual((row.delivered.id, row.delivered.certified), (first, True))
        # Nor does a newer file without a certificate; and only certificates are counted as such.
        before = [one.certificates for one in specifications.view("audiobook-retail").versions]
        master = conformings.ask(recording, container="flac")
        self.assertEqual(self.done(master).state, WorkState.DONE)
        row = self.row(recording)
        self.assertEqual((row.conforming.id, row.conforming.certificate_for), (master, None))
        self.assertEqual((row.delivered.id, row.delivered.certified), (first, True))
        self.assertEqual([one.certificates for one in specifications.view("audiobook-retail").versions], before)

    def test_what_is_under_way_is_not_begun_twice(self):
        recording = self.bring_in("d.wav", signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=83))
        recordings.inspect_again(recording)
        with transaction() as session:
            self.assertEqual(session.query(Work).where(Work.subject_id == recording).count(), 1)
        self.done(recording)
        first = conformings.ask(recording)
        self.assertEqual(conformings.ask(recording), first)
        self.assertNotEqual(conformings.ask(recording, preference="light"), first)
        self.assertEqual(
            productions.create("Once", "audiobook-retail", production_id=first),
            productions.create("Once", "audiobook-retail", production_id=first),
        )
        self.assertEqual([one.name for one in productions.summaries() if one.id == first], ["Once"])

    def test_a_specification_that_asks_for_what_cannot_be_written_says_so(self):
        data = {"name": "Tape", "limits": [{"quantity": "container", "one_of": ["caf"], "applies_to": "deliverable"}]}
        specification = specifications.bring_in(json.dumps({"id": "tape", **data}).encode(), file_name="tape.json")
        productions.change(self.production, specification_id=specification.id)
        recording = self.bring_in("e.wav", signals.voice_like(6, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=84))
        self.done(recording)
        with self.assertRaises(NotWritable) as raised:
            conformings.ask(recording)
        self.assertIn("“Tape” asks for File format caf", raised.exception.sentence)
        self.assertEqual([one.name for one in recordings.detail(recording).formats], ["mp3", "opus", "ogg", "wav", "flac", "aiff"])

    def test_damaged_bytes_are_neither_conformed_nor_certified_and_healed_by_the_same_file(self):
        wave = signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=85)
        recording = self.bring_in("rot.wav", wave)
        self.done(recording)
        detail = recordings.detail(recording)
        path = self.store.local(detail.sha256)
        content = path.read_bytes()
        rotten = bytearray(content)
        rotten[30_000] ^= 1
        rotten[90_001] ^= 4
        path.write_bytes(rotten)
        conforming = conformings.ask(recording)
        work = self.done(conforming)
        self.assertEqual(work.state, WorkState.FAILED)
        self.assertIn("“rot.wav” is damaged", work.error)
        self.assertEqual(recordings.detail(recording).conformings[0].certificate_for, None)
        path.unlink()
        work = self.done(conformings.ask(recording))
        self.assertIn("“rot.wav” is missing", work.error)
        self.assertEqual(recordings.add(self.production, "rot.wav", self.store.put([content], name="rot.wav")), recording)
        self.assertEqual(self.done(conformings.ask(recording)).state, WorkState.DONE)
        self.assertTrue(self.row(recording).delivered.certified)

    def test_a_damaged_file_that_waits_to_be_measured_is_said(self):
        recording = self.bring_in("early.wav", signals.voice_like(6, rms_dbfs=-28, rate=RATE, seed=86))
        path = self.store.local(recordings.detail(recording).sha256)
        content = bytearray(path.read_bytes())
        content[50_000] ^= 1
        path.write_bytes(content)
        self.assertIn("“early.wav” is damaged", self.done(recording).error)

    def test_an_attempt_that_was_overtaken_writes_nothing_and_does_not_count(self):
        recording = self.bring_in("slow.wav", signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=87))
        work = work_for(recording)
        folders = []

        def asleep() -> bool:
            """What happens while this worker sleeps: another takes the work up and ends it."""
            if not folders:
                folders.extend(settings().work.iterdir())
                do(work.id, self.store)
                self.assertEqual(work_for(recording).state, WorkState.DONE)
            return False

        do(work.id, self.store, stopping=asleep)
        ended = work_for(recording)
        self.assertEqual((ended.state, ended.error, ended.attempts), (WorkState.DONE, None, 1))
        self.assertEqual(len(folders), 1)
        self.assertFalse(any(folder.exists() for folder in folders))
        self.assertIsNotNone(self.row(recording).verdict)

    def test_cancelled_and_killed_attempts_leave_no_working_files(self):
        recording = self.bring_in("gone.wav", signals.voice_like(60, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=88))
        self.done(recording)
        conforming = conformings.ask(recording)
        work, seen = work_for(conforming), []

        def stopping() -> bool:
            held = [path for path in settings().work.rglob("*") if path.is_file()]
            if held and not seen:
                seen.extend(held)
                works.cancel(work.id)
            return False

        do(work.id, self.store, stopping=stopping)
        self.assertEqual(work_for(conforming).state, WorkState.CANCELLED)
        self.assertTrue(seen, "working files lay in the attempt's own folder")
        self.assertEqual(list(settings().work.iterdir()), [])
        left = settings().work / "left-by-a-killed-worker"
        left.mkdir()
        (left / "pass-1.rf64").write_bytes(b"x")
        attempt = attempts.Attempt(work, UUID(int=7), settings().work)
        with attempt.in_folder():
            attempts.sweep(settings().work)
            self.assertEqual(list(settings().work.iterdir()), [attempt.folder])

    def test_a_worker_lets_go_of_what_killed_ones_left_in_the_store(self):
        left = self.store.shelf.coming / "left"
        left.write_bytes(b"half")
        os.utime(left, (0, 0))

        async def story() -> None:
            task = asyncio.create_task(worker.tidy_for_ever(self.store))
            while left.exists():
                await asyncio.sleep(0.01)
            with patch.object(self.store, "sweep", side_effect=[OSError("no"), OSError("no"), None, None, None]) as sweep:
                while sweep.call_count < 4:
                    await asyncio.sleep(0.01)
            task.cancel()

        with patch.object(worker, "TIDY_EVERY_S", 0.02), patch.object(worker, "log"):
            asyncio.run(asyncio.wait_for(story(), 60))

    def test_names_as_long_as_a_file_can_have_are_conformed(self):
        name = "é" * 125 + ".flac"
        self.assertEqual(conformings.deliverable_name(name, "opus"), "é" * 125 + ".opus")
        self.assertEqual(conformings.deliverable_name("n" * 251 + ".wav", "opus"), "n" * 250 + ".opus")
        recording = self.bring_in("n" * 228 + ".wav", signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-78, seed=89))
        self.done(recording)
        self.assertEqual(self.done(conformings.ask(recording)).state, WorkState.DONE)
        self.assertEqual(self.row(recording).delivered.file_name, "n" * 228 + ".mp3")

    def test_a_recording_of_a_day_is_refused_before_it_fills_the_disk(self):
        path = self.application.folder / "day.flac"
        with soundfile.SoundFile(path, "w", samplerate=8_000, channels=1, format="FLAC", subtype="PCM_16") as file:
            for _ in range(25):
                file.write(np.zeros(3600 * 8_000, dtype=np.int16))
        recording = self.bring_in("day.flac", content=path.read_bytes())
        self.assertIn("“day.flac” is 25.0 hours long; the limit here is 12 hours", self.done(recording).error)

    def test_broken_files_fail_in_their_row_and_can_be_tried_again_or_removed(self):
        for name, content, words in (("empty.wav", b"", "0 bytes"), ("letter.mp3", b"Dear listener" * 90, "not an audio file")):
            recording = self.bring_in(name, content=content)
            work = self.done(recording)
            with self.subTest(name=name):
                self.assertEqual(work.state, WorkState.FAILED)
                self.assertIn(name, work.error)
                self.assertIn(words, work.error)
                recordings.inspect_again(recording)
                self.assertEqual(self.row(recording).work.state, "waiting")
                recordings.remove([recording])
                with self.assertRaises(NotFound):
                    recordings.detail(recording)

    def test_the_same_bytes_are_measured_once(self):
        wave = signals.voice_like(8, rms_dbfs=-24, rate=RATE, seed=77)
        first, second = self.bring_in("a.wav", wave), self.bring_in("b.wav", wave)
        self.done(first)
        with patch.object(isolation, "run") as run:
            self.done(second)
        run.assert_not_called()
        self.assertEqual(self.row(first).verdict, self.row(second).verdict)

    def test_doing_finished_work_again_changes_nothing(self):
        recording = self.bring_in("a.wav", signals.voice_like(6, rms_dbfs=-24, rate=RATE, seed=5))
        first = self.done(recording)
        self.assertEqual(self.done(recording).finished_at, first.finished_at)

    def test_another_specification_judges_the_readings_that_are_there(self):
        recording = self.bring_in("a.wav", signals.voice_like(8, rms_dbfs=-20, rate=RATE, room_dbfs=-75, seed=9))
        self.done(recording)
        productions.change(self.production, specification_id="podcast-mono")
        self.assertEqual(self.row(recording).verdict.limits[0].quantity, "integrated_loudness_lufs")
        with self.assertRaises(errors.UnknownSpecification):
            productions.change(self.production, specification_id="nonsense")

    def test_waiting_work_is_cancelled_at_once_and_running_work_soon(self):
        recording = self.bring_in("a.wav", signals.noise(2, rms_dbfs=-30, rate=RATE, seed=21))
        works.cancel(work_for(recording).id)
        self.assertEqual(self.done(recording).state, WorkState.CANCELLED)

        long = self.bring_in("long.wav", signals.noise(600, rms_dbfs=-30, rate=RATE, seed=22))
        work = work_for(long)
        stop = {"asked": False}

        def stopping() -> bool:
            if not stop["asked"] and work_for(long).state == WorkState.RUNNING:
                works.cancel(work.id)
                stop["asked"] = True
            return False

        do(work.id, self.store, stopping=stopping)
        self.assertEqual(work_for(long).state, WorkState.CANCELLED)
        self.assertIsNone(self.row(long).verdict)

    def test_a_stopping_worker_leaves_its_work_to_another(self):
        recording = self.bring_in("a.wav", signals.voice_like(6, rms_dbfs=-24, rate=RATE, seed=31))
        do(work_for(recording).id, self.store, stopping=lambda: True)
        self.assertEqual(work_for(recording).state, WorkState.WAITING)
        self.assertEqual(self.done(recording).state, WorkState.DONE)

    def test_work_that_kills_its_worker_each_time_is_given_up(self):
        recording = self.bring_in("a.wav", signals.noise(1, rms_dbfs=-30, rate=RATE, seed=41))
        with transaction() as session:
            work = session.get_one(Work, work_for(recording).id)
            work.attempts = retrying.MOST_TRIES
            session.add(work)
        self.assertEqual(self.done(recording).state, WorkState.FAILED)
        self.assertIn("Stopped after several", work_for(recording).error)

    def test_work_noted_but_never_queued_is_found(self):
        recording = self.bring_in("a.wav", signals.noise(1, rms_dbfs=-30, rate=RATE, seed=51))
        work = work_for(recording)
        self.assertIn(work.id, retrying.unfinished())
        self.assertNotIn(work.id, retrying.unfinished(older_than_s=3_600))
        with transaction() as session:
            old = session.get_one(Work, work.id)
            old.created_at = datetime.now(UTC) - timedelta(hours=2)
            session.add(old)
        self.assertIn(work.id, retrying.unfinished(older_than_s=3_600))

    def test_a_database_that_goes_away_for_a_moment_stops_no_work_and_for_longer_fails_none(self):
        recording = self.bring_in("a.wav", signals.voice_like(6, rms_dbfs=-24, rate=RATE, seed=61))
        gone = OperationalError("select", {}, Exception("server closed the connection"))
        with patch.object(doing._Watch, "_note", side_effect=gone) as noted:
            self.assertEqual(self.done(recording).state, WorkState.DONE)
        self.assertGreater(noted.call_count, 0)
        other = self.bring_in("b.wav", signals.voice_like(6, rms_dbfs=-24, rate=RATE, seed=62))
        with patch.object(isolation, "run", side_effect=gone), self.assertRaises(OperationalError):
            self.done(other)
        work = work_for(other)
        self.assertEqual((work.state, work.error), (WorkState.RUNNING, None))
        self.assertIn(work.id, retrying.unfinished())
        self.assertEqual(self.done(other).state, WorkState.DONE)

    def test_work_whose_job_was_lost_or_forgotten_is_taken_up_again(self):
        recording = self.bring_in("lost.wav", signals.noise(1, rms_dbfs=-30, rate=RATE, seed=63))
        work, hands = work_for(recording), retrying.Hands()
        app = worker.build(hands)

        async def story() -> list[str]:
            seen = []

            async def jobs():
                return await app.job_manager.list_jobs_async(lock=str(work.id))

            async with app.open_async():
                # The worker takes the job, and its end is never written down.
                me = await app.job_manager.register_worker()
                [job] = await jobs()
                while (taken := await app.job_manager.fetch_job(queues=None, worker_id=me)).id != job.id:
                    await app.job_manager.finish_job(taken, status=Status.FAILED, delete_job=True)
                with hands.holding(taken):
                    for _ in range(3):
                        await retrying.rescue(app, hands, stalled_after_s=30)
                    seen.append((await jobs())[0].status)
                for _ in range(2):
                    await retrying.rescue(app, hands, stalled_after_s=30)
                    seen.append((await jobs())[0].status)
                # Its job is marked as failed although the work is not done.
                [job] = await jobs()
                while (taken := await app.job_manager.fetch_job(queues=None, worker_id=me)).id != job.id:
                    await app.job_manager.finish_job(taken, status=Status.FAILED, delete_job=True)
                await app.job_manager.finish_job(taken, status=Status.FAILED, delete_job=False)
                await retrying.rescue(app, hands, stalled_after_s=0)
                seen += sorted(job.status for job in await jobs())
            return seen

        self.assertEqual(asyncio.run(story()), ["doing", "doing", "todo", "failed", "todo"])


class Killing(unittest.TestCase):
    """Real worker processes, killed without warning."""

    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        self.production = productions.create("Almanac", "audiobook-retail")

    def test_kill_9_of_a_worker_in_mid_work_loses_nothing_and_another_finishes(self):
        path = self.application.folder / "long.wav"
        soundfile.write(path, signals.long_voice(900, rms_dbfs=-24, rate=16_000), 16_000, subtype="PCM_16")
        recording = recordings.add(self.production, "long.wav", self.application.store.put_file(path))
        first = self.application.worker()
        until(lambda: work_for(recording).stage == "Measuring", what="the work to be under way")
        os.kill(first.pid, signal.SIGKILL)
        first.wait()
        with transaction() as session:
            self.assertEqual(session.query(InspectionRecord).count(), 0)
        self.assertEqual(work_for(recording).state, WorkState.RUNNING)
        second = self.application.worker()
        work = until(lambda: (w := work_for(recording)).state == WorkState.DONE and w, what="another worker to finish")
        self.assertEqual(work.attempts, 2)
        self.assertIsNotNone(recordings.detail(recording).verdict)
        self.assertEqual(list((self.application.folder / "store" / "incoming").iterdir()), [])
        until(lambda: not list((self.application.folder / "work").iterdir()), what="what the killed attempt left to be gone")
        second.terminate()
        self.assertEqual(second.wait(30), 0)
        self.assertEqual([path.name for path in (self.application.folder / "tmp").glob("ispettore-*")], [])

    def test_workers_that_sleep_for_long_go_on_as_if_nothing_were_wrong(self):
        def silent_for(seconds: int) -> int:
            """How many workers are known to the queue that said nothing for so long."""
            told = "SELECT count(*) FROM queue.procrastinate_workers WHERE last_heartbeat <= now() - make_interval(secs => :s)"
            with transaction() as session:
                return session.execute(sqlalchemy.text(told), {"s": seconds}).scalar_one()

        paths = []
        for seed in (1, 2):
            path = self.application.folder / f"long-{seed}.wav"
            soundfile.write(path, signals.long_voice(600, rms_dbfs=-24, rate=16_000, seed=seed), 16_000, subtype="PCM_16")
            paths.append(path)
        workers = [self.application.worker(), self.application.worker()]
        until(lambda: silent_for(0) == 2, what="both workers to be known")
        found = [recordings.add(self.production, path.name, self.application.store.put_file(path)) for path in paths]
        until(lambda: all(work_for(one).state == WorkState.RUNNING for one in found), what="each to have one in hand")
        for process in workers:
            os.kill(process.pid, signal.SIGSTOP)
        until(lambda: silent_for(3) == 2, what="both to be silent for longer than a worker may be")
        os.kill(workers[0].pid, signal.SIGCONT)
        until(
            lambda: (
                work_for(found[0]).attempts + work_for(found[1]).attempts > 2
                or work_for(found[0]).state == "done"
                or work_for(found[1]).state == "done"
            ),
            what="the first to go on",
        )
        os.kill(workers[1].pid, signal.SIGCONT)
        for one in found:
            work = until(lambda one=one: (w := work_for(one)).state in ("done", "failed") and w, what="the work to be done")
            self.assertEqual((work.state, work.error), (WorkState.DONE, None))
        self.assertEqual([process.poll() for process in workers], [None, None], "and both workers live")
        until(lambda: not list((self.application.folder / "work").iterdir()), what="both folders to be gone")
        path = self.application.folder / "after.wav"
        soundfile.write(path, signals.voice_like(6, rms_dbfs=-24, rate=16_000), 16_000, subtype="PCM_16")
        after = recordings.add(self.production, "after.wav", self.application.store.put_file(path))
        until(lambda: work_for(after).state == WorkState.DONE, what="new work to be done")

    def test_worker_web_and_database_killed_in_turn_during_a_run(self):
        supervisor = Supervisor()
        self.addCleanup(supervisor.stop)
        supervisor.keep("web", [sys.executable, "-m", "ispettore.web.serving"])
        supervisor.keep("worker", [sys.executable, "-m", "ispettore.cli", "worker"])
        watching = threading.Thread(target=supervisor.watch, daemon=True)
        watching.start()
        address = f"{self.application.address}api/productions/{self.production}"
        until(lambda: answers(address), what="the page to be there")
        path = self.application.folder / "long.wav"
        soundfile.write(path, signals.long_voice(900, rms_dbfs=-24, rate=16_000), 16_000, subtype="PCM_16")
        recording = recordings.add(self.production, "long.wav", self.application.store.put_file(path))

        until(lambda: work_for(recording).stage == "Measuring", what="the work to be under way")
        os.kill(supervisor.process_id("worker"), signal.SIGKILL)
        os.kill(supervisor.process_id("web"), signal.SIGKILL)
        until(lambda: answers(address), what="the page to be there again")
        until(lambda: work_for(recording).attempts == 2, what="the work to be taken up again")
        os.kill(self.application.cluster.server_pid(), signal.SIGQUIT)
        until(lambda: not self.application.cluster.running(), what="the database to be gone")
        self.application.cluster.start()
        until(lambda: work_for(recording).state == WorkState.DONE, what="the work to be done after all", timeout_s=240)
        with urllib.request.urlopen(address) as answer:
            [row] = json.load(answer)["recordings"]
        self.assertEqual((row["work"]["state"], row["verdict"]["role"]), ("done", "recording"))
        supervisor.ask_to_stop()
        watching.join(10)


if __name__ == "__main__":
    unittest.main()
