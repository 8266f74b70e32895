"""What is asked for many recordings at once: each is done by itself, and one that can't be takes nothing from the others."""

from collections.abc import Callable, Sequence
from uuid import UUID

from sqlmodel import Session, col

from ispettore.core.audio.formats import FormatName
from ispettore.core.errors import IspettoreError
from ispettore.core.plan.preferences import Preference
from ispettore.studio.catalogue import conformings, lookup, recordings, treatments
from ispettore.studio.catalogue.manner import Manner
from ispettore.studio.catalogue.views import AskedEach, RefusedRecording
from ispettore.studio.database import transaction
from ispettore.studio.jobs import works
from ispettore.studio.tables import Recording, Work, WorkKind

AskedOne = Callable[[UUID], tuple[UUID, bool]]
"""Asks for one recording: what is or will be there, and whether that was begun by this."""


def conform(
    recording_ids: Sequence[UUID],
    *,
    preference: Preference | None,
    treatment: str | None = None,
    reference: bool = False,
    container: FormatName | None = None,
) -> AskedEach:
    """Have each conformed by a plan of its own (None: of the usual preference), or by the newest version of a kept treatment
    (`reference`: with a reference level put in where it lacks one). What was made just so already stays. Raises NotFound and
    StepNotReady for the treatment."""
    kept = treatments.newest(treatment, reference=reference) if treatment is not None else None

    def manner(session: Session, _recording: Recording) -> Manner:
        return Manner.by(kept) if kept is not None else conformings.by_plan(session, preference)

    return each(recording_ids, lambda one: conformings.ask_unless_made(one, manner, container=container))


def measure(recording_ids: Sequence[UUID]) -> AskedEach:
    """Have each measured that is not, by the methods of now."""
    return each(recording_ids, _measure)


def hand_over(recording_ids: Sequence[UUID], *, delivered: bool) -> AskedEach:
    """Note that the file of each was delivered, or that it was not."""
    return each(recording_ids, lambda one: conformings.hand_over(one, delivered=delivered))


def cancel(recording_ids: Sequence[UUID]) -> int:
    """Cancel all that waits or runs for these recordings; how much that was."""
    return works.cancel_unfinished(col(Work.recording_id).in_(recording_ids))


def _measure(recording_id: UUID) -> tuple[UUID, bool]:
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is not None and _measured(session, recording):
            return recording_id, False
    recordings.inspect_again(recording_id)
    return recording_id, True


def _measured(session: Session, recording: Recording) -> bool:
    return works.under_way(session, WorkKind.INSPECT, recording.id) or lookup.exact(session, recording) is not None


def each(recording_ids: Sequence[UUID], ask: AskedOne) -> AskedEach:
    """Ask for each; those that can't be asked for are told, and nothing of the others is lost by it."""
    told = AskedEach(asked=[], settled=[], refused=[])
    for recording_id in recording_ids:
        try:
            made, begun = ask(recording_id)
            (told.asked if begun else told.settled).append(made)
        except IspettoreError as error:
            told.refused.append(RefusedRecording(id=recording_id, reason=error.sentence))
    return told
