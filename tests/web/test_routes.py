"""The routes, and what guards them."""

import csv
import errno
import hashlib
import io
import json
from concurrent.futures import ThreadPoolExecutor
from unittest import mock

import numpy as np
import soundfile
from fastapi.testclient import TestClient
from sqlalchemy.exc import OperationalError

from ispettore.core.errors import Cancelled
from ispettore.core.measure import spectrogram
from ispettore.core.text import as_cell
from ispettore.studio import database
from ispettore.studio.catalogue import pictures, productions
from ispettore.studio.settings import settings
from ispettore.studio.worker.doing import do
from ispettore.web import heavy
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, until, work_for

RATE = 44_100


class Routes(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        client = TestClient(build(), base_url="http://127.0.0.1")
        cls.client = cls.enterClassContext(client)
        path = cls.application.folder / "chapter.wav"
        soundfile.write(path, signals.voice_like(12, rms_dbfs=-29, rate=RATE, room_dbfs=-78), RATE, subtype="PCM_24")
        cls.content = path.read_bytes()

    def make(self) -> str:
        made = self.client.post("/api/productions", json={"name": "Almanac", "specification_id": "audiobook-retail"})
        self.assertEqual(made.status_code, 201)
        return made.json()["id"]

    def bring_in(self, production: str, name: str, content: bytes) -> str:
        put = self.client.put(f"/api/productions/{production}/recordings", params={"name": name}, content=content)
        self.assertEqual(put.status_code, 201, put.text)
        return put.json()["id"]

    def finish(self, subject: str) -> None:
        do(work_for(subject).id, self.application.store)

    def test_recordings_are_put_in_order_by_hand_and_by_name(self):
        production = self.make()
        made = {
            name: self.bring_in(production, name, self.content) for name in ("10 October.wav", "2 February.wav", "1 january.wav")
        }

        def names() -> list[str]:
            return [row["name"] for row in self.client.get(f"/api/productions/{production}").json()["recordings"]]

        self.assertEqual(names(), list(made))
        self.assertEqual(self.client.post(f"/api/productions/{production}/order-by-name").status_code, 204)
        self.assertEqual(names(), ["1 january.wav", "2 February.wav", "10 October.wav"])
        wanted = [made["10 October.wav"], made["1 january.wav"], made["2 February.wav"]]
        self.assertEqual(self.client.put(f"/api/productions/{production}/order", json={"recordings": wanted}).status_code, 204)
        self.assertEqual(names(), ["10 October.wav", "1 january.wav", "2 February.wav"])
        for wrong in (wanted[:2], [*wanted[:2], wanted[0]], [*wanted, production]):
            refused = self.client.put(f"/api/productions/{production}/order", json={"recordings": wrong})
            self.assertEqual(refused.status_code, 409)
            self.assertIn("Almanac", refused.json()["error"])
        self.assertEqual(names(), ["10 October.wav", "1 january.wav", "2 February.wav"])
        self.client.post("/api/recordings/remove", json={"recordings": [made["1 january.wav"]]})
        again = self.bring_in(production, "3 March.wav", self.content)
        self.assertEqual(names()[-1], "3 March.wav")
        self.assertEqual(self.client.put("/api/productions/" + again + "/order", json={"recordings": []}).status_code, 404)

    def test_a_production_is_renamed_noted_and_put_away(self):
        production = self.make()

        def change(**what) -> int:
            return self.client.patch(f"/api/productions/{production}", json=what).status_code

        self.assertEqual(change(name="  Almanac, second edition "), 204)
        self.assertEqual(change(notes="Chapter 3 is to be read again."), 204)
        sheet = self.client.get(f"/api/productions/{production}").json()
        self.assertEqual((sheet["name"], sheet["notes"]), ("Almanac, second edition", "Chapter 3 is to be read again."))
        self.assertEqual(sheet["specification"]["id"], "audiobook-retail")
        self.assertEqual((change(name="   "), change(name="x" * 121), change(specification_id="none")), (422, 422, 404))
        for archived in (True, True, False):
            self.assertEqual(change(archived=archived), 204)
            [listed] = [row for row in self.client.get("/api/productions").json() if row["id"] == production]
            self.assertEqual((listed["archived"], listed["name"]), (archived, "Almanac, second edition"))

    def test_the_sheet_as_a_table(self):
        production = self.make()
        self.finish(self.bring_in(production, "=1+1 chapter.wav", self.content))
        self.assertEqual(
            [as_cell(text) for text in (" =1", "\u00a0=1", "\n@x", "-x", "a=1")],
            ["' =1", "'\u00a0=1", "'\n@x", "'-x", "a=1"],
        )
        self.bring_in(production, 'second "take", at sea.wav', self.content[:5000])
        answer = self.client.get(f"/api/productions/{production}/sheet.csv")
        self.assertTrue(answer.headers["content-type"].startswith("text/csv"))
        self.assertIn("Almanac.csv", answer.headers["content-disposition"])
        first, second = csv.DictReader(io.StringIO(answer.text))
        self.assertEqual((first["position"], first["recording"], first["verdict"]), ("1", "'=1+1 chapter.wav", "outside"))
        self.assertEqual((second["recording"], second["verdict"]), ('second "take", at sea.wav', "waiting"))
        self.assertEqual(first["SHA-256"], work_sha(self.content))
        sheet = self.client.get(f"/api/productions/{production}").json()
        for limit in sheet["recordings"][0]["verdict"]["limits"]:
            unit = f" ({limit['unit']})" if limit["unit"] else ""
            with self.subTest(limit=limit["quantity"]):
                self.assertEqual(float(first[limit["title"] + unit]), round(limit["reading"], 3))
                self.assertEqual(first[f"{limit['title']}: stands"], limit["position"])

    def test_from_upload_to_certificate_and_its_verification(self):
        production = self.make()
        recording = self.bring_in(production, "Kapitel ü 01.wav", self.content)
        self.finish(recording)
        sheet = self.client.get(f"/api/productions/{production}").json()
        self.assertFalse(sheet["recordings"][0]["verdict"]["passes"])
        self.assertEqual(sheet["recordings"][0]["sha256"], work_sha(self.content))

        asked = self.client.post(f"/api/recordings/{recording}/conform", json={})
        self.assertEqual(asked.status_code, 202)
        [waiting] = self.client.get(f"/api/productions/{production}").json()["recordings"]
        self.assertEqual((waiting["conforming"]["work"]["state"], waiting["conforming"]["passes"]), ("waiting", None))
        self.finish(asked.json()["id"])
        detail = self.client.get(f"/api/recordings/{recording}").json()
        self.assertTrue(detail["conformings"][0]["certified"])
        self.assertEqual(len(detail["window"]["bars"]), 3)
        self.assertGreater(len(detail["inspection"]["room_tone"]), 0)

        file = self.client.get(f"/api/conformings/{asked.json()['id']}/file")
        part = self.client.get(f"/api/conformings/{asked.json()['id']}/file", headers={"range": "bytes=1000-1999"})
        self.assertEqual((part.status_code, part.content), (206, file.content[1000:2000]))
        self.assertIn("Kapitel%20%C3%BC%2001.mp3", file.headers["content-disposition"])
        self.assertEqual(work_sha(file.content), detail["conformings"][0]["sha256"])
        certificate = self.client.get(f"/api/conformings/{asked.json()['id']}/certificate")
        page = self.client.get(f"/api/conformings/{asked.json()['id']}/certificate.pdf")
        self.assertEqual((page.headers["content-type"], page.content[:4]), ("application/pdf", b"%PDF"))
        for text, genuine in ((certificate.text, True), (certificate.text.replace('"size_bytes":', '"size_bytes":1'), False)):
            body = {"file_name": "x.mp3", "certificate_name": "x.json", "certificate": text}
            check = self.client.post("/api/verifyings", json=body).json()["id"]
            self.assertEqual(self.client.put(f"/api/verifyings/{check}/file", content=file.content).status_code, 202)
            self.finish(check)
            self.assertIs(self.client.get(f"/api/verifyings/{check}").json()["report"]["genuine"], genuine)

    def test_pieces_of_sound_are_the_files_own_samples(self):
        production = self.make()
        wave = signals.voice_like(8, rms_dbfs=-26, rate=RATE, room_dbfs=-78, seed=12)
        path = self.application.folder / "sound.mp3"
        more = {"bitrate_mode": "VARIABLE", "compression_level": 0.5}
        soundfile.write(path, wave, RATE, format="MP3", subtype="MPEG_LAYER_III", **more)
        for name, content in (("a.wav", self.content), ("v.mp3", path.read_bytes())):
            recording = self.bring_in(production, name, content)
            if name == "v.mp3":
                early = self.client.get(f"/api/recordings/{recording}/sound?start=0&frames=10")
                self.assertEqual(early.status_code, 409)
            self.finish(recording)
            whole, _ = soundfile.read(io.BytesIO(content), dtype="float32", always_2d=True)
            for start in (0, 100_000, len(whole) - 500):
                answer = self.client.get(f"/api/recordings/{recording}/sound?start={start}&frames=5000")
                got = np.frombuffer(answer.content, dtype="<f4").reshape(-1, int(answer.headers["x-channels"]))
                with self.subTest(name=name, start=start):
                    self.assertEqual(len(got), min(5_000, len(whole) - start))
                    self.assertLess(np.abs(got - whole[start : start + 5_000]).max(), 2**-22)
            self.assertEqual(self.client.get(f"/api/recordings/{recording}/sound?start=99999999&frames=10").content, b"")

    def test_the_picture_of_a_recording_comes_in_tiles_and_series(self):
        production = self.make()
        recording = self.bring_in(production, "drawn.wav", self.content + b"\0\0")  # bytes that no other test measures
        self.assertEqual(self.client.get(f"/api/recordings/{recording}/tiles").status_code, 404)
        self.finish(recording)
        shape = self.client.get(f"/api/recordings/{recording}/tiles").json()
        self.assertEqual((shape["columns"], shape["factor"]), ([2_400, 600, 150], 4))
        parts = [self.client.get(f"/api/recordings/{recording}/tiles/0/{index}") for index in range(3)]
        known_as = self.client.get(f"/api/recordings/{recording}").json()["known_as"]
        for named, kept in ((f"?as={known_as}", "immutable"), (f"?as={'0' * 64}", "no-store"), ("", "no-store")):
            part = self.client.get(f"/api/recordings/{recording}/tiles/0/0{named}")
            self.assertIn(kept, part.headers["cache-control"], "edits change what is behind an address")
        self.assertEqual([len(part.content) for part in parts], [2_048, 2_048, 704])
        peaks = np.concatenate([np.frombuffer(part.content, np.uint8)[len(part.content) // 2 :] for part in parts])
        wave, _ = soundfile.read(io.BytesIO(self.content))
        self.assertAlmostEqual(peaks.max() / 255 * 80 - 80, 20 * np.log10(np.abs(wave).max()), delta=0.2)
        self.assertEqual(self.client.get(f"/api/recordings/{recording}/tiles/0/3").status_code, 404)
        for form, kind, start in (("pdf", "application/pdf", b"%PDF-"), ("html", "text/html; charset=utf-8", b"<!doctype html>")):
            told = self.client.get(f"/api/recordings/{recording}/report.{form}")
            self.assertEqual((told.headers["content-type"], told.content[: len(start)]), (kind, start))
            self.assertIn(f"drawn.wav.report.{form}", told.headers["content-disposition"])
        self.assertEqual(self.client.get(f"/api/recordings/{recording}/report.doc").status_code, 422)
        series = self.client.get(f"/api/recordings/{recording}/tracks").content
        self.assertEqual(int.from_bytes(series[:4], "little"), 120)

    def test_findings_are_accepted_with_a_reason_that_stays(self):
        production = self.make()
        path = self.application.folder / "loud.wav"
        wave = signals.voice_like(10, rms_dbfs=-20, rate=RATE, room_dbfs=-70)
        wave[3 * RATE : 4 * RATE] = np.clip(wave[3 * RATE : 4 * RATE] * 20, -0.9, 0.9)
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        recording = self.bring_in(production, "loud.wav", path.read_bytes())
        self.finish(recording)
        address = f"/api/recordings/{recording}"

        def accepted(kind: str) -> set[str]:
            return {found["accepted"] for found in self.client.get(address).json()["findings"] if found["kind"] == kind}

        places = [
            {name: found[name] for name in ("kind", "start_s", "end_s")}
            for found in self.client.get(address).json()["findings"]
            if found["kind"] == "clipping"
        ]
        self.assertTrue(places)
        self.assertEqual(accepted("clipping"), {""})
        refused = self.client.put(f"{address}/accepted", json={"findings": places, "reason": "  "})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("reason for accepting", refused.json()["error"])
        for reason in ("a shout", "a shout, as written"):
            self.assertEqual(self.client.put(f"{address}/accepted", json={"findings": places, "reason": reason}).status_code, 204)
            self.assertEqual(accepted("clipping"), {reason})
        self.assertIn("accepted: a shout, as written", self.client.get(f"{address}/report.html").text)
        self.assertEqual(self.client.post(f"{address}/accepted/take-back", json={"findings": places}).status_code, 204)
        self.assertEqual(accepted("clipping"), {""})
        absent = "00000000-0000-4000-8000-000000000000"
        lost = self.client.put(f"/api/recordings/{absent}/accepted", json={"findings": places, "reason": "x"})
        self.assertEqual(lost.status_code, 404)

    def test_errors_come_as_sentences_with_a_fitting_status(self):
        production = self.make()
        recording = self.bring_in(production, "a.wav", b"")
        absent = "00000000-0000-4000-8000-000000000000"
        for request, status, words in (
            (self.client.get(f"/api/productions/{absent}"), 404, "production was not found"),
            (self.client.get(f"/api/recordings/{absent}"), 404, "recording was not found"),
            (self.client.get(f"/api/conformings/{absent}/file"), 404, "attempt was not found"),
            (self.client.post("/api/productions", json={"name": "A", "specification_id": "b"}), 404, "no specification “b”"),
            (self.client.post(f"/api/recordings/{recording}/conform", json={}), 409, "has not been inspected yet"),
            (
                self.client.post("/api/verifyings", json={"file_name": "a", "certificate_name": "c", "certificate": "{"}),
                422,
                "not JSON",
            ),
        ):
            with self.subTest(words=words):
                self.assertEqual(request.status_code, status)
                self.assertIn(words, request.json()["error"])

    def test_names_are_shown_and_never_used_as_paths(self):
        production = self.make()
        self.bring_in(production, "../../etc/passwd", self.content)
        self.bring_in(production, "C:\\Takes\\one.wav", self.content)
        names = [row["name"] for row in self.client.get(f"/api/productions/{production}").json()["recordings"]]
        self.assertEqual(names, ["passwd", "one.wav"])

    def test_too_large_is_said_before_and_while_sending(self):
        production = self.make()
        before = settings().largest_upload_bytes
        settings().largest_upload_bytes = 1_000
        self.addCleanup(setattr, settings(), "largest_upload_bytes", before)
        announced = self.client.put(f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=self.content)
        streamed = self.client.put(
            f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=iter([self.content[:900], self.content])
        )
        for answer in (announced, streamed):
            self.assertEqual(answer.status_code, 413)
            self.assertIn("a.wav", answer.json()["error"])
        self.assertEqual(list((self.application.folder / "store" / "incoming").iterdir()), [])

    def test_another_sites_page_can_neither_write_nor_reach_us_by_another_name(self):
        body = {"name": "A", "specification_id": "audiobook-retail"}
        for headers, status in (
            ({"origin": "http://elsewhere.example"}, 403),
            ({"sec-fetch-site": "cross-site"}, 403),
            ({"origin": "http://127.0.0.1"}, 201),
            ({"origin": "https://127.0.0.1"}, 403),
            ({"origin": "null"}, 403),
            ({"origin": "https://127.0.0.1", "x-forwarded-proto": "https"}, 403),
            ({"host": "elsewhere.example"}, 400),
        ):
            with self.subTest(headers=headers):
                self.assertEqual(self.client.post("/api/productions", json=body, headers=headers).status_code, status)

    def test_text_that_cannot_be_kept_is_refused_in_words(self):
        production = self.make()
        absent = "00000000-0000-4000-8000-000000000000"
        draft = {"name": "A", "limits": [], "description": "x\0y"}
        for answer, words in (
            (
                self.client.post("/api/productions", json={"name": "a\0b", "specification_id": "audiobook-retail"}),
                "a null character",
            ),
            (self.client.post("/api/productions", json={"name": "a\nb", "specification_id": "audiobook-retail"}), "a line break"),
            (
                self.client.post("/api/productions", content=b'{"name": "\\ud800", "specification_id": "audiobook-retail"}'),
                "half of a surrogate pair",
            ),
            (self.client.patch(f"/api/productions/{production}", json={"notes": "bell\x07"}), "U+0007"),
            (self.client.patch(f"/api/productions/{production}", json={"name": "two\nlines"}), "a line break"),
            (self.client.get("/api/specifications/a%00b"), "a null character"),
            (self.client.put(f"/api/productions/{production}/recordings?name=a%00b.wav", content=b"x"), "a null character"),
            (self.client.put(f"/api/productions/{production}/recordings?name=a%0Ab.wav", content=b"x"), "a line break"),
            (self.client.put(f"/api/recordings/{absent}/accepted", json={"findings": [], "reason": "\0"}), "a null character"),
            (self.client.post("/api/specifications/examine", json=draft), "a null character"),
            (
                self.client.post("/api/verifyings", json={"file_name": "a\tb", "certificate_name": "c", "certificate": "{}"}),
                "a tab",
            ),
        ):
            with self.subTest(words=words, path=answer.request.url.path):
                self.assertEqual(answer.status_code, 422, answer.text)
                self.assertIn(words, answer.json()["error"])
        self.assertEqual(self.client.patch(f"/api/productions/{production}", json={"notes": "two\nlines\tof it"}).status_code, 204)

    def test_bodies_are_bounded_before_they_are_read_and_never_echoed(self):
        secret = "tide" * 1_500_000
        for answer in (
            self.client.post("/api/productions", json={"name": secret, "specification_id": "b"}),
            self.client.post("/api/productions", content=iter([b'{"name": "', secret.encode(), b'"}'])),
            self.client.post("/api/productions", content=secret.encode(), headers={"content-type": "application/octet-stream"}),
        ):
            self.assertEqual(answer.status_code, 413)
            self.assertLess(len(answer.content), 300)
        deep = self.client.post("/api/specifications/examine", content=b'{"limits": ' + b"[" * 60_000 + b"]" * 60_000 + b"}")
        self.assertEqual(deep.status_code, 422)
        self.assertIn("nested too deeply", deep.json()["error"])
        wrong = self.client.post("/api/productions", json={"name": {"my": "secret"}, "specification_id": "b"})
        self.assertEqual(wrong.status_code, 422)
        self.assertEqual(wrong.json(), {"error": "This can't be used: name: input should be a valid string."})

    def test_the_same_request_sent_twice_makes_one_production(self):
        body = {"name": "Once", "specification_id": "audiobook-retail", "id": "11111111-1111-4111-8111-111111111111"}
        with ThreadPoolExecutor(4) as pool:
            made = list(pool.map(lambda _: self.client.post("/api/productions", json=body).json()["id"], range(4)))
        self.assertEqual(set(made), {body["id"]})
        self.assertEqual([row["name"] for row in self.client.get("/api/productions").json()].count("Once"), 1)

    def test_a_database_that_is_away_is_said(self):
        gone = OperationalError("SELECT secret FROM t", {"name": "secret"}, Exception("server closed the connection"))
        with mock.patch.object(productions, "summaries", side_effect=gone):
            answer = self.client.get("/api/productions")
        self.assertEqual(answer.status_code, 503)
        self.assertIn("The database is not answering", answer.json()["error"])
        with mock.patch.object(database, "answers", return_value=False):
            health = self.client.get("/api/health")
        self.assertEqual((health.status_code, health.json()), (503, {"state": "database away"}))

    def test_a_full_and_a_read_only_disk_are_said(self):
        production = self.make()
        for number, words in ((errno.ENOSPC, "no room left"), (errno.EROFS, "can't be written")):
            with mock.patch("os.fsync", side_effect=OSError(number, "no")):
                answer = self.client.put(f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=b"x" * 999)
            self.assertEqual(answer.status_code, 507)
            self.assertIn(words, answer.json()["error"])

    def test_a_damaged_deliverable_is_never_sent_as_if_it_were_whole(self):
        production = self.make()
        recording = self.bring_in(production, "whole.wav", self.content)
        self.finish(recording)
        conforming = self.client.post(f"/api/recordings/{recording}/conform", json={"container": "wav"}).json()["id"]
        self.finish(conforming)
        address = f"/api/conformings/{conforming}/file"
        whole = self.client.get(address)
        self.assertEqual(work_sha(whole.content), whole.headers["etag"].strip('"'))
        path = self.application.store.local(work_sha(whole.content))
        rotten = bytearray(whole.content)
        rotten[-100] ^= 1
        path.write_bytes(rotten)
        part = self.client.get(address, headers={"range": "bytes=0-99"})
        self.assertEqual(part.status_code, 410)
        self.assertIn("“whole.wav” is damaged", part.json()["error"])
        with self.assertRaises(Exception), self.client.stream("GET", address) as answer:  # noqa: B017 - whatever the transport raises
            received = b"".join(answer.iter_bytes())
            self.assertEqual(len(received), len(whole.content), "fewer bytes than announced: the client knows")
        path.unlink()
        lost = self.client.get(address)
        self.assertEqual(lost.status_code, 410)
        self.assertIn("“whole.wav” is missing", lost.json()["error"])

    def test_many_heavy_pictures_hold_up_nobody(self):
        production = self.make()
        recording = self.bring_in(production, "heavy.wav", self.content)
        self.finish(recording)
        running, most = [], []

        def slow(*_arguments, cancelled, **_named):
            running.append(1)
            most.append(len(running))
            until(lambda: len(most) >= 2 or cancelled(), what="another place to be taken")
            running.pop()
            return b"", spectrogram.axes(0, 1, sample_rate_hz=RATE)

        query = {"start_s": 0, "end_s": 1, "columns": 20, "rows": 20}
        with mock.patch.object(pictures, "spectrogram_of", slow), ThreadPoolExecutor(60) as pool:
            asked = [pool.submit(self.client.get, f"/api/recordings/{recording}/spectrogram.png", params=query) for _ in range(60)]
            self.assertEqual(self.client.get("/api/productions").status_code, 200)
            self.assertEqual({one.result().status_code for one in asked}, {200})
        self.assertLessEqual(max(most), heavy.AT_ONCE)

    def test_a_picture_that_nobody_waits_for_is_not_worked_out(self):
        with self.assertRaises(Cancelled):
            spectrogram.levels(
                lambda _first, count: np.zeros((count, 1), np.float32),
                spectrogram.axes(0, 100, sample_rate_hz=RATE),
                sample_rate_hz=RATE,
                columns=10,
                rows=10,
                cancelled=lambda: True,
            )

    def test_every_answer_carries_the_policy(self):
        for address in ("/", "/api/health"):
            headers = self.client.get(address).headers
            self.assertIn("default-src 'none'", headers["content-security-policy"])
            self.assertNotIn("http", headers["content-security-policy"])
            self.assertEqual(headers["x-content-type-options"], "nosniff")

    def test_cancelling_over_the_wire(self):
        production = self.make()
        recording = self.bring_in(production, "a.wav", self.content[:-5_000])
        work = work_for(recording)
        self.assertEqual(self.client.post(f"/api/works/{work.id}/cancel").status_code, 202)
        self.assertEqual(work_for(recording).state, "cancelled")

    def test_the_description_is_what_the_front_end_was_made_from(self):
        kept = json.loads((settings().frontend.parent.parent / "docs" / "openapi.json").read_text())
        self.assertEqual(kept, json.loads(json.dumps(build().openapi())))


def work_sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()
