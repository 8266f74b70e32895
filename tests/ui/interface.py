"""What every test of the interface starts from: the whole application, and a page in a real browser on it."""

import atexit
import base64
import os
import re
import signal
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import soundfile
from playwright.sync_api import Locator, Page, expect, sync_playwright

from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.meters import Measured
from ispettore.desk.faults import Faults
from ispettore.studio.catalogue import productions
from ispettore.studio.locations import ROOT
from ispettore.studio.settings import settings
from tests import signals
from tests.desks import TOKEN, served
from tests.support import Application
from tests.ui import words

RATE = 44_100
LEFT, RIGHT = 44, 132  # the ribbon's margins
BROWSER = next(path for path in ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium") if Path(path).exists())
"""Debian's Chromium; the build without windows takes a third less of the processor."""
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
PATIENCE_MS = 60_000
DROP = """([target, files]) => {
  const carried = new DataTransfer();
  for (const [name, content] of files) {
    const bytes = Uint8Array.from(atob(content), (letter) => letter.charCodeAt(0));
    carried.items.add(new File([bytes], name, { lastModified: 1_700_000_000_000 }));
  }
  const area = document.querySelector(target);
  for (const kind of ['dragenter', 'dragover', 'drop'])
    area.dispatchEvent(new DragEvent(kind, { dataTransfer: carried, bubbles: true, cancelable: true }));
}"""


class Stage:
    """The whole application and a browser, started once for a process; each class of tests finds them empty."""

    def __init__(self) -> None:
        self.application = Application().start()
        atexit.register(self.application.stop)
        # Packages can be handed in, to a desk that is sometimes busy or breaks off.
        os.environ["ISPETTORE_DESK"] = served(self.application.folder / "desk", atexit.register, Faults(7))
        os.environ["ISPETTORE_DESK_TOKEN"] = TOKEN
        settings.cache_clear()
        self.web = self.application.web()
        self.worker = self.application.worker()
        playwright = sync_playwright().start()
        atexit.register(playwright.stop)
        self.browser = playwright.chromium.launch(executable_path=BROWSER, args=FLAGS)
        atexit.register(self.browser.close)
        self.axe = (ROOT / "frontend/node_modules/axe-core/axe.min.js").read_text()

    @contextmanager
    def worker_asleep(self) -> Iterator[None]:
        """Let nothing that is under way go on for as long, however quick or busy the machine."""
        os.killpg(self.worker.pid, signal.SIGSTOP)
        try:
            yield
        finally:
            os.killpg(self.worker.pid, signal.SIGCONT)

    def kill_web(self) -> None:
        """End the web process as a crash does, and start another."""
        os.kill(self.web.pid, signal.SIGKILL)
        self.web.wait()
        self.web = self.application.web()


stage = cache(Stage)


class InterfaceCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.stage = stage()
        cls.application, cls.browser, cls.axe = cls.stage.application, cls.stage.browser, cls.stage.axe
        cls.application.empty()

    def setUp(self):
        self.context = self.browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
        self.addCleanup(self.context.close)
        self.page: Page = self.context.new_page()
        self.page.set_default_timeout(PATIENCE_MS)
        expect.set_options(timeout=PATIENCE_MS)
        self.complaints: list[str] = []
        self.page.on("response", lambda answer: answer.status >= 500 and self.complaints.append(f"{answer.status} {answer.url}"))
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.page.on("console", lambda message: message.type == "error" and self.complaints.append(message.text))

    def tearDown(self):
        expected = [text for text in self.complaints if "Failed to load resource" not in text]
        self.assertEqual(expected, [], f"the page complained\n{self.application.log()[-4_000:] if expected else ''}")

    def wav(self, name: str, **voice) -> tuple[str, bytes]:
        path = self.application.folder / "made.wav"
        soundfile.write(path, signals.voice_like(12, rate=RATE, **voice), RATE, subtype="PCM_16")
        return name, path.read_bytes()

    def drop(self, *files: tuple[str, bytes]) -> None:
        encoded = [[name, base64.b64encode(content).decode()] for name, content in files]
        expect(self.page.locator(".area")).to_be_visible()
        self.page.evaluate(DROP, [".area", encoded])

    def grows_to(self, found: Locator, count: int) -> None:
        """Wait until so many are found, for as long as one more comes within the patience: much work is not slow work."""
        while (there := found.count()) < count:
            expect(found).not_to_have_count(there)
        expect(found).to_have_count(count)

    def open_production(self, name: str) -> None:
        production = productions.create(name, "audiobook-retail")
        self.page.goto(f"{self.application.address}#/productions/{production}")
        expect(self.page.get_by_role("heading", name=name)).to_be_visible()

    def open_recording(self, production: str, **voice) -> tuple[str, bytes]:
        """A production with one recording of a made-up voice, 12 s long, on the bench."""
        self.open_production(production)
        name, content = self.wav("one.wav", **voice)
        self.drop((name, content))
        self.row(name).get_by_role("link", name=name).click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.get_by_role("heading", name=name).click()
        return name, content

    def look_at(self, section: str) -> Locator:
        """Turn the left half of the bench to a section; what it shows."""
        self.page.get_by_role("navigation", name=words.INSPECT_SECTIONS).get_by_role("link", name=section).click()
        return self.page.locator(".half").first.locator("section").first

    def turn_to(self, section: str) -> Locator:
        """Turn the right half of the bench to a section; what it shows."""
        self.page.get_by_role("navigation", name=words.TREAT_SECTIONS).get_by_role("link", name=section).click()
        return self.page.locator(".half").last.locator("> section")

    def measured(self, content: bytes, **how) -> Measured:
        """What the core measures of a file's bytes."""
        path = self.application.folder / "again.wav"
        path.write_bytes(content)
        return inspect(path, **how)

    def select(self, start_s: float, end_s: float, *, duration_s: float = 12) -> tuple[float, float]:
        """Drag over the whole ribbon from one time to another; what came of it in seconds."""
        self.page.locator(".ribbon").scroll_into_view_if_needed()
        box = self.page.locator(".ribbon").bounding_box()
        plot = box["width"] - 2 - LEFT - RIGHT
        at = [box["x"] + 1 + LEFT + plot * seconds / duration_s for seconds in (start_s, end_s)]
        self.page.mouse.move(at[0], box["y"] + 80)
        self.page.mouse.down()
        self.page.mouse.move(at[1], box["y"] + 90, steps=5)
        self.page.mouse.up()
        rect = self.page.locator(".ribbon .selection")
        first, width = (float(rect.get_attribute(name)) for name in ("x", "width"))
        return tuple((place - LEFT) / plot * duration_s for place in (first, first + width))

    def picture(self) -> bytes:
        """The drawn ribbon as PNG, once nothing it is drawn from is on its way any more."""
        expect(self.page.locator(".ribbon canvas")).to_have_attribute("data-settled", "true")
        return base64.b64decode(self.page.evaluate("() => document.querySelector('.ribbon canvas').toDataURL().split(',')[1]"))

    def row(self, name: str):
        return self.page.locator(f"tr[data-name='{name}']")

    def row_in(self, page, name: str):
        return page.locator(f"tr[data-name='{name}']")

    def judged(self, name: str, *, patience_ms: int = PATIENCE_MS) -> None:
        """Wait until a recording of the sheet has its verdict."""
        verdict = re.compile(f"{words.INSIDE}|{words.OUTSIDE}")
        expect(self.row(name).locator(".verdict")).to_contain_text(verdict, timeout=patience_ms)

    def after(self, name: str):
        return self.page.locator(f"tr[data-after='{name}']")

    def refused(self, name: str):
        """The row that says why a recording can't be conformed."""
        return self.page.locator(f"tr[data-failed='{name}']")

    def accessible(self) -> None:
        """axe-core finds nothing on the page as it stands."""
        if not self.page.evaluate("() => 'axe' in window"):
            self.page.evaluate(self.axe)
        found = self.page.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")
        faults = [(fault["id"], [node["html"][:160] for node in fault["nodes"]]) for fault in found["violations"]]
        self.assertEqual(faults, [])
