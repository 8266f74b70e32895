"""The take check: whether what it advises leads to a take that meets the specification, how soon a reading is seen, and what
listening costs."""

import random
import statistics
import tempfile
import time
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import expect

from ispettore.core.check.advice import take_check
from ispettore.core.check.figures import check
from ispettore.core.check.live import LiveMeter
from ispettore.core.spec import catalogue
from ispettore.core.treat import keeping
from ispettore.core.treat.live import LiveChain
from ispettore.demo.standin import Setting, StandIn
from tests.ui.interface import BROWSER, FLAGS, InterfaceCase

RATES = (16_000, 44_100, 48_000, 96_000)
SPECIFICATIONS = ("audiobook-retail", "podcast-mono", "broadcast-r128")
SEEDS = range(1_000, 1_120)
MOST = 8
SENT = """() => {
  window.sent = [];
  window.delays = [];
  window.levels = 0;
  const send = WebSocket.prototype.send;
  WebSocket.prototype.send = function (what) {
    if (what instanceof ArrayBuffer) window.sent.push([performance.now(), what.byteLength / 4]);
    if (!this.known) {
      this.known = true;
      this.addEventListener('message', ({ data }) => {
        for (const { at_s } of JSON.parse(data).levels) {
          let frames = 0;
          // The piece that completed this tenth of a second.
          const piece = window.sent.find(([, size]) => (frames += size) >= Math.floor(at_s * window.rate + 0.5));
          if (piece) requestAnimationFrame(() => window.delays.push(performance.now() - piece[0]));
        }
      });
    }
    return send.call(this, what);
  };
}"""


def main() -> None:
    _followed()
    _hum()
    _cost()
    _spoken()
    unittest.TextTestRunner(verbosity=0).run(unittest.defaultTestLoader.loadTestsFromTestCase(Seen))


def _followed() -> None:
    """Rooms, distances, inputs and hums at random; what is advised is done, and looked at again."""
    ends: Counter[str] = Counter()
    for seed in SEEDS:
        chance = random.Random(seed)
        setting = Setting(
            seed=seed,
            distance_cm=chance.uniform(10, 100),
            input_db=chance.uniform(-5, 40),
            room_dbfs=chance.uniform(-100, -66),
            hum_dbfs=chance.choice((None, chance.uniform(-95, -66))),
            hum_hz=chance.choice((50, 60)),
            decay_s=chance.choice((0.2, 0.3, 0.6)),
        )
        rate, spec = chance.choice(RATES), catalogue.find(chance.choice(SPECIFICATIONS))
        for number in range(MOST):  # noqa: B007
            stand_in = StandIn(setting, sample_rate_hz=rate)
            checked = check(stand_in.room(10 * rate), stand_in.reading(20 * rate), sample_rate_hz=rate)
            found = take_check(checked, spec, distance_cm=setting.distance_cm)
            said = " ".join(one.text for one in found.advice if one.must and one.about == "room")
            if found.ready or "elsewhere" in said:
                break
            changed: dict[str, float | None] = {"input_db": setting.input_db + found.turn_db}
            changed |= {"hum_dbfs": None} if "Switch off" in said else {}
            changed |= {"distance_cm": setting.distance_cm - found.nearer_cm} if found.nearer_cm else {}
            setting = setting.model_copy(update=changed)
        ends["elsewhere" if "elsewhere" in said else f"ready at check {number + 1}" if found.ready else "never"] += 1
    print("| what is advised is done | of", len(SEEDS), "|\n| --- | --- |")
    for end, count in sorted(ends.items()):
        print(f"| {end} | {count} |")


def _hum() -> None:
    """What switching off is said to bring, against what it brings."""
    apart = []
    for seed in SEEDS[:40]:
        chance = random.Random(seed)
        room, hum = chance.uniform(-95, -75), chance.uniform(-80, -70)
        setting = Setting(seed=seed, room_dbfs=room, hum_dbfs=hum, hum_hz=chance.choice((50, 60)))
        without = StandIn(setting.model_copy(update={"hum_dbfs": None})).room(10 * 48_000)
        stand_in = StandIn(setting)
        checked = check(stand_in.room(10 * 48_000), stand_in.reading(10 * 48_000), sample_rate_hz=48_000)
        apart.append((checked.without_hum_dbfs or 0.0) - 10 * float(np.log10(np.var(without.astype(np.float64)))))
    print(f"\nThe room without its hum, foretold against heard: median {statistics.median(apart):+.2f} dB, "
          f"from {min(apart):+.2f} to {max(apart):+.2f}")  # fmt: skip


def _cost() -> None:
    for rate in (48_000, 192_000):
        voice = StandIn(Setting(input_db=12), sample_rate_hz=rate).reading(20 * rate)
        meter = LiveMeter(sample_rate_hz=rate, channels=1)
        meter.feed(voice[: rate // 2])
        begun = time.process_time()
        for at in range(0, len(voice), rate // 50):
            meter.feed(voice[at : at + rate // 50])
        print(f"Listening at {rate:,} Hz takes {(time.process_time() - begun) / 20:.2%} of one core")


def _spoken() -> None:
    """What kept treatments cost and hold back while somebody speaks, once they learned from a take check."""
    rate = 48_000
    stand_in = StandIn(Setting(input_db=12))
    known = np.concatenate((stand_in.room(10 * rate), stand_in.reading(15 * rate)))
    voice = stand_in.reading(20 * rate)
    print("\n| heard while recording | begins within | of one core | held back |\n| --- | --- | --- | --- |")
    for treatment in keeping.shipped().values():
        with tempfile.TemporaryDirectory() as folder:
            for _ in range(2):  # kernels are loaded by the first
                begun = time.process_time()
                chain = LiveChain(treatment.steps, sample_rate_hz=rate, channels=1, name="", folder=Path(folder), known=known)
                made = time.process_time() - begun
                begun = time.process_time()
                for at in range(0, len(voice), rate // 50):
                    chain.feed(voice[at : at + rate // 50].copy())
                share = (time.process_time() - begun) / 20
        print(f"| {treatment.name} | {made:.1f} s | {share:.1%} | {1000 * chain.behind_frames / rate:.0f} ms |")


class Seen(InterfaceCase):
    """How long after its last sample a reading is drawn: a piece of 20 ms that is gathered before it is sent comes on top, and the
    tenth of a second that a reading is of."""

    def test_delay(self) -> None:
        stand_in = StandIn(Setting(input_db=9))
        path = self.application.folder / "microphone.wav"
        soundfile.write(path, stand_in.reading(30 * 48_000), 48_000, subtype="PCM_16")
        fake = ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", f"--use-file-for-fake-audio-capture={path}"]
        browser = self.browser.browser_type.launch(executable_path=BROWSER, args=[*FLAGS, *fake])
        self.addCleanup(browser.close)
        self.page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        self.page.add_init_script(f"({SENT})()")
        self.open_production("Delay")
        self.page.evaluate("() => (window.rate = new AudioContext().sampleRate)")
        self.page.get_by_role("link", name="Take check").click()
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.page.get_by_role("status")).to_have_text("Listening. Nothing is kept.")
        self.page.wait_for_timeout(20_000)
        delays = sorted(self.page.evaluate("() => window.delays.slice(20)"))
        at = lambda share: delays[int(share * (len(delays) - 1))]  # noqa: E731
        shares = (0.5, 0.95, 0.99)
        told = ", ".join(f"{share:.0%} within {at(share):.0f} ms" for share in shares)
        whole = ", ".join(f"{at(share) + 120:.0f}" for share in shares)
        print(f"Drawn after the last sample was sent, {len(delays)} readings: {told}")
        print(f"With the piece of 20 ms and the tenth of a second that it is of: {whole} ms")
