"""Webhooks as people handle them: addresses that are told when a recording's status changes."""

import base64
import ipaddress
import secrets
import socket
from urllib.parse import urlsplit
from uuid import UUID

from sqlmodel import Session, col, func, select

from ispettore.core.errors import IspettoreError
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.access.letting_in import access
from ispettore.studio.attending import messages
from ispettore.studio.attending.views import MadeWebhook, WebhookView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Production, Webhook, WebhookMessage

LONGEST = 2048
SECRET = "whsec_"
"""What a secret begins with (Standard Webhooks, "Signature scheme")."""


class AddressUnfit(IspettoreError):
    """“{url}” can't be told anything: {reason}."""

    url: str
    reason: str


def add(url: str, production_id: UUID | None) -> MadeWebhook:
    """Have an address told from now on, of one production or of all. What stands already is not told. Raises AddressUnfit and
    NotFound."""
    url = refuse(url.strip()[:LONGEST], what="The address")
    fit(url)
    with transaction() as session:
        if production_id is not None and session.get(Production, production_id) is None:
            raise NotFound(what="production")
        made = Webhook(url=url, production_id=production_id, secret=SECRET + base64.b64encode(secrets.token_bytes(24)).decode())
        session.add(made)
        session.flush()
        messages.know(session, made)
        events.tell(session, events.Notice(about="outside", id=str(made.id)))
        return MadeWebhook(id=made.id, secret=made.secret)


def remove(hook_id: UUID) -> None:
    """Tell an address nothing any more. Raises NotFound."""
    with transaction() as session:
        found = _there(session, hook_id)
        session.delete(found)
        events.tell(session, events.Notice(about="outside", id=str(hook_id)))


def again(hook_id: UUID) -> None:
    """Go on with an address that was given up, beginning with what it missed and with a message that says only that it is a try.
    Raises NotFound."""
    with transaction() as session:
        found = _there(session, hook_id)
        found.problem = ""
        session.add(found)
        messages.retry(session, hook_id)
        messages.add_try(session, hook_id)
        events.tell(session, events.Notice(about="outside", id=str(hook_id)))


def _there(session: Session, hook_id: UUID) -> Webhook:
    found = session.get(Webhook, hook_id, with_for_update=True)
    if found is None:
        raise NotFound(what="webhook")
    return found


def fit(url: str) -> None:
    """Whether an address may be told something, now. Raises AddressUnfit.

    Where people sign in, none of this machine and none that only its own network segment reaches: whoever may add addresses is not
    to reach what only the server reaches.
    """
    try:
        parts = urlsplit(url)
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port, parts = None, None, urlsplit("")
    if parts.scheme not in ("https", "http") or not host:
        raise AddressUnfit(url=url, reason="it has to begin with https:// or http:// and name a host")
    if parts.username or parts.password or parts.fragment:
        raise AddressUnfit(url=url, reason="it holds a name, a password or a fragment, which would be sent along")
    try:
        found = {info[4][0] for info in socket.getaddrinfo(host, port or 443, type=socket.SOCK_STREAM)}
    except OSError:
        raise AddressUnfit(url=url, reason=f"the host {host} is not known here") from None
    if any(_never(str(address)) for address in found):
        raise AddressUnfit(url=url, reason="its host is this machine or its own network segment, which this server does not tell")


def _never(address: str) -> bool:
    here = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(here, ipaddress.IPv6Address) and here.ipv4_mapped is not None:
        here = here.ipv4_mapped  # the same machine, written otherwise
    if here.is_link_local or here.is_multicast or here.is_unspecified:
        return True
    return here.is_loopback and access() == "accounts"


def listed(session: Session) -> list[WebhookView]:
    """All of them, the oldest first."""
    rows = session.exec(select(Webhook).order_by(col(Webhook.created_at))).all()
    names = dict(session.exec(select(Production.id, Production.name)).all())
    return [_view(session, row, names.get(row.production_id, "") if row.production_id else "") for row in rows]


def _view(session: Session, row: Webhook, production: str) -> WebhookView:
    of = WebhookMessage.hook_id == row.id
    counts = select(func.count(), func.count(col(WebhookMessage.arrived_at)), func.max(WebhookMessage.arrived_at)).where(of)
    count, arrived, arrived_at = session.exec(counts).one()
    newest = col(WebhookMessage.number).desc()
    answers = session.exec(select(WebhookMessage.answer).where(of, WebhookMessage.tries > 0).order_by(newest).limit(1)).all()
    return WebhookView(
        **row.model_dump(include={"id", "url", "production_id", "problem"}),
        production_name=production,
        waiting=count - arrived,
        arrived=arrived,
        arrived_at=arrived_at,
        answer=answers[0] if answers else "",
    )
