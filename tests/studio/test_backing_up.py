"""A backup restored on an empty machine is the same installation: certificates, keys, files, people, the trail."""

import json
import subprocess
import unittest
from pathlib import Path
from unittest import mock

from psycopg import sql
from sqlmodel import col, select
from typer.testing import CliRunner

from ispettore.cli import app
from ispettore.core.certify.verification import read, verify
from ispettore.core.progress import no_progress
from ispettore.studio.access import people
from ispettore.studio.catalogue import certificates
from ispettore.studio.database import engine, transaction
from ispettore.studio.operating import scrubbing
from ispettore.studio.running import backing_up
from ispettore.studio.running.backing_up import NoBackup, NotEmpty
from ispettore.studio.running.cluster import ADMINISTRATOR, NAME
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import CertificateRecord, Person, Recording, SessionRecord, TrailRecord
from tests.support import in_environment
from tests.web.wire import WireCase


class Elsewhere(WireCase):
    def elsewhere(self, name: str) -> dict[str, str]:
        """The settings of an empty machine: a database, store and keys of its own."""
        cluster, database = self.application.cluster, f"empty_{name}"
        with cluster._connect(ADMINISTRATOR) as connection:
            connection.execute(sql.SQL("CREATE DATABASE {} OWNER {}").format(sql.Identifier(database), sql.Identifier(NAME)))
        self.addCleanup(self.forget, database)
        folder = self.application.folder / name
        return {
            "ISPETTORE_DATABASE_URL": cluster.url.rsplit("/", 1)[0] + f"/{database}",
            "ISPETTORE_STORE": str(folder / "store"),
            "ISPETTORE_KEYS": str(folder / "keys"),
            "ISPETTORE_INCOMING": str(folder / "incoming"),
        }

    def forget(self, database: str) -> None:
        with self.application.cluster._connect(ADMINISTRATOR) as connection:
            connection.execute(sql.SQL("DROP DATABASE {} WITH (FORCE)").format(sql.Identifier(database)))


class BackingUp(Elsewhere):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make("podcast-mono")
        recording = cls.send("one.wav", cls.voice(-24))
        attempt = cls.client.post(f"/api/recordings/{recording}/conform", json={}).json()["id"]
        cls.work(attempt)
        secret = people.invite(sign_in="ada", name="Ada Weir", roles=["administrator"]).secret
        people.accept(secret, "four grey herons wade slowly", address="", agent="")
        cls.backup = cls.application.folder / "backup"
        cls.made = backing_up.backup(cls.backup, say=lambda _: None)

    def state(self) -> dict:
        """Everything that has to be the same."""
        store = Store(settings().store)
        with transaction() as session:
            hashes = sorted(session.exec(select(Recording.sha256)).all())
            return {
                "certificates": sorted(
                    json.dumps(each, sort_keys=True) for each in session.exec(select(CertificateRecord.sealed)).all()
                ),
                "people": [each.model_dump() for each in session.exec(select(Person)).all()],
                "trail": [each.model_dump() for each in session.exec(select(TrailRecord).order_by(col(TrailRecord.number))).all()],
                "sound": [b"".join(store.read(sha256, name="kept")) for sha256 in hashes],
                "key": certificates.keys().own().thumbprint(),
                "private": (certificates.keys().path / "seal-private.pem").read_bytes(),
            }

    def test_on_an_empty_machine_everything_is_as_it_was_and_goes_on(self):
        before = self.state()
        self.assertEqual((len(before["certificates"]), len(before["people"])), (1, 1))
        self.assertGreater(len(before["trail"]), 2)
        with in_environment(**self.elsewhere("whole")):
            made = backing_up.restore(self.backup, say=lambda _: None)
            self.assertEqual(made.missing, [])
            self.assertEqual(self.state(), before)
            self.assertEqual((certificates.keys().path / "seal-private.pem").stat().st_mode & 0o777, 0o600)
            with transaction() as session:
                record = session.exec(select(CertificateRecord)).one()
                self.assertEqual(session.exec(select(SessionRecord)).all(), [], "people sign in anew")
            with Store(settings().store).as_local(record.file_sha256) as path:
                paper = read(json.dumps(record.sealed).encode(), name="one.json")
                self.assertTrue(verify(paper, path, keys=certificates.keys()).genuine)
            with transaction() as session:
                session.add(TrailRecord(who="x", way="", address="", act="", about="", subjects=[]))
            with transaction() as session:
                last = session.exec(select(TrailRecord).order_by(col(TrailRecord.number).desc()).limit(1)).one()
            self.assertGreater(last.number, before["trail"][-1]["number"], "lines are counted on")
            with self.assertRaises(NotEmpty):
                backing_up.restore(self.backup, say=lambda _: None)
            engine().dispose()

    def test_what_is_damaged_or_incomplete_is_refused_before_anything_is_written(self):
        held = self.made.files[0]
        path, manifest = self.backup / held.place, self.backup / "MANIFEST.json"
        content, told = path.read_bytes(), manifest.read_bytes()
        damages = (
            (lambda: path.write_bytes(content[:-1] + bytes([content[-1] ^ 1])), f"“{held.place}” is missing or damaged."),
            (path.unlink, f"“{held.place}” is missing or damaged."),
            (manifest.unlink, "there is no MANIFEST.json in it."),
            (lambda: manifest.write_bytes(b"{}"), "its MANIFEST.json can't be read by this version."),
        )
        for number, (damage, words) in enumerate(damages):
            with self.subTest(words=words), in_environment(**self.elsewhere(f"damaged_{number}")):
                damage()
                with self.assertRaises(NoBackup) as caught:
                    backing_up.restore(self.backup, say=lambda _: None)
                self.assertIn(words, caught.exception.sentence)
                self.assertFalse(Path(settings().keys).exists())
                engine().dispose()
            path.write_bytes(content)
            manifest.write_bytes(told)

    def test_a_second_backup_copies_only_what_is_new_and_forgets_what_is_named_no_more(self):
        before = {path: path.stat().st_mtime_ns for path in (self.backup / "files").glob("*/*")}
        stray = self.backup / "files" / "00" / ("0" * 64)
        stray.parent.mkdir(exist_ok=True)
        stray.write_bytes(b"x")
        self.send("two.wav", self.voice(-26))
        again = backing_up.backup(self.backup, say=lambda _: None)
        after = {path: path.stat().st_mtime_ns for path in (self.backup / "files").glob("*/*")}
        self.assertGreater(len(after), len(before))
        self.assertEqual({path: after[path] for path in before}, before)
        self.assertEqual({path.name for path in after}, {file.sha256 for file in again.files})

    def test_the_commands_tell_what_they_did_and_what_is_missing(self):
        run = CliRunner().invoke
        folder = self.application.folder / "named"
        done = run(app, ["backup", str(folder), "--without-files"])
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn("named, none copied", done.output)
        self.assertFalse((folder / "files").exists())
        self.assertEqual((folder / "MANIFEST.json").stat().st_mode & 0o777, 0o600)
        with in_environment(**self.elsewhere("named_only")):
            restored = run(app, ["restore", str(folder)])
            self.assertEqual(restored.exit_code, 1, restored.output)
            self.assertIn("files that the database names are not in the store", restored.output)
            engine().dispose()
        wrong = run(app, ["restore", str(self.application.folder / "nowhere")])
        self.assertEqual(wrong.exit_code, 2)
        self.assertIn("there is no MANIFEST.json in it", wrong.output)

    def test_the_password_is_in_no_arguments(self):
        asked = []
        ran = subprocess.run

        def noted(command, **how):
            asked.append((command, how["env"]))
            return ran(command, **how)

        with mock.patch.object(backing_up.subprocess, "run", noted):
            backing_up.backup(self.application.folder / "once", with_files=False, say=lambda _: None)
        [(command, environment)] = asked
        self.assertNotIn(environment["PGPASSWORD"], " ".join(command))
        self.assertEqual(Path(command[0]).name, "pg_dump")


class BackingUpAll(Elsewhere):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()

    def test_what_was_cleared_is_not_missed_and_archives_are_kept_whole(self):
        recording = self.send("one.wav", self.voice(-29))
        for container in ("wav", ""):
            body = {"container": container} if container else {}
            self.work(self.ask("POST", f"/recordings/{recording}/conform", 202, json=body)["id"])
        self.assertEqual(self.ask("POST", f"/productions/{self.production}/clear")["files"], 1)
        archive = self.ask("POST", f"/productions/{self.production}/archive", 202)["id"]
        self.work(archive)
        folder = self.application.folder / "backup"
        self.assertEqual(backing_up.backup(folder, say=lambda _: None).missing, [])
        with in_environment(**self.elsewhere("later")):
            self.assertEqual(backing_up.restore(folder, say=lambda _: None).missing, [])
            self.assertEqual(scrubbing.check(Store(settings().store), no_progress).wrong, [])


if __name__ == "__main__":
    unittest.main()
