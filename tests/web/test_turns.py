"""Passages of two voices over the wire: found, corrected by hand, brought together in the draft; and a production's reference."""

from tests.core.test_turns import laid
from tests.web.wire import WireCase


class Turns(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()
        two, _ = laid([("reed", 0, None), ("wren", -7, None)] * 3)
        one, _ = laid([("wren", 0, None)], phrases=12)
        cls.two, cls.one = cls.send("two.wav", cls.wav(two * 0.5)), cls.send("one.wav", cls.wav(one * 0.5))

    def tearDown(self):
        self.of("DELETE", "/turns", 204)

    def of(self, method: str, path: str, status: int = 200, *, recording: str = "", **named):
        return self.ask(method, f"/recordings/{recording or self.two}{path}", status, **named)

    def match(self, status: int = 200, *, recording: str = "", **wanted) -> dict:
        number = self.of("GET", "/draft", recording=recording)["number"]
        return self.of("POST", "/turns/match", status, recording=recording, json={"follows": number, **wanted})

    def test_they_are_found_with_how_loud_each_is(self):
        found = self.of("GET", "/turns")
        self.assertEqual(([turn["voice"] for turn in found["turns"]], found["by_hand"]), ([0, 1] * 3, False))
        first, second = found["voices"]
        self.assertAlmostEqual(first["speech_dbfs"] - second["speech_dbfs"], 7, delta=1.5)
        self.assertEqual(self.of("GET", "/turns", recording=self.one), {"turns": [], "by_hand": False, "voices": []})

    def test_they_are_corrected_by_hand_and_found_again(self):
        found = self.of("GET", "/turns")["turns"]
        found[1]["voice"] = 0
        self.of("PUT", "/turns", 204, json={"turns": found})
        corrected = self.of("GET", "/turns")
        self.assertEqual(([turn["voice"] for turn in corrected["turns"]], corrected["by_hand"]), ([0, 1, 0, 1], True))
        self.assertEqual(corrected["turns"][0]["end_s"], found[2]["end_s"], "neighbours of one voice are one")
        for wrong in (found[1:], [{**found[0], "end_s": 1.0}, *found[1:]], [{**found[0], "voice": 3}, *found[1:]]):
            said = self.of("PUT", "/turns", 422, json={"turns": wrong})["error"]
            self.assertIn("follow each other without gaps", said)
        self.of("DELETE", "/turns", 204)
        self.assertEqual(len(self.of("GET", "/turns")["turns"]), 6)

    def test_one_is_brought_to_the_other_in_the_draft_and_again_in_its_place(self):
        view = self.match(toward=0, tone=True)
        kinds = [step["kind"] for step in view["steps"]]
        self.assertEqual(kinds, ["tone-match", "spot-gain"])
        [spots] = [step["settings"]["spots"] for step in view["steps"] if step["kind"] == "spot-gain"]
        self.assertEqual(len(spots), 3)
        self.assertTrue(all(5 < spot["gain_db"] < 9 for spot in spots), spots)
        self.assertTrue(all(not step["problems"] for step in view["steps"]))
        gain = {"kind": "gain", "settings": {"gain_db": 2}}
        plain = [{key: step[key] for key in ("id", "kind", "settings", "on", "reason")} for step in view["steps"]]
        self.of("PUT", "/draft", json={"steps": [*plain, gain], "follows": view["number"]})
        again = self.match(toward=1, tone=False)
        self.assertEqual([step["kind"] for step in again["steps"]], ["spot-gain", "gain"])
        self.assertTrue(all(spot["gain_db"] < -5 for spot in again["steps"][0]["settings"]["spots"]))
        self.of("POST", "/draft/undo", params={"follows": again["number"]})

    def test_where_nothing_is_apart_that_is_said(self):
        said = self.match(422, recording=self.one, toward=0)["error"]
        self.assertIn("already match", said)

    def test_a_reference_is_named_told_and_followed(self):
        path = f"/api/productions/{self.production}"
        self.assertEqual(self.client.patch(path, json={"reference": self.one}).status_code, 204)
        self.assertEqual(self.client.get(f"{path}/sheet").json()["reference"], self.one)
        self.assertEqual(self.of("GET", "")["reference"], {"id": self.one, "name": "one.wav"})
        self.assertIsNone(self.of("GET", "", recording=self.one)["reference"])
        view = self.match(like=self.one, tone=True)
        self.assertIn("the other recording’s", " ".join(step["reason"] for step in view["steps"]))
        elsewhere = self.make("podcast-mono")
        self.assertEqual(self.client.patch(f"/api/productions/{elsewhere}", json={"reference": self.one}).status_code, 404)
        self.client.patch(path, json={"reference": "none"})
        self.assertIsNone(self.client.get(f"{path}/sheet").json()["reference"])
