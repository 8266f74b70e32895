"""Resumable uploads: the tus protocol byte by byte, against broken requests and a killed server."""

import base64
import hashlib
import json
import os
import re
import signal
import socket
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock
from uuid import UUID

import httpx
from hypothesis import given
from hypothesis import settings as settings_of_hypothesis
from hypothesis import strategies as st

from ispettore.studio.catalogue import productions, recordings, sheets
from ispettore.studio.catalogue.incoming import Incoming
from ispettore.studio.errors import NotFound
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from tests.support import ApplicationCase, end, until

TUS = {"tus-resumable": "1.0.0"}
PIECE = {**TUS, "content-type": "application/offset+octet-stream"}
MB = 1024 * 1024


class Resumable(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.web = cls.application.web()
        cls.client = cls.enterClassContext(httpx.Client(base_url=cls.application.address, timeout=30))
        cls.bytes = os.urandom(5 * MB + 123)

    def setUp(self):
        self.production = productions.create("Almanac", "audiobook-retail")

    def create(self, size: int, *, name="a.wav", **more) -> httpx.Response:
        metadata = {"filename": name, "filetype": "audio", "production": str(self.production), **more}
        encoded = ",".join(f"{key} {base64.b64encode(str(value).encode()).decode()}" for key, value in metadata.items())
        return self.client.post("api/uploads", headers={**TUS, "upload-length": str(size), "upload-metadata": encoded})

    def piece(self, url: str, offset: int, content: bytes) -> httpx.Response:
        return self.client.patch(url, headers={**PIECE, "upload-offset": str(offset)}, content=content)

    def offset(self, url: str) -> int:
        answer = self.client.head(url, headers=TUS)
        self.assertEqual(answer.status_code, 200)
        return int(answer.headers["upload-offset"])

    def begin(self, url: str, offset: int, announced: int, sent: bytes) -> socket.socket:
        """A request that announces more than it sends, left open."""
        lines = (
            f"PATCH /{url.split('/', 3)[3]} HTTP/1.1",
            f"host: 127.0.0.1:{settings().port}",
            "tus-resumable: 1.0.0",
            f"upload-offset: {offset}",
            "content-type: application/offset+octet-stream",
            f"content-length: {announced}",
        )
        connection = socket.create_connection(("127.0.0.1", settings().port))
        connection.sendall("\r\n".join(lines).encode() + b"\r\n\r\n" + sent)
        return connection

    def rows(self) -> list:
        return sheets.sheet(self.production).recordings

    def stored(self, sha256: str) -> bytes:
        return b"".join(Store(settings().store).read(sha256, name="sent"))

    def test_pieces_become_a_recording_byte_for_byte(self):
        url = self.create(len(self.bytes), name="Kapitel ü.wav").headers["location"]
        self.assertEqual(self.piece(url, 0, self.bytes[:MB]).headers["upload-offset"], str(MB))
        [unfinished] = self.client.get(f"api/productions/{self.production}/uploads").json()
        self.assertEqual(
            {unfinished[key] for key in ("name", "size_bytes", "received_bytes")}, {"Kapitel ü.wav", len(self.bytes), MB}
        )
        self.assertEqual(self.rows(), [])
        self.assertEqual(self.piece(url, 0, b"again").status_code, 409)
        self.assertEqual(self.piece(url, MB, self.bytes[MB:]).status_code, 204)
        [row] = self.rows()
        self.assertEqual((row.name, row.sha256), ("Kapitel ü.wav", hashlib.sha256(self.bytes).hexdigest()))
        self.assertEqual(self.stored(row.sha256), self.bytes)
        self.assertEqual(list(settings().incoming.iterdir()), [])
        self.assertEqual(self.client.get(f"api/productions/{self.production}/uploads").json(), [])

    def test_a_connection_that_breaks_in_mid_piece_is_gone_on_with(self):
        url = self.create(len(self.bytes)).headers["location"]
        with self.begin(url, 0, len(self.bytes), self.bytes[: 2 * MB]):
            until(lambda: self.part_of(url).stat().st_size >= MB, what="some of it to be written")
        until(lambda: self.offset(url) > 0, what="what came before the break to be noted")
        offset = self.offset(url)
        self.assertLessEqual(offset, 2 * MB)
        self.piece(url, offset, self.bytes[offset:])
        self.assertEqual([row.sha256 for row in self.rows()], [hashlib.sha256(self.bytes).hexdigest()])

    def part_of(self, url: str):
        return settings().incoming / url.rsplit("/", 1)[1]

    def test_a_server_killed_in_mid_piece_goes_on_from_what_was_noted(self):
        url = self.create(len(self.bytes)).headers["location"]
        self.piece(url, 0, self.bytes[:MB])
        with self.begin(url, MB, 4 * MB, self.bytes[MB : 3 * MB]):
            until(lambda: self.part_of(url).stat().st_size > 2 * MB, what="some of it to be written")
            os.kill(self.web.pid, signal.SIGKILL)
            self.web.wait()
        type(self).web = self.application.web()
        self.assertEqual(self.offset(url), MB, "only what was synced and noted counts")
        self.piece(url, MB, self.bytes[MB:])
        [row] = self.rows()
        self.assertEqual(self.stored(row.sha256), self.bytes)

    def test_a_file_that_was_whole_when_the_server_died_is_finished_by_the_next(self):
        url = self.create(len(self.bytes), name="late.wav").headers["location"]
        self.piece(url, 0, self.bytes[:MB])
        end(self.web)
        uid, incoming = url.rsplit("/", 1)[1], Incoming(settings().incoming)
        with incoming.at_offset(uid) as file:
            file.write(self.bytes[MB:])
        incoming.note(uid, {**(incoming.info(uid) or {}), "offset": len(self.bytes)})
        type(self).web = self.application.web()
        self.assertEqual([row.name for row in self.rows()], ["late.wav"])
        self.assertEqual(incoming.uids(), [])

    def test_finishing_twice_makes_one_recording(self):
        incoming, store = Incoming(settings().incoming), Store(settings().store)
        uid = "f" * 32
        incoming.create(uid)
        incoming.path(uid).write_bytes(b"12345")
        metadata = {"filename": "twice.wav", "production": str(self.production)}
        incoming.note(uid, {"metadata": metadata, "size": 5, "offset": 5})
        with mock.patch.object(Incoming, "remove"):  # as if the process had ended before this
            first = incoming.finish(uid, store)
        self.assertFalse(incoming.path(uid).exists())
        self.assertEqual(incoming.finish(uid, store), first)
        self.assertEqual(len(self.rows()), 1)

    @settings_of_hypothesis(max_examples=15, deadline=None)
    @given(st.lists(st.tuples(st.integers(2, 60_000), st.none() | st.floats(0, 1)), min_size=1, max_size=12))
    def test_any_pieces_with_any_breaks_between_are_the_file(self, pieces):
        """Some pieces break off after a share of what they announce; whatever was noted is gone on from."""
        content = os.urandom(sum(size for size, _ in pieces))
        self.production = productions.create("Pieces", "audiobook-retail")
        url = self.create(len(content)).headers["location"]
        start = 0
        for size, share in pieces:
            if share is not None:
                sent = content[start : start + round(share * (size - 1))]
                self.begin(url, start, size, sent).close()
            start += size
            self.go_on(url, content[:start])
        [row] = self.rows()
        self.assertEqual(self.stored(row.sha256), content)

    def test_what_is_noted_is_never_taken_back_nor_more_than_there_is(self):
        incoming, uid = Incoming(settings().incoming), "c" * 32
        incoming.create(uid)
        self.addCleanup(incoming.remove, uid)
        incoming.path(uid).write_bytes(b"12345")
        for said, noted in ((3, 3), (2, 3), (9, 5), (4, 5)):
            incoming.note_progress(uid, {"size": 9, "offset": said})
            self.assertEqual(incoming.info(uid)["offset"], noted)
        incoming.remove(uid)
        incoming.note_progress(uid, {"size": 9, "offset": 5})
        self.assertIsNone(incoming.info(uid))

    def test_many_who_note_at_once_leave_something_to_be_read(self):
        """Requests that were broken off note their progress late, beside the one that goes on."""
        incoming, uid = Incoming(settings().incoming), "d" * 32
        incoming.create(uid)
        self.addCleanup(incoming.remove, uid)
        incoming.path(uid).write_bytes(bytes(400))
        incoming.note(uid, {"size": 400, "offset": 0})
        with ThreadPoolExecutor(8) as several:
            noted = several.map(lambda offset: incoming.note_progress(uid, {"size": 400, "offset": offset}), range(1, 401))
            seen = [(incoming.info(uid) or {}).get("offset") for _ in range(2000)]
            list(noted)
        self.assertNotIn(None, seen)
        self.assertEqual(seen, sorted(seen))
        self.assertEqual(incoming.info(uid)["offset"], 400)

    def go_on(self, url: str, content: bytes) -> None:
        """As a client does after a break: ask what was noted, send the rest, and ask again where that was refused."""
        for _ in range(20):
            offset = self.offset(url) if self.client.head(url, headers=TUS).status_code == 200 else len(content)
            if offset >= len(content):
                return
            self.assertIn(self.piece(url, offset, content[offset:]).status_code, (204, 409))
        self.fail("the upload does not come to its end")

    def test_a_large_file_passes_through_little_memory(self):
        size = 160 * MB
        url = self.create(size, name="large.wav").headers["location"]

        def highest() -> int:
            status = Path(f"/proc/{self.web.pid}/status").read_text()
            return int(re.search(r"VmHWM:\s+(\d+) kB", status)[1]) * 1024

        self.piece(url, 0, self.bytes[:MB])
        before = highest()
        piece = os.urandom(8 * MB)
        offset = MB
        while offset < size:
            part = piece[: min(len(piece), size - offset)]
            self.assertEqual(self.piece(url, offset, part).status_code, 204)
            offset += len(part)
        self.assertLess(highest() - before, 64 * MB)
        self.assertEqual([row.size_bytes for row in self.rows()], [size])

    def test_too_much_too_little_and_nonsense_are_refused_and_nothing_is_left(self):
        limit = settings().largest_upload_bytes
        self.assertEqual(self.client.get("api/uploads/limits").json(), {"largest_bytes": limit})
        refused = self.create(limit + 1, name="long.wav")
        self.assertEqual(refused.status_code, 413)
        self.assertIn("“long.wav” is larger than", refused.json()["error"])
        self.assertEqual(self.create(5, production="00000000-0000-4000-8000-000000000000").status_code, 404)
        self.assertEqual(self.create(5, production="x").status_code, 404)
        self.assertEqual(self.create(5, replaces="00000000-0000-4000-8000-000000000000").status_code, 404)
        with_body = self.client.post("api/uploads", headers={**TUS, "upload-length": "5"}, content=b"12345")
        self.assertEqual(with_body.status_code, 400)
        elsewhere = {**TUS, "upload-length": "5", "origin": "http://elsewhere.example"}
        self.assertEqual(self.client.post("api/uploads", headers=elsewhere).status_code, 403)
        url = self.create(5).headers["location"]
        self.assertEqual(self.piece(url, 0, b"123456").status_code, 400)
        self.assertEqual(self.offset(url), 0)
        for wrong in ("..", "..%2f..%2fetc", "g" * 32):
            self.assertIn(self.client.head(f"api/uploads/{wrong}", headers=TUS).status_code, (404, 405))
        self.assertEqual(self.client.delete(url, headers=TUS).status_code, 204)
        self.assertEqual(self.client.head(url, headers=TUS).status_code, 404)
        self.assertEqual(list(settings().incoming.iterdir()), [])
        self.assertEqual(self.rows(), [])

    def test_names_that_cannot_be_kept_are_refused_before_the_first_byte(self):
        for name, words in (
            ("a\0b.wav", "a null character"),
            ("a\nb.wav", "a line break"),
            ("a\x1bb.wav", "U+001B"),
            ("n" * 300 + ".wav", "304 bytes long"),
            ("", "could not be read"),
        ):
            refused = self.create(5, name=name)
            with self.subTest(words=words):
                self.assertEqual(refused.status_code, 422)
                self.assertIn(words, refused.json()["error"])
        self.assertEqual(list(settings().incoming.iterdir()), [])

    def test_a_bad_entry_stops_no_start_and_is_set_aside_and_shown(self):
        incoming, store = Incoming(settings().incoming), Store(settings().store)
        good = {"metadata": {"production": str(self.production), "filename": "good.wav"}, "size": 5, "offset": 5}
        entries = {
            "a" * 32: json.dumps({**good, "metadata": {**good["metadata"], "filename": "a\0b.wav"}}),
            "b" * 32: "{",
            "c" * 32: json.dumps({**good, "metadata": None}),
            "d" * 32: json.dumps({"size": 5, "offset": 5, "metadata": {"production": "nowhere", "filename": "d.wav"}}),
            "e" * 32: json.dumps({**good, "size": 9, "offset": 9}),
            "f" * 32: json.dumps(good),
        }
        for uid, text in entries.items():
            self.addCleanup(incoming.remove, uid)
            incoming.path(uid).write_bytes(b"12345")
            incoming.path(uid).with_suffix(".json").write_text(text)
        with mock.patch.object(recordings, "add", side_effect=[ValueError("a secret"), mock.DEFAULT], wraps=recordings.add):
            incoming.sweep(store)
        incoming.sweep(store)
        aside = {one["id"]: one for one in self.client.get("api/uploads/set-aside").json()}
        self.assertEqual("".join(sorted(uid[0] for uid in aside)), "abcef", "that of no production is gone, as it always was")
        self.assertEqual(aside["a" * 32]["name"], "ab.wav")
        self.assertIn("a null character", aside["a" * 32]["problem"])
        self.assertIn("5 of 9 bytes", aside["e" * 32]["problem"])
        self.assertTrue(all(one["problem"] for one in aside.values()))
        self.assertEqual(self.client.get(f"api/productions/{self.production}/uploads").json(), [])
        for uid in aside:
            self.assertEqual(self.client.delete(f"api/uploads/set-aside/{uid}").status_code, 204)
        self.assertEqual(list(settings().incoming.iterdir()), [])

    def test_nobody_is_believed_who_asks_for_another_method(self):
        url = self.create(5).headers["location"]
        tricked = self.client.post(url, headers={**PIECE, "x-http-method-override": "DELETE"})
        self.assertIn(tricked.status_code, (404, 405))
        self.assertEqual(self.offset(url), 0)
        self.client.delete(url, headers=TUS)

    def test_nobody_is_believed_who_says_for_whom_he_speaks(self):
        body = {"name": "A", "specification_id": "audiobook-retail"}
        host = self.client.base_url.netloc.decode()
        told = {"x-forwarded-proto": "https", "x-forwarded-for": "10.1.2.3", "x-forwarded-host": "elsewhere.example"}
        refused = self.client.post("api/productions", json=body, headers={**told, "origin": f"https://{host}"})
        self.assertEqual(refused.status_code, 403)
        self.assertEqual(
            self.client.post("api/productions", json=body, headers={**told, "origin": f"http://{host}"}).status_code, 201
        )

    def test_a_full_disk_is_told_before_the_first_byte(self):
        incoming = Incoming(settings().incoming)
        wanted = {"filename": "a.wav", "production": str(self.production)}
        for full in (settings().incoming, Path(settings().store)):

            def free(path, full=full):
                return mock.Mock(free=10 if Path(path) == full else 10**12)

            with mock.patch("shutil.disk_usage", side_effect=free), self.assertRaisesRegex(Exception, "no room left"):
                incoming.allow(wanted, 100)

    def test_what_nobody_went_on_with_is_let_go_after_a_week(self):
        incoming = Incoming(settings().incoming)
        for uid, age_days in (("a" * 32, 8), ("b" * 32, 6)):
            incoming.create(uid)
            incoming.note(uid, {"metadata": {"production": str(self.production)}, "size": 5, "offset": 2})
            then = time.time() - age_days * 86_400
            os.utime(incoming.path(uid).with_suffix(".json"), (then, then))
        incoming.sweep(Store(settings().store))
        self.assertEqual(incoming.uids(), ["b" * 32])
        incoming.remove("b" * 32)

    def test_the_same_file_twice_and_one_in_the_place_of_another(self):
        def bring(name: str, content: bytes, **more) -> None:
            answer = self.create(len(content), name=name, **more)
            self.assertEqual(answer.status_code, 201, answer.text)
            if content:
                self.assertEqual(self.piece(answer.headers["location"], 0, content).status_code, 204)

        bring("one.wav", b"first")
        bring("two.wav", b"second")
        bring("one.wav", b"first")
        bring("copy of one.wav", b"first")
        twins = [(row.name, row.same_as) for row in self.rows()]
        self.assertEqual(twins, [("one.wav", None), ("two.wav", None), ("copy of one.wav", "one.wav")])
        one = self.rows()[0].id
        bring("one, again.wav", b"better", replaces=one)
        self.assertEqual([row.name for row in self.rows()], ["one, again.wav", "two.wav", "copy of one.wav"])
        newer = recordings.detail(self.rows()[0].id)
        self.assertEqual([earlier.id for earlier in newer.earlier], [one])
        self.assertEqual(recordings.detail(one).replaced_by, newer.id)
        self.assertEqual(self.create(4, replaces=one).status_code, 409)
        bring("one, third.wav", b"best", replaces=newer.id)
        recordings.use_again(one)
        self.assertEqual([row.name for row in self.rows()], ["one.wav", "two.wav", "copy of one.wav"])
        self.assertEqual([earlier.name for earlier in recordings.detail(one).earlier], ["one, third.wav", "one, again.wav"])
        recordings.remove([one, self.rows()[1].id])
        self.assertEqual([row.name for row in self.rows()], ["copy of one.wav"])
        with self.assertRaises(NotFound):
            recordings.detail(one)
        recordings.restore([one])
        self.assertEqual([row.name for row in self.rows()], ["one.wav", "copy of one.wav"])
        bring("empty.wav", b"")
        self.assertEqual(self.rows()[-1].size_bytes, 0)
        with self.assertRaises(NotFound):
            recordings.remove([UUID(int=1)])
