"""What nobody means well by: requests made up from the description, JSON that readers disagree on, names that deceive, markup, and
crowds."""

import asyncio
import io
import unittest
from unittest import mock

import numpy as np
import pypdf
import soundfile
from fastapi.testclient import TestClient

from ispettore.core.audio import reading
from ispettore.core.errors import TooLong
from ispettore.core.measure.inspecting import inspect
from ispettore.core.text import TURNING
from ispettore.web import admission, guarding
from tests.requests_made_up import ask_all
from tests.web.wire import WireCase

EACH = 4
MARKUP = '<script>alert(1)</script><img src=x onerror="alert(2)">&amp;\'"'


class Requests(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()
        recording = cls.send("one.wav", cls.voice(-24))
        attempt = cls.client.post(f"/api/recordings/{recording}/conform", json={}).json()["id"]
        cls.work(attempt)
        cls.known = {
            "production_id": [cls.production],
            "recording_id": [recording],
            "conforming_id": [attempt],
            "subject": [recording, attempt],
            "one": [attempt],
            "other": [attempt],
            "identifier": ["audiobook-retail", "quiet-room"],
            "of": ["recording", "attempt"],
        }

    def test_none_is_answered_with_a_fault_a_trace_or_without_a_sentence(self):
        found = ask_all(self.client, self.known, each=EACH, number=2026)
        self.assertEqual(found.faults, [])
        self.assertGreater(found.statuses.total(), 500)
        self.assertGreater(found.statuses[200] + found.statuses[204], 50, "many are right")
        self.assertGreater(found.statuses[422], 200, "and many are not")

    def test_moments_that_no_file_has_are_refused_by_name(self):
        (recording,) = self.known["recording_id"][:1]
        for start_s, end_s in ((0, 1.7e308), (-1.7e308, 1), (1e8, 1e8 + 1)):
            with self.subTest(start_s=start_s, end_s=end_s):
                told = self.ask("PUT", f"/recordings/{recording}/room-tone", 422, json={"start_s": start_s, "end_s": end_s})
                self.assertRegex(told["error"], "^This can't be used: (start_s|end_s): ")


class Bodies(WireCase):
    def test_json_that_readers_disagree_on_is_refused_and_named(self):
        for body, words in (
            (b'{"name": "A", "name": "B", "specification_id": "podcast-mono"}', "the same name twice"),
            (b'{"name": "A", "specification_id": NaN}', "a number that is none"),
            (b'{"name": -Infinity}', "a number that is none"),
            (b'{"name": 1e999}', "a number that is too large"),
            (b'{"name": 9007199254740993}', "a number that is too large"),
            (b'{"name": ' + b"9" * 100_000 + b"}", "a number that is too large"),
            (b'{"name": "A", "specification_id": "a\\u202eb"}', "turns the direction of writing"),
        ):
            with self.subTest(words=words, body=body[:60]):
                answer = self.client.post("/api/productions", content=body, headers={"content-type": "application/json"})
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["error"])
        answer = self.client.post("/api/productions", content=b"{", headers={"content-type": "application/json"})
        self.assertEqual((answer.status_code, answer.json()["error"]), (422, "What was sent can't be read: it is not JSON."))
        self.assertEqual(self.client.get("/api/nowhere").json()["error"], "There is nothing at this address.")

    def test_names_that_show_as_others_are_refused_wherever_they_come_in(self):
        production = self.make()
        for letter in sorted(TURNING):
            name = f"chapter{letter}vaw.exe"
            with self.subTest(letter=f"{ord(letter):04X}"):
                answer = self.client.put(f"/api/productions/{production}/recordings", params={"name": name}, content=b"x")
                self.assertEqual(answer.status_code, 422)
                self.assertIn(f"U+{ord(letter):04X}", answer.json()["error"])

    def test_markup_is_text_on_paper_in_reports_and_in_tables(self):
        type(self).production = self.make(name=MARKUP)
        recording = self.send("one.wav", self.voice(-24))
        self.client.patch(f"/api/recordings/{recording}", json={"name": "=1+1 <b>x<b>.wav"})
        for path in (f"/recordings/{recording}/report.html", f"/productions/{self.production}/consistency.html"):
            with self.subTest(path=path):
                text = self.ask("GET", path).decode()
                self.assertNotIn("<script>alert", text)
                self.assertNotIn("<img src=x", text)
                self.assertNotIn("<b>x<b>", text)
        table = self.ask("GET", f"/productions/{self.production}/sheet.csv").decode()
        self.assertNotRegex(table, r"(?m)^=|,=")
        for path in (f"/recordings/{recording}/report.pdf", f"/productions/{self.production}/sheet.pdf"):
            with self.subTest(path=path):
                pages = pypdf.PdfReader(io.BytesIO(self.ask("GET", path))).pages
                self.assertIn("<b>x<b>", "".join(page.extract_text() for page in pages).replace("\n", ""))

    def test_answers_stay_in_memory_and_encrypted_ones_ask_for_nothing_else(self):
        plain = self.client.get("/api/productions").headers
        self.assertEqual((plain["cache-control"], plain.get("strict-transport-security")), ("no-store", None))
        self.assertEqual(plain["cross-origin-resource-policy"], "same-origin")
        encrypted = TestClient(self.client.app, base_url="https://127.0.0.1").get("/api/productions").headers
        self.assertIn("max-age=31536000", encrypted["strict-transport-security"])

    def test_strange_headers_and_cookies_are_passed_over(self):
        for headers in (
            {"cookie": "=; ; ispettore-80; a=" + "x" * 10_000},
            {"cookie": 'ispettore-80="\\000\\377"'},
            {"authorization": "Bearer"},
            {"authorization": "Basic " + "A" * 5_000},
            {"forwarded": "for=192.0.2.1;proto=https;host=elsewhere", "x-real-ip": "::1", "x-forwarded-host": "elsewhere"},
            {"x-http-method-override": "DELETE"},
            {"range": "bytes=0-0," * 500},
            {"content-length": "0", "transfer-encoding": "identity"},
        ):
            with self.subTest(headers=str(headers)[:60]):
                self.assertEqual(self.client.get("/api/productions", headers=headers).status_code, 200)
        for host in ("127.0.0.1.elsewhere.example", "elsewhere.example#127.0.0.1", "127.0.0.1@elsewhere.example", "localhost."):
            with self.subTest(host=host):
                self.assertEqual(self.client.get("/api/productions", headers={"host": host}).status_code, 400)


class Crowds(unittest.IsolatedAsyncioTestCase):
    async def test_one_browser_asks_for_so_much_at_once_and_no_more(self):
        waiting, there = asyncio.Event(), asyncio.Semaphore(0)

        async def slow(scope, receive, send):
            there.release()
            await waiting.wait()

        answers = []

        async def send(message):
            answers.append(message["status"])

        def refusal(error):
            async def answer(scope, receive, send):
                self.assertIn("the most for one browser", error.sentence)
                await send({"status": 429})

            return answer

        door = admission.Admission(slow, refusal)
        with mock.patch.object(admission, "access", lambda: "open"):

            def ask(address: str, path: str = "/api/productions"):
                scope = {"type": "http", "path": path, "client": (address, 1), "headers": [], "server": ("127.0.0.1", 80)}
                return asyncio.create_task(door(scope, None, send))

            most = admission.MOST_AT_ONCE
            tasks = [ask("192.0.2.1") for _ in range(most["requests"])]
            tasks += [ask("192.0.2.1", "/api/events") for _ in range(most["streams"])]
            for _ in tasks:
                await there.acquire()
            await ask("192.0.2.1")
            await ask("192.0.2.1", "/api/events")
            self.assertEqual(answers, [429, 429])
            tasks.append(ask("192.0.2.2"))
            await there.acquire()  # somebody else is not held up
            waiting.set()
            await asyncio.gather(*tasks)
            tasks = [ask("192.0.2.1")]
            await asyncio.gather(*tasks)
        self.assertEqual(answers, [429, 429])
        self.assertEqual(door._under_way.total(), 0)

    async def test_a_body_that_falls_silent_or_trickles_is_given_up(self):
        answers, files = [], []

        async def app(scope, receive, send):
            while (message := await receive())["type"] == "http.request" and message.get("more_body"):
                files.append(message["body"])
            files.append(message["type"])

        async def send(message):
            if message["type"] == "http.response.start":
                answers.append(message["status"])

        async def silent():
            if silent.said:
                await asyncio.Event().wait()
            silent.said = True
            return {"type": "http.request", "body": b"RIFF", "more_body": True}

        async def trickle():
            await asyncio.sleep(0.05)
            return {"type": "http.request", "body": b" ", "more_body": True}

        def asked(path: str):
            return {"type": "http", "method": "POST", "path": path, "query_string": b"", "headers": []}

        door = guarding.Bounds(app)
        with mock.patch.multiple(guarding, NEXT_WITHIN_S=0.2, WHOLE_WITHIN_S=0.6):
            for path, receive in (("/api/productions", silent), ("/api/productions", trickle), ("/api/uploads/abc", silent)):
                silent.said = False
                await door(asked(path), receive, send)
        self.assertEqual(answers, [408, 408])
        self.assertEqual(files, [b"RIFF", "http.disconnect"], "what came of a file until then is the application's to keep")


class Bombs(WireCase):
    def test_sound_that_unpacks_to_more_than_is_measured_ends_in_words_before_a_disk_is_full(self):
        path = self.application.folder / "silence.flac"
        soundfile.write(path, np.zeros(8_000 * 600, dtype="int16"), 8_000, subtype="PCM_16")
        self.assertLess(path.stat().st_size, 60_000, "ten minutes in next to nothing")
        with mock.patch.object(reading, "LONGEST_S", 300), self.assertRaises(TooLong) as caught:
            inspect(path)
        self.assertIn("“silence.flac” decodes to more than", caught.exception.sentence)
        self.assertGreater(inspect(path).inspection.facts.duration_s, 599)


if __name__ == "__main__":
    unittest.main()
