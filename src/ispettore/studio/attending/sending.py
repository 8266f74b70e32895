"""Sending what addresses are to be told: signed, one after the other, and tried again where nobody answers.

Messages are signed as the open Standard Webhooks specification (1.0.0) has it: HMAC-SHA256 over identifier, time and body.
"""

import base64
import hashlib
import hmac
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime, timedelta
from uuid import UUID

import httpx
import structlog
from sqlmodel import col, select

from ispettore.core.certify.certificate import issuer
from ispettore.core.errors import IspettoreError
from ispettore.studio import events
from ispettore.studio.attending import hooks
from ispettore.studio.database import transaction
from ispettore.studio.tables import Webhook, WebhookMessage, now

WAITS_S = (5, 30, 120, 600, 1800, 7200, 21600)
"""After each try that failed; when the last of them failed as well, the address is given up until somebody has it tried again."""
TIMEOUT = httpx.Timeout(10.0, connect=5.0)
AT_ONCE = 4
"""Addresses; each gets its messages one after the other."""
MOST_IN_A_ROW = 50
GONE = 410

log = structlog.get_logger()


def headers(message: WebhookMessage, secret: str, at: datetime) -> Mapping[str, str]:
    """What goes with a message, so that who receives it can tell that it is ours, whole, and not sent again by somebody else."""
    name, moment = f"msg_{message.name.hex}", str(int(at.timestamp()))
    return {
        "content-type": "application/json",
        "user-agent": issuer(),
        "webhook-id": name,
        "webhook-timestamp": moment,
        "webhook-signature": f"v1,{signature(secret, name, moment, message.body)}",
    }


def signature(secret: str, name: str, moment: str, body: str) -> str:
    """Of a message, in base64; `secret` as it was shown, `moment` in seconds since 1970.

    >>> signature("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", '{"test": 2432232314}')
    'g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE='
    """
    key = base64.b64decode(secret.removeprefix(hooks.SECRET))
    return base64.b64encode(hmac.digest(key, f"{name}.{moment}.{body}".encode(), hashlib.sha256)).decode()


def send_due() -> None:
    """Send what is due, to several addresses at once. Raises what a database raises that is away."""
    with transaction() as session:
        waits = select(WebhookMessage.hook_id).where(col(WebhookMessage.due_at) <= now()).distinct()
        to = session.exec(select(Webhook.id).where(Webhook.problem == "", col(Webhook.id).in_(waits))).all()
    if not to:
        return
    with ThreadPoolExecutor(AT_ONCE) as pool:
        list(pool.map(_send, to))


def _send(hook_id: UUID) -> None:
    """Messages to one address, in their order, until one does not arrive."""
    with httpx.Client(timeout=TIMEOUT, follow_redirects=False, trust_env=False) as client:
        for _ in range(MOST_IN_A_ROW):
            with transaction() as session:
                hook = session.get(Webhook, hook_id)
                first = (
                    select(WebhookMessage)
                    .where(WebhookMessage.hook_id == hook_id, col(WebhookMessage.due_at).is_not(None))
                    .order_by(col(WebhookMessage.number))
                    .limit(1)
                )
                message = session.exec(first).first()
            if hook is None or hook.problem or message is None or message.due_at is None or message.due_at > now():
                return
            status, answer = _tried(client, hook, message)
            if not _noted(hook, message, status, answer):
                return


def _tried(client: httpx.Client, hook: Webhook, message: WebhookMessage) -> tuple[int, str]:
    """The status of the answer (0: none) and what that means in words."""
    try:
        hooks.fit(hook.url)
        with client.stream("POST", hook.url, content=message.body.encode(), headers=headers(message, hook.secret, now())) as answer:
            return answer.status_code, "" if answer.is_success else f"it answered with {answer.status_code}"
    except IspettoreError as error:
        return 0, error.sentence.partition(": ")[2].rstrip(".") or error.sentence
    except httpx.ConnectError:
        return 0, "nobody answers there"
    except httpx.TimeoutException:
        return 0, "it did not answer in time"
    except (httpx.HTTPError, httpx.InvalidURL, ValueError):
        return 0, "the connection broke off"


def _noted(hook: Webhook, sent: WebhookMessage, status: int, answer: str) -> bool:
    """Write down how a message fared; whether it arrived. One that is not found any more was taken away meanwhile."""
    with transaction() as session:
        here = session.get(Webhook, hook.id, with_for_update=True)  # first, as everybody does who needs both
        message = session.get(WebhookMessage, sent.number, with_for_update=True)
        if message is None or here is None:
            return False
        message.tries += 1
        message.answer = answer
        if not answer:
            message.arrived_at, message.due_at = now(), None
        elif status == GONE:
            here.problem = "It answered that nobody is there any more."
        elif message.tries > len(WAITS_S):
            here.problem = f"{message.tries} tries failed: {answer}."
        else:
            message.due_at = now() + timedelta(seconds=WAITS_S[message.tries - 1])
        if here.problem:
            log.warning("a webhook is given up", webhook=str(hook.id), reason=here.problem)
        session.add(message)
        session.add(here)
        events.tell(session, events.Notice(about="outside", id=str(hook.id)))
        return not answer
