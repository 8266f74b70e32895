"""The built page is sent as it was packed, and kept for good."""

import tempfile
import unittest
from pathlib import Path

from starlette.exceptions import HTTPException
from starlette.testclient import TestClient

from ispettore.web.assets import FOR_GOOD, Assets, takes


class Sent(unittest.TestCase):
    def setUp(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "Sheet-1a.js").write_text("let almanac;")
        (folder / "Sheet-1a.js.br").write_bytes(b"packed")
        (folder / "words-2b.woff2").write_bytes(b"font")
        self.client = TestClient(Assets(folder))

    def test_a_packed_part_is_sent_to_who_takes_it(self):
        with self.client.stream("GET", "/Sheet-1a.js", headers={"accept-encoding": "gzip, br"}) as answer:
            self.assertEqual(b"".join(answer.iter_raw()), b"packed")
        self.assertEqual(answer.headers["content-encoding"], "br")
        self.assertIn("javascript", answer.headers["content-type"])
        self.assertEqual((answer.headers["cache-control"], answer.headers["vary"]), (FOR_GOOD, "accept-encoding"))

    def test_who_does_not_take_it_gets_it_as_it_is(self):
        for accepted in ("gzip", "br;q=0, gzip", "identity", ""):
            answer = self.client.get("/Sheet-1a.js", headers={"accept-encoding": accepted})
            self.assertEqual((answer.text, answer.headers["vary"]), ("let almanac;", "accept-encoding"), accepted)
            self.assertNotIn("content-encoding", answer.headers)

    def test_what_is_not_packed_and_what_is_not_there(self):
        font = self.client.get("/words-2b.woff2", headers={"accept-encoding": "br"})
        self.assertEqual((font.content, font.headers["cache-control"]), (b"font", FOR_GOOD))
        self.assertNotIn("vary", font.headers)
        with self.assertRaises(HTTPException) as missing:
            self.client.get("/Sheet-0.js")  # of an older build: the page offers to load itself again
        self.assertEqual(missing.exception.status_code, 404)

    def test_weights_are_read(self):
        for accepted, taken in (("br", True), ("gzip, BR;q=0.5", True), ("br; q=0.000", False), ("gzip", False), ("br;q=x", True)):
            self.assertIs(takes(accepted, "br"), taken, accepted)
