"""Bringing files in through the page: many and in folders, broken off and gone on with, refused before they are sent."""

import base64
import hashlib
import os
import tempfile
from pathlib import Path

from playwright.sync_api import expect

from ispettore.studio.catalogue import sheets
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from tests.support import until
from tests.ui import words
from tests.ui.interface import InterfaceCase

MB = 1024 * 1024


class Uploads(InterfaceCase):
    def rows(self) -> list:
        return sheets.sheet(self.production_id()).recordings

    def production_id(self):
        return self.page.url.rsplit("/", 1)[1]

    def hold(self, *, after: int):
        """Let so many pieces through, then hold the next until `release`; the list of what was asked is returned."""
        asked = []

        def route(handled):
            if handled.request.method == "PATCH":
                asked.append(int(handled.request.headers["upload-offset"]))
                if len(asked) > after:
                    return  # neither answered nor failed: on its way
            handled.continue_()

        self.page.route("**/api/uploads/**", route)
        return asked

    def noise(self, size: int) -> bytes:
        """A WAV header over noise, so large that it takes several pieces."""
        header = b"RIFF" + (size - 8).to_bytes(4, "little") + b"WAVEfmt \x10\0\0\0\1\0\1\0\x44\xac\0\0\x88\x58\1\0\2\0\x10\0data"
        return header + (size - 44).to_bytes(4, "little") + os.urandom(size - 44)

    def choose(self, name: str, content: bytes) -> None:
        """Through the file dialogue, which keeps a file's own time of change."""
        path = self.application.folder / self.id() / name
        if not path.exists():
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(content)
        self.page.get_by_label("Recordings to add").set_input_files(str(path))

    def test_a_reload_in_mid_upload_goes_on_where_it_was(self):
        self.open_production("Reloaded")
        content = self.noise(20 * MB)
        asked = self.hold(after=1)
        self.choose("long.wav", content)
        until(lambda: self.page.wait_for_timeout(50) or len(asked) == 2, what="the second piece")
        self.page.reload()
        self.page.unroute("**/api/uploads/**")
        part = self.page.locator("tr[data-part='long.wav']")
        expect(part).to_contain_text("Upload stopped at")
        self.accessible()
        later = self.hold(after=9)
        self.choose("long.wav", content)
        until(lambda: self.page.wait_for_timeout(50) or len(self.rows()) == 1, what="the recording")
        self.assertGreaterEqual(later[0], 8 * MB, "not from the start again")
        [row] = self.rows()
        self.assertEqual(row.sha256, hashlib.sha256(content).hexdigest())
        self.assertEqual(b"".join(Store(settings().store).read(row.sha256, name=row.name)), content)
        expect(part).to_have_count(0)

    def test_a_killed_server_is_waited_for(self):
        self.open_production("Killed")
        content = self.noise(20 * MB)
        asked = self.hold(after=1)
        self.choose("killed.wav", content)
        until(lambda: self.page.wait_for_timeout(50) or len(asked) == 2, what="the second piece")
        self.stage.kill_web()
        self.page.unroute("**/api/uploads/**")
        self.page.reload()
        self.choose("killed.wav", content)
        until(lambda: self.page.wait_for_timeout(50) or len(self.rows()) == 1, what="the recording")
        self.assertEqual(self.rows()[0].sha256, hashlib.sha256(content).hexdigest())

    def test_a_broken_connection_is_tried_again_by_itself(self):
        self.open_production("Broken")
        name, content = self.wav("broken.wav", rms_dbfs=-20, room_dbfs=-75)
        failed = []

        def route(handled):
            if handled.request.method == "PATCH" and len(failed) < 2:
                failed.append(handled.request.url)
                handled.abort("connectionreset")
            else:
                handled.continue_()

        self.page.route("**/api/uploads/**", route)
        self.drop((name, content))
        expect(self.row(name).locator(".verdict")).to_contain_text(words.INSIDE)
        self.assertEqual(len(failed), 2)
        self.page.unroute("**/api/uploads/**")

    def test_what_failed_in_the_end_is_tried_again_by_hand(self):
        self.open_production("By hand")
        name, content = self.wav("late.wav", rms_dbfs=-20, room_dbfs=-75)

        def broken(route):
            if route.request.method == "PATCH":
                route.abort("connectionreset")
            else:
                route.continue_()

        self.page.route("**/api/uploads/**", broken)
        self.drop((name, content))
        expect(self.page.get_by_role("alert")).to_contain_text("Your progress is saved; try again to resume")
        self.accessible()
        self.page.unroute("**/api/uploads/**")
        self.page.get_by_role("button", name=words.TRY_AGAIN).click()
        expect(self.row(name).locator(".verdict")).to_contain_text(words.INSIDE)
        self.assertEqual([row.name for row in self.rows()], [name])

    def test_one_is_cancelled_and_the_rest_come_in(self):
        self.open_production("Cancelled")
        name, content = self.wav("2 stays.wav", rms_dbfs=-20, room_dbfs=-75)
        asked = self.hold(after=0)
        self.drop(("1 gone.wav", content + b"\0"), (name, content))
        until(lambda: self.page.wait_for_timeout(50) or len(asked) == 1, what="the first piece")
        expect(self.page.get_by_role("progressbar", name="Queued 2 stays.wav")).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name="Cancel 1 gone.wav").click()
        until(lambda: self.page.wait_for_timeout(50) or len(asked) == 2, what="the next file's first piece")
        self.page.unroute("**/api/uploads/**")
        expect(self.row(name)).to_be_visible()
        self.assertEqual([row.name for row in self.rows()], [name])
        self.assertEqual(list(settings().incoming.glob("*")), [])

    def test_what_is_too_large_is_said_before_anything_is_sent(self):
        self.page.route("**/api/uploads/limits", lambda route: route.fulfill(json={"largest_bytes": 1_000_000}))
        self.open_production("Large")
        expect(self.page.get_by_text("The limit is 1.0 MB")).to_be_visible()
        sent = []
        self.page.on("request", lambda request: request.method == "POST" and sent.append(request.url))
        self.drop(("large.wav", b"\0" * 1_100_000))
        expect(self.page.get_by_role("alert")).to_contain_text("“large.wav” is 1.1 MB; the limit is 1.0 MB")
        self.assertEqual(sent, [])
        self.accessible()
        self.page.get_by_role("button", name="Dismiss").click()
        expect(self.page.get_by_role("alert")).to_have_count(0)

    def test_a_folder_comes_in_by_its_chapters(self):
        self.open_production("Folder")
        _, content = self.wav("x.wav", rms_dbfs=-20, room_dbfs=-75)
        with tempfile.TemporaryDirectory() as folder:
            book = Path(folder) / "book"
            (book / "part 2").mkdir(parents=True)
            (book / "part 10").mkdir()
            for name in ("part 10/1.wav", "part 2/10.wav", "part 2/9.wav"):
                (book / name).write_bytes(content + name.encode())
            (book / "cover.png").write_bytes(base64.b64decode("iVBORw0KGgo="))
            (book / ".hidden").write_bytes(b"x")
            self.page.get_by_label("Folder to add").set_input_files(str(book))
            expect(self.page.get_by_text("Skipped (not audio): cover.png")).to_be_visible()
            until(lambda: self.page.wait_for_timeout(50) or len(self.rows()) == 3, what="three recordings")
        self.assertEqual([row.name for row in self.rows()], ["9.wav", "10.wav", "1.wav"])

    def test_a_dropped_folder_is_walked_to_its_depth(self):
        self.open_production("Dropped folder")
        _, content = self.wav("x.wav", rms_dbfs=-20, room_dbfs=-75)
        encoded = base64.b64encode(content).decode()
        # A drop from outside can't be made by a script, so its entries are; they give ten files at a time, as real ones may.
        self.page.evaluate(
            """(encoded) => {
              const bytes = Uint8Array.from(atob(encoded), (letter) => letter.charCodeAt(0));
              const file = (path, type = 'audio/wav') => ({
                isDirectory: false,
                fullPath: path,
                file: (found) => found(new File([bytes, path], path.split('/').at(-1), { type })),
              });
              const folder = (path, entries) => ({
                isDirectory: true,
                fullPath: path,
                createReader: () => {
                  const left = [...entries];
                  return { readEntries: (found) => found(left.splice(0, 10)) };
                },
              });
              const chapters = Array.from({ length: 12 }, (_, at) => file(`/book/part 2/${12 - at}.wav`));
              const inside = folder('/book/part 2', chapters);
              const others = [file('/book/0 title.wav'), file('/book/notes.txt', 'text/plain')];
              const book = folder('/book', [inside, ...others]);
              const event = new Event('drop', { bubbles: true, cancelable: true });
              const item = { kind: 'file', webkitGetAsEntry: () => book, getAsFile: () => null };
              event.dataTransfer = { types: ['Files'], items: [item] };
              document.querySelector('.area').dispatchEvent(event);
            }""",
            encoded,
        )
        expect(self.page.get_by_text("Skipped (not audio): notes.txt")).to_be_visible()
        until(lambda: self.page.wait_for_timeout(50) or len(self.rows()) == 13, what="every chapter")
        self.assertEqual([row.name for row in self.rows()], ["0 title.wav", *(f"{at}.wav" for at in range(1, 13))])
        self.page.get_by_role("button", name="Dismiss").click()
        expect(self.page.get_by_text("notes.txt")).to_have_count(0)

    def test_the_same_file_twice_is_one_recording(self):
        self.open_production("Twice")
        one = self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75)
        self.drop(one)
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
        self.drop(one, ("two.wav", one[1] + b"\0"))
        expect(self.row("two.wav")).to_be_visible()
        self.assertEqual([row.name for row in self.rows()], ["one.wav", "two.wav"])
