"""Putting the demo productions in, as work of a worker: asked for by the demo as it starts, or by somebody."""

import tempfile
from collections.abc import Callable, Sequence
from datetime import timedelta
from pathlib import Path
from uuid import NAMESPACE_OID, UUID, uuid5

import structlog

from ispettore.core.check.advice import take_check
from ispettore.core.check.figures import check
from ispettore.core.check.session import READING_S, ROOM_S
from ispettore.core.errors import Cancelled
from ispettore.core.measure.inspecting import inspect
from ispettore.core.spec import kept
from ispettore.core.treat.bed import Bed, Clip
from ispettore.demo import scenario
from ispettore.demo.faults import RATE_HZ
from ispettore.demo.scenario import DemoBed, DemoProduction
from ispettore.demo.standin import Setting, StandIn
from ispettore.studio.catalogue import laying, productions, recordings, take_checks
from ispettore.studio.catalogue.take_checks import STAND_IN
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Production, now

log = structlog.get_logger()


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
    if production.bed is not None and not laying.sounds(identifier):
        _lay(identifier, production.bed, store)
    if production.checks and not take_checks.listed(identifier):
        _check(identifier, production.checks)


def _lay(identifier: UUID, bed: DemoBed, store: Store) -> None:
    """What lies under its voices, laid once: what somebody laid since stays."""
    with tempfile.TemporaryDirectory(prefix="ispettore-seed-") as folder:
        path = Path(folder) / bed.file_name
        bed.write(path)
        blob, known = store.put_file(path), inspect(path)
    laying.add(identifier, bed.file_name, blob, known=known.inspection)
    clip = Clip(sound=blob.sha256, out_s=bed.seconds, loop=True, level_lu=bed.level_lu)
    laid = Bed(clips=(clip,), lower_db=bed.lower_db, hold_ms=bed.hold_ms, release_ms=bed.release_ms)
    laying.change_all(identifier, laid.model_dump(mode="json"), follows=laying.state(""))


def _check(identifier: UUID, settings: Sequence[Setting]) -> None:
    """Take checks as the stand-in makes them, the last one now and the others a week apart."""
    with transaction() as session:
        specification = kept.specification(session.get_one(Production, identifier).specification)
    for weeks, setting in zip(reversed(range(len(settings))), settings, strict=True):
        stand_in = StandIn(setting, sample_rate_hz=RATE_HZ)
        room, voice = stand_in.room(round(ROOM_S * RATE_HZ)), stand_in.reading(round(READING_S[1] * RATE_HZ))
        found = take_check(check(room, voice, sample_rate_hz=RATE_HZ), specification, distance_cm=setting.distance_cm)
        at = now() - timedelta(weeks=weeks)
        take_checks.keep(identifier, found, specification, heard_from=STAND_IN, distance_cm=setting.distance_cm, at=at)


def _identifier(production: DemoProduction) -> UUID:
    """The same every time, so that what was begun is gone on with."""
    return uuid5(NAMESPACE_OID, f"ispettore demo: {production.name}")
