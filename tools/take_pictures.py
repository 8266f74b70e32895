#!/usr/bin/env python3
"""Take the pictures in docs/screenshots from a freshly started demo: tools/take_pictures.py ADDRESS (as ./run demo prints it).

Needs pdftoppm (Debian's poppler-utils) for the printed certificate.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"
BROWSER = next(path for path in ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium") if Path(path).exists())
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync"]
ALMANAC = "Almanac of a Tidal Mill"


def picture(page: Page, name: str) -> None:
    page.wait_for_timeout(300)
    page.screenshot(path=TARGET / f"{name}.png")


def select(page: Page, first: float, last: float) -> None:
    """Drag over the ribbon from one pixel of it to another."""
    box = page.locator(".ribbon").bounding_box()
    if box is None:
        raise SystemExit("there is no ribbon to select on")
    page.mouse.move(box["x"] + first, box["y"] + 80)
    page.mouse.down()
    page.mouse.move(box["x"] + last, box["y"] + 80, steps=4)
    page.mouse.up()


def conform(page: Page, row: str) -> None:
    page.get_by_role("button", name=f"Conform {row}").click()
    expect(page.locator(f"tr:is([data-after='{row}'], [data-failed='{row}'])")).to_be_visible()


def main() -> None:
    address = sys.argv[1]
    expect.set_options(timeout=60_000)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=BROWSER, args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(60_000)
        page.goto(address)
        page.get_by_role("link", name=ALMANAC).wait_for()
        picture(page, "productions")
        page.get_by_role("link", name=ALMANAC).click()
        page.locator("tr[data-name='10 October.wav'] .verdict").wait_for()
        for row in ("02 February.wav", "03 March.wav", "04 April.wav", "10 October.wav"):
            conform(page, row)
        page.mouse.wheel(0, -4_000)
        page.wait_for_timeout(300)
        picture(page, "sheet")
        page.goto(f"{address}#/specifications/audiobook-retail")
        page.get_by_role("button", name="Copy").click()
        page.get_by_label("Name of the copy").fill("Tidal mill, house limits")
        page.keyboard.press("Enter")
        page.get_by_label("RMS level, at least").fill("-21")
        page.get_by_role("button", name="Keep as version 2").click()
        page.get_by_role("list", name="Changes").wait_for()
        page.get_by_label("Peak, at most").fill("-25")
        page.get_by_text("No file can meet both").first.wait_for()
        picture(page, "specification")
        page.goto(address)
        page.get_by_role("link", name=ALMANAC).click()
        for row, name in (("03 March.wav", "recording"), ("04 April.wav", "cleaning"), ("10 October.wav", "impossible")):
            page.get_by_role("link", name=row).click()
            page.get_by_role("heading", name=row).wait_for()
            page.mouse.move(640, 20)
            if name == "cleaning":
                page.get_by_text("The steady noise of the room").scroll_into_view_if_needed()
                page.mouse.wheel(0, 250)
                page.wait_for_timeout(300)
            if name == "recording":
                page.get_by_role("heading", name=row).click()
                page.keyboard.press("Space")
                page.wait_for_timeout(3_000)
                page.keyboard.press("x")
                page.keyboard.press("Space")
            picture(page, name)
            page.go_back()
        page.get_by_role("link", name="03 March.wav").click()
        page.get_by_role("heading", name="03 March.wav").click()
        page.keyboard.press("s")
        select(page, 300, 460)
        page.get_by_role("img", name="Spectrogram from").wait_for()
        page.locator("dd[data-quantity=integrated_loudness_lufs]").wait_for()
        picture(page, "selection")
        page.keyboard.press("s")
        page.keyboard.press("u")
        select(page, 1070, 1090)
        page.get_by_role("button", name="Take the selection as room tone").scroll_into_view_if_needed()
        page.mouse.wheel(0, 600)
        picture(page, "room-tone")
        page.keyboard.press("Escape")
        page.keyboard.press("x")
        page.mouse.wheel(0, -4_000)
        page.get_by_role("button", name="Compare blind").click()
        page.get_by_role("button", name="Begin").click()
        page.wait_for_timeout(1_200)
        picture(page, "blind")
        page.get_by_role("button", name="Give up").click()
        page.go_back()
        page.get_by_role("link", name="07 July.wav").click()
        page.get_by_role("region", name="All readings").get_by_role("button", name="Signal to noise").hover()
        page.mouse.wheel(0, 2_000)
        page.wait_for_timeout(300)
        page.get_by_role("region", name="All readings").get_by_role("button", name="Signal to noise").hover()
        picture(page, "findings")
        page.go_back()
        done = page.locator("tr[data-after='03 March.wav']")
        with tempfile.TemporaryDirectory() as folder:
            taken = []
            for link in ("MP3", "Certificate"):
                with page.expect_download() as download:
                    done.get_by_role("link", name=link).click()
                taken.append(Path(folder) / download.value.suggested_filename)
                download.value.save_as(taken[-1])
            page.get_by_role("link", name="03 March.wav").click()
            with page.expect_download() as download:
                page.get_by_role("link", name="Certificate, printable").click()
            subprocess.run(
                ["pdftoppm", "-r", "80", "-png", "-singlefile", download.value.path(), TARGET / "certificate"], check=True
            )
            page.get_by_role("link", name="Verify a certificate").click()
            page.get_by_label("Certificate and file").set_input_files(taken)
            page.get_by_text("Measured again and compared").wait_for()
            picture(page, "verify")
        browser.close()


if __name__ == "__main__":
    main()
