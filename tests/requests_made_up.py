"""Requests made up from the interface's own description, right and wrong ones, by a tool that is made for it; and what no answer
may hold."""

import random
import re
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import schemathesis
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, seed, settings
from schemathesis import GenerationMode

from ispettore.studio.locations import ROOT

SLOWEST_S = 20
FOLDERS = (str(ROOT), str(Path.home()), tempfile.gettempdir())
LEAKS = re.compile(
    "|".join((*map(re.escape, FOLDERS), r"Traceback|File \\?\"|site-packages|psycopg|sqlalchemy|SELECT .* FROM")), re.I
)
"""Signs of a trace, of the folders of the machine it runs on, or of the database."""
LEFT_OUT = {"/api/events", "/api/ready"}
"""What goes on for ever, and what says by its status that no worker is there."""


@dataclass
class Found:
    """What came of it: how often which status, and every answer that should not be."""

    statuses: Counter[int] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)


def ask_all(client: TestClient, known: dict[str, list[str]], *, each: int, number: int) -> Found:
    """Send every operation `each` requests that fit its description or do not. `known` are values for parts of addresses, so that
    what is there is asked for as well as what is not; `number` chooses which requests these are."""
    found, draw = Found(), random.Random(number)
    described = schemathesis.openapi.from_dict(client.app.openapi())  # type: ignore[attr-defined]
    for operation in (result.ok() for result in described.get_all_operations()):
        if operation.path in LEFT_OUT:
            continue
        _ask(client, operation, known, found, draw, each=each, number=number)
    return found


def _ask(
    client: TestClient, operation: Any, known: dict[str, list[str]], found: Found, draw: random.Random, *, each: int, number: int
) -> None:
    right, wrong = (operation.as_strategy(generation_mode=mode) for mode in (GenerationMode.POSITIVE, GenerationMode.NEGATIVE))

    def send(case: Any) -> None:
        for name in list(case.path_parameters or {}):
            if name in known and draw.random() < 0.7:
                case.path_parameters[name] = draw.choice(known[name])
        _send(client, case, operation.label, found)

    phases = {"phases": [Phase.generate], "suppress_health_check": list(HealthCheck)}
    quiet = settings(max_examples=each, deadline=None, database=None, **phases)
    seed(number)(quiet(given(case=right | wrong)(send)))()


def _send(client: TestClient, case: Any, label: str, found: Found) -> None:
    asked = case.as_transport_kwargs(base_url="http://127.0.0.1")
    given_ = {name: asked[name] for name in ("json", "params", "content", "data", "headers", "cookies", "files") if name in asked}
    begun = time.monotonic()
    try:
        answer = client.request(asked["method"], asked["url"], **given_)
    except httpx.InvalidURL:  # longer than this client sends: it never went out
        return
    except Exception as error:  # what the server would have answered with 500
        found.faults.append(f"{label}: {error!r} for {_short(asked)}")
        return
    found.statuses[answer.status_code] += 1
    for fault in _faults(answer, time.monotonic() - begun):
        found.faults.append(f"{label}: {fault} for {_short(asked)}")


def _faults(answer: Any, seconds: float) -> Iterator[str]:
    if answer.status_code >= 500:
        yield f"status {answer.status_code}"
    if seconds > SLOWEST_S:
        yield f"{seconds:.0f} s"
    if answer.status_code >= 400:
        if leak := LEAKS.search(answer.text):
            yield f"tells {leak.group()!r}"
        if answer.request.method != "HEAD" and not isinstance(answer.json().get("error"), str):
            yield f"no sentence in {answer.text[:100]!r}"


def _short(asked: dict[str, Any]) -> str:
    return str({name: asked[name] for name in ("method", "url", "json", "params") if name in asked})[:400]
