"""How soon a change of a draft is heard, in a real browser, by the audio clock: from the key that ends the change to the moment
from which the new sound goes to the loudspeakers.

The moment is that for which the end of the old sound was scheduled on the audio clock. Times of a shared machine; the goal is a
median of 0.4 s over twenty changes.
"""

import json
import re
import statistics
import unittest
from pathlib import Path

from playwright.sync_api import expect

from ispettore.studio.catalogue import productions, recordings
from tests.bench import material, write
from tests.support import until
from tests.ui.interface import InterfaceCase

CHANGES = 20
LISTEN = """() => {
  const Context = window.AudioContext;
  window.AudioContext = class extends Context {
    constructor(...how) {
      super(...how);
      window.clock = this;
    }
  };
  window.taken = [];
  let asked;
  addEventListener('keydown', (event) => { if (event.key === 'Enter' && window.clock) asked = window.clock.currentTime; }, true);
  const stop = AudioBufferSourceNode.prototype.stop;
  AudioBufferSourceNode.prototype.stop = function (when) {
    if (when && asked !== undefined) {
      window.taken.push(when - asked);
      asked = undefined;
    }
    return when === undefined ? stop.call(this) : stop.call(this, when);
  };
}"""
STEPS = (
    {"kind": "rumble-filter", "settings": {"corner_hz": 80}},
    {"kind": "noise-reduction", "settings": {"amount_db": 6}},
    {"kind": "compressor", "settings": {"threshold_dbfs": -26}},
    {"kind": "gain", "settings": {"gain_db": 2}},
    {"kind": "true-peak-limiter", "settings": {"ceiling_dbtp": -4}},
)
TURNED = (
    ("Compressor: threshold", (-28, -30, -24, -27)),
    ("Gain: gain", (1, 3, 2.5, 1.5)),
    ("True-peak limiter: ceiling", (-5, -3.5, -6, -4.5)),
    ("Compressor: ratio", (3, 2.5, 1.5, 4)),
    ("Noise reduction: amount", (8, 5, 7, 9)),
)
"""Four values each for five settings, turned one after the other."""


class Heard(InterfaceCase):
    def changes(self, minutes: float, name: str) -> list[float]:
        path = Path(self.application.folder) / name
        write(path, material(1), minutes)
        production = productions.create(f"Heard, {minutes:.1f} minutes", "audiobook-retail")
        recording = recordings.add(production, name, self.application.store.put_file(path))
        until(lambda: recordings.detail(recording).inspection is not None, what="the inspection", timeout_s=900)
        self.context.add_init_script(f"({LISTEN})()")
        self.page.goto(f"{self.application.address}#/recordings/{recording}")
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.evaluate(
            """async ([id, steps]) => {
              const view = await (await fetch(`/api/recordings/${id}/draft`)).json();
              const body = JSON.stringify({ steps, follows: view.number });
              const headers = { 'content-type': 'application/json' };
              await fetch(`/api/recordings/${id}/draft`, { method: 'PUT', headers, body });
            }""",
            [str(recording), json.loads(json.dumps(STEPS))],
        )
        self.page.reload()
        strip = self.page.get_by_role("group", name="Playing")
        strip.get_by_role("radio", name="Treated").click()
        if minutes > 60:
            box = self.page.locator(".ribbon").bounding_box()
            self.page.mouse.click(box["x"] + box["width"] / 2, box["y"] + 80)
        strip.get_by_role("button", name="Play").click()
        expect(strip.get_by_role("button", name="Stop")).to_be_visible()
        expect(strip.get_by_label("Position")).to_contain_text(re.compile(r"0:0[2-9] of" if minutes < 60 else r":\d[2-9] of"))
        for turn in range(CHANGES):
            label, values = TURNED[turn % len(TURNED)]
            field = self.page.locator("ol").get_by_label(label, exact=True)
            field.fill(str(values[turn // len(TURNED)]))
            field.press("Enter")
            until(lambda turn=turn: self.page.evaluate("() => window.taken.length") > turn, what="the change to be heard")
            self.page.wait_for_timeout(400)
        strip.get_by_role("button", name="Stop").click()
        return self.page.evaluate("() => window.taken")[:CHANGES]

    def tell(self, what: str, times: list[float]) -> None:
        by_setting = {label: statistics.median(times[place :: len(TURNED)]) for place, (label, _) in enumerate(TURNED)}
        median, most = statistics.median(times), max(times)
        print(f"{what}: {CHANGES} changes heard after {median:.2f} s (median; goal 0.40), at most {most:.2f} s")
        print("… " + ", ".join(f"{label} {value:.2f}" for label, value in by_setting.items()))

    def test_half_a_minute(self):
        self.tell("half a minute", self.changes(0.55, "short.wav"))

    def test_three_hours(self):
        self.tell("three hours", self.changes(180, "long.flac"))


def main() -> bool:
    """Print each line; whether all could be measured."""
    found = unittest.defaultTestLoader.loadTestsFromTestCase(Heard)
    return unittest.TextTestRunner(verbosity=0).run(found).wasSuccessful()
