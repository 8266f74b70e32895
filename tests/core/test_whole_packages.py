"""Limits on a production as a whole: what they read, how they are judged and told; and the sample that is cut for the shop."""

import io
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.audio import excerpt
from ispettore.core.audio.writing import open_spans
from ispettore.core.certify import printed_sheet
from ispettore.core.certify.printed_sheet import PrintedSheet
from ispettore.core.deliver import entries
from ispettore.core.deliver.entries import Entry
from ispettore.core.deliver.whole import File, whole
from ispettore.core.spec import catalogue
from ispettore.core.spec.objections import objections
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import columns, judge_production, values
from ispettore.core.spec.wording import sentence
from tests import signals

BOOK = catalogue.find("audiobook-package")
PACKAGE = [limit for limit in BOOK.limits if limit.about.of_package]


def files(
    *numbers: int | tuple[int, int], kinds: tuple[str, ...] = ("opening", "closing"), sample_s: float | None = 240
) -> list[File]:
    """Ten minutes of 5 MB for each chapter, by its number or number and part; a minute for each of the credits."""
    parted = [(each, None) if isinstance(each, int) else each for each in numbers]
    found = [File(Entry(number=number, part=part, title="x"), 600, 5_000_000) for number, part in parted]
    found += [File(Entry(kind=kind, title=kind), 60, 500_000) for kind in kinds]
    return found + ([File(Entry(kind="sample", title="Sample"), sample_s, 2_000_000)] if sample_s is not None else [])


class Packages(unittest.TestCase):
    def read(self, *numbers, **more) -> dict[str, tuple[float | None, str | None]]:
        return dict(whole(files(*numbers, **more)))

    def test_numbering(self):
        for numbers, missing, repeated in (
            ((1, 2, 3), None, None),
            ((0, 1, 2), None, None),
            ((1, 3, 6), "2, 4, 5 missing", None),
            ((2, 3), "1 missing", None),
            ((1, 2, 2), None, "2 there more than once"),
            (((1, 1), (1, 3), (2, 1)), "1, part 2 missing", None),
            ((1, (1, 2)), "1, part 1 missing", "1 there more than once"),
            (((1, 1), (1, 1)), None, "1, part 1 there more than once"),
            ((20,), "1, 2, 3, 4, 5, 6 and 13 more missing", None),
        ):
            read = self.read(*numbers)
            with self.subTest(numbers=numbers):
                self.assertEqual(read["numbers_missing"][1], missing)
                self.assertEqual(read["numbers_repeated"][1], repeated)
        self.assertEqual(self.read(20)["numbers_missing"][0], 19)

    def test_credits_sample_length_and_size(self):
        read = self.read(1, 2)
        self.assertEqual((read["opening_credits"], read["closing_credits"]), ((1, None), (1, None)))
        self.assertEqual(read["sample_length_s"], (240, None))
        self.assertEqual(read["total_duration_s"], (1_320, None), "the sample is no part of the book")
        self.assertEqual(read["package_size_mb"], (13.0, None))
        read = self.read(1, kinds=("closing", "closing"), sample_s=None)
        self.assertEqual(read["opening_credits"], (0, "no recording is the opening credits"))
        self.assertEqual(read["closing_credits"], (2, None))
        self.assertIn("select a stretch on a bench", read["sample_length_s"][1])
        unknown = whole([File(Entry(number=1), None, None)])
        self.assertEqual(unknown["total_duration_s"], (None, "not every recording is measured"))
        self.assertEqual(unknown["package_size_mb"], (None, "not every file is made"))
        self.assertEqual(set(unknown), {name for name, about in QUANTITIES.items() if about.of_package})

    def judged(self, *numbers, **more):
        alike = {limit.quantity: 44_100.0 for limit in BOOK.limits}
        found = judge_production([alike, alike], BOOK, whole(files(*numbers, **more)))
        return {limit.quantity: limit for limit in found if limit.about.of_package}

    def test_they_are_limits_like_any_other(self):
        self.assertTrue(all(limit.passes for limit in self.judged(1, 2, 3).values()))
        found = self.judged(1, 3, 3, kinds=("opening",), sample_s=400)
        outside = {name: (limit.position, limit.note) for name, limit in found.items() if not limit.passes}
        self.assertEqual(
            outside,
            {
                "closing_credits": ("under", "no recording is the closing credits"),
                "sample_length_s": ("over", None),
                "numbers_missing": ("over", "2 missing"),
                "numbers_repeated": ("over", "3 there more than once"),
            },
        )
        self.assertEqual(found["sample_length_s"].margin, -100)
        none = self.judged(1, sample_s=None)["sample_length_s"]
        self.assertEqual((none.position, none.passes), ("unmeasured", False))
        told = [sentence(limit) for limit in PACKAGE]
        self.assertIn("Shop sample between 0:30 and 5:00 in the package", told)
        self.assertIn("Opening credits exactly 1 in the package", told)
        self.assertIn("Missing numbers at most 0 in the package", told)

    def test_they_hold_for_the_production_alone(self):
        self.assertEqual([limit for limit in columns(BOOK, ()) if limit.about.of_package], [], "they have no column on a sheet")
        with self.assertRaisesRegex(ValueError, "Opening credits is of a production as a whole"):
            Limit(quantity="opening_credits", low=1)
        draft = {"id": "x", "name": "X", "limits": [{"quantity": "numbers_missing", "high": 0, "applies_to": "recording"}]}
        self.assertIn("of a production as a whole", objections(draft)[0].sentence)
        for limit in PACKAGE:
            one = {"id": "x", "name": "X", "limits": [limit.model_dump(mode="json")]}
            self.assertEqual(objections(one), [], limit.quantity)

    def test_a_sheet_on_paper_lists_them(self):
        judged = judge_production([], BOOK, whole(files(1, 3)))
        told = [printed_sheet._of_package(limit) for limit in judged if limit.about.of_package]
        self.assertIn("Missing numbers: not met, 1 (at most 0); 2 missing", told)
        self.assertIn("Shop sample: met, 4:00 (0:30 to 5:00)", told)
        page = io.BytesIO()
        sheet = PrintedSheet(
            production="Almanac", specification=BOOK, issued=datetime(2026, 11, 27, tzinfo=UTC), issuer="Ispettore", rows=[],
            whole=judged, spreads=[],
        )  # fmt: skip
        printed_sheet.write(sheet, page)
        self.assertEqual(page.getvalue()[:5], b"%PDF-")

    def test_what_a_recording_is_its_file_name_says(self):
        found = entries.read(
            ["00 Opening Credits.wav", "01 Frost.wav", "02 A sample of rain.wav", "98 closing credits.wav", "Retail sample.wav"]
        )
        self.assertEqual([entry.kind for entry in found], ["opening", "chapter", "chapter", "closing", "sample"])
        self.assertEqual([entry.number for entry in found], [None, 1, 2, None, None])

    def test_the_shipped_book_is_the_retail_specification_and_the_package(self):
        retail = catalogue.find("audiobook-retail")
        self.assertEqual(BOOK.limits[: len(retail.limits)], retail.limits)
        self.assertEqual(objections(Specification.model_validate(BOOK).model_dump(mode="json")), [])
        self.assertNotIn("opening_credits", values_of_nothing())


def values_of_nothing() -> dict:
    """What a recording gives to the judgement of the whole: nothing of the package."""
    from ispettore.core.measure.inspecting import inspect

    with tempfile.TemporaryDirectory() as folder:
        path = signals.write(Path(folder) / "one.wav", signals.noise(1, rms_dbfs=-30, rate=44_100), 44_100)
        return dict(values(inspect(path).inspection, BOOK))


class Excerpts(unittest.TestCase):
    def test_a_stretch_is_faded_at_its_ends_and_untouched_between(self):
        folder, rate = Path(self.enterContext(tempfile.TemporaryDirectory())), 44_100
        wave = np.stack([signals.noise(40, rms_dbfs=-20, rate=rate, seed=seed) for seed in (1, 2)], axis=1)
        source = folder / "source.wav"
        soundfile.write(source, wave, rate, subtype="FLOAT")
        with open_spans(source) as samples:
            path = excerpt.write(samples, folder / "s.wav", sample_rate_hz=rate, start_s=3.5, end_s=36.25, fades_s=(0.5, 2))
        made, made_rate = soundfile.read(path, always_2d=True)
        first, frames = round(3.5 * rate), round(32.75 * rate)
        self.assertEqual((made.shape, made_rate), ((frames, 2), rate))
        cut = wave[first : first + frames]
        rising, falling = rate // 2, 2 * rate
        np.testing.assert_allclose(made[rising:-falling], cut[rising:-falling], atol=3 / 2**23)
        time = (np.arange(rising) + 0.5) / rising
        np.testing.assert_allclose(made[:rising], cut[:rising] * (0.5 - 0.5 * np.cos(np.pi * time))[:, None], atol=3 / 2**23)
        self.assertLess(np.abs(made[-4:]).max(), 1e-6)
        self.assertEqual(soundfile.info(path).subtype, "PCM_24")
