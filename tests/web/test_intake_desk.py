"""Handing packages to an intake desk that is busy and breaks off: tried again, answered for each file, beside our own readings."""

import os
import tempfile
from pathlib import Path
from unittest.mock import patch

import httpx

from ispettore.desk import checking
from ispettore.desk.faults import Faults
from ispettore.studio.delivering import desk
from ispettore.studio.settings import settings
from tests.desks import TOKEN, served
from tests.web.wire import WireCase


class HandingIn(WireCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        super().setUpClass()
        cls.production = cls.make()
        cls.recordings = [cls.send(f"0{number} Tide.wav", cls.voice(-20 - number / 10)) for number in (1, 2)]
        cls.path = f"/productions/{cls.production}"
        for recording in cls.recordings:
            conformed = cls.client.post(f"/api/recordings/{recording}/conform", json={}).json()["id"]
            cls.work(conformed)
        for deliverable in cls.client.post(f"/api{cls.path}/delivery/make", json={}).json()["asked"]:
            cls.work(deliverable)

    def setUp(self):
        waits = (
            patch.object(desk, "FIRST_WAIT_S", 0.01),
            patch.object(desk, "LONGEST_WAIT_S", 0.05),
            patch.object(desk, "ASK_EVERY_S", 0.02),
        )
        for one in waits:
            one.start()
            self.addCleanup(one.stop)

    def at(self, address: str) -> None:
        """Hand in to the desk at an address from now on."""
        chosen = patch.dict(os.environ, {"ISPETTORE_DESK": address, "ISPETTORE_DESK_TOKEN": TOKEN})
        chosen.start()
        self.addCleanup(settings.cache_clear)
        self.addCleanup(chosen.stop)
        settings.cache_clear()

    def desk(self, name: str, faults: Faults | None = None) -> str:
        address = served(self.folder / name, self.addCleanup, faults)
        self.at(address)
        return address

    def handed_in(self, requirements: str = "audiobook-chapters", recordings=None) -> dict:
        body = {"requirements": requirements, "recordings": recordings}
        delivery = self.ask("POST", f"{self.path}/hand-in", 202, json=body)["id"]
        self.work(delivery)
        return next(one for one in self.ask("GET", f"{self.path}/delivery")["deliveries"] if one["id"] == delivery)

    def history(self, address: str) -> list[dict]:
        return httpx.get(f"{address}/submissions", headers={"authorization": f"Bearer {TOKEN}"}, trust_env=False).json()

    def test_busy_and_broken_off_it_is_tried_again_and_arrives_once(self):
        for seed in range(4):
            address = self.desk(f"moody-{seed}", Faults(seed, busy=0.35, drop=0.35))
            found = self.handed_in()
            with self.subTest(seed=seed):
                self.assertIsNotNone(found["answer"], found["work"])
                self.assertTrue(found["answer"]["accepted"])
                self.assertEqual(len(self.history(address)), 1)
        self.assertEqual([row["state"] for row in self.ask("GET", f"{self.path}/delivery")["rows"]], ["made", "made"])
        statuses = {entry["status"] for entry in self.ask("GET", f"{self.path}/sheet")["entries"]}
        self.assertEqual(statuses, {"delivered"})

    def test_its_answers_stand_beside_our_readings(self):
        self.desk("answers")
        self.assertTrue(self.ask("GET", f"{self.path}/delivery")["desk"])
        self.assertIn("audiobook-chapters", [one["id"] for one in self.ask("GET", "/desk")])
        found = self.handed_in()["answer"]
        self.assertEqual(
            [(file["name"], file["accepted"]) for file in found["files"]], [("01 Tide.mp3", True), ("02 Tide.mp3", True)]
        )
        self.assertEqual(found["against"], [])
        read = {one["quantity"]: one for one in found["files"][0]["readings"]}
        for name in ("rms_dbfs", "sample_peak_dbfs", "true_peak_dbtp", "integrated_loudness_lufs", "noise_floor_quietest_dbfs"):
            with self.subTest(name=name):
                self.assertTrue(read[name]["agree"])
                self.assertAlmostEqual(read[name]["ours"], read[name]["theirs"], delta=0.5)

    def test_what_is_rejected_says_why_and_only_what_is_accepted_counts_as_delivered(self):
        self.desk("strict")
        strict = checking.asked()["audiobook-chapters"]
        bounds = [bound.model_copy(update={"high": -20.4}) if bound.reading == "rms_dbfs" else bound for bound in strict.bounds]
        with patch.dict(checking.asked(), {"audiobook-chapters": strict.model_copy(update={"bounds": bounds})}):
            found = self.handed_in()["answer"]
        self.assertFalse(found["accepted"])
        told = {file["name"]: " ".join(file["reasons"]) for file in found["files"] if not file["accepted"]}
        self.assertEqual(list(told), ["01 Tide.mp3"])
        self.assertRegex(told["01 Tide.mp3"], r"RMS level is −20\.\d+ dBFS, over −20\.4 dBFS\.")
        self.assertEqual(found["against"], [], "it asks for more, and reads the same")

    def test_a_meter_that_reads_otherwise_is_a_finding_against_ourselves(self):
        self.desk("otherwise")
        measure = checking.measure

        def louder(path):
            found = measure(path)
            found.readings["rms_dbfs"] += 0.4
            return found

        with patch.object(checking, "measure", louder):
            found = self.handed_in("any-recordings")["answer"]
        self.assertTrue(found["accepted"])
        self.assertEqual(len(found["against"]), 2)
        self.assertRegex(
            found["against"][0], r"^01 Tide\.mp3: RMS level is −20\.\d dBFS here and −\d\d\.\d dBFS there, further apart"
        )

    def test_a_desk_that_is_not_there_or_refuses_loses_nothing(self):
        self.at("")
        self.assertIn("No intake desk", self.ask("POST", f"{self.path}/hand-in", 422, json={"requirements": "x"})["error"])
        self.assertEqual(self.ask("GET", "/desk"), [])
        self.at("http://127.0.0.1:9")
        self.assertIn("nobody answers there", self.ask("GET", "/desk", 422)["error"])
        found = self.handed_in()
        self.assertEqual((found["answer"], found["done_at"]), (None, None))
        self.assertIn("nobody answers there (tried 8 times). Nothing was lost", found["work"]["error"])
        self.desk("refusing")
        self.assertIn("There are no such requirements", self.handed_in("of the moon")["work"]["error"])
        with patch.dict(os.environ, {"ISPETTORE_DESK_TOKEN": "other"}):
            settings.cache_clear()
            self.assertIn("token is missing or wrong", self.handed_in()["work"]["error"])

    def test_it_can_be_cancelled_while_the_desk_is_busy(self):
        self.desk("busy", Faults(1, busy=1.0, drop=0.0, patience=10**9))
        with patch.object(desk, "LONGEST_WAIT_S", 30.0), patch.object(desk, "FIRST_WAIT_S", 30.0):
            delivery = self.ask("POST", f"{self.path}/hand-in", 202, json={"requirements": "any-recordings"})["id"]
            [work] = [one["work"]["id"] for one in self.ask("GET", f"{self.path}/delivery")["deliveries"] if one["id"] == delivery]
            waited = desk._wait

            def cancelled(seconds, stage, told):
                self.ask("POST", f"/works/{work}/cancel", 202)
                waited(seconds, stage, told)

            with patch.object(desk, "_wait", cancelled):
                self.work(delivery)
        found = next(one for one in self.ask("GET", f"{self.path}/delivery")["deliveries"] if one["id"] == delivery)
        self.assertEqual(found["work"]["state"], "cancelled")
