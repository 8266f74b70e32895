"""Putting the demo productions into an empty application."""

import tempfile
from pathlib import Path
from uuid import UUID

import structlog
from sqlmodel import select

from ispettore.demo import scenario
from ispettore.studio.catalogue import productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Production

log = structlog.get_logger()


def seed() -> bool:
    """Make the demo productions and have their recordings inspected. Does nothing where any production exists."""
    with transaction() as session:
        if session.exec(select(Production.id).limit(1)).first() is not None:
            return False
    store = Store(settings().store)
    for production in scenario.PRODUCTIONS:
        production_id = productions.create(production.name, production.specification)
        narrated: dict[UUID, dict[str, str]] = {}
        with tempfile.TemporaryDirectory(prefix="ispettore-seed-") as folder:
            for recording in production.recordings:
                path = Path(folder) / recording.file_name
                scenario.write(recording, path)
                added = recordings.add(production_id, recording.file_name, store.put_file(path))
                if (narrator := production.narrators.get(recording.file_name)) is not None:
                    narrated[added] = {"narrator": narrator}
                log.info("seeded", recording=recording.file_name, fault=recording.fault)
        asking.change(production_id, certified_by=production.certified_by, labels=production.labels.model_dump())
        asking.put_entries(production_id, narrated)
        if production.cover is not None:
            asking.put_cover(production_id, production.cover(), name="cover.jpg", store=store)
    return True
