"""How alike the recordings of a production are, and the sheet on paper."""

import io
import unittest
from datetime import UTC, datetime

import numpy as np

from ispettore.core.audio.facts import FileFacts
from ispettore.core.certify.printed_sheet import PrintedRow, PrintedSheet, write
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.ribbon import Ribbon, coarser
from ispettore.core.spec.catalogue import shipped
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.spread import spreads
from ispettore.core.spec.verdict import judge, judge_production, values

RETAIL = shipped()["audiobook-retail"]


def recording(*, channels: int = 1, rate: int = 44_100, **readings: float | None) -> Inspection:
    facts = FileFacts(
        container="wav",
        codec="pcm",
        sample_rate_hz=rate,
        bit_depth=24,
        channels=channels,
        frames=rate * 60,
        duration_s=60,
        bit_rate_kbps=1058,
        bit_rate_constant=True,
        size_bytes=7_900_000,
    )
    given = {
        name: Reading(quantity=name, value=value, unit="", method="given", channel=None, start_s=0, end_s=60)
        for name, value in readings.items()
    }
    return Inspection(
        name="a.wav",
        sha256="0" * 64,
        facts=facts,
        readings=given,
        findings=[],
        speech=[],
        room_tone=[],
        methods_version=methods_history.current(),
    )


class Spreads(unittest.TestCase):
    def of(self, quantity: str, *read: float | None, **more):
        specification = Specification(id="x", name="X", limits=(Limit(quantity=quantity, high=0, **more),))
        return spreads([values(recording(**{quantity: value}), specification) for value in read], specification)

    def test_span_and_median(self):
        [found] = self.of("rms_dbfs", -20.0, -22.0, -21.0)
        self.assertEqual((found.spread, found.median, found.outliers), (2.0, -21.0, ()))
        self.assertEqual(self.of("rms_dbfs", -20.0, None), ())

    def test_one_far_from_an_even_book_stands_apart(self):
        [found] = self.of("rms_dbfs", -20.0, -20.1, -20.2, -19.9, -26.0, -20.0)
        self.assertEqual([(one.index, round(one.off, 2)) for one in found.outliers], [(4, -5.95)])

    def test_what_meters_or_ears_would_not_tell_apart_does_not(self):
        self.assertEqual(self.of("rms_dbfs", -20.0, -20.0, -20.0, -20.0, -20.9)[0].outliers, ())
        self.assertEqual(self.of("noise_floor_dbfs", -70.0, -70.0, -70.0, -70.0, -72.5)[0].outliers, ())
        self.assertEqual(self.of("head_s", 0.7, 0.7, 0.7, 0.7, 0.75)[0].outliers, ())

    def test_a_wide_book_has_none_and_neither_have_three(self):
        self.assertEqual(self.of("rms_dbfs", -20.0, -23.0, -26.0, -29.0, -32.0)[0].outliers, ())
        self.assertEqual(self.of("rms_dbfs", -20.0, -20.0, -40.0)[0].outliers, ())

    def test_what_is_asked_of_the_delivered_file_alone_is_not_told_of_recordings(self):
        self.assertEqual(self.of("bit_rate_kbps", 1.0, 2.0, applies_to="deliverable"), ())

    def test_the_same_rate_and_channels_throughout(self):
        limits = (
            Limit(quantity="channels", high=0, applies_to="production"),
            Limit(quantity="sample_rate_hz", high=0, applies_to="production"),
            Limit(quantity="noise_floor_dbfs", high=3, applies_to="production"),
        )
        book = Specification(id="x", name="X", limits=limits)

        def of(recordings):
            return [values(one, book) for one in recordings]

        alike = [recording(noise_floor_dbfs=-70.0), recording(noise_floor_dbfs=-68.0)]
        self.assertEqual([limit.passes for limit in judge_production(of(alike), book, {})], [True, True, True])
        mixed = [*alike, recording(channels=2, rate=48_000, noise_floor_dbfs=-60.0)]
        self.assertEqual(
            [(limit.passes, limit.reading) for limit in judge_production(of(mixed), book, {})],
            [(False, 1), (False, 3900), (False, 10)],
        )
        self.assertEqual(judge_production(of([*alike, recording()]), book, {})[2].position, "unmeasured")


class OnPaper(unittest.TestCase):
    def sheet(self, count: int) -> PrintedSheet:
        inspections = [
            recording(rms_dbfs=-20.0 - index % 7, sample_peak_dbfs=-4.0, noise_floor_dbfs=None, head_s=0.7, tail_s=2.0)
            for index in range(count)
        ]
        read = [values(one, RETAIL) for one in inspections]
        ribbon = Ribbon(np.full(40, -25.0), np.full(40, -8.0))
        rows = [
            PrintedRow(
                name=f"{index} Chapter with a name that is far too long for its column.wav",
                facts=one.facts,
                ribbon=ribbon,
                verdict=judge(one, RETAIL, role="recording"),
            )
            for index, one in enumerate(inspections, start=1)
        ]
        rows.append(
            PrintedRow(name="letter.mp3", facts=None, ribbon=None, verdict=None, problem="“letter.mp3” is not an audio file.")
        )
        return PrintedSheet(
            production="Almanac of a Tidal Mill",
            specification=RETAIL,
            issued=datetime(2026, 11, 25, 12, tzinfo=UTC),
            issuer="Ispettore",
            rows=rows,
            whole=judge_production(read, RETAIL, {}),
            spreads=spreads(read, RETAIL),
        )

    def printed(self, count: int) -> bytes:
        page = io.BytesIO()
        write(self.sheet(count), page)
        return page.getvalue()

    def test_it_takes_the_pages_it_needs_and_is_the_same_each_time(self):
        for count, pages in ((1, 1), (200, 13)):
            with self.subTest(count=count):
                content = self.printed(count)
                self.assertEqual(content[:5], b"%PDF-")
                self.assertEqual(content.count(b"/Type /Page\n"), pages)
                self.assertEqual(content, self.printed(count))

    def test_a_miniature_keeps_the_highest_of_what_it_stands_for(self):
        peaks = np.full(480, -30.0)
        peaks[271] = -1.0
        found = coarser(Ribbon(peaks - 10, peaks), 100)
        self.assertEqual((found.peak_dbfs.size, found.peak_dbfs.max(), int(found.peak_dbfs.argmax())), (100, -1.0, 56))
        self.assertIs(coarser(found, 100), found)
