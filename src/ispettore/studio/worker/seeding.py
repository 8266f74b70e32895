"""Putting the demo productions in: at the start of the demo, and whenever somebody asks for them."""

import tempfile
from collections.abc import Callable
from pathlib import Path
from uuid import NAMESPACE_OID, UUID, uuid5

import structlog
from sqlmodel import select

from ispettore.core.errors import Cancelled
from ispettore.demo import scenario
from ispettore.demo.scenario import DemoProduction
from ispettore.studio.catalogue import productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Production

log = structlog.get_logger()


def wanted() -> bool:
    """Whether nothing is here yet."""
    with transaction() as session:
        return session.exec(select(Production.id).limit(1)).first() is None


def seed(store: Store, told: Callable[[str, float], bool] = lambda _stage, _fraction: False) -> None:
    """Put in what is missing of the demo productions and have it inspected; those that were removed are brought back. `told` hears
    how far it is, and says whether to give up. Raises Cancelled."""
    count = sum(len(production.recordings) for production in scenario.PRODUCTIONS)
    done = 0
    for production in scenario.PRODUCTIONS:
        identifier = productions.create(production.name, production.specification, production_id=_identifier(production))
        productions.remove(identifier, removed=False)
        with transaction() as session:
            there = {recording.name: recording.id for recording in recordings.current(session, identifier)}
        with tempfile.TemporaryDirectory(prefix="ispettore-seed-") as folder:
            for recording in production.recordings:
                if told("Making the demo production", done / count):
                    raise Cancelled
                done += 1
                if recording.file_name in there:
                    continue
                path = Path(folder) / recording.file_name
                scenario.write(recording, path)
                there[recording.file_name] = recordings.add(identifier, recording.file_name, store.put_file(path))
                log.info("seeded", recording=recording.file_name, fault=recording.fault)
        _say_more(identifier, production, there, store)


def _say_more(identifier: UUID, production: DemoProduction, there: dict[str, UUID], store: Store) -> None:
    """What is said beside the sound: narrators, tags, the cover."""
    asking.change(identifier, certified_by=production.certified_by, labels=production.labels.model_dump())
    asking.put_entries(identifier, {there[name]: {"narrator": narrator} for name, narrator in production.narrators.items()})
    if production.cover is not None:
        asking.put_cover(identifier, production.cover(), name="cover.jpg", store=store)


def _identifier(production: DemoProduction) -> UUID:
    """The same every time, so that what was begun is gone on with."""
    return uuid5(NAMESPACE_OID, f"ispettore demo: {production.name}")
