"""The desk's protocol over HTTP: hand in a package under its own hash, and ask what came of it.

`PUT /submissions/{requirements}/{sha256}` with the ZIP file as the body and a token. The same package handed in twice for the same
requirements is the same submission. Answers come later: `GET` there until its state is "checked". All of it is described at
`/openapi.json`.
"""

import hashlib
import hmac
import json
import logging
import re
import threading
from collections.abc import AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Literal

from fastapi import Depends, FastAPI, Header, HTTPException, Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel

from ispettore.desk.checking import Answer, Requirements, asked, check
from ispettore.desk.faults import Faults

LARGEST_BYTES = 20 * 1024**3
RETRY_AFTER_S = 1
log = logging.getLogger("intake desk")


class Submission(BaseModel):
    """A package that was handed in. `answer` is there when it is checked."""

    sha256: str
    title: str
    requirements: str
    size_bytes: int
    state: Literal["received", "checked"]
    received_at: datetime
    checked_at: datetime | None = None
    answer: Answer | None = None

    @property
    def key(self) -> str:
        return key_of(self.requirements, self.sha256)


def key_of(requirements: str, sha256: str) -> str:
    """What a submission is known by."""
    return f"{requirements}-{sha256}"


class Dropped(Exception):
    """The connection breaks off here."""


class Desk:
    """Submissions in a folder: the package and a note of what is known of it, each written whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._lock, self._worker = threading.Lock(), ThreadPoolExecutor(1, thread_name_prefix="checking")

    def go_on(self) -> None:
        """Check what was received and not checked before the service ended."""
        for path in self.folder.glob(".*.part"):
            path.unlink()
        for one in self.history():
            if one.state == "received":
                self._worker.submit(self._check, one.key)

    def close(self) -> None:
        self._worker.shutdown(wait=False, cancel_futures=True)

    def get(self, key: str) -> Submission | None:
        path = self.folder / f"{key}.json"
        return Submission.model_validate_json(path.read_text(encoding="utf-8")) if path.is_file() else None

    def history(self) -> list[Submission]:
        """Every submission, the newest first."""
        found = [Submission.model_validate_json(path.read_text(encoding="utf-8")) for path in self.folder.glob("*.json")]
        return sorted(found, key=lambda one: one.received_at, reverse=True)

    def receive(self, part: Path, sha256: str, title: str, requirements: str) -> Submission:
        """Take a package that arrived whole, and have it checked; one that is there already is that one."""
        with self._lock:
            if (there := self.get(key_of(requirements, sha256))) is not None:
                part.unlink()
                return there
            size = part.stat().st_size
            part.replace(self.folder / f"{sha256}.zip")
            received = Submission(
                sha256=sha256,
                title=title,
                requirements=requirements,
                size_bytes=size,
                state="received",
                received_at=datetime.now(UTC),
            )
            self._put(received)
        self._worker.submit(self._check, received.key)
        return received

    def _check(self, key: str) -> None:
        try:
            found = self.get(key)
            if found is None or found.state == "checked":
                return
            answer = check(self.folder / f"{found.sha256}.zip", asked()[found.requirements], self.folder)
            self._put(found.model_copy(update={"state": "checked", "checked_at": datetime.now(UTC), "answer": answer}))
        except Exception:
            log.exception("a package could not be checked: %s", key)

    def _put(self, one: Submission) -> None:
        part = self.folder / f".{one.key}.note.part"
        part.write_text(json.dumps(one.model_dump(mode="json"), ensure_ascii=False), encoding="utf-8")
        part.replace(self.folder / f"{one.key}.json")


def build(folder: Path, token: str, faults: Faults) -> FastAPI:
    """The service on a folder; `token` is what whoever hands in has to show."""
    desk = Desk(folder)

    @asynccontextmanager
    async def running(_: FastAPI) -> AsyncIterator[None]:
        desk.go_on()
        yield
        desk.close()

    app = FastAPI(title="Intake desk", version="1", lifespan=running, docs_url=None, redoc_url=None)

    def known(authorization: Annotated[str, Header()] = "") -> None:
        if not hmac.compare_digest(authorization.encode(), f"Bearer {token}".encode()):
            raise HTTPException(401, "The token is missing or wrong.")

    def well() -> None:
        match faults.next():
            case "busy":
                raise HTTPException(503, "The desk is busy.", {"retry-after": str(RETRY_AFTER_S)})
            case "drop":
                raise Dropped()

    @app.exception_handler(Dropped)
    def drop(_request: Request, _error: Exception) -> Response:
        return StreamingResponse(_broken(), headers={"content-length": "1000"})

    guarded = [Depends(known), Depends(well)]

    @app.get("/requirements", dependencies=[Depends(known)])
    def list_requirements() -> list[Requirements]:
        """What the desk asks, for each kind of delivery that it takes."""
        return list(asked().values())

    @app.put("/submissions/{requirements}/{sha256}", dependencies=guarded, status_code=201)
    async def hand_in(
        requirements: str,
        sha256: str,
        request: Request,
        response: Response,
        title: Annotated[str, Query(max_length=300)] = "",
    ) -> Submission:
        """Hand in a package under the SHA-256 of its bytes. 201 where it is new, 200 where it was handed in before, 422 where the
        bytes have another hash."""
        if not re.fullmatch(r"[0-9a-f]{64}", sha256) or requirements not in asked():
            raise HTTPException(422, "There are no such requirements, or the address is no SHA-256.")
        if (there := desk.get(key_of(requirements, sha256))) is not None:
            response.status_code = 200
            return there
        part, found, size = desk.folder / f".{sha256}.{id(request):x}.part", hashlib.sha256(), 0
        try:
            with part.open("wb") as file:
                async for piece in request.stream():
                    size += len(piece)
                    if size > LARGEST_BYTES:
                        raise HTTPException(413, "The package is larger than 20 GiB.")
                    found.update(piece)
                    file.write(piece)
            if found.hexdigest() != sha256:
                raise HTTPException(422, "The package did not arrive as it was sent: its SHA-256 is another.")
            return desk.receive(part, sha256, title, requirements)
        finally:
            part.unlink(missing_ok=True)

    @app.get("/submissions/{requirements}/{sha256}", dependencies=guarded)
    def look(requirements: str, sha256: str) -> Submission:
        """What is known of a submission."""
        meant = re.fullmatch(r"[0-9a-f]{64}", sha256) is not None and requirements in asked()
        found = desk.get(key_of(requirements, sha256)) if meant else None
        if found is None:
            raise HTTPException(404, "There is no such submission.")
        return found

    @app.get("/submissions", dependencies=[Depends(known)])
    def history() -> list[Submission]:
        """Everything that was ever handed in, the newest first."""
        return desk.history()

    return app


def _broken() -> Iterator[bytes]:
    """An answer that breaks off."""
    yield b"{"
    raise ConnectionResetError("dropped, as drawn")
