"""What addresses are to be told: a message whenever a recording's status is not the one last told. It is written down before it is
sent, so that nothing is lost and nothing is told twice as news.

Statuses are compared, not followed: what happened while nobody looked is seen by the next comparison.
"""

import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session, col, delete, select, update

from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.studio import events
from ispettore.studio.catalogue import recordings, standings
from ispettore.studio.catalogue.standings import Standing
from ispettore.studio.database import transaction
from ispettore.studio.tables import Production, Recording, Webhook, WebhookMessage, WebhookStatus, now

FORGOTTEN_AFTER = timedelta(days=30)
KIND, TRY = "recording.status", "webhook.try"


def know(session: Session, hook: Webhook) -> None:
    """Take how everything stands now for told."""
    for production in _productions(session, hook):
        for one in _standing(session, production):
            session.add(WebhookStatus(hook_id=hook.id, recording_id=one.recording.id, status=one.status))


def write(of: Iterable[UUID] | None = None) -> int:
    """Write a message for every recording whose status changed, of some productions or of all; how many those are."""
    wanted = None if of is None else set(of)
    with transaction() as session:
        hooks = session.exec(select(Webhook).with_for_update()).all()
        if not hooks:
            return 0
        count = 0
        for production in session.exec(select(Production).where(col(Production.removed_at).is_(None))).all():
            concerned = [hook for hook in hooks if hook.production_id in (None, production.id)]
            if concerned and (wanted is None or production.id in wanted):
                stands = _standing(session, production)
                count += sum(_compared(session, hook, production, stands) for hook in concerned)
        if count:
            events.tell(session, events.Notice(about="outside"))
        return count


def _productions(session: Session, hook: Webhook) -> list[Production]:
    rows = select(Production).where(col(Production.removed_at).is_(None))
    if hook.production_id is not None:
        rows = rows.where(Production.id == hook.production_id)
    return list(session.exec(rows).all())


def _standing(session: Session, production: Production) -> list[Standing]:
    """How every recording of a production stands."""
    here = recordings.current(session, production.id)
    return standings.of_production(session, production, here, _specification(production))


def _specification(production: Production) -> Specification:
    return kept.specification(production.specification)


def _compared(session: Session, hook: Webhook, production: Production, stands: Sequence[Standing]) -> int:
    """Messages to an address about what is not as it was last told."""
    told = {
        row.recording_id: row
        for row in session.exec(
            select(WebhookStatus)
            .where(WebhookStatus.hook_id == hook.id)
            .where(col(WebhookStatus.recording_id).in_([one.recording.id for one in stands]))
        ).all()
    }
    count = 0
    for one in stands:
        recording, status = one.recording, one.status
        row = told.get(recording.id)
        before = row.status if row is not None else None
        if before == status:
            continue
        row = row or WebhookStatus(hook_id=hook.id, recording_id=recording.id, status=status)
        row.status = status
        session.add(row)
        session.add(WebhookMessage(hook_id=hook.id, body=body(production, recording, status, before, at=now())))
        count += 1
    return count


def body(production: Production, recording: Recording, status: str, before: str | None, *, at: datetime) -> str:
    """What is sent: which recording of which production, its status and the one before (None: it is new), and for which
    specification that holds."""
    specification = _specification(production)
    return _written(
        KIND,
        at,
        {
            "recording": {"id": str(recording.id), "name": recording.name},
            "production": {"id": str(production.id), "name": production.name},
            "specification": {"id": specification.id, "version": specification.version},
            "status": status,
            "before": before,
        },
    )


def _written(kind: str, at: datetime, data: Mapping[str, object]) -> str:
    return json.dumps({"type": kind, "timestamp": at.isoformat(), "data": data}, ensure_ascii=False)


def add_try(session: Session, hook_id: UUID) -> None:
    """A message that tells of nothing, to see whether an address answers."""
    session.add(WebhookMessage(hook_id=hook_id, body=_written(TRY, now(), {})))


def retry(session: Session, hook_id: UUID) -> None:
    """Have everything sent that has not arrived, as if it had not been tried."""
    missing = (col(WebhookMessage.hook_id) == hook_id, col(WebhookMessage.arrived_at).is_(None))
    session.execute(update(WebhookMessage).where(*missing).values(due_at=now(), tries=0))


def forget(session: Session) -> None:
    """Let go of messages that were written long ago, arrived or not."""
    session.execute(delete(WebhookMessage).where(col(WebhookMessage.created_at) < now() - FORGOTTEN_AFTER))
