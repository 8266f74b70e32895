"""Every schema that was ever in use, with data in it, comes up to that of now.

Of each a dump is kept (`tools/keep_schema.py`): what an installation of its time wrote that had measured, conformed and certified
one recording. Some schemas were followed by the next one within the same change (`NEVER_IN_USE`) and have none.
"""

import gzip
import json
import unittest
from pathlib import Path

from alembic import command
from alembic.script import ScriptDirectory
from fastapi.testclient import TestClient
from sqlalchemy import text

from ispettore.core.certify import seal
from ispettore.core.certify.verification import read
from ispettore.studio.database import alembic_config, engine, migrate
from ispettore.web.app import build
from tests.support import Application

DUMPS = Path(__file__).parent / "schemas"
NEVER_IN_USE = {"0006", "0007", "0008", "0009"}
FIRST_WITH_NOTES = "0005"


class ReleasedSchemas(unittest.TestCase):
    def setUp(self):
        application = Application().start()
        self.addCleanup(application.stop)

    def load(self, dump: Path) -> dict[str, int]:
        """Put a dump in the place of the schema of now; the rows of its tables."""
        with engine().begin() as connection:
            for schema in ("kept", "queue", "public"):
                connection.execute(text(f"DROP SCHEMA IF EXISTS {schema} CASCADE"))
            connection.execute(text("CREATE SCHEMA public"))
        script = gzip.decompress(dump.read_bytes()).decode().replace("CREATE SCHEMA public;", "")
        connection = engine().raw_connection()
        try:
            connection.cursor().execute(script)
            connection.commit()
        finally:
            connection.close()
        engine().dispose()  # the dump leaves a connection without its search path
        return self.rows("production", "recording", "inspection", "conforming", "work")

    def rows(self, *tables: str) -> dict[str, int]:
        with engine().connect() as connection:
            return {table: connection.execute(text(f"SELECT count(*) FROM {table}")).scalar_one() for table in tables}

    def test_there_is_a_dump_of_each(self):
        numbers = {script.revision for script in ScriptDirectory.from_config(alembic_config()).walk_revisions()}
        self.assertEqual({path.name.partition(".")[0] for path in DUMPS.iterdir()}, numbers - NEVER_IN_USE)
        self.assertLess(sum(path.stat().st_size for path in DUMPS.iterdir()), 500_000, "they stay small")

    def test_what_was_made_under_each_is_whole_under_the_newest(self):
        for dump in sorted(DUMPS.iterdir()):
            with self.subTest(schema=dump.name):
                before = self.load(dump)
                self.assertGreater(min(before.values()), 0)
                migrate()
                self.assertEqual(self.rows(*before), before)
                command.check(alembic_config())
                self.looked_at(dump.name.partition(".")[0])
                engine().dispose()

    def looked_at(self, number: str) -> None:
        """What the pages show of it."""
        with TestClient(build(), base_url="http://127.0.0.1") as client:

            def got(path: str):
                answer = client.get(f"/api{path}")
                self.assertEqual(answer.status_code, 200, f"{path}: {answer.text}")
                return answer.json()

            (production,) = got("/productions")
            self.assertEqual((production["name"], production["recordings"]), ("Almanac", 1))
            whole = got(f"/productions/{production['id']}")
            if number >= FIRST_WITH_NOTES:
                self.assertIn("Read in October.", json.dumps(whole))
            (entry,) = got(f"/productions/{production['id']}/sheet")["entries"]
            recording = got(f"/recordings/{entry['id']}")
            self.assertEqual(recording["name"], "01 January.wav")
            self.assertAlmostEqual(recording["inspection"]["readings"]["rms_dbfs"]["value"], -24, delta=1.5)
            self.assertEqual(recording["verdict"]["passes"], False)
            certificates = got("/certificates")
            (row,) = certificates["rows"]
            with engine().connect() as connection:
                sealed = connection.execute(text("SELECT sealed FROM certificate")).scalar_one()
            paper = read(json.dumps(sealed).encode(), name="one.json")
            key = seal.sealing_key(paper.sealed)
            self.assertTrue(key is not None and seal.intact(paper.sealed, key), "its seal is whole")
            self.assertEqual(row["stands"], "stands")
            got(f"/certificates/{row['id']}")
            record = got(f"/productions/{production['id']}/record")
            self.assertIn("01 January.wav", json.dumps(record))


if __name__ == "__main__":
    unittest.main()
