#!/usr/bin/env python3
"""Take the pictures in docs/screenshots from a freshly started demo: tools/take_pictures.py ADDRESS (as ./run demo prints it)."""

import re
import sys
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Locator, Page, expect, sync_playwright
from tests.ui import words

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"
BROWSER = next(path for path in ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium") if Path(path).exists())
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync"]
ALMANAC = "Almanac of a Tidal Mill"
MADE = """async () => {
  const [demo, productions] = await Promise.all(
    ['demo', 'productions'].map(async (what) => (await fetch(`/api/${what}`)).json()),
  );
  const busy = productions.flatMap((one) => one.standing).filter((one) => ['unmeasured', 'running'].includes(one.status));
  return demo?.state !== 'running' && demo?.state !== 'waiting' && busy.length === 0;
}"""
"""That the demo is made and measured."""


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


def bench(page: Page, row: str) -> None:
    """Open a recording's bench, and point at nothing."""
    page.get_by_role("link", name=row).click()
    page.get_by_role("heading", name=row).wait_for()
    page.locator(".ribbon canvas[data-settled=true]").wait_for()
    page.mouse.move(640, 20)
    page.get_by_role("heading", name=row).click()


def look_at(page: Page, section: str) -> Locator:
    """Turn the left half to a section."""
    page.get_by_role("navigation", name=words.INSPECT_SECTIONS).get_by_role("link", name=section).click()
    return page.locator(".half").first


def turn_to(page: Page, section: str) -> None:
    """Turn the right half to a section."""
    page.get_by_role("navigation", name=words.TREAT_SECTIONS).get_by_role("link", name=section).click()


def add(page: Page, title: str) -> None:
    page.get_by_role("button", name=words.ADD_STEP).click()
    page.get_by_role("group", name=words.STEPS_TO_ADD).get_by_role("button", name=re.compile(f"^{title} [A-Z]")).click()


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
        address = page.evaluate("() => location.origin + '/'")  # without the start token
        page.get_by_role("link", name=ALMANAC).wait_for()
        page.wait_for_function(MADE)
        picture(page, "productions")
        page.get_by_role("link", name=ALMANAC).click()
        page.locator("tr[data-name='10 October.wav'] .verdict").wait_for()
        for row in ("02 February.wav", "03 March.wav", "04 April.wav", "10 October.wav"):
            conform(page, row)
        page.mouse.wheel(0, -4_000)
        page.wait_for_timeout(300)
        picture(page, "sheet")
        page.goto(f"{address}#/specifications/audiobook-retail")
        page.get_by_role("button", name=words.COPY).click()
        page.get_by_label(words.COPY_NAME).fill("Tidal mill, house limits")
        page.keyboard.press("Enter")
        page.get_by_label("RMS level, at least").fill("-21")
        page.get_by_role("button", name="Save as version 2").click()
        page.get_by_role("list", name=words.CHANGES).wait_for()
        page.get_by_label("Peak, at most").fill("-25")
        page.get_by_text(words.NO_FILE_MEETS_BOTH).first.wait_for()
        picture(page, "specification")
        page.goto(address)
        page.get_by_role("link", name=ALMANAC).click()
        bench(page, "03 March.wav")
        page.keyboard.press("h")
        page.wait_for_timeout(3_000)
        page.keyboard.press("x")
        page.keyboard.press("h")
        turn_to(page, "Result")
        picture(page, "recording")
        page.keyboard.press("x")
        page.go_back()
        bench(page, "07 July.wav")
        page.get_by_role("button", name="Use the light plan").click()
        page.locator("li[data-step=gain]").wait_for()
        add(page, "Compressor")
        page.get_by_role("radio", name=words.PROCESSED).click()
        page.locator(".verdict", has_text="Expected").wait_for()
        look_at(page, "Limits")
        picture(page, "treatment")
        look_at(page, "Findings").locator("button.place").first.click()
        page.get_by_role("group", name=words.WORK_ON_THE_SELECTION).get_by_role("button").first.wait_for()
        page.mouse.move(640, 20)  # no explanation over it
        page.locator(".span [data-quantity]").first.wait_for()
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
            page.get_by_role("link", name=words.VERIFY).click()
            page.get_by_label("Certificate and file").set_input_files(taken)
            page.get_by_text("Re-measured").wait_for()
            picture(page, "verify")
        edits(page, address)
        voices(page, address)
        versions(page, address)
        consistency(page, address)
        saved_treatment(page, address)
        whole(page, address)
        deliver(page, address)
        certificates(page, address)
        record(page, address)
        take_check(page, address)
        bed(page, address)
        browser.close()


def take_check(page: Page, address: str) -> None:
    """The stand-in, as it reads after the room was heard, over what last week's check came to."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    page.get_by_role("link", name="Take check").click()
    page.get_by_label("Listen to").select_option("stand-in")
    page.get_by_role("button", name="Start listening").click()
    page.get_by_role("button", name="Check room and voice").wait_for()
    page.wait_for_timeout(6_000)
    page.get_by_role("button", name="Check room and voice").click()
    expect(page.get_by_role("group", name="Check").get_by_role("status")).to_contain_text("Now read")
    page.wait_for_timeout(9_000)
    picture(page, "take-check")
    page.get_by_role("button", name="Stop listening").click()


def bed(page: Page, address: str) -> None:
    """The museum guide with its bed, as predicted and as it came in the file that is made."""
    page.goto(address)
    page.get_by_role("link", name="Museum guide").click()
    bench(page, "Room of instruments.wav")
    panel = look_at(page, "Bed")
    conforms = page.get_by_role("button", name=words.CONFORM, exact=True)
    if conforms.count():
        conforms.click()
    panel.get_by_role("columnheader", name="In the file").wait_for()
    page.evaluate("() => scrollTo(0, 0)")
    page.wait_for_timeout(500)
    picture(page, "bed")


def edits(page: Page, address: str) -> None:
    """What is proposed to be cut out, a retake and shorter pauses over one recording; taken back afterwards."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    bench(page, "05 May.wav")
    panel = look_at(page, "Edits")
    identifier = page.evaluate("() => location.hash.split('/')[2]")
    sound = page.request.get(f"{address}api/recordings/{identifier}/file-sound?start=0&frames=260000").body()
    wave = np.frombuffer(sound, dtype="<f4")[44_100:] * 0.5
    for at_s, title in ((0.0, "The mill in May"), (14.0, "Eels")):
        page.request.post(f"{address}api/recordings/{identifier}/chapters", data={"at_s": at_s, "title": title})
    with tempfile.TemporaryDirectory() as folder:
        take = Path(folder) / "05 May, again.wav"
        soundfile.write(take, wave, 44_100)
        select(page, 300, 430)
        panel.get_by_label("Retake", exact=True).set_input_files(take)
        panel.get_by_role("listitem").filter(has_text="retake").wait_for()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    page.locator(".ribbon path.join").first.wait_for()
    panel.get_by_label("Longest pause in seconds").fill("0.7")
    expect(panel.get_by_role("button", name="Set pauses")).to_be_enabled()
    panel.get_by_role("button", name="Set pauses").click()
    expect(panel).to_contain_text("No pause is like that.")
    expect(page.get_by_role("button", name="Use the light plan")).to_be_visible()
    page.mouse.move(640, 20)
    panel.get_by_role("group", name="Read again").scroll_into_view_if_needed()
    page.evaluate("() => scrollTo(0, 400)")
    picture(page, "edits")
    for _ in range(2):
        panel.get_by_role("button", name="Undo edit").click()
        page.wait_for_timeout(4_000)
    expect(panel).to_contain_text("Nothing is edited.")
    while panel.get_by_role("button", name="Remove the mark").count():
        panel.get_by_role("button", name="Remove the mark").first.click()
        page.wait_for_timeout(1_500)


def voices(page: Page, address: str) -> None:
    """Two voices in one recording, the one brought to the other."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    bench(page, "07 July.wav")
    look_at(page, "Voices").get_by_label(words.IN_TONE_TOO).check()
    page.get_by_role("button", name=words.PUT_INTO_THE_TREATMENT).click()
    page.locator("li[data-step=spot-gain]").wait_for()
    page.locator(".verdict").wait_for()
    page.evaluate("() => scrollTo(0, 0)")
    picture(page, "voices")


def versions(page: Page, address: str) -> None:
    """Two versions of a recording side by side."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    bar = page.get_by_role("group", name=words.SELECTED_RECORDINGS)
    page.get_by_label("Select 04 April.wav").check()
    bar.get_by_label(words.TREATMENT).select_option(label="A quiet room")
    bar.get_by_role("button", name=words.CONFORM).click()
    expect(page.locator("tr[data-after='04 April.wav']")).to_contain_text("A quiet room")
    bar.get_by_role("button", name=words.CLEAR_SELECTION).click()
    bench(page, "04 April.wav")
    turn_to(page, "History")
    page.get_by_role("button", name=words.COMPARE, exact=True).click()
    page.get_by_role("region", name=words.TWO_VERSIONS).get_by_role("list", name=words.DONE_DIFFERENTLY).wait_for()
    picture(page, "versions")


def consistency(page: Page, address: str) -> None:
    """The recordings of a production against one another."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    page.get_by_role("link", name=words.CONSISTENCY).click()
    page.get_by_role("region", name=words.SPECTRA).wait_for()
    picture(page, "consistency")


def saved_treatment(page: Page, address: str) -> None:
    """One's own, in two versions, used on three recordings: what is delivered later was made so."""
    page.goto(f"{address}#/treatments")
    page.get_by_role("button", name="Copy A quiet room").click()
    page.get_by_label(words.TREATMENT_NAME).fill("The mill's reading room")
    page.get_by_label("Compressor: Ratio").click()
    page.keyboard.press("Control+A")
    page.keyboard.type("1.6")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Save as version 2").click()
    page.get_by_role("list", name=words.CHANGES).get_by_text("1.6").wait_for()
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    rows = ("01 January.wav", "06 June.wav", "09 September.wav")
    for row in rows:
        page.get_by_label(f"Select {row}").check()
    bar = page.get_by_role("group", name=words.SELECTED_RECORDINGS)
    bar.get_by_label(words.TREATMENT).select_option(label="The mill's reading room")
    bar.get_by_role("button", name=words.CONFORM).click()
    for row in rows:
        page.locator(f"tr[data-after='{row}']").wait_for()


def deliver(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    page.get_by_role("link", name=words.DELIVER).click()
    page.get_by_role("button", name=re.compile("^Make [0-9]+ files")).click()
    for row in ("01 January", "02 February", "09 September"):
        page.locator(f"[data-deliver='{row}.wav']").get_by_role("link", name=words.CERTIFIED).wait_for()
    page.get_by_role("link", name="Download 9 as ZIP").wait_for()
    page.mouse.move(640, 20)
    picture(page, "deliver")
    page.locator("[data-deliver='03 March.wav']").get_by_role("link", name="Listen").click()
    page.get_by_role("heading", name="Listen: 03 March.wav").wait_for()
    page.get_by_label(words.LISTENER).fill("Elspeth Sluice")
    page.keyboard.press("Enter")
    page.get_by_label(words.SPEED).select_option("2")
    page.get_by_role("button", name=words.PLAY).click()
    page.wait_for_timeout(3_000)
    for key, text in (("m", "“wier” for weir"), ("n", "a chair"), ("r", "runs out of breath")):
        page.keyboard.press(key)
        page.wait_for_timeout(600)
        page.keyboard.type(text)
        page.keyboard.press("Enter")
        page.wait_for_timeout(2_000)
    pause = page.get_by_role("button", name=words.PAUSE)
    if pause.count():  # on a slow machine the file has ended by itself
        pause.click()
    page.get_by_text("heard by Elspeth Sluice").first.wait_for()
    picture(page, "listen")


def certificates(page: Page, address: str) -> None:
    """The list, with one issued again after listening, one withdrawn, and that of a production; then one."""
    page.goto(address)
    page.get_by_role("link", name="Museum guide").click()
    page.get_by_role("link", name=words.DELIVER).click()
    page.get_by_label(words.CERTIFIED_BY).fill("Morten Ebb")
    page.keyboard.press("Enter")
    page.get_by_role("button", name=re.compile("^Make [0-9]+ files")).click()
    page.get_by_role("button", name=words.CERTIFY_THE_PRODUCTION).click()
    page.get_by_role("link", name=words.PRODUCTION_CERTIFIED).wait_for()
    page.get_by_role("link", name=words.CERTIFICATES, exact=True).click()
    page.get_by_label(re.compile("^Of ")).select_option("Delivered files")
    for name, act, reason in (
        ("05 May.mp3", "Withdraw", "“Weir” was read as “wire”; the chapter is recorded again."),
        ("03 March.mp3", "Issue again", "Listened to since"),
    ):
        page.get_by_role("link", name=name).first.click()
        page.get_by_role("button", name=f"{act}…").click()
        dialog = page.locator("dialog[open]")
        dialog.get_by_label(words.REASON).fill(reason)
        dialog.get_by_role("button", name=act, exact=True).click()
        page.get_by_text("Replaces" if act == "Issue again" else "Withdrawn on").first.wait_for()
        if act == "Issue again":
            picture(page, "certificate")
        page.get_by_role("link", name=words.CERTIFICATES, exact=True).first.click()
        page.get_by_label(re.compile("^Of ")).select_option("Delivered files")
    page.get_by_label(re.compile("^Of ")).select_option("Everything")
    page.locator("tbody tr").nth(12).wait_for()
    page.mouse.move(640, 20)
    picture(page, "certificates")


def record(page: Page, address: str) -> None:
    """What was done to the almanac, and its archive, which is made."""
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    page.get_by_role("link", name=words.RECORD, exact=True).click()
    page.get_by_role("button", name=words.MAKE_THE_ARCHIVE).click()
    page.get_by_role("link", name=words.DOWNLOAD_THE_ARCHIVE).wait_for()
    page.get_by_text("How, in").first.wait_for()
    page.mouse.move(640, 20)
    picture(page, "record")


def whole(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("link", name=ALMANAC).click()
    page.get_by_role("link", name=words.CONFORM_ALL).click()
    page.get_by_text("recordings will conform").wait_for()
    page.mouse.move(640, 20)
    picture(page, "whole")


if __name__ == "__main__":
    main()
