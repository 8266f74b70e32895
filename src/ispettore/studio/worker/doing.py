"""Doing a piece of background work: once, wholly, or not at all.

A worker may die at any line. Nothing shows before the last transaction, which writes the result and ends the work together; a blob
that was stored before it is named by its hash and simply stored again by whoever does the work next. What happens to work that
fails, stops or is lost stands in `jobs/retrying.py`.
"""

import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from uuid import UUID

import structlog
from sqlmodel import Session

from ispettore.core.archive import checking
from ispettore.core.audio.tagging import Tags
from ispettore.core.certify.certificate import Origin, SealedEdit, issuer
from ispettore.core.errors import Cancelled, ContentChanged, IspettoreError
from ispettore.core.measure import methods_history
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.plan.preferences import PREFERENCES
from ispettore.core.progress import Progress
from ispettore.core.spec import kept
from ispettore.studio.archiving import archives
from ispettore.studio.archiving import importing as imports
from ispettore.studio.catalogue import beds, carrying, certificates, conformings, edited, importings, lookup, room_tones, takes
from ispettore.studio.catalogue.certificates import Subject
from ispettore.studio.catalogue.manner import Manner
from ispettore.studio.certifying import verifyings
from ispettore.studio.database import GONE, transaction
from ispettore.studio.delivering import deliverables, handing_over
from ispettore.studio.errors import TakeWithoutPlace, Unexpected
from ispettore.studio.jobs import isolation, retrying
from ispettore.studio.jobs.attempts import Attempt, Superseded
from ispettore.studio.jobs.isolation import Answer, Request
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import (
    BedSound,
    Conforming,
    DeliverableRecord,
    Delivery,
    Importing,
    InspectionRecord,
    Planning,
    Recording,
    TakeRecord,
    Verifying,
    Work,
    WorkKind,
    WorkState,
    now,
)
from ispettore.studio.who import RIGHTS, Who, acting, may
from ispettore.studio.worker import computing, seeding
from ispettore.studio.worker.requests import (
    BedRequest,
    ConformRequest,
    CoverFile,
    DeliverRequest,
    InspectRequest,
    KnownSource,
    LaidSounds,
    PlanRequest,
    RetakeRequest,
    SourceFile,
    VerifyRequest,
)

TELL_EVERY_S = 0.25

log = structlog.get_logger()


def do(work_id: UUID, store: Store, *, stopping: Callable[[], bool] = lambda: False) -> None:
    """Do one piece of work, unless it is done already. Errors meant for a person end it as failed, with their sentence.

    Where `stopping` turns true, the work is left to wait for another worker. Raises what the database raised where it went away for
    longer than a report of progress; the work then waits to be taken up again.
    """
    attempt = retrying.take(work_id)
    if attempt is None:
        return
    log.info("work started", work=str(work_id), kind=attempt.work.kind, attempt=attempt.work.attempts)
    try:
        about = structlog.contextvars.bound_contextvars(work=str(work_id), kind=attempt.work.kind)
        with about, attempt.in_folder(), acting(_asker(attempt.work)):
            _KINDS[WorkKind(attempt.work.kind)](_Hand(attempt, store, stopping))
    except (Superseded, Cancelled, IspettoreError, OSError) as error:
        _ended(attempt, error, stopping)
    except GONE:
        # Not the work's fault: it stays noted as running, and is taken up again once the database answers.
        raise
    except Exception:
        log.exception("work failed", work=str(work_id))
        _ended(attempt, Unexpected(), stopping)


def _asker(work: Work) -> Who:
    """Whoever asked for work: what they were allowed then holds until it is done."""
    return Who(way="work", rights=RIGHTS if work.certifies else RIGHTS - {"certify"}, name=work.asked_by)


def _ended(attempt: Attempt, error: Exception, stopping: Callable[[], bool]) -> None:
    """Note how an attempt ended that brought nothing. One that holds the work no more leaves it alone."""
    try:
        if isinstance(error, Superseded):
            raise error
        if isinstance(error, Cancelled) and stopping():
            retrying.wait_again(attempt)
        elif isinstance(error, Cancelled):
            retrying.end(attempt, WorkState.CANCELLED)
        else:
            _failed(attempt, error)
    except Superseded:
        log.warning("another attempt has taken this work up; this one ends", work=str(attempt.work.id))
        retrying.give_back(attempt)


def _failed(attempt: Attempt, error: Exception) -> None:
    """Note what went wrong with work: what this machine can't do just now is tried once more in a while."""
    said: Exception = error
    if isinstance(error, OSError):
        log.exception("work failed", work=str(attempt.work.id))
        said = disk.told(error, "the result") or Unexpected()
    if isinstance(said, disk.JustNow) and retrying.wait_for(attempt, said.waiting):
        log.warning("work waits", work=str(attempt.work.id), reason=said.sentence)
    elif isinstance(said, IspettoreError):
        retrying.end(attempt, WorkState.FAILED, error=said.sentence)


class _Watch:
    """Passes progress on to whoever looks, not too often, and notices that cancelling was asked for or the work is another's."""

    def __init__(self, attempt: Attempt) -> None:
        self._attempt = attempt
        self._told = 0.0
        self._stage = ""
        self._cancel = False

    def progress(self, stage: str, fraction: float) -> None:
        if stage == self._stage and time.monotonic() - self._told < TELL_EVERY_S:
            return
        self._stage = stage
        self._update(stage, fraction)

    def cancelled(self) -> bool:
        if time.monotonic() - self._told >= TELL_EVERY_S:
            self._update(None, 0.0)
        return self._cancel

    def _update(self, stage: str | None, fraction: float) -> None:
        self._told = time.monotonic()
        try:
            self._note(stage, fraction)
        except GONE:
            log.warning("the database does not answer; the work goes on", work=str(self._attempt.work.id))

    def _note(self, stage: str | None, fraction: float) -> None:
        with transaction() as session:
            work = self._attempt.held(session)
            self._cancel = work.cancel_asked
            if stage is not None:
                retrying.note_progress(session, work, stage, fraction)


@dataclass(frozen=True)
class _Hand:
    """One try at one piece of work: what it is about, where files are, and how a child is asked."""

    attempt: Attempt
    store: Store
    stopping: Callable[[], bool]

    @property
    def subject_id(self) -> UUID:
        return self.attempt.work.subject_id

    def ask(self, compute: Callable[[Request, Progress], Answer], request: Request, *, name: str) -> Answer:
        """Have something computed in a child of its own. Raises as `isolation.run` does."""
        watch, limits = _Watch(self.attempt), settings()
        return isolation.run(
            compute,
            request,
            name=name,
            folder=self.attempt.folder,
            limits=isolation.Limits(memory_bytes=limits.job_memory_bytes, cpu_s=limits.job_cpu_s, disk_bytes=limits.job_disk_bytes),
            progress=watch.progress,
            cancelled=lambda: self.stopping() or watch.cancelled(),
        )

    def told(self) -> Callable[[str, float], bool]:
        """For what is done here and not in a child: is told a stage and how far it is, and says whether to give up."""
        watch = _Watch(self.attempt)

        def told(stage: str, fraction: float) -> bool:
            watch.progress(stage, fraction)
            return self.stopping() or watch.cancelled()

        return told

    @contextmanager
    def source(self, recording: Recording, *, certified: bool = False) -> Iterator[SourceFile]:
        """A recording's file on this machine, with its edits over it; hashed, where a certificate is to name it. Raises NotInStore,
        and ContentChanged where its bytes are not those that came in."""
        name = recording.name
        with transaction() as session:
            tone, under = room_tones.heard(session, recording), edited.underneath(session, recording)
        kept = self.store.checked if certified else self.store.compared
        with ExitStack() as files:
            path = files.enter_context(kept(recording.sha256, name=name))
            if under is not None and under.listening is not None:
                path = files.enter_context(self.store.compared(under.listening, name=name))
            takes = under.edits.takes if under else ()
            yield SourceFile(
                takes={take: files.enter_context(self.store.compared(take, name=name)) for take in takes},
                path=path,
                name=name,
                sha256=recording.sha256,
                room_tone=tone,
                edits=under.edits if under else None,
                facts=under.facts if under else None,
                known_as=recording.known_as,
            )

    @contextmanager
    def laid(self, text: str, *, name: str) -> Iterator[LaidSounds | None]:
        """What lies under a recording (`name`), with its sounds on this machine; None where nothing does. Raises as `source`."""
        bed = beds.read(text)
        with ExitStack() as files:
            if bed is None:
                yield None
                return
            sounds = {sound: files.enter_context(self.store.compared(sound, name=name)) for sound in bed.sounds}
            yield LaidSounds(bed=bed, sounds=sounds)

    @contextmanager
    def done(self) -> Iterator[Session]:
        """The last transaction: what it writes and the end of the work are one. Raises Superseded."""
        with transaction() as session:
            work = self.attempt.held(session)
            yield session
            retrying.move(session, work, WorkState.DONE)


def _inspect(hand: _Hand) -> None:
    with transaction() as session:
        recording = session.get_one(Recording, hand.subject_id)
        record = lookup.exact(session, recording)
    # One whose tiles or levels were never kept, were lost or are damaged is measured once more, to have them.
    known = record is not None and hand.store.whole(record.levels_sha256, record.pyramid_sha256)
    if known:
        with hand.done():
            return
    with hand.source(recording) as source:
        request = InspectRequest(source=source, folder=hand.attempt.folder)
        found = hand.ask(computing.inspected, request, name=recording.name)
    with placing(), ExitStack() as done:
        zoomed, levels = hand.store.put_file(found.pyramid), hand.store.put_file(found.levels)
        listening = hand.store.put_file(found.listening) if found.listening else None
        session = done.enter_context(hand.done())
        record = session.get(InspectionRecord, (recording.known_as, methods_history.current(), recording.room_tone))
        if record is None:
            record = InspectionRecord(
                sha256=recording.known_as,
                methods_version=found.methods_version,
                room_tone=recording.room_tone,
                data=found.inspection,
                ribbon=found.ribbon,
                tracks=found.tracks,
                listening_sha256=listening.sha256 if listening else None,
            )
        record.pyramid_sha256, record.levels_sha256 = zoomed.sha256, levels.sha256
        session.add(record)
        session.flush()
        carrying.carry(session, session.get_one(Recording, recording.id), hand.store)


def _conform(hand: _Hand) -> None:
    with transaction() as session:
        conforming = session.get_one(Conforming, hand.subject_id)
        recording = _as_it_was(session, conforming)
        record, beside = lookup.exact(session, recording), certificates.known(session, recording)
    file_name, manner = conformings.deliverable_name(recording.name, conforming.container), conformings.manner(conforming)
    laid = hand.laid(conforming.laid, name=recording.name)
    with hand.source(recording, certified=True) as source, _known(hand, record, recording) as known, laid as under:
        request = ConformRequest(
            source=source,
            under=under,
            known=known,
            specification=kept.specification(conforming.specification),
            preference=conforming.preference,
            treatment=manner.treatment,
            likeness=manner.likeness,
            bounds=manner.bounds,
            form=conformings.form(conforming),
            file_name=file_name,
            certifies=may("certify"),
            folder=hand.attempt.folder,
            beside=beside,
            issued=now().replace(microsecond=0),
            issuer=issuer(),
        )
        found = hand.ask(computing.conformed, request, name=recording.name)
    written = found.written
    with placing(), ExitStack() as done:
        blob = hand.store.take(written.path, written.sha256) if written else None
        zoomed = hand.store.put_file(written.pyramid) if written and written.pyramid else None
        listening = hand.store.put_file(written.listening) if written and written.listening else None
        session = done.enter_context(hand.done())
        conforming = session.get_one(Conforming, conforming.id)
        conforming.outcome, conforming.reduction, conforming.lowered = found.outcome, found.reduction, found.lowered
        if written is not None and blob is not None:
            conforming.ribbon, conforming.tracks = written.ribbon, written.tracks
            conforming.pyramid_sha256 = zoomed.sha256 if zoomed else None
            conforming.listening_sha256 = listening.sha256 if listening else None
            conforming.file_name, conforming.sha256, conforming.size_bytes = file_name, blob.sha256, blob.size_bytes
        session.add(conforming)
        session.flush()
        if written is not None and written.certificate is not None:
            of = Subject("attempt", conforming.id, recording.production_id, recording.id)
            certificates.issue(session, written.certificate, of)
        deliverables.go_on(session, conforming)


def _plan(hand: _Hand) -> None:
    with transaction() as session:
        planning = session.get_one(Planning, hand.subject_id)
        recording = _as_it_was(session, planning)
        record = lookup.exact(session, recording)
    laid = hand.laid(planning.laid, name=recording.name)
    with hand.source(recording) as source, _known(hand, record, recording) as known, laid as under:
        request = PlanRequest(
            source=source,
            under=under,
            known=known,
            specification=kept.specification(planning.specification),
            preferences=tuple(one for one in PREFERENCES if planning.preference in ("", one)),
            **Manner.parts(planning),
        )
        found = hand.ask(computing.planned, request, name=recording.name)
    with hand.done() as session:
        planning = session.get_one(Planning, planning.id)
        planning.outcome = {"plans": found.plans}
        session.add(planning)


def _retake(hand: _Hand) -> None:
    with transaction() as session:
        take = session.get_one(TakeRecord, hand.subject_id)
        recording = session.get_one(Recording, take.recording_id)
        record, span = lookup.exact(session, recording), takes.span(session, recording, take)
    if span is None:
        raise TakeWithoutPlace(file=take.name)
    came = hand.store.compared(take.sha256, name=take.name)
    with hand.source(recording) as source, _known(hand, record, recording) as known, came as path:
        request = RetakeRequest(source=source, known=known, take=path, name=take.name, span=span, folder=hand.attempt.folder)
        found = hand.ask(computing.retaken, request, name=take.name)
    with placing():
        blob = hand.store.put_file(found.path)
        with hand.done() as session:
            recording = session.get_one(Recording, take.recording_id, with_for_update=True)
            take = session.get_one(TakeRecord, take.id)
            take.prepared_sha256, take.matched = blob.sha256, found.matched.model_dump(mode="json")
            session.add(take)
            session.flush()
            takes.put_in(session, recording, take, lead_s=found.lead_s, trail_s=found.trail_s)


def _bed(hand: _Hand) -> None:
    with transaction() as session:
        sound = session.get_one(BedSound, hand.subject_id)
    with hand.store.compared(sound.sha256, name=sound.name) as path:
        request = BedRequest(path=path, name=sound.name, sha256=sound.sha256, folder=hand.attempt.folder)
        found = hand.ask(computing.bedded, request, name=sound.name)
    with placing():
        heard = hand.store.put_file(found.heard).sha256 if found.heard else sound.sha256
        with hand.done() as session:
            beds.measured(session, session.get_one(BedSound, sound.id), found.inspection, heard)


def _deliver(hand: _Hand) -> None:
    with transaction() as session:
        record = session.get_one(DeliverableRecord, hand.subject_id)
        conforming = session.get_one(Conforming, record.conforming_id)
        recording = _as_it_was(session, conforming)
        beside, line = certificates.known(session, recording), edited.line(session, recording)
    outcome = kept_outcomes.conformed(conforming.outcome or {})
    asked, name = record.asked, record.file_name
    with ExitStack() as files:
        made = hand.store.checked(conforming.sha256 or "", name=name)
        path = files.enter_context(made)
        picture = None
        if asked["cover"]:
            told = dict(asked["cover"])
            cover = hand.store.checked(told.pop("sha256"), name="the cover")
            picture = CoverFile(path=files.enter_context(cover), **told)
        request = DeliverRequest(
            path=path,
            container=conforming.container,
            file_name=name,
            tags=Tags.model_validate(asked["tags"]),
            cover=picture,
            specification=kept.specification(record.specification),
            origin=Origin(
                name=recording.name,
                sha256=recording.sha256,
                edits=SealedEdit.all_of(line.edits if line is not None else None),
                treatment=outcome.treatment,
                touch=round(outcome.touch.touch, 2),
            ),
            beside=beside,
            master=outcome.master,
            folder=hand.attempt.folder,
            issued=now().replace(microsecond=0),
            issuer=issuer(),
        )
        found = hand.ask(computing.delivered, request, name=recording.name)
    with placing(), ExitStack() as done:
        blob = hand.store.take(found.path, found.sha256)
        session = done.enter_context(hand.done())
        record = session.get_one(DeliverableRecord, record.id)
        record.sha256, record.size_bytes, record.crc32 = blob.sha256, blob.size_bytes, found.crc32
        record.outcome = found.outcome
        session.add(record)
        session.flush()
        if found.certificate is not None:
            deliverables.certified(session, record, recording, found.certificate)


def _hand_over(hand: _Hand) -> None:
    with transaction() as session:
        delivery = session.get_one(Delivery, hand.subject_id)
    told = hand.told()
    answer = None
    if delivery.way == handing_over.DESK:
        answer = handing_over.submit(delivery, hand.store, told)
    else:
        handing_over.write(delivery, hand.store, lambda done, total: told("Writing the package", done / max(total, 1)))
    with hand.done() as session:
        delivery = session.get_one(Delivery, delivery.id)
        delivery.answer = answer
        handing_over.handed_over(session, delivery)


def _as_it_was(session: Session, asked: Conforming | Planning) -> Recording:
    """A recording with the edits that it had when something was asked for; not to be written back."""
    recording = session.get_one(Recording, asked.recording_id)
    session.expunge(recording)
    recording.edited = asked.edited
    return recording


@contextmanager
def _known(hand: _Hand, record: InspectionRecord | None, recording: Recording) -> Iterator[KnownSource | None]:
    """What was kept of a recording's inspection by the methods of now, if all that a plan is read from was, and is whole."""
    with ExitStack() as files:
        known = None
        if record is not None and record.levels_sha256 is not None:
            # Two recordings of the same bytes share an inspection; what is said bears this one's name.
            inspection = lookup.inspection(record).model_copy(update={"name": recording.name})
            kept = hand.store.compared(record.levels_sha256, name=recording.name)
            with suppress(NotInStore, ContentChanged):  # then it is measured once more
                known = KnownSource(inspection=inspection, levels=files.enter_context(kept))
        yield known


def _verify(hand: _Hand) -> None:
    with transaction() as session:
        verifying = session.get_one(Verifying, hand.subject_id)
        known = certificates.all_notices(session)
    with ExitStack() as files:
        path, keys = None, certificates.keys().shown(hand.attempt.folder / "keys")
        if verifying.given:
            local = hand.store.checked(verifying.sha256 or "", name=verifying.file_name)
            path = files.enter_context(local)
        request = VerifyRequest(
            path=path,
            name=verifying.file_name,
            certificate=verifyings.content(verifying.certificate),
            certificate_name=verifying.certificate_name,
            notices=(*known, *verifying.notices),
            folder=hand.attempt.folder,
            keys=keys.path,
        )
        report = hand.ask(computing.verified, request, name=verifying.file_name)
    with hand.done() as session:
        verifying = session.get_one(Verifying, verifying.id)
        verifying.report = report.model_dump(mode="json")
        session.add(verifying)


def _archive(hand: _Hand) -> None:
    with archives.made(hand.subject_id, hand.store, hand.told()) as found, hand.done() as session:
        archives.note(session, hand.subject_id, found)
    archives.clear_earlier(hand.subject_id, hand.store)


def _import(hand: _Hand) -> None:
    importing = imports.of(hand.subject_id)
    name = importing.file_name
    with ExitStack() as held:
        file = hand.store.as_local(importing.sha256 or "", name=name)  # each file in it is hashed on its way
        archive = held.enter_context(checking.archive(held.enter_context(file), name=name))
        found = imports.brought_in(archive, hand.store, hand.told())
        fresh = found.production is not None and not found.before
        if fresh:
            held.enter_context(imports.settled(archive, hand.store))
        session = held.enter_context(hand.done())
        if fresh:
            imports.write(session, archive)
        importing = session.get_one(Importing, importing.id)
        importing.outcome = found.model_dump(mode="json")
        session.add(importing)
    if found.production is not None:
        importings.drop_file(importing.id, hand.store)


def _demo(hand: _Hand) -> None:
    seeding.seed(hand.store, hand.told())
    with hand.done():
        pass


_KINDS: dict[WorkKind, Callable[[_Hand], None]] = {
    WorkKind.INSPECT: _inspect,
    WorkKind.CONFORM: _conform,
    WorkKind.VERIFY: _verify,
    WorkKind.PLAN: _plan,
    WorkKind.RETAKE: _retake,
    WorkKind.BED: _bed,
    WorkKind.DELIVER: _deliver,
    WorkKind.HAND_OVER: _hand_over,
    WorkKind.ARCHIVE: _archive,
    WorkKind.IMPORT: _import,
    WorkKind.DEMO: _demo,
}
