"""Where a production stands, over the wire: every status as work goes on, what counts, sorting, rows some at a time."""

from ispettore.studio.database import transaction
from ispettore.studio.tables import Work, WorkState
from ispettore.studio.worker.doing import do
from tests import signals
from tests.web.wire import RATE, WireCase


class Standing(WireCase):
    def setUp(self):
        type(self).production = self.make()

    def bring_in(self, name: str, rms_dbfs: float | None, *, measured: bool = True) -> str:
        content = b"Dear listener, " * 100 if rms_dbfs is None else self.voice(rms_dbfs)
        return self.send(name, content, measured=measured)

    def sheet(self, **query) -> dict:
        answer = self.client.get(f"/api/productions/{self.production}/sheet", params=query)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()

    def statuses(self, **query) -> dict[str, str]:
        return {entry["name"]: entry["status"] for entry in self.sheet(**query)["entries"]}

    def counts(self) -> dict[str, int]:
        return {each["word"]: each["count"] for each in self.sheet()["standing"]}

    def post(self, path: str, status: int = 202, **body):
        return self.ask("POST", path, status, json=body)

    def conformed(self, recording: str, **how) -> None:
        self.work(self.post(f"/recordings/{recording}/conform", **how)["id"])

    def test_every_status_as_work_goes_on(self):
        one = self.bring_in("one.wav", -31.3, measured=False)
        self.assertEqual((self.statuses(), self.sheet()["entries"][0]["busy"]), ({"one.wav": "running"}, True))
        self.post("/recordings/cancel", recordings=[one])
        self.assertEqual(self.statuses(), {"one.wav": "unmeasured"})
        self.post(f"/recordings/{one}/inspect")
        self.work(one)
        self.assertEqual(self.statuses(), {"one.wav": "outside"})
        self.post(f"/recordings/{one}/plans")
        self.assertEqual(self.statuses(), {"one.wav": "running"})
        with transaction() as session:
            [waiting] = [work.id for work in session.query(Work).filter(Work.state == WorkState.WAITING)]
        do(waiting, self.application.store)
        self.assertEqual(self.statuses(), {"one.wav": "planned"})
        # Cut, it is another recording: planned once more, or again as it was.
        self.ask("POST", f"/recordings/{one}/edits", json={"wish": {"what": "cut", "start_s": 2.0, "end_s": 2.5}, "follows": 0})
        self.work(one)
        self.assertEqual(self.statuses(), {"one.wav": "outside"})
        self.ask("POST", f"/recordings/{one}/edits/undo", json={"follows": 1})
        self.assertEqual(self.statuses(), {"one.wav": "planned"})
        self.conformed(one, container="wav")
        self.assertEqual((self.statuses(), self.sheet()["certified"]), ({"one.wav": "conformed"}, 0))
        self.conformed(one)
        self.assertEqual((self.statuses(), self.sheet()["certified"]), ({"one.wav": "certified"}, 1))
        self.post(f"/recordings/{one}/conform", container="flac")
        [entry] = self.sheet()["entries"]
        self.assertEqual((entry["status"], entry["busy"]), ("certified", True), "what is there is not lost by what runs beside it")
        self.post("/recordings/cancel", recordings=[one])

        told = self.post("/recordings/hand-over", 200, recordings=[one], delivered=True)
        self.assertEqual(len(told["asked"]), 1)
        self.assertEqual((self.counts(), self.sheet()["certified"]), ({"delivered": 1}, 1))
        row = self.post(f"/productions/{self.production}/rows", 200, recordings=[one])[0]
        self.assertIsNotNone(row["delivered"]["handed_over_at"])
        again = self.post("/recordings/hand-over", 200, recordings=[one], delivered=True)
        self.assertEqual((len(again["asked"]), len(again["settled"])), (0, 1))
        self.post("/recordings/hand-over", 200, recordings=[one], delivered=False)
        self.assertEqual(self.statuses(), {"one.wav": "certified"})

    def test_a_certificate_for_something_else_does_not_count(self):
        one = self.bring_in("one.wav", -30)
        self.conformed(one)
        self.assertEqual(self.sheet()["certified"], 1)
        change = {"specification_id": "video-streaming"}
        self.client.patch(f"/api/productions/{self.production}", json=change)
        self.assertEqual((self.statuses(), self.sheet()["certified"]), ({"one.wav": "outside"}, 0))
        row = self.post(f"/productions/{self.production}/rows", 200, recordings=[one])[0]["delivered"]
        self.assertEqual((row["certificate_for"]["name"], row["current"]), ("Audiobook, retail", False))
        told = self.post("/recordings/hand-over", 200, recordings=[one], delivered=True)
        self.assertIn("has no file yet that meets Video streaming", told["refused"][0]["reason"])
        self.client.patch(f"/api/productions/{self.production}", json={"specification_id": "audiobook-retail"})
        self.assertEqual(self.sheet()["certified"], 1)

    def test_what_can_not_be_read_or_conformed_is_stuck(self):
        self.bring_in("letter.mp3", None)
        room = signals.voice_like(10, rms_dbfs=-20, rate=RATE, room_dbfs=-22)
        loud = self.send("loud room.wav", self.wav(room))
        self.assertEqual(self.statuses(), {"letter.mp3": "stuck", "loud room.wav": "outside"})
        self.conformed(loud)
        self.assertEqual(self.counts(), {"stuck": 2})

    def test_the_list_of_productions_counts_the_same(self):
        self.conformed(self.bring_in("one.wav", -30))
        self.bring_in("two.wav", -20)
        [found] = [one for one in self.client.get("/api/productions").json() if one["id"] == self.production]
        self.assertEqual((found["recordings"], found["certified"]), (2, 1))
        self.assertEqual([(each["status"], each["count"]) for each in found["standing"]], [("inside", 1), ("certified", 1)])
        self.assertEqual(found["standing"], self.sheet()["standing"])

    def test_sorted_by_name_status_and_any_reading(self):
        names = ("10 ten.wav", "2 two.wav", "1 one.wav")
        for name, level in zip(names, (-20, -30, -24), strict=True):
            self.bring_in(name, level)
        self.bring_in("late.wav", -33.7, measured=False)
        self.assertEqual(list(self.statuses()), [*names, "late.wav"])
        self.assertEqual(list(self.statuses(by="name")), ["1 one.wav", "2 two.wav", "10 ten.wav", "late.wav"])
        self.assertEqual(list(self.statuses(by="rms_dbfs")), ["2 two.wav", "1 one.wav", "10 ten.wav", "late.wav"])
        self.assertEqual(list(self.statuses(by="rms_dbfs", down=True)), ["10 ten.wav", "1 one.wav", "2 two.wav", "late.wav"])
        self.assertEqual(list(self.statuses(by="status")), ["late.wav", "2 two.wav", "1 one.wav", "10 ten.wav"])
        self.assertEqual(self.sheet()["entries"][1]["unmet"], ["rms_dbfs"])

    def test_rows_come_some_at_a_time_as_the_whole_sheet_has_them(self):
        here = [self.bring_in(f"{number}.wav", -20 - number) for number in range(3)]
        elsewhere, type(self).production = self.production, self.make()
        other = self.bring_in("other.wav", -20)
        whole = self.client.get(f"/api/productions/{elsewhere}").json()["recordings"]
        found = self.post(f"/productions/{elsewhere}/rows", 200, recordings=[here[2], other, here[0]])
        self.assertEqual(found, [whole[2], whole[0]])
        gone = f"/api/productions/{here[0]}/rows"
        self.assertEqual(self.client.post(gone, json={"recordings": here}).status_code, 404)

    def test_answers_are_compressed_and_sound_is_not(self):
        one = self.bring_in("one.wav", -20)
        wanted = {"accept-encoding": "gzip"}
        sheet = self.client.get(f"/api/productions/{self.production}", headers=wanted)
        self.assertEqual(sheet.headers["content-encoding"], "gzip")
        sound = self.client.get(f"/api/recordings/{one}/sound?start=0&frames=4000", headers=wanted)
        self.assertEqual(sound.status_code, 200)
        self.assertNotIn("content-encoding", sound.headers)
        plain = self.client.get(f"/api/productions/{self.production}", headers={"accept-encoding": "identity"})
        self.assertNotIn("content-encoding", plain.headers)
        self.assertEqual(plain.json(), sheet.json())
