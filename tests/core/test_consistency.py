"""What stands apart in a production is named with its reason, and what does not is left alone; on paper and as a table."""

import csv
import io
import re
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from ispettore.core.certify import consistency_report
from ispettore.core.certify.consistency_report import ConsistencyReport
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.consistency import COMPARED, Consistency, compared
from tests import signals, speakers
from tests.treating import treated

RATE = 44_100


def chapter(
    folder: Path,
    voice: str = "wren",
    *,
    level: float = 0.0,
    room: float = -66.0,
    pause_s: float = 0.8,
    tone: dict | None = None,
    hum: bool = False,
    kind: str = "pink",
    at: int = 0,
) -> Inspection:
    """A voice over a room, a little different for every `at`."""
    laid = speakers.laid(voice, rate=RATE, pause_s=pause_s, seconds=16)
    wave = laid.wave
    if tone:
        wave, _ = treated(wave, ("tone", {"bands": [tone]}))
    wave = wave + speakers.room(wave.size, rate=RATE, dbfs=room + 0.2 * (at % 3), kind=kind, seed=at + 1)
    if hum:
        wave = wave + 0.06 * speakers.mains(wave.size, rate=RATE)
    return inspect(signals.write(folder / f"{at}.wav", wave * 10 ** ((level + 0.1 * (at % 4)) / 20), RATE)).inspection


class Apart(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.alike = [chapter(cls.folder, at=at) for at in range(6)]

    def reasons(self, **how) -> str:
        """Why one chapter that is made so stands apart from six that are alike; the six never do."""
        found = compared([*self.alike, chapter(self.folder, **how, at=6)])
        self.assertLessEqual({one.index for one in found.apart}, {6}, "only what was changed stands apart")
        return "; ".join(found.apart[0].reasons) if found.apart else ""

    def test_a_book_that_is_alike_has_none_that_stands_apart(self):
        self.assertEqual(compared(self.alike).apart, ())
        self.assertEqual(self.reasons(), "")

    def test_a_louder_room_is_named_with_how_much(self):
        self.assertRegex(self.reasons(room=-60), r"^room tone [56]\.\d dB louder$")

    def test_hum_is_named_by_its_line(self):
        said = self.reasons(hum=True)
        self.assertIn("hum at 50 Hz", said)
        self.assertNotIn("another room", said)

    def test_another_room_of_the_same_level_is_named_by_its_colour(self):
        self.assertRegex(self.reasons(kind="white"), r"room tone differs in colour by \d+\.\d dB, (more|less) .*: another room\?")

    def test_a_voice_of_another_level_and_not_its_loudness_as_well(self):
        self.assertRegex(self.reasons(level=-3, room=-63), r"^voice [23]\.\d dB softer$")

    def test_a_brighter_and_a_duller_voice_are_named_by_where(self):
        bright = self.reasons(tone={"kind": "high-shelf", "frequency_hz": 4_000, "gain_db": 6})
        self.assertRegex(bright, r"voice [3-6]\.\d dB brighter above 4 kHz: another microphone, or another distance\?")
        dull = self.reasons(tone={"kind": "high-shelf", "frequency_hz": 4_000, "gain_db": -6})
        self.assertRegex(dull, r"voice [3-6]\.\d dB duller above 4 kHz")

    def test_a_nearer_microphone_is_fuller(self):
        near = self.reasons(tone={"kind": "low-shelf", "frequency_hz": 250, "gain_db": 7})
        self.assertRegex(near, r"voice \d\.\d dB fuller below 250 Hz")

    def test_pace_is_named(self):
        said = self.reasons(pause_s=2.2)
        self.assertIn("a pause of 2.", said)
        self.assertRegex(said, r"speech \d+ % less of the time: longer or more pauses")

    def test_each_voice_is_compared_with_its_own(self):
        lower = [chapter(self.folder, "reed", at=at) for at in range(3)]
        found = compared([*self.alike, *lower])
        self.assertEqual(len(set(found.voices)), 2)
        self.assertFalse([one for one in found.apart if any("microphone" in said for said in one.reasons)])

    def test_of_three_none_can_be_said_to_stand_apart_but_figures_are_there(self):
        found = compared([*self.alike[:2], chapter(self.folder, level=-9, at=7)])
        self.assertEqual(found.apart, ())
        self.assertGreater(found.measures[0].spread, 8)
        self.assertEqual(compared([]).measures[0].middle, None)

    def test_silence_and_noise_have_no_voice_and_break_nothing(self):
        quiet = inspect(signals.write(self.folder / "quiet.wav", np.zeros(RATE * 4), RATE)).inspection
        found = compared([*self.alike, quiet])
        self.assertIsNone(found.tones[6])
        self.assertIsNone(found.rooms[6])


class Paper(unittest.TestCase):
    def report(self, count: int) -> ConsistencyReport:
        values = [-20.0 + (7 if place == 3 else 0.1 * (place % 3)) for place in range(count)]
        found: Consistency = compared([])
        measures = tuple(
            one.model_copy(update={"values": tuple(values), "middle": -20.0, "spread": 7.1, "apart": (3,)})
            for one in found.measures
        )
        nothing = tuple(None for _ in range(count))
        apart = [{"index": 3, "reasons": ("voice 7.0 dB louder", "hum at 50 Hz")}]
        whole = Consistency(measures=measures, voices=nothing, tones=nothing, rooms=nothing, apart=apart)
        names = [f"{place + 1:02} <Chapter>.wav" for place in range(count - 1)] + ["=1+1.wav"]
        when = datetime(2026, 11, 27, 12, tzinfo=UTC)
        return ConsistencyReport("Almanac & more", "the recordings", names, whole, when, "Ispettore")

    def test_the_table_has_a_row_a_recording_and_the_reasons(self):
        rows = list(csv.reader(io.StringIO(consistency_report.table(self.report(5)))))
        self.assertEqual((len(rows), rows[0][2]), (6, "Active speech level (dBFS)"))
        self.assertEqual(rows[4][-1], "voice 7.0 dB louder; hum at 50 Hz")
        self.assertEqual(rows[5][1], "'=1+1.wav", "no formula")
        self.assertEqual(len(rows[0]), 2 + len(COMPARED) + 4)

    def test_the_page_names_what_stands_apart_and_escapes_names(self):
        page = consistency_report.html(self.report(5))
        self.assertIn("Consistency: Almanac &amp; more", page)
        self.assertIn("04 &lt;Chapter&gt;.wav", page)
        self.assertIn("5 recordings. Compared: the recordings. 1 outlier.", page)
        self.assertEqual(page.count('<svg class="wide"'), len(COMPARED))
        self.assertNotRegex(re.sub(r"base64,[^)]+", "", page), "http|url\\([^d]")

    def test_the_same_report_prints_the_same_file_on_as_many_pages_as_it_takes(self):
        prints = []
        for count in (5, 5, 80):
            page = io.BytesIO()
            consistency_report.pdf(self.report(count), page)
            prints.append(page.getvalue())
        self.assertEqual(prints[0], prints[1])
        self.assertGreater(prints[2].count(b"/Type /Page\n"), prints[0].count(b"/Type /Page\n"))
