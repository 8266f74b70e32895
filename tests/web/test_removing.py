"""Over the wire: what is removed and restored, names that change, what is found by words, and the way back to a specification."""

import json

from ispettore.core.spec.builtin import shipped
from tests.web.wire import WireCase

OWN = {"id": "tides", "name": "Chapters of tides", "version": 1, "limits": [{"quantity": "rms_dbfs", "low": -23, "high": -18}]}


class Removing(WireCase):
    def setUp(self):
        self.application.empty()
        type(self).production = self.make()

    def names(self, path: str) -> list[str]:
        return [one["name"] for one in self.ask("GET", path)]

    def told(self) -> list[str]:
        """What the record says of decisions, the newest first."""
        deeds = self.ask("GET", f"/productions/{self.production}/record", params={"topic": "decision"})["deeds"]
        return [one["text"] for one in deeds]

    def found(self, words: str) -> list[str]:
        return [one["name"] for one in self.ask("GET", "/recordings", params={"words": words})]

    def own(self, **other) -> dict:
        content = json.dumps({**OWN, **other})
        return self.ask("PUT", "/specifications/file", 201, params={"name": "tides.json"}, content=content)

    def test_a_removed_production_is_out_of_every_list_and_comes_back_whole(self):
        self.send("01 Tide.wav", self.voice(-20))
        self.make(name="Harbour bulletin")
        self.ask("POST", f"/productions/{self.production}/remove", 204)
        self.assertEqual(self.names("/productions"), ["Harbour bulletin"])
        self.assertEqual(self.found("tide"), [])
        self.assertEqual([(one["kind"], one["name"]) for one in self.ask("GET", "/removed")], [("production", "Almanac")])
        self.assertTrue(self.ask("GET", f"/productions/{self.production}/sheet")["removed"])
        self.ask("POST", f"/productions/{self.production}/restore", 204)
        self.assertEqual(self.names("/productions"), ["Almanac", "Harbour bulletin"])
        self.assertEqual((self.found("tide"), self.ask("GET", "/removed")), (["01 Tide.wav"], []))
        self.assertEqual(self.told()[:2], ["Removed production restored.", "Production removed."])
        missing = "/productions/00000000-0000-0000-0000-000000000000/remove"
        self.assertIn("production was not found", self.ask("POST", missing, 404)["error"])

    def test_removed_recordings_are_listed_with_their_production_until_that_is_removed_as_well(self):
        recording = self.send("01 Tide.wav", self.voice(-20), measured=False)
        self.ask("POST", "/recordings/remove", 204, json={"recordings": [recording]})
        [one] = self.ask("GET", "/removed")
        self.assertEqual(
            (one["kind"], one["name"], one["production"], one["id"]), ("recording", "01 Tide.wav", "Almanac", recording)
        )
        self.ask("POST", f"/productions/{self.production}/remove", 204)
        self.assertEqual(self.names("/removed"), ["Almanac"])
        self.ask("POST", f"/productions/{self.production}/restore", 204)
        self.ask("POST", "/recordings/restore", 204, json={"recordings": [recording]})
        self.assertEqual(self.ask("GET", "/removed"), [])

    def test_a_removed_specification_goes_on_where_it_is_used_and_comes_back_by_hand_or_with_its_file(self):
        self.own()
        self.ask("PATCH", f"/productions/{self.production}", 204, json={"specification_id": "tides"})
        self.send("01 Tide.wav", self.voice(-20))
        self.assertEqual(self.ask("GET", "/specifications/tides")["productions"], ["Almanac"])
        self.ask("POST", "/specifications/tides/remove", 204)
        self.assertEqual(len(self.names("/specifications")), len(shipped()))
        self.assertTrue(self.ask("GET", "/specifications/tides")["removed"])
        sheet = self.ask("GET", f"/productions/{self.production}/sheet")
        self.assertEqual((sheet["specification"]["name"], sheet["entries"][0]["status"]), ("Chapters of tides", "inside"))
        self.assertEqual([(one["kind"], one["id"]) for one in self.ask("GET", "/removed")], [("specification", "tides")])
        self.ask("POST", "/specifications/tides/restore", 204)
        self.assertIn("Chapters of tides", self.names("/specifications"))
        self.ask("POST", "/specifications/tides/remove", 204)
        self.assertEqual(self.own()["version"], 1)
        self.assertIn("Chapters of tides", self.names("/specifications"))
        self.assertIn("is built in", self.ask("POST", "/specifications/audiobook-retail/remove", 409)["error"])
        self.assertIn("not found", self.ask("POST", "/specifications/none/remove", 404)["error"])

    def test_a_removed_treatment_is_listed_and_comes_back_with_its_file(self):
        copy = self.ask("POST", "/treatments/quiet-room/copy", 201, json={"name": "The mill"})["id"]
        file = self.ask("GET", f"/treatments/{copy}/1/file")
        self.ask("POST", f"/treatments/{copy}/remove", 204)
        self.assertEqual([(one["kind"], one["name"]) for one in self.ask("GET", "/removed")], [("treatment", "The mill")])
        content = file if isinstance(file, bytes) else json.dumps(file).encode()
        self.ask("PUT", "/treatments/file", 201, params={"name": "mill.json"}, content=content)
        self.assertEqual(self.ask("GET", "/removed"), [])

    def test_a_recording_is_renamed_and_keeps_its_ending(self):
        recording = self.send("01 Tide.wav", self.voice(-20), measured=False)
        where = f"/recordings/{recording}"
        self.ask("PATCH", where, 204, json={"name": " 02 Ebb "})
        self.ask("PATCH", where, 204, json={"name": "02 Ebb.WAV"})
        self.assertEqual(
            [one["name"] for one in self.ask("GET", f"/productions/{self.production}/sheet")["entries"]], ["02 Ebb.WAV"]
        )
        self.assertEqual(
            self.told()[:2], ["Renamed from “02 Ebb.wav” to “02 Ebb.WAV”.", "Renamed from “01 Tide.wav” to “02 Ebb.wav”."]
        )
        self.ask("PATCH", where, 204, json={"name": "02 Ebb.WAV"})
        self.assertEqual(len(self.told()), 3, "nothing was changed the third time")
        for name, said in (("  ", "Enter a name for the recording"), ("a\nb", "line break"), ("x" * 300, "name")):
            with self.subTest(name=name):
                self.assertIn(said, self.ask("PATCH", where, 422, json={"name": name})["error"])
        [row] = self.ask("GET", f"/productions/{self.production}/delivery")["rows"]
        self.assertEqual((row["entry"]["number"], row["entry"]["title"]), (2, "Ebb"))

    def test_recordings_are_found_by_words_of_their_names_and_their_productions(self):
        for name in ("01 Tide.wav", "02 100% Ebb.wav", "03 Tide_mill.wav"):
            self.send(name, name.encode(), measured=False)
        looked_for = {
            "tide": ["01 Tide.wav", "03 Tide_mill.wav"],
            "almanac TIDE 01": ["01 Tide.wav"],
            "%": ["02 100% Ebb.wav"],
            "_": ["03 Tide_mill.wav"],
            "almanac": [],
            "harbour": [],
            "  ": [],
        }
        for words, names in looked_for.items():
            with self.subTest(words=words):
                self.assertEqual(self.found(words), names)

    def test_the_way_back_leads_to_the_version_that_was_held(self):
        self.own()
        self.ask("PATCH", f"/productions/{self.production}", 204, json={"specification_id": "tides"})
        self.own(limits=[{"quantity": "rms_dbfs", "low": -22, "high": -18}])
        back = {"specification_id": "tides", "specification_version": 1}
        self.ask("PATCH", f"/productions/{self.production}", 204, json={"specification_id": "podcast-mono"})
        self.ask("PATCH", f"/productions/{self.production}", 204, json=back)
        held = self.ask("GET", f"/productions/{self.production}/sheet")["specification"]
        self.assertEqual((held["id"], held["version"], held["limits"][0]["low"]), ("tides", 1, -23))
        self.ask("PATCH", f"/productions/{self.production}", 404, json={**back, "specification_version": 9})

    def test_the_last_activity_is_that_of_whatever_happened_last(self):
        def last() -> str:
            return self.ask("GET", "/productions")[0]["last_activity"]

        times = [last()]
        recording = self.send("01 Tide.wav", self.voice(-20), measured=False)
        times.append(last())
        self.work(recording)
        times.append(last())
        self.ask("PATCH", f"/productions/{self.production}", 204, json={"name": "Almanac of tides"})
        times.append(last())
        self.assertEqual(times, sorted(set(times)))
