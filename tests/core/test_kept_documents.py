"""What was kept or sealed once is readable for good, whatever has changed since: a golden file of every form."""

import json
import shutil
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import ClassVar
from unittest.mock import patch

import mutagen
from pydantic import Field, ValidationError

from ispettore.core import errors
from ispettore.core.certify import forms, notices, report, seal, wording
from ispettore.core.certify.certificate import Certificate, certify
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import Paper, read, verify
from ispettore.core.measure import kept as kept_inspections
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.spec import kept as kept_specifications
from ispettore.core.spec import quantities
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import judge
from ispettore.core.treat import keeping, treatment
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.treatment import Treatment

GOLDEN = Path(__file__).parent / "golden"
AUDIO = GOLDEN / "certified.flac"


def golden(name: str) -> dict:
    return json.loads((GOLDEN / f"{name}.json").read_text(encoding="utf-8"))


class Narrowed(Compressor):
    """A compressor as a later version might have it: milder at the most."""

    title: ClassVar[str] = "Compressor"
    ratio: float = Field(2.0, ge=1, le=1.5)


class Renamed:
    """RMS level under another name, as a later version might have it."""

    def __init__(self) -> None:
        known = dict(quantities.QUANTITIES)
        known["level_rms_dbfs"] = known.pop("rms_dbfs")
        self.patches = (
            patch.dict(quantities.QUANTITIES, known, clear=True),
            patch.dict(kept_inspections.RENAMED, {"rms_dbfs": "level_rms_dbfs"}),
        )

    def __enter__(self) -> None:
        for one in self.patches:
            one.start()

    def __exit__(self, *_: object) -> None:
        for one in self.patches:
            one.stop()


class Kept(unittest.TestCase):
    def test_specifications(self):
        data = golden("specification-1")
        self.assertEqual(kept_specifications.specification(data), Specification.model_validate(data))
        with Renamed():
            with self.assertRaises(ValidationError):
                Specification.model_validate(data)
            found = kept_specifications.specification(data)
            self.assertEqual([limit.quantity for limit in found.limits][1], "level_rms_dbfs")
            self.assertEqual(found.limits[1].about.title, "RMS level")
            verdict = judge(kept_inspections.inspection(golden("inspection-1")), found, role="deliverable")
            self.assertAlmostEqual(verdict.limits[1].reading, -29.97, delta=0.1)

    def test_a_specification_asking_for_what_no_meter_reads_any_more_is_judged_as_not_measured(self):
        data = golden("specification-1")
        data["limits"][0]["quantity"] = "warmth_db"
        verdict = judge(
            kept_inspections.inspection(golden("inspection-1")), kept_specifications.specification(data), role="deliverable"
        )
        first = verdict.limits[0]
        self.assertEqual((first.title, first.position, verdict.passes), ("Warmth db", "unmeasured", False))

    def test_treatments_of_every_version(self):
        for name, kinds in (
            ("treatment-1", ["rumble-filter", "compressor", "gain"]),
            ("treatment-2", ["rumble-filter", "compressor", "gain", "spot-gain"]),
        ):
            data = golden(name)
            with self.subTest(name=name):
                self.assertEqual([step.kind for step in kept_treatments.treatment(data).steps], kinds)
                self.assertEqual(kept_treatments.treatment(data), Treatment.model_validate(data))
                self.assertEqual(kept_treatments.kept_treatment(data), keeping.KeptTreatment.model_validate(data))
        data = golden("treatment-3")
        self.assertEqual(kept_treatments.kept_treatment(data), keeping.KeptTreatment.model_validate(data))
        self.assertEqual(keeping.load(GOLDEN / "treatment-3.json"), keeping.KeptTreatment.model_validate(data))
        self.assertEqual([step.kind for step in kept_treatments.treatment(data).steps], ["rumble-filter", "compressor"])

    def test_a_treatment_outside_todays_ranges_is_read_and_refuses_to_run(self):
        with patch.dict(treatment.STEPS, {"compressor": Narrowed}):
            with self.assertRaises(ValidationError):
                Treatment.model_validate(golden("treatment-1"))
            found = kept_treatments.treatment(golden("treatment-1"))
            self.assertEqual(found.steps[1].settings["ratio"], 20)
            with self.assertRaises(ValidationError):
                _ = found.steps[1].typed
            outcome = kept_outcomes.conformed(golden("conformed-1"))
            self.assertEqual(outcome.treatment.steps[1].settings["ratio"], 2)
        steps = {kind: step for kind, step in treatment.STEPS.items() if kind != "compressor"}
        with patch.dict(treatment.STEPS, steps, clear=True):
            self.assertEqual(kept_outcomes.conformed(golden("conformed-1")).treatment.steps[1].kind, "compressor")

    def test_inspections_and_outcomes(self):
        found = kept_inspections.inspection(golden("inspection-1"))
        self.assertEqual((found.facts.duration_s, found.methods_version), (8.0, 3))
        self.assertEqual(kept_inspections.inspection(golden("inspection-2")).facts.tag("artist"), "Ada Quill; Tom Weir")
        outcome = kept_outcomes.conformed(golden("conformed-1"))
        self.assertTrue(outcome.passes)
        self.assertEqual(outcome.before, found)
        with Renamed():
            again = kept_outcomes.conformed(golden("conformed-1"))
            self.assertEqual(again.after.value("level_rms_dbfs"), outcome.after.value("rms_dbfs"))
            self.assertIn("level_rms_dbfs", [limit.quantity for limit in again.verdict.limits])

    def test_a_finding_of_a_kind_that_is_no_more_and_an_inspection_without_a_version(self):
        data = golden("inspection-1")
        data["findings"] = [{"kind": "wow-and-flutter", "start_s": 1.0, "end_s": 2.0}]
        del data["methods_version"]
        found = kept_inspections.inspection(data)
        self.assertEqual(([one.kind for one in found.findings], found.methods_version), (["wow-and-flutter"], 1))

    def test_tags_from_before_they_were_lists(self):
        data = golden("inspection-1")
        data["facts"]["tags"] = {"artist": "Ada Quill"}
        self.assertEqual(kept_inspections.inspection(data).facts.tags, {"artist": ("Ada Quill",)})
        data["facts"]["tags"] = {"artist": "Ada Quill\0Tom Weir"}
        self.assertEqual(kept_inspections.inspection(data).facts.tags, {"artist": ("Ada Quill", "Tom Weir")})


class Sealed(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.keys = KeyFolder(self.folder / "keys")
        self.keys.own()
        for name in ("golden-key", "golden-key-3", "golden-key-4"):
            shutil.copy(GOLDEN / f"{name}.pem", self.keys.path / "known")

    def check(self, name: str):
        sealed = seal.parse((GOLDEN / f"{name}.json").read_bytes(), name=name)
        return verify(Paper(sealed), AUDIO, name="02 February.flac", keys=self.keys)

    def test_every_golden_certificate_is_genuine_for_good(self):
        for path in sorted(GOLDEN.glob("certificate-*.json")):
            found = self.check(path.stem)
            with self.subTest(path=path.name):
                self.assertEqual((found.problems, found.exit_code), ((), 0))
                self.assertEqual(len(found.limits), len(golden(path.stem)["certificate"]["verdict"]["limits"]))
                report.write(golden(path.stem), None, self.folder / "page.pdf")
                self.assertEqual(read((self.folder / "page.pdf").read_bytes(), name="page.pdf").sealed, golden(path.stem))

    def test_a_certificate_says_what_was_edited_before(self):
        lines = {
            line.name: line.text for line in wording.tell(golden("certificate-4"), self.check("certificate-4").certificate).lines
        }
        self.assertEqual(lines["Edited"], "3 edits, 1.5 s shorter")
        earlier = wording.tell(golden("certificate-3"), self.check("certificate-3").certificate)
        self.assertNotIn("Edited", [line.name for line in earlier.lines])

    def test_a_golden_production_and_the_notice_that_withdraws_its_file(self):
        package = self.folder / "package"
        (package / "certificates").mkdir(parents=True)
        shutil.copy(AUDIO, package / "02 February.flac")
        shutil.copy(GOLDEN / "certificate-3.json", package / "certificates" / "02 February.flac.certificate.json")
        found = verify_package(Paper(golden("production-3")), package, keys=self.keys)
        self.assertEqual((found.problems, found.exit_code, len(found.parts)), ((), 0, 1))
        report.write(golden("production-3"), None, self.folder / "page.pdf")
        notice = notices.parse((GOLDEN / "notice-1.json").read_bytes(), name="notice")
        found = verify(Paper(golden("certificate-3")), AUDIO, keys=self.keys, told=[notice])
        self.assertEqual((found.intact, found.genuine, found.exit_code), (True, False, 1))
        self.assertIn("withdrawn on 27 November 2026 by Ilse Weir: The take was the wrong one.", found.notice.told)
        self.assertEqual(verify(Paper(golden("certificate-2")), AUDIO, keys=self.keys, told=[notice]).exit_code, 0)

    def test_readings_by_older_methods_are_told_with_both_values(self):
        for version, head in ((1, "0.00 s"), (2, "0.34 s")):
            found = self.check(f"certificate-1-methods-{version}")
            older = {one.title: (one.certified, one.measured) for one in found.older}
            with self.subTest(version=version):
                self.assertIn(
                    f"older methods (version {version}; this program has version {methods_history.current()})", found.methods
                )
                self.assertEqual(older["Head"], (head, "0.69 s"))
                self.assertEqual(older["Codec"], ("pcm", "flac"))
                self.assertIn("that older methods measured differently", found.said)

    def test_a_certificate_survives_an_improved_meter_and_another_name(self):
        readings = inspect(AUDIO).inspection.readings
        improved = {**readings, "rms_dbfs": readings["rms_dbfs"].model_copy(update={"value": -20.0})}
        measured = inspect(AUDIO)
        better = measured.inspection.model_copy(update={"readings": improved})
        with patch("ispettore.core.certify.verification.inspect", return_value=type(measured)(better, None, None)):
            self.assertIn("RMS level is certified as", self.check("certificate-1").problems[0])
            with patch.dict(methods_history.CHANGED, {99: frozenset({"rms_dbfs"})}):
                found = self.check("certificate-1")
        self.assertTrue(found.genuine)
        self.assertEqual([one.title for one in found.older], ["RMS level"])
        with Renamed(), patch.dict(methods_history.CHANGED, {99: frozenset({"level_rms_dbfs", "rms_dbfs"})}):
            self.assertTrue(self.check("certificate-1").genuine)

    def test_a_certificate_from_before_tags_were_lists_stays_genuine(self):
        two = self.folder / "two artists.flac"
        shutil.copy(AUDIO, two)
        tagged = mutagen.File(two)
        tagged["artist"] = ["Ada Quill", "Tom Weir"]
        tagged.save()
        measured = inspect(two).inspection
        for then, told in (("Ada Quill", ["Tags"]), ("Ada Quill\0Tom Weir", [])):
            content = golden("certificate-1")["certificate"]
            content["file"].update(sha256=measured.sha256, size_bytes=measured.facts.size_bytes)
            content["facts"].update(size_bytes=measured.facts.size_bytes, bit_rate_kbps=measured.facts.bit_rate_kbps)
            content["facts"]["tags"] = {"artist": then}
            sealed = seal.parse(json.dumps(seal.seal(content, self.keys.own())).encode(), name="c.json")
            found = verify(Paper(sealed), two, keys=self.keys)
            with self.subTest(then=then):
                self.assertEqual((found.problems, [one.title for one in found.older]), ((), told))

    def test_what_was_rounded_off_makes_no_certificate_contradict_itself(self):
        value = inspect(AUDIO).inspection.value("rms_dbfs")
        rounded = round(value, 4)
        self.assertNotEqual(value, rounded)
        high = -18.0
        near_from = high - (value + rounded) / 2  # the reading is near or inside only by the decimals a certificate leaves out
        for limit in ({"high": high, "guard": near_from}, {"high": max(value, rounded)}, {"low": min(value, rounded)}):
            data = {"id": "edge", "name": "Edge", "limits": [{"quantity": "rms_dbfs", **limit}]}
            certificate, _, _ = certify(
                AUDIO, Specification.model_validate(data), issued=datetime(2026, 11, 26, tzinfo=UTC), issuer="t"
            )
            found = verify(Paper(seal.seal(certificate.plain(), self.keys.own())), AUDIO, keys=self.keys)
            with self.subTest(limit=limit):
                self.assertEqual(found.problems, ())

    def test_no_version_of_the_methods_excuses_a_level_that_is_not_there(self):
        mine = self.keys.own()
        for version in (0, 1, 2, 3, 99):
            content = golden("certificate-1")["certificate"]
            content["methods_version"] = version
            content["readings"]["rms_dbfs"]["value"] -= 3
            content["verdict"]["limits"][1]["reading"] -= 3
            content["verdict"]["limits"][1]["margin"] -= 3
            found = verify(Paper(seal.seal(content, mine)), AUDIO, keys=self.keys)
            with self.subTest(version=version):
                self.assertIn("RMS level is certified as −23.38 dBFS but measures −20.38 dBFS", " ".join(found.problems))
        specification = kept_specifications.specification(golden("specification-1"))
        certificate, _, _ = certify(AUDIO, specification, issued=datetime(2026, 11, 26, tzinfo=UTC), issuer="test")
        found = verify(Paper(seal.seal(certificate.plain() | {"methods_version": 99}, mine)), AUDIO, keys=self.keys)
        self.assertTrue(found.genuine, "all that newer methods read agrees")
        self.assertIn("newer methods than this program has (version 99", found.methods)

    def test_what_is_written_today_is_what_the_newest_form_reads(self):
        specification = kept_specifications.specification(golden("specification-1"))
        certificate, _, _ = certify(AUDIO, specification, issued=datetime(2026, 11, 26, tzinfo=UTC), issuer="test")
        plain = certificate.plain()
        form = forms.read(plain)
        self.assertEqual(form.version, forms.NEWEST)
        self.assertEqual(form.model_dump(mode="json"), plain | {"facts": form.facts.model_dump(mode="json")})
        self.assertEqual(type(form).model_fields.keys(), Certificate.model_fields.keys())

    def test_a_certificate_of_a_newer_version_says_so(self):
        newer = golden("certificate-1")
        newer["certificate"]["version"] = forms.NEWEST + 1
        found = verify(Paper(newer), AUDIO, keys=self.keys)
        self.assertIn(f"is of version {forms.NEWEST + 1}; this program reads up to version {forms.NEWEST}", found.problems[-1])

    def test_a_treatment_of_a_newer_version_says_so(self):
        path = self.folder / "t.json"
        path.write_text(json.dumps({"version": 4, "steps": []}))
        with self.assertRaises(errors.BadTreatment):
            keeping.load(path)


if __name__ == "__main__":
    unittest.main()
