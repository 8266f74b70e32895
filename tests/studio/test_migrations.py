"""The schema goes up, down, and up again, and is what the tables say."""

import json
import tempfile
from pathlib import Path
from uuid import uuid4

from alembic import command
from sqlalchemy import inspect, text
from sqlmodel import select

from ispettore.core.certify.certificate import hash_of
from ispettore.studio.database import alembic_config, engine, migrate, transaction
from ispettore.studio.tables import CertificateRecord, Conforming, DeedRecord
from tests.support import ApplicationCase

GOLDEN = Path(__file__).parents[1] / "core" / "golden"
SIZE = {"sha256": "'ab'", "size_bytes": "1", "room_tone": "''"}
ATTEMPT = {
    "recording_id": ":recording", "specification": ":some", "preference": "'gentle'", "container": "'flac'",
    "kept_changed": "false", "room_tone": "''", "software": "''",
}  # fmt: skip
DELIVERED = {
    "recording_id": ":recording", "conforming_id": ":certified", "specification": ":some", "asked": ":some",
    "file_name": "'a.flac'",
}  # fmt: skip


class Migrations(ApplicationCase):
    def test_up_down_and_up_again(self):
        self.assertIn("recording", inspect(engine()).get_table_names())
        command.downgrade(alembic_config(), "base")
        self.assertEqual(inspect(engine()).get_table_names(), ["alembic_version"])
        self.assertNotIn("queue", inspect(engine()).get_schema_names())
        migrate()
        self.assertIn("recording", inspect(engine()).get_table_names())
        self.assertIn("procrastinate_jobs", inspect(engine()).get_table_names(schema="queue"))

    def test_the_tables_are_what_the_migrations_make(self):
        command.check(alembic_config())

    def test_certificates_move_into_their_register_and_back(self):
        sealed = json.loads((GOLDEN / "certificate-2.json").read_text(encoding="utf-8"))
        command.downgrade(alembic_config(), "0016")
        ids = {name: uuid4() for name in ("production", "recording", "certified", "refused", "deliverable")}
        values = {**ids, "sealed": json.dumps(sealed), "some": json.dumps({"id": "x"})}
        with engine().begin() as connection:
            for table, columns in (
                ("production", {"id": ":production", "name": "'a'", "specification": ":some", "notes": "''"}),
                ("recording", {"id": ":recording", "production_id": ":production", "position": "1", "name": "'a.wav'", **SIZE}),
                ("conforming", {"id": ":certified", "certificate": ":sealed", **ATTEMPT}),
                ("conforming", {"id": ":refused", "certificate": "'null'", **ATTEMPT}),
                ("deliverable", {"id": ":deliverable", "certificate": ":sealed", **DELIVERED}),
            ):
                columns = {**columns, "created_at": "now()"}
                statement = f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join(columns.values())})"
                connection.execute(text(statement), values)
        migrate()
        with transaction() as session:
            found = {record.of: record for record in session.exec(select(CertificateRecord)).all()}
            attempt, refused = (session.get_one(Conforming, ids[name]) for name in ("certified", "refused"))
        self.assertEqual(set(found), {"attempt", "deliverable"})
        self.assertEqual((attempt.certificate_id, refused.certificate_id), (found["attempt"].id, None))
        kept = found["attempt"]
        self.assertEqual((kept.sealed, kept.sha256), (sealed, hash_of(sealed["certificate"])))
        self.assertEqual((kept.file_sha256, kept.name), (sealed["certificate"]["file"]["sha256"], "02 February.flac"))
        self.assertEqual((kept.subject_id, kept.recording_id), (ids["certified"], ids["recording"]))
        command.downgrade(alembic_config(), "0016")
        with engine().begin() as connection:
            back = connection.execute(
                text("SELECT certificate FROM conforming WHERE id = :id"), {"id": ids["certified"]}
            ).scalar_one()
        self.assertEqual(back, sealed)
        migrate()

    def test_what_was_decided_before_is_noted_from_the_rows_that_still_tell_of_it(self):
        command.downgrade(alembic_config(), "0018")
        ids = {name: uuid4() for name in ("production", "recording", "certified", "accepted")}
        values = {**ids, "some": json.dumps({"id": "x"})}
        production = {"id": ":production", "name": "'a'", "specification": ":some", "notes": "''", "archived_at": "now()"}
        recording = {"production_id": ":production", "position": "1", "name": "'a.wav'", "removed_at": "now()", **SIZE}
        accepted = {"recording_id": ":recording", "kind": "'hard_edge'", "start_s": "1.5", "end_s": "2", "reason": "'The latch'"}
        with engine().begin() as connection:
            for table, columns in (
                ("production", production),
                ("recording", {"id": ":recording", **recording}),
                ("conforming", {"id": ":certified", "file_name": "'a.mp3'", "chosen_at": "now()", **ATTEMPT}),
                ("acceptance", {"id": ":accepted", **accepted}),
            ):
                columns = {**columns, "created_at": "now()"}
                statement = f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join(columns.values())})"
                connection.execute(text(statement), values)
        migrate()
        with transaction() as session:
            found = {(deed.text, deed.recording_id) for deed in session.exec(select(DeedRecord)).all()}
        expected = {
            ("The production was begun.", None),
            ("The production was put away.", None),
            ("Removed from the production.", ids["recording"]),
            ("Accepted hard edge from 1.5 to 2.0 s: The latch", ids["recording"]),
            ("Chosen as the version that counts: a.mp3.", ids["recording"]),
        }
        self.assertEqual(found, expected)

    def test_the_cluster_listens_on_loopback_alone_and_asks_for_a_password(self):
        data = Path(self.application.cluster.folder) / "data"
        lines = (data / "postmaster.pid").read_text().splitlines()
        self.assertEqual(lines[5].strip(), "127.0.0.1")
        self.assertIn("scram-sha-256", (data / "pg_hba.conf").read_text())
        self.assertFalse(any(Path(tempfile.gettempdir()).glob(f".s.PGSQL.{self.application.cluster.port}")))
