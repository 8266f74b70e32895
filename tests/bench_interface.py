"""How quick the interface is, in a real browser: how soon much material is drawn, and how smoothly it moves.

Times of a shared machine are told as its best; a frame in which nothing moves stands beside those in which something does.
"""

import statistics
import unittest

from playwright.sync_api import expect

from tests.ui.interface import InterfaceCase
from tests.ui.much import CHAPTERS, THOUSANDS, TURN, many_chapters, three_hours, twelve_minutes

TIMES = 3
OPEN = """async (address) => {
  const begun = performance.now();
  location.hash = address;
  const frame = () => new Promise((done) => requestAnimationFrame(done));
  const drawn = () => {
    const canvas = document.querySelector('.ribbon canvas');
    if (!canvas || !canvas.width) return false;
    const pixels = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data;
    return pixels.some((value) => value > 0);
  };
  while (!drawn()) await frame();
  await frame();
  return performance.now() - begun;
}"""
IDLE = """async () => {
  const frames = [];
  let before = performance.now();
  for (let step = 0; step < 40; step++) {
    await new Promise((done) => requestAnimationFrame(done));
    frames.push(performance.now() - before);
    before = performance.now();
  }
  return frames;
}"""
PAINT = """async (address) => {
  const begun = performance.now();
  location.hash = address;
  const frame = () => new Promise((done) => requestAnimationFrame(done));
  while (!document.querySelectorAll('tr[data-name] .verdict').length) await frame();
  await frame();
  return performance.now() - begun;
}"""
SCROLL = """async () => {
  const frames = [];
  let before = performance.now();
  for (let step = 0; step < 240; step++) {
    scrollBy(0, 120); // a quick turn of the wheel: two rows a frame
    await new Promise((done) => requestAnimationFrame(done));
    const now = performance.now();
    frames.push(now - before);
    before = now;
  }
  return frames;
}"""
ANSWERED = """async (id) => {
  const times = [];
  for (let turn = 0; turn < 15; turn++) {
    const begun = performance.now();
    const answer = await fetch(`/api/recordings/${id}/span?start_s=${turn}&end_s=${turn + 600}`);
    await answer.json();
    times.push(performance.now() - begun);
  }
  return times;
}"""


class Quick(InterfaceCase):
    def idle(self) -> float:
        """A frame in which nothing moves, in ms."""
        return statistics.median(self.page.evaluate(IDLE))

    def test_three_hours_on_the_bench(self):
        recording, size = three_hours(self.application.folder, self.application.store)
        self.page.route("**/sound?**", lambda route: route.fulfill(status=404, json={"error": "no sound"}))
        self.page.goto(self.application.address)
        times, turns = [], []
        for _ in range(TIMES):
            expect(self.page.get_by_role("heading", name="Productions")).to_be_visible()
            times.append(self.page.evaluate(OPEN, f"#/recordings/{recording}"))
            closer = self.page.evaluate(TURN, [True, 0, -120, 40])
            sideways = self.page.evaluate(TURN, [False, 60, 0, 40])
            turns.append((statistics.median(closer), statistics.median(sideways)))
            self.page.goto(self.application.address)
        closer, sideways = (min(found) for found in zip(*turns, strict=True))
        print(f"three hours ({size / 1e6:.1f} MB of tiles): drawn after {min(times):.0f} ms (goal 1,000)")
        print(f"… a frame of zooming {closer:.1f}, of panning {sideways:.1f}, of nothing {self.idle():.1f} ms (goal 20)")

    def sheet(self, count: int, long: int) -> None:
        production = many_chapters(self.application.folder, count, long=long)
        times, moves = [], []
        for _ in range(TIMES):
            self.page.goto(self.application.address)
            expect(self.page.get_by_role("link", name=f"{count} chapters")).to_be_visible()
            times.append(self.page.evaluate(PAINT, f"#/productions/{production}"))
            moves.append(self.page.evaluate(SCROLL))
            self.page.reload()
        frames = min(moves, key=statistics.median)
        slow = sorted(frames)[int(0.95 * len(frames))]
        print(f"sheet of {count}: rows after {min(times):.0f} ms (goal 1,000)")
        print(f"… a frame of scrolling {statistics.median(frames):.1f}, one in twenty {slow:.0f}, of nothing {self.idle():.1f} ms")

    def test_a_sheet_of_two_hundred_chapters(self):
        self.sheet(CHAPTERS, 800)

    def test_a_sheet_of_two_thousand_chapters(self):
        self.sheet(THOUSANDS, 60)

    def test_readings_of_ten_minutes(self):
        recording = twelve_minutes(self.application.folder, self.application.store)
        self.page.goto(f"{self.application.address}#/recordings/{recording}")
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        times = self.page.evaluate(ANSWERED, str(recording))
        print(f"readings of 10 minutes: best {min(times):.0f}, median {statistics.median(times):.0f} ms (goal 200)")


def main() -> bool:
    """Print each line; whether all could be measured."""
    found = unittest.defaultTestLoader.loadTestsFromTestCase(Quick)
    return unittest.TextTestRunner(verbosity=0).run(found).wasSuccessful()
