"""Limits on a production as a whole, over the wire: on the sheet and the deliver screen; and a sample cut from a recording."""

from uuid import UUID

import numpy as np

from ispettore.core.spec import catalogue
from ispettore.studio.catalogue import recordings
from tests.web.wire import WireCase


class WholePackages(WireCase):
    def setUp(self):
        type(self).production = self.make("audiobook-package")
        self.path = f"/productions/{self.production}"
        self.first = self.send("01 Frost.wav", self.voice(-20))

    def whole(self, where: str = "delivery") -> dict[str, dict]:
        return {limit["quantity"]: limit for limit in self.ask("GET", f"{self.path}/{where}")["whole"] if limit["unit"] != "dBFS"}

    def said(self, recording: str, **entry) -> None:
        self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": recording, "entry": entry}]})

    def test_the_sheet_and_the_deliver_screen_judge_the_package(self):
        self.send("03 Thaw.wav", self.voice(-20.4))
        for where in ("sheet", "delivery"):
            found = self.whole(where)
            self.assertEqual((found["numbers_missing"]["passes"], found["numbers_missing"]["note"]), (False, "2 missing"))
            self.assertEqual(found["opening_credits"]["note"], "no recording is the opening credits")
            self.assertEqual((found["sample_length_s"]["reading"], found["sample_length_s"]["position"]), (None, "unmeasured"))
            self.assertTrue(found["sample_rate_hz"]["passes"] and found["channels"]["passes"])
            self.assertAlmostEqual(found["total_duration_s"]["reading"], 20, delta=0.1)
        sheet = self.ask("GET", f"{self.path}/sheet")
        self.assertNotIn("opening_credits", [limit["quantity"] for limit in sheet["columns"]])
        self.assertEqual(self.client.get(f"/api{self.path}/sheet.pdf").status_code, 200)
        opening = self.send("Opening credits.wav", self.voice(-20.2))
        second = self.send("Fog.wav", self.voice(-20.6))
        self.said(second, number=2)
        found = self.whole()
        self.assertTrue(found["numbers_missing"]["passes"] and found["opening_credits"]["passes"])
        self.said(opening, kind="closing")
        found = self.whole()
        self.assertEqual((found["opening_credits"]["passes"], found["closing_credits"]["passes"]), (False, True))
        self.said(second, number=1)
        self.assertEqual(self.whole()["numbers_repeated"]["note"], "1 there more than once")

    def test_one_rate_and_one_number_of_channels(self):
        self.send("02 Thaw.wav", self.wav(np.repeat(np.random.default_rng(1).normal(0, 0.05, (44_100 * 3, 1)), 2, axis=1)))
        found = self.whole()
        self.assertEqual((found["channels"]["passes"], found["channels"]["reading"]), (False, 1))

    def test_a_limit_on_the_package_changes_like_any_other(self):
        book = catalogue.find("audiobook-package").model_dump(mode="json")
        limits = [{**limit, "high": 5} if limit["quantity"] == "total_duration_s" else limit for limit in book["limits"]]
        made = self.ask("POST", "/specifications/audiobook-package/copy", 201, json={"name": "Short books"})
        kept = {**book, "id": made["id"], "name": "Short books", "limits": limits}
        self.ask("PUT", f"/specifications/{made['id']}", json={"follows": 1, "draft": kept})
        self.client.patch(f"/api{self.path}", json={"specification_id": made["id"]})
        self.assertEqual(self.whole()["total_duration_s"]["position"], "over")

    def test_a_sample_is_cut_faded_and_from_then_on_a_recording(self):
        cut = {"start_s": 1.0, "end_s": 9.0, "fade_in_s": 0.5, "fade_out_s": 2.0}
        sample = self.ask("POST", f"/recordings/{self.first}/sample", 201, json=cut)["id"]
        self.work(sample)
        view = self.ask("GET", f"/recordings/{sample}")
        self.assertEqual((view["name"], view["facts"]["bit_depth"], view["facts"]["frames"]), ("Sample.wav", 24, 8 * 44_100))
        row = self.ask("GET", f"{self.path}/delivery")["rows"][-1]
        self.assertEqual((row["entry"]["kind"], row["file_name"]), ("sample", "Sample.mp3"))
        self.assertEqual((self.whole()["sample_length_s"]["reading"], self.whole()["sample_length_s"]["position"]), (8, "under"))
        self.assertAlmostEqual(self.whole()["total_duration_s"]["reading"], 10, delta=0.1, msg="it is no part of the book")
        conformed = self.ask("POST", f"/recordings/{sample}/conform", 202, json={})["id"]
        self.work(conformed)
        view = self.ask("GET", f"/recordings/{sample}")
        self.assertTrue(view["conformings"][0]["certified"], view["conformings"][0]["obstacles"])

        # Another one takes its place, and the first stays as an earlier file.
        again = self.ask("POST", f"/recordings/{self.first}/sample", 201, json={**cut, "start_s": 2.0})["id"]
        self.work(again)
        rows = self.ask("GET", f"{self.path}/delivery")["rows"]
        self.assertEqual([(row["recording"], row["entry"]["kind"]) for row in rows], [(self.first, "chapter"), (again, "sample")])
        self.assertEqual([one["id"] for one in self.ask("GET", f"/recordings/{again}")["earlier"]], [sample])

    def test_a_stretch_that_will_not_do_is_refused(self):
        for start_s, end_s, fades in ((0, 11, (0.5, 2)), (4, 5, (1, 2)), (5, 4, (0, 0))):
            body = {"start_s": start_s, "end_s": end_s, "fade_in_s": fades[0], "fade_out_s": fades[1]}
            said = self.ask("POST", f"/recordings/{self.first}/sample", 422, json=body)["error"]
            self.assertIn("at most 5 minutes long", said)

    def test_what_was_said_of_a_recording_holds_for_a_newer_file(self):
        self.said(self.first, title="Hoar frost", number=4)
        blob = self.application.store.put([self.voice(-20.7)], name="frost again.wav")
        recordings.replace(UUID(self.first), "frost again.wav", blob)
        self.assertEqual(self.ask("GET", f"{self.path}/delivery")["rows"][0]["entry"]["title"], "Hoar frost")
