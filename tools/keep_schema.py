#!/usr/bin/env python3
"""Keep the schema of now with data in it, as it is before a migration changes it: tests/studio/schemas/NUMBER.sql.gz.

What is kept is what pg_dump writes of an installation that has measured, conformed and certified one recording;
tests/studio/test_released_schemas.py brings each of them up to the newest schema. Run it before you add a migration, from the root
with PYTHONPATH=. so that the tests' helpers are found.
"""

import gzip
import os
import subprocess
from pathlib import Path
from uuid import UUID

from sqlalchemy import text
from tests.web.wire import WireCase

from ispettore.studio.database import engine, transaction
from ispettore.studio.running.cluster import program
from ispettore.studio.settings import settings
from ispettore.studio.tables import BedSound, TakeCheckRecord, WatchedFile, WatchedFolder, Webhook, WebhookMessage, WebhookStatus

FOLDER = Path(__file__).parent.parent / "tests" / "studio" / "schemas"
NOTES = "Read in October."


class Installation(WireCase):
    """One recording, edited, marked and certified; a folder that is watched, and an address that is told."""

    @classmethod
    def make_all(cls) -> None:
        cls.production = cls.make()
        cls.client.patch(f"/api/productions/{cls.production}", json={"notes": NOTES})
        recording = cls.send("01 January.wav", cls.voice(-24))
        cut = {"wish": {"what": "cut", "start_s": 2.0, "end_s": 2.5}, "follows": 0}
        cls.client.post(f"/api/recordings/{recording}/edits", json=cut)
        cls.work(recording)
        cls.client.post(f"/api/recordings/{recording}/chapters", json={"at_s": 1.0, "title": "January"})
        attempt = cls.client.post(f"/api/recordings/{recording}/conform", json={}).json()["id"]
        cls.work(attempt)
        with transaction() as session:
            of = {"production_id": UUID(cls.production)}
            folder = WatchedFolder(path="/srv/mill/in", conform=True, results="/srv/mill/out", kept=True, **of)
            hook = Webhook(url="https://mill.example/told", secret="whsec_dGlkYWwgbWlsbA==", **of)
            found = {"ready": True, "turn_db": 0, "gain_db": 0.0, "clipped": 0, "nearer_cm": 0, "distances": [], "advice": []}
            levels = ("peak_dbfs", "true_peak_dbtp", "speech_dbfs", "room_dbfs", "hum_db", "hum_hz", "decay_s")
            against = {"id": "audiobook-retail", "version": 3, "name": "Audiobook, retail"}
            check = TakeCheckRecord(heard_from="Microphone", specification=against, found=found | dict.fromkeys(levels), **of)
            music = BedSound(name="Sluice.flac", sha256="ab" * 32, size_bytes=1, **of)
            session.add_all((folder, hook, check, music))
            session.flush()
            session.add(
                WatchedFile(folder_id=folder.id, name="01 January.wav", size_bytes=1, modified_ns=1, recording_id=UUID(recording))
            )
            session.add(WebhookStatus(hook_id=hook.id, recording_id=UUID(recording), status="certified"))
            session.add(WebhookMessage(hook_id=hook.id, body="{}"))


def plain(dump: str) -> str:
    """A dump without remarks, empty lines and what only psql understands."""
    return "\n".join(line for line in dump.splitlines() if line and not line.startswith(("--", "\\"))) + "\n"


def main() -> None:
    Installation.setUpClass()
    try:
        Installation.make_all()
        with engine().connect() as connection:
            number = connection.execute(text("SELECT version_num FROM alembic_version")).scalar_one()
        url = settings().database_url.replace("postgresql+psycopg", "postgresql")
        command = [program("pg_dump"), "--no-owner", "--no-privileges", "--inserts", url]
        dumped = subprocess.run(command, check=True, capture_output=True, text=True, env={**os.environ, "LC_ALL": "C"})
    finally:
        Installation.doClassCleanups()
    FOLDER.mkdir(exist_ok=True)
    kept = FOLDER / f"{number}.sql.gz"
    kept.write_bytes(gzip.compress(plain(dumped.stdout).encode(), 9, mtime=0))
    print(f"{kept.relative_to(FOLDER.parent.parent.parent)}: {kept.stat().st_size} bytes")


if __name__ == "__main__":
    main()
