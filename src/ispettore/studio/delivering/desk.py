"""Talking to an intake desk: what it asks, handing a package in, and what came of it. It may be busy, or break off; both are tried
again.

Its protocol is its own (`/openapi.json` there); nothing of it is imported.
"""

import hashlib
import random
import time
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import quote

import httpx
from pydantic import BaseModel, ConfigDict, ValidationError

from ispettore.core.errors import Cancelled
from ispettore.studio.errors import DeskAway, DeskRefused
from ispettore.studio.settings import settings

Told = Callable[[str, float], bool]
"""Is told what is done and how far it is; says whether to give up."""
FIRST_WAIT_S, LONGEST_WAIT_S, ASK_EVERY_S = 0.4, 20.0, 0.5
PIECE = 1 << 20
TIMEOUT = httpx.Timeout(60.0, connect=5.0)


class _Said(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class Asked(_Said):
    """One kind of delivery that the desk takes."""

    id: str
    title: str


class SaidReason(_Said):
    """Why it rejected a file."""

    text: str


class SaidOfFile(_Said):
    """Its answer for one file, by the hash it was listed with."""

    name: str
    sha256: str
    accepted: bool
    reasons: list[SaidReason]
    readings: dict[str, float | None]


class Said(_Said):
    """Its answer for a package."""

    accepted: bool
    reasons: list[str]
    files: list[SaidOfFile]


def there() -> bool:
    """Whether there is a desk to hand in to."""
    return bool(settings().desk)


def asked() -> list[Asked]:
    """What the desk asks, for each kind of delivery. Raises DeskAway."""
    with _client() as client:
        try:
            answer = client.get("/requirements")
            answer.raise_for_status()
            return [Asked.model_validate(one) for one in answer.json()]
        except (httpx.HTTPError, ValueError) as error:
            raise DeskAway(reason=_why(error), tries=1) from error


def hand_in(read: Callable[[int, int], Iterator[bytes]], size: int, *, title: str, requirements: str, told: Told) -> dict[str, Any]:
    """Hand a package in and wait until it is checked; the answer as the desk said it. The same package is handed in once, however
    often this is tried. Raises DeskAway, DeskRefused and Cancelled."""
    whole, done = hashlib.sha256(), 0
    for piece in read(0, size):
        whole.update(piece)
        done += len(piece)
        _go_on(told, "Hashing the package", done / max(size, 1))
    sha256 = whole.hexdigest()
    path = f"/submissions/{quote(requirements, safe='')}/{sha256}"

    def sent() -> Iterator[bytes]:
        done = 0
        for piece in read(0, size):
            done += len(piece)
            _go_on(told, "Handing in", done / max(size, 1))
            yield piece

    with _client() as client:
        headers = {"content-length": str(size)}
        _patiently(lambda: client.put(path, params={"title": title}, content=sent(), headers=headers), told)
        while True:
            answer = _patiently(lambda: client.get(path), told)
            if answer.get("state") == "checked":
                return _understood(answer)
            _go_on(told, "Being checked at the desk", 0.0)
            time.sleep(ASK_EVERY_S)


def _understood(answer: dict[str, Any]) -> dict[str, Any]:
    try:
        return Said.model_validate(answer["answer"]).model_dump(mode="json")
    except (ValidationError, KeyError) as error:
        raise DeskRefused(reason="it answered in a way that can't be understood") from error


def _patiently(ask: Callable[[], httpx.Response], told: Told) -> dict[str, Any]:
    """Ask, and ask again after a while that doubles, where the desk is busy or the connection breaks off."""
    tries, why = settings().desk_tries, ""
    for attempt in range(tries):
        wait_s = min(LONGEST_WAIT_S, FIRST_WAIT_S * 2**attempt) * (0.5 + random.random() / 2)
        try:
            answer = ask()
            if answer.status_code < 400:
                found: dict[str, Any] = answer.json()
                return found
            if answer.status_code not in (429, 502, 503, 504):
                raise DeskRefused(reason=_detail(answer))
            why, later = "it is busy", answer.headers.get("retry-after", "")
            wait_s = max(wait_s, min(LONGEST_WAIT_S, float(later))) if later.isdigit() else wait_s
        except (httpx.TransportError, ValueError) as error:
            why = _why(error)
        if attempt + 1 < tries:
            _wait(wait_s, f"{why}; trying again", told)
    raise DeskAway(reason=why, tries=tries)


def _wait(seconds: float, stage: str, told: Told) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        _go_on(told, stage, 0.0)
        time.sleep(min(0.1, seconds))


def _go_on(told: Told, stage: str, fraction: float) -> None:
    if told(stage, fraction):
        raise Cancelled()


def _client() -> httpx.Client:
    return httpx.Client(
        base_url=settings().desk, timeout=TIMEOUT, headers={"authorization": f"Bearer {settings().desk_token}"}, trust_env=False
    )


def _why(error: Exception) -> str:
    match error:
        case httpx.ConnectError() | httpx.ConnectTimeout():
            return "nobody answers there"
        case httpx.TimeoutException():
            return "it did not answer in time"
        case httpx.HTTPStatusError():
            return _detail(error.response)
    return "the connection broke off"


def _detail(answer: httpx.Response) -> str:
    try:
        return str(answer.json()["detail"])
    except (ValueError, KeyError, TypeError):
        return f"it answered with status {answer.status_code}"
