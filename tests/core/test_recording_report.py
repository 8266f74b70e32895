"""The report of one recording: the same figures on paper and in HTML as the core measured, and nothing fetched."""

import base64
import io
import re
import unittest
import xml.etree.ElementTree as ElementTree
from datetime import UTC, datetime

import numpy as np
from fontTools.ttLib import TTFont

from ispettore.core.certify import recording_report
from ispettore.core.certify.drawing import rule_span
from ispettore.core.certify.recording_report import RecordingReport, html, pdf
from ispettore.core.measure import ribbon, tracks
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.catalogue import shipped
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.verdict import judge
from tests import signals

RATE = 44_100
TYPE = re.compile(r"url\(data:font/woff;base64,([^)]+)\)")


def without_type(page: str) -> str:
    return TYPE.sub("", page)


class Report(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        wave = signals.voice_like(20, rate=RATE, rms_dbfs=-14, room_dbfs=-52)
        wave[5 * RATE : 5 * RATE + RATE // 2] = np.clip(wave[5 * RATE : 5 * RATE + RATE // 2] * 8, -0.99, 0.99)
        measured = measure_array(wave[:, None], sample_rate_hz=RATE)
        inspection = measured.inspection.model_copy(update={"name": "03 <March> & co.wav"})
        retail = shipped()["audiobook-retail"]
        verdict = judge(inspection, retail, role="recording")
        cls.report = RecordingReport(
            inspection=inspection,
            verdict=verdict,
            specification=retail,
            ribbon=ribbon.of(measured),
            breaches=breaches(verdict, inspection, tracks.of(measured)),
            accepted=["a shout, as written" if finding.kind == "clipping" else "" for finding in inspection.findings],
            production="Almanac of a Tidal Mill",
            issued=datetime(2026, 11, 25, 12, tzinfo=UTC),
            issuer="Ispettore",
        )
        cls.page = html(cls.report)

    def test_every_reading_limit_and_finding_is_told(self):
        text = re.sub(r"<[^>]+>", " ", self.page)
        for name, found in self.report.inspection.readings.items():
            with self.subTest(name=name):
                self.assertIn(QUANTITIES[name].title, text)
                if found.value is not None:
                    self.assertIn(recording_report.number(found.value, QUANTITIES[name].decimals), text)
        for limit in self.report.verdict.limits:
            self.assertIn(limit.title, text)
        missed = len(self.report.verdict.missed)
        self.assertGreater(missed, 1)
        self.assertIn(f"Outside Audiobook, retail, version {self.report.verdict.version}: {missed} limits not met", text)
        told = {kind.title for kind in recording_report.told_of(self.report)}
        self.assertIn("Clipping", told)
        self.assertTrue(any(title.startswith("Peak above −3 dBFS") for title in told), told)
        for title in told:
            self.assertIn(title, text)

    def test_what_was_accepted_is_shown_with_its_reason(self):
        [clipping] = [kind for kind in recording_report.told_of(self.report) if kind.title == "Clipping"]
        self.assertTrue(all("(accepted: a shout, as written)" in place for place in clipping.places[:12]))
        self.assertIn("accepted: a shout, as written", self.page)
        others = [kind for kind in recording_report.told_of(self.report) if kind.title != "Clipping"]
        self.assertFalse(any("accepted" in place for kind in others for place in kind.places))

    def test_it_is_well_formed_names_are_escaped_and_nothing_is_fetched(self):
        body = self.page.removeprefix("<!doctype html>").replace('<meta charset="utf-8">', "")
        root = ElementTree.fromstring(body)
        self.assertEqual(root.find("body/h1").text, "Report: 03 <March> & co.wav")
        self.assertNotRegex(without_type(self.page), r"(src|href)=|url\(|https?:|<script")
        drawn = root.find("body/svg")
        self.assertEqual(drawn.get("role"), "img")
        self.assertEqual(len(drawn.find("polygon").get("points").split()), 2 * self.report.ribbon.peak_dbfs.size)

    def test_it_has_the_type_of_the_house_cut_to_its_letters(self):
        faces = [base64.b64decode(face) for face in TYPE.findall(self.page)]
        self.assertEqual([face[:4] for face in faces], [b"wOFF"] * 3)
        self.assertLess(sum(map(len, faces)), 40_000)
        held = set(TTFont(io.BytesIO(faces[0])).getBestCmap())
        self.assertTrue({ord(letter) for letter in "Report: 03 <March> & co.wav−"} <= held)
        self.assertNotIn(ord("Ž"), held)
        self.assertEqual(html(self.report), self.page, "the same report is the same page")

    def test_limits_have_their_marks_and_rules_and_the_ribbon_its_axes(self):
        root = ElementTree.fromstring(self.page.removeprefix("<!doctype html>").replace('<meta charset="utf-8">', ""))
        marks = [svg.get("aria-label") for svg in root.iter("svg") if svg.get("width") == "32" and svg.get("role") == "img"]
        self.assertEqual(marks, [limit.position for limit in self.report.verdict.limits])
        ruled = sum(rule_span(limit) is not None for limit in self.report.verdict.limits)
        self.assertGreater(ruled, 3)
        self.assertEqual(sum(svg.get("width") == "170" for svg in root.iter("svg")), ruled)
        written = [text.text for text in root.find("body/svg").iter("text")]
        for axis in ("0", "−60", "0:00", "0:20", "Peak −3", "Noise floor −60"):
            self.assertIn(axis, written)

    def test_on_paper_it_takes_as_many_pages_as_it_needs_and_is_the_same_each_time(self):
        printed = []
        for _ in range(2):
            page = io.BytesIO()
            pdf(self.report, page)
            printed.append(page.getvalue())
        self.assertEqual(printed[0], printed[1])
        self.assertEqual(printed[0][:5], b"%PDF-")
        self.assertGreaterEqual(printed[0].count(b"/Type /Page\n"), 2)

    def test_many_places_of_a_kind_are_counted_not_listed(self):
        self.assertEqual(recording_report._few([str(at) for at in range(15)])[-1], "and 3 more")
        self.assertEqual(len(recording_report._few(["a"] * 12)), 12)
