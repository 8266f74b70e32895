"""Folders that are watched: what lands there whole comes in, once; what is half written waits; results go where they were asked
for, and nothing of anybody else is touched."""

import hashlib
import os
import signal
import struct
import subprocess
import tempfile
import threading
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock
from uuid import UUID

import soundfile
from sqlmodel import select

from ispettore.commands import watching as command
from ispettore.studio.attending import folders, looking, watching
from ispettore.studio.attending.folders import FolderUnfit, WatchedAlready
from ispettore.studio.attending.looking import Folder, FolderAway
from ispettore.studio.attending.watching import Watcher
from ispettore.studio.catalogue import productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.store import disk
from ispettore.studio.tables import Conforming, Recording, TrailRecord, WatchedFile, WatchedFolder, Work, WorkState
from ispettore.studio.worker.doing import do
from tests import signals
from tests.support import ApplicationCase, in_environment

RATE = 22_050


def sound(path: Path, *, rms_dbfs: float = -24.0, seed: int = 1) -> Path:
    soundfile.write(path, signals.voice_like(6, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=rms_dbfs - 52, seed=seed), RATE)
    return path


class Whole(unittest.TestCase):
    """Which files are whole."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path = Path(held.name)
        self.folder = Folder(self.path)

    def wholes(self, moment: float) -> list[str]:
        return [name for name in sorted(self.folder.there(moment)) if self.folder.whole(name, moment)]

    def test_only_sound_files_of_the_folder_itself_are_seen(self):
        sound(self.path / "a.wav")
        for name in (".b.wav", "~c.wav", "d.wav.part", "e.txt"):
            (self.path / name).write_bytes(b"x")
        (self.path / "f.wav").symlink_to(self.path / "a.wav")
        (self.path / "g.wav").mkdir()
        os.mkfifo(self.path / "h.wav")
        self.assertEqual(list(self.folder.there(0.0)), ["a.wav"])

    def test_a_file_is_whole_once_it_has_not_changed_for_a_while(self):
        (self.path / "a.flac").write_bytes(b"x")
        self.assertEqual(self.wholes(0.0), [])
        self.assertEqual(self.wholes(looking.STILL_S - 0.1), [])
        self.assertEqual(self.wholes(looking.STILL_S), ["a.flac"])
        (self.path / "a.flac").write_bytes(b"xy")
        self.assertEqual(self.wholes(looking.STILL_S + 1), [])

    def test_an_empty_file_waits(self):
        (self.path / "a.flac").touch()
        self.wholes(0.0)
        self.assertEqual(self.wholes(1e6), [])

    def test_what_somebody_has_open_for_writing_waits_for_long(self):
        path = self.path / "a.flac"
        with path.open("wb") as file:
            file.write(b"x")
            file.flush()
            self.wholes(0.0)
            self.assertTrue(looking.being_written(path))
            self.assertEqual(self.wholes(looking.STILL_OPEN_S - 1), [])
            self.assertEqual(self.wholes(looking.STILL_OPEN_S), ["a.flac"])  # left standing
        self.assertIs(looking.being_written(path), False)
        self.assertEqual(self.wholes(1e6), ["a.flac"])

    def test_whoever_opens_it_while_we_ask_ends_nobody(self):
        """Asking takes a lease for a moment; breaking one sends a signal."""
        (self.path / "a.flac").write_bytes(b"x")
        opens = "import sys\nfor _ in range(3000): open(sys.argv[1], 'r+b').close()"
        with subprocess.Popen(["python3", "-c", opens, str(self.path / "a.flac")]) as other:
            while other.poll() is None:
                looking.being_written(self.path / "a.flac")
        self.assertEqual(other.returncode, 0)

    def test_where_nobody_can_say_whether_it_is_open_it_has_to_be_still_for_longer(self):
        (self.path / "a.flac").write_bytes(b"x")
        self.wholes(0.0)
        with mock.patch.object(looking, "_file_system", return_value="nfs4"):
            self.assertIsNone(looking.being_written(self.path / "a.flac"))
            self.assertEqual(self.wholes(looking.STILL_ELSEWHERE_S - 1), [])
            self.assertEqual(self.wholes(looking.STILL_ELSEWHERE_S), ["a.flac"])

    def test_a_file_shorter_than_it_says_waits_for_the_rest_but_not_for_good(self):
        path = sound(self.path / "a.wav")
        path.write_bytes(path.read_bytes()[:-1000])
        self.wholes(0.0)
        self.assertEqual(self.wholes(looking.STILL_S), [])
        self.assertEqual(self.wholes(looking.STILL_SHORT_S), ["a.wav"])

    def test_what_files_say_of_their_length(self):
        for head, expected in (
            (b"RIFF" + struct.pack("<I", 100), 108),
            (b"FORM" + struct.pack(">I", 100), 108),
            (b"RIFF" + b"\xff" * 4, 0),
            (b"RIFF" + struct.pack("<I", 0), 8),
            (b"fLaC" + b"\0" * 4, 0),
            (b"RI", 0),
        ):
            (self.path / "x").write_bytes(head)
            with self.subTest(head=head):
                self.assertEqual(looking.stated_bytes(self.path / "x"), expected)

    def test_a_folder_that_is_not_there_or_none_says_so(self):
        (self.path / "file").touch()
        for path, why in ((self.path / "gone", "it is not there"), (self.path / "file", "it is no folder")):
            with self.assertRaisesRegex(FolderAway, why):
                Folder(path).there(0.0)


class Watched(ApplicationCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path, self.results = Path(held.name) / "in", Path(held.name) / "out"
        self.path.mkdir()
        self.production = productions.create("Almanac", "audiobook-retail")
        self.said: list[str] = []
        self.moment = 0.0

    def watcher(self, *, conform: bool = False, results: bool = False) -> Watcher:
        wanted = str(self.results) if results else ""
        self.folder = folders.watch(str(self.path), self.production, conform=conform, results=wanted)
        self.addCleanup(self.stop)
        return Watcher(self.folder, self.application.store, self.said.append)

    def stop(self) -> None:
        with transaction() as session:
            if session.get(WatchedFolder, self.folder) is not None:
                session.delete(session.get(WatchedFolder, self.folder))

    def look(self, watcher: Watcher, *, after_s: float = 5.0) -> bool:
        """Two looks, far enough apart that what does not change is whole."""
        watcher.look(self.moment)
        self.moment += after_s
        return watcher.look(self.moment)

    def here(self) -> list[tuple[str, str]]:
        """What the production holds now: names and hashes."""
        with transaction() as session:
            return [(row.name, row.sha256) for row in recordings.current(session, self.production)]

    def files(self) -> dict[str, WatchedFile]:
        with transaction() as session:
            rows = session.exec(select(WatchedFile).where(WatchedFile.folder_id == self.folder)).all()
            return {row.name: row for row in rows}

    def work(self) -> None:
        """All work that waits."""
        with transaction() as session:
            waiting = session.exec(select(Work).where(Work.state == WorkState.WAITING).order_by(Work.created_at)).all()
        for one in waiting:
            do(one.id, self.application.store)


class ComingIn(Watched):
    def test_what_is_there_and_what_lands_later_comes_in_once_each(self):
        watcher = self.watcher()
        first = sound(self.path / "01 Tide.wav")
        self.look(watcher)
        second = sound(self.path / "02 Tide.wav", seed=2)
        self.look(watcher)
        self.look(watcher)
        self.look(Watcher(self.folder, self.application.store))  # after a restart
        expected = [(path.name, hashlib.sha256(path.read_bytes()).hexdigest()) for path in (first, second)]
        self.assertEqual(self.here(), expected)
        self.assertEqual(self.said, ["“01 Tide.wav” came in.", "“02 Tide.wav” came in."])
        with transaction() as session:
            asked = session.exec(select(Work.kind).where(Work.production_id == self.production)).all()
            self.assertEqual(asked, ["inspect", "inspect"])
            line = session.exec(select(TrailRecord).where(TrailRecord.production_id == self.production)).all()
            self.assertEqual({(one.way, one.act) for one in line if one.way == "folder"}, {("folder", "watch")})

    def test_a_newer_file_under_the_same_name_takes_the_place_of_the_older(self):
        watcher = self.watcher()
        sound(self.path / "01 Tide.wav")
        self.look(watcher)
        newer = sound(self.path / "01 Tide.wav", seed=9)
        self.look(watcher)
        self.assertEqual(self.here(), [("01 Tide.wav", hashlib.sha256(newer.read_bytes()).hexdigest())])
        with transaction() as session:
            self.assertEqual(len(session.exec(select(Recording).where(Recording.production_id == self.production)).all()), 2)

    def test_it_takes_the_place_of_one_that_was_uploaded_under_that_name_too(self):
        path = sound(self.path / "01 Tide.wav", seed=4)
        recordings.add(self.production, "01 Tide.wav", self.application.store.put_file(path))
        newer = sound(path, seed=5)
        self.look(self.watcher())
        self.assertEqual(self.here(), [("01 Tide.wav", hashlib.sha256(newer.read_bytes()).hexdigest())])

    def test_a_recording_that_somebody_removed_stays_removed_until_its_file_changes(self):
        watcher = self.watcher()
        path = sound(self.path / "01 Tide.wav")
        self.look(watcher)
        recordings.remove([self.files()["01 Tide.wav"].recording_id])
        self.look(watcher)
        self.assertEqual(self.here(), [])
        sound(path, seed=3)
        self.look(watcher)
        self.assertEqual([name for name, _ in self.here()], ["01 Tide.wav"])

    def test_what_changes_while_it_is_copied_waits(self):
        watcher = self.watcher()
        path = sound(self.path / "01 Tide.wav")
        watcher.look(0.0)
        opened = looking.opened

        def grows(which: Path) -> int:
            descriptor = opened(which)
            with which.open("ab") as file:
                file.write(b"more")
            return descriptor

        with mock.patch.object(watching, "opened", side_effect=grows):
            watcher.look(5.0)
        self.assertEqual((self.here(), self.files()), ([], {}))
        self.assertEqual(list((self.application.store.folder / "incoming").iterdir()), [])
        self.moment = 10.0
        self.look(watcher, after_s=watching.LATER_S + looking.STILL_SHORT_S)
        self.assertEqual(self.here(), [("01 Tide.wav", hashlib.sha256(path.read_bytes()).hexdigest())])

    def test_a_death_between_copying_and_noting_brings_nothing_in_twice(self):
        watcher = self.watcher()
        sound(self.path / "01 Tide.wav")
        watcher.look(0.0)
        with mock.patch.object(watching, "now", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            watcher.look(5.0)
        self.assertEqual((len(self.here()), self.files()), (1, {}))
        self.look(Watcher(self.folder, self.application.store))
        self.assertEqual((len(self.here()), list(self.files())), (1, ["01 Tide.wav"]))

    def test_what_leaves_is_noted_and_its_recording_stays(self):
        watcher = self.watcher()
        path = sound(self.path / "01 Tide.wav")
        self.look(watcher)
        away = path.rename(self.path.parent / "away.wav")
        self.look(watcher)
        self.assertIsNotNone(self.files()["01 Tide.wav"].left_at)
        self.assertEqual(len(self.here()), 1)
        self.assertIn("“01 Tide.wav” left the folder; its recording stays.", self.said)
        away.rename(path)
        self.look(watcher)
        self.assertIsNone(self.files()["01 Tide.wav"].left_at)
        self.assertEqual(len(self.here()), 1)

    def test_what_is_refused_says_why_once_and_takes_nothing_from_the_others(self):
        watcher = self.watcher()
        sound(self.path / "a.wav")
        sound(self.path / "b\u202e.wav", seed=2)
        self.look(watcher)
        self.look(watcher)
        self.assertEqual([name for name, _ in self.here()], ["a.wav"])
        problem = self.files()["b\u202e.wav"].problem
        self.assertIn("file's name", problem)
        self.assertEqual(self.said.count(problem), 1)

    def test_a_full_disk_is_said_and_tried_again(self):
        watcher = self.watcher()
        sound(self.path / "a.wav")
        with mock.patch.object(watching.disk, "room_for", side_effect=disk.NoRoomLeft(file="a.wav")):
            self.look(watcher)
        with transaction() as session:
            self.assertIn("There is no room left", session.get(WatchedFolder, self.folder).problem)
        self.moment += watching.LATER_S
        self.look(watcher)
        self.assertEqual(len(self.here()), 1)
        with transaction() as session:
            self.assertEqual(session.get(WatchedFolder, self.folder).problem, "")

    def test_a_folder_that_goes_away_is_said_and_looked_at_again(self):
        watcher = self.watcher()
        sound(self.path / "a.wav")
        self.look(watcher)
        self.path.rename(self.path.parent / "elsewhere")
        self.assertTrue(self.look(watcher))
        with transaction() as session:
            self.assertIn("it is not there", session.get(WatchedFolder, self.folder).problem)
        self.assertIsNone(self.files()["a.wav"].left_at)  # nothing left: it can't be seen
        (self.path.parent / "elsewhere").rename(self.path)
        self.look(watcher, after_s=watching.LATER_S)
        with transaction() as session:
            self.assertEqual(session.get(WatchedFolder, self.folder).problem, "")

    def test_it_ends_when_nobody_wants_it_any_more(self):
        watcher = self.watcher()
        self.stop()
        self.assertFalse(watcher.look(0.0))


class Results(Watched):
    def made(self) -> list[Conforming]:
        """Every attempt there is of this production."""
        with transaction() as session:
            of = select(Recording.id).where(Recording.production_id == self.production)
            return list(session.exec(select(Conforming).where(Conforming.recording_id.in_(of))).all())

    def test_each_is_measured_and_conformed_and_its_file_and_certificate_go_to_the_folder_of_results(self):
        watcher = self.watcher(conform=True, results=True)
        sound(self.path / "01 Tide.wav")
        self.look(watcher)
        self.work()
        self.look(watcher)
        self.work()
        self.look(watcher)
        (made,) = self.made()
        name = f"01 Tide.{made.container}"
        self.assertEqual(hashlib.sha256((self.results / name).read_bytes()).hexdigest(), made.sha256)
        self.assertTrue((self.results / "certificates" / f"{name}.certificate.json").read_bytes().startswith(b"{"))
        self.assertEqual(sorted(path.name for path in self.results.iterdir()), sorted([name, "certificates"]))
        self.assertEqual(self.files()["01 Tide.wav"].result, name)
        self.look(watcher)
        self.assertEqual(len(self.made()), 1)  # asked for once
        return watcher, name

    def test_a_result_of_somebody_else_is_left_alone_until_it_is_moved(self):
        self.results.mkdir()
        other = self.results / "01 Tide.mp3"
        other.write_bytes(b"somebody else's")
        watcher = self.watcher(conform=True, results=True)
        sound(self.path / "01 Tide.wav", seed=21)
        for _ in range(3):
            self.look(watcher)
            self.work()
        self.look(watcher)
        names = [path.name for path in self.results.iterdir() if path.is_file()]
        if names != ["01 Tide.mp3"]:  # it ends otherwise: then nothing stood in the way
            self.fail(f"this specification asks for {names}, not for MP3")
        self.assertEqual(other.read_bytes(), b"somebody else's")
        self.assertIn("was not written by Ispettore", self.files()["01 Tide.wav"].problem)
        other.rename(self.path.parent / "moved")
        self.look(watcher, after_s=watching.LATER_S)
        self.assertEqual(self.files()["01 Tide.wav"].problem, "")
        self.assertNotEqual(other.read_bytes(), b"somebody else's")

    def test_a_newer_file_brings_a_newer_result_in_the_place_of_ours(self):
        watcher, name = self.test_each_is_measured_and_conformed_and_its_file_and_certificate_go_to_the_folder_of_results()
        before = (self.results / name).read_bytes()
        sound(self.path / "01 Tide.wav", seed=12)
        for _ in range(3):
            self.look(watcher)
            self.work()
        self.look(watcher)
        self.assertNotEqual((self.results / name).read_bytes(), before)

    def test_files_that_would_be_called_alike_get_names_of_their_own(self):
        watcher = self.watcher(conform=True, results=True)
        sound(self.path / "01 Tide.wav", seed=31)
        sound(self.path / "01 Tide.flac", seed=32)
        for _ in range(3):
            self.look(watcher)
            self.work()
        self.look(watcher)
        made = {file.result for file in self.files().values()}
        self.assertEqual(len(made), 2)
        self.assertEqual({path.name for path in self.results.iterdir() if path.is_file()}, made)

    def test_results_that_can_not_be_written_are_said_and_written_later(self):
        watcher = self.watcher(conform=True, results=True)
        sound(self.path / "01 Tide.wav", seed=41)
        self.results.write_bytes(b"a file in the way")
        for _ in range(3):
            self.look(watcher)
            self.work()
        self.look(watcher)
        with transaction() as session:
            self.assertIn("can't be written to", session.get(WatchedFolder, self.folder).problem)
        self.results.unlink()
        self.look(watcher, after_s=watching.LATER_S)
        self.assertEqual(len([path for path in self.results.iterdir() if path.is_file()]), 1)

    def test_what_cannot_be_conformed_is_told_by_its_recording_and_asked_for_once(self):
        watcher = self.watcher(conform=True, results=True)
        soundfile.write(self.path / "silent.wav", [0.0] * RATE, RATE)
        for _ in range(4):
            self.look(watcher)
            self.work()
        self.assertFalse(self.results.exists() and any(self.results.iterdir()))
        self.assertLessEqual(len(self.made()), 1)


class HavingOneWatched(Watched):
    def refused(self, kind: type[Exception], path: Path | str, reason: str, results: Path | str = "") -> None:
        with self.assertRaisesRegex(kind, reason):
            folders.watch(str(path), self.production, conform=False, results=str(results))

    def test_which_folders_can_not_be_watched(self):
        self.refused(FolderUnfit, "in", "whole path")
        self.refused(FolderUnfit, "", "whole path")
        self.refused(FolderAway, self.path / "gone", "not there")
        self.refused(FolderUnfit, self.application.folder / "store", "its own files")
        self.refused(FolderUnfit, self.application.folder / "store" / "ab", "its own files")
        self.refused(FolderUnfit, self.path, "come in again", self.path)

    def test_results_of_one_never_come_in_through_another(self):
        self.watcher(results=True)
        self.results.mkdir()
        self.refused(FolderUnfit, self.results, "through another")
        (self.path.parent / "third").mkdir()
        self.refused(FolderUnfit, self.path.parent / "third", "through another", self.path)

    def test_one_folder_is_watched_once(self):
        self.watcher()
        self.refused(WatchedAlready, self.path, "“Almanac”")
        (self.path.parent / "link").symlink_to(self.path)
        self.refused(WatchedAlready, self.path.parent / "link", "“Almanac”")

    def test_a_server_of_several_people_says_where(self):
        with in_environment(ISPETTORE_ACCESS="accounts"):
            self.refused(FolderUnfit, self.path, "ISPETTORE_WATCHED")
        with in_environment(ISPETTORE_WATCHED=str(self.path.parent)):
            self.watcher()
            self.refused(FolderUnfit, "/usr", "not inside")
            (self.path.parent / "way out").symlink_to("/usr")
            self.refused(FolderUnfit, self.path.parent / "way out", "not inside")

    def test_stopping_leaves_what_came_of_it(self):
        watcher = self.watcher()
        sound(self.path / "a.wav")
        self.look(watcher)
        folders.stop(self.folder)
        self.assertEqual(len(self.here()), 1)
        self.assertEqual(self.files(), {})
        with self.assertRaises(NotFound):
            folders.stop(self.folder)

    def test_the_list_tells_how_each_fares(self):
        watcher = self.watcher(results=True)
        sound(self.path / "a.wav")
        path = sound(self.path / "b.wav", seed=2)
        self.look(watcher)
        path.unlink()
        self.look(watcher)
        with transaction() as session:
            found = next(one for one in folders.listed(session) if one.id == self.folder)
        self.assertEqual((found.path, found.results, found.kept), (str(self.path), str(self.results), True))
        self.assertEqual((found.count, found.left, found.refused), (2, 1, 0))
        self.assertEqual([file.name for file in found.files], ["b.wav", "a.wav"])


class Commanded(Watched):
    def test_a_production_is_named_by_its_name_or_identifier(self):
        self.assertEqual(command._named(str(self.production)), self.production)
        with self.assertRaisesRegex(command.WhichProduction, "There is no production called “Sea”"):
            command._named("Sea")
        productions.create("Almanac", "audiobook-retail")
        with self.assertRaisesRegex(command.WhichProduction, "There are several"):
            command._named("Almanac")

    def test_the_command_watches_until_it_is_stopped_and_knows_what_it_had_when_it_runs_again(self):
        sound(self.path / "a.wav")
        for _ in range(2):
            said: list[str] = []

            def say(text: str, said: list[str] = said) -> None:
                said.append(text)
                if "came in" in text:
                    os.kill(os.getpid(), 2)

            attending = mock.patch.object(looking, "STILL_S", 0.0)
            with attending, mock.patch.object(command.typer, "echo", side_effect=say), stopped_after(4.0):
                self.assertEqual(command.run(self.path, production=str(self.production), conform=False, results=None), 0)
            self.folder = self._id()
            self.addCleanup(self.stop)
        self.assertEqual(said, [f"Watching “{self.path}”. Ctrl-C stops."])
        self.assertEqual(len(self.here()), 1)

    def _id(self) -> UUID:
        with transaction() as session:
            return session.exec(select(WatchedFolder.id).where(WatchedFolder.path == str(self.path))).one()


@contextmanager
def stopped_after(seconds: float) -> Iterator[None]:
    """Ctrl-C after so long, as long as it is inside."""
    before = {name: signal.getsignal(name) for name in (signal.SIGINT, signal.SIGTERM)}
    timer = threading.Timer(seconds, lambda: os.kill(os.getpid(), signal.SIGINT))
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
        for name, handler in before.items():
            signal.signal(name, handler)


if __name__ == "__main__":
    unittest.main()
