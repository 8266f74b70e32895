"""Consistency over the wire: the recordings and the processed files, with what is needed to hear seams, and its reports."""

import numpy as np

from tests.web.wire import WireCase


class ConsistencyOfAProduction(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()
        levels = (-20, -20.2, -20.1, -20, -31)
        cls.recordings = [cls.send(f"{number}.wav", cls.voice(level)) for number, level in enumerate(levels)]
        cls.send("letter.wav", b"Dear listener")

    def get(self, path: str, **params):
        answer = self.client.get(f"/api/productions/{self.production}/{path}", params=params)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer

    def test_as_they_came_in_and_as_they_were_made(self):
        found = self.get("consistency").json()
        self.assertEqual([chapter["name"] for chapter in found["chapters"]], [f"{number}.wav" for number in range(5)])
        self.assertEqual((found["missing"], found["made"], found["files"]), (["letter.wav"], False, 0))
        [apart] = found["found"]["apart"]
        self.assertEqual(apart["index"], 4)
        self.assertRegex(apart["reasons"][0], r"voice 1[01]\.\d dB softer")
        speech = found["found"]["measures"][0]
        self.assertGreater(speech["spread"], 10)

        for recording in self.recordings:
            attempt = self.client.post(f"/api/recordings/{recording}/conform", json={"container": "flac"}).json()["id"]
            self.work(attempt)
        made = self.get("consistency", made=True).json()
        self.assertEqual((len(made["chapters"]), made["files"], made["missing"]), (5, 5, ["letter.wav"]))
        self.assertLess(made["found"]["measures"][0]["spread"], 5)
        sound = made["chapters"][4]["sound"]
        self.assertIn("/conformings/", sound["address"])
        last = {"start": sound["frames"] - 1000, "frames": 1000}
        heard = self.client.get(sound["address"], params=last)
        self.assertEqual(np.frombuffer(heard.content, "<f4").size, 1000)

    def test_it_is_taken_away_as_pdf_html_and_table(self):
        self.assertEqual(self.get("consistency.pdf").content[:5], b"%PDF-")
        self.assertIn("Consistency: Almanac", self.get("consistency.html").text)
        table = self.get("consistency.csv").text.splitlines()
        self.assertEqual(len(table), 6)
        self.assertIn("softer", table[5])
        self.assertIn("Almanac.consistency.csv", self.get("consistency.csv").headers["content-disposition"])
        self.assertEqual(self.client.get(f"/api/productions/{self.recordings[0]}/consistency").status_code, 404)
