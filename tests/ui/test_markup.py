"""Markup in whatever a person may write is text on every screen: nothing of it becomes part of the page, and nothing runs."""

import json
from uuid import uuid4

import httpx
from playwright.sync_api import expect

from tests.support import until
from tests.ui.everywhere import EveryScreenCase

MARK = '<img src=x onerror="window.struck=1"><script>window.struck=2</script>'
FOUND = """() => document.querySelectorAll('img[src="x"], img[onerror], body script:not([src])').length + (window.struck ?? 0)"""
"""How much of it became part of the page."""


class Markup(EveryScreenCase):
    def asked(self, method: str, path: str, **named):
        answer = httpx.request(method, f"{self.application.address.rstrip('/')}/api{path}", timeout=60, **named)
        self.assertLess(answer.status_code, 400, f"{path}: {answer.text}")
        return answer.json() if answer.content else None

    def fill(self, sheet: str, recording: str) -> list[str]:
        """Write it into everything that takes words; the addresses of the screens that came of it."""
        production = sheet.removeprefix("/productions/")
        short = MARK[:36]
        self.asked("PATCH", f"/productions/{production}", json={"name": MARK, "notes": MARK})
        self.asked("PATCH", f"/recordings/{recording}", json={"name": f"{MARK}.wav"})
        entry = {"recording": recording, "entry": {"title": MARK}}
        self.asked("PUT", f"/productions/{production}/entries", json={"entries": [entry]})
        labels = {"album": MARK, "author": MARK, "narrator": MARK, "publisher": MARK}
        self.asked("PATCH", f"/productions/{production}/delivery", json={**labels, "certified_by": MARK})
        copied = self.asked("POST", "/specifications/audiobook-retail/copy", json={"name": MARK})["id"]
        taken = self.asked("POST", "/treatments/quiet-room/copy", json={"name": MARK})["id"]
        self.asked("POST", f"/listen/recording/{recording}/notes", json={"at_s": 1, "text": MARK, "who": short})
        heard = [{"start_s": 0, "end_s": 3, "speed": 1}]
        told = {"id": str(uuid4()), "of": "recording", "subject": recording, "who": short, "spans": heard}
        self.asked("POST", "/listenings", json=told)
        other = self.asked("POST", "/productions", json={"name": f"{MARK} removed", "specification_id": copied})["id"]
        self.asked("POST", f"/productions/{other}/remove")
        self.asked("POST", f"/recordings/{recording}/conform", json={})
        until(lambda: self.asked("GET", "/certificates")["total"], what="a certificate")
        (certificate,) = self.asked("GET", "/certificates")["rows"]
        self.asked("POST", f"/certificates/{certificate['id']}/withdraw", json={"reason": MARK, "by": MARK})
        self.asked("POST", "/people", json={"name": MARK, "sign_in": "mark", "roles": ["administrator"]})
        return [f"/specifications/{copied}", f"/treatments/{taken}", f"/certificates/{certificate['id']}"]

    def test_what_people_write_is_text_wherever_it_is_shown(self):
        screens = self.screens()
        sheet, bench = screens[:2]
        screens += self.fill(sheet, bench.removeprefix("/recordings/"))
        shown = 0
        for place in screens:
            with self.subTest(place=place.partition("/")[2].partition("/")[0], at=place):
                self.visit(place)
                expect(self.page.locator("main")).to_be_visible()
                for section in self.page.locator("details:not([open]) > summary").all():
                    section.click()
                self.assertEqual(self.page.evaluate(FOUND), 0)
                said = self.page.locator("main").inner_text() + json.dumps(
                    self.page.locator("main input, main textarea").evaluate_all("found => found.map((one) => one.value)")
                )
                shown += "<script>window.struck=2</script>" in said.replace("\\", "")
        self.assertGreaterEqual(shown, 12, "and it is shown as it was written")


if __name__ == "__main__":
    import unittest

    unittest.main()
