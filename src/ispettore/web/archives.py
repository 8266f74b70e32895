"""Routes: the record of a production, its archive, and archives that come in."""

from collections.abc import Iterator
from typing import Annotated, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field

from ispettore.core.archive.record import Topic
from ispettore.core.text import LONGEST_NAME_BYTES
from ispettore.studio.archiving import archives, importing, record
from ispettore.studio.archiving.views import ArchiveView, ImportView, RecordView
from ispettore.studio.catalogue import importings
from ispettore.studio.catalogue.incoming import Incoming, allowed_name
from ispettore.studio.catalogue.views import UnfinishedUpload
from ispettore.studio.settings import settings
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY, named, ranged
from ispettore.web.uploading import into_store

routes = APIRouter()
KINDS = {"json": "application/json", "txt": "text/plain; charset=utf-8"}


class TrustedKeys(BaseModel):
    """Fingerprints of keys that somebody compared with whoever holds them."""

    keys: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9_-]{43}$")]] = Field(min_length=1, max_length=100)


@routes.get("/productions/{production_id}/record", operation_id="getRecord")
def get_record(
    production_id: UUID,
    recording: UUID | None = None,
    topic: Topic | None = None,
    start: Annotated[int, Query(ge=0)] = 0,
    count: Annotated[int, Query(ge=1, le=record.MOST)] = 100,
) -> RecordView:
    return record.view(production_id, recording=recording, topic=topic, start=start, count=count)


@routes.get("/productions/{production_id}/record.{form}", operation_id="getWholeRecord", response_class=Response)
def get_whole_record(production_id: UUID, form: Literal["json", "txt"]) -> Response:
    name, content = record.document(production_id, form)
    return Response(content, media_type=KINDS[form], headers=named(f"{name} record.{form}"))


@routes.get("/productions/{production_id}/archive", operation_id="getArchive")
def get_archive(production_id: UUID) -> ArchiveView:
    return archives.view(production_id)


@routes.post("/productions/{production_id}/archive", operation_id="makeArchive", status_code=202)
def make_archive(production_id: UUID) -> Made:
    return Made(id=archives.ask(production_id))


@routes.get("/archives/{archive_id}/file", operation_id="getArchiveFile", response_class=Response)
def get_archive_file(archive_id: UUID, request: Request) -> Response:
    name, zipped = archives.zipped(archive_id, request.app.state.store)

    def read(start: int, end: int) -> Iterator[bytes]:
        return zipped.read(start, end)

    return ranged(request, read, size=zipped.size, tag=zipped.tag, kind="application/zip", headers=named(name))


@routes.get("/imports", operation_id="listImports")
def list_imports() -> list[ImportView]:
    return importing.listed()


@routes.get("/imports/uploads", operation_id="listUnfinishedArchives")
def list_unfinished_archives() -> list[UnfinishedUpload]:
    return Incoming(settings().incoming).unfinished(None)


@routes.put("/imports", operation_id="importArchive", status_code=202, openapi_extra=RAW_BODY)
async def import_archive(request: Request, name: Annotated[str, Query(min_length=1, max_length=LONGEST_NAME_BYTES)]) -> Made:
    shown = allowed_name(name)
    limit = settings().largest_archive_bytes
    return await into_store(request, shown, lambda blob: Made(id=importings.add(shown, blob)), limit_bytes=limit)


@routes.post("/imports/{importing_id}/trust", operation_id="trustAndImport", status_code=204)
def trust_and_import(importing_id: UUID, wanted: TrustedKeys, request: Request) -> None:
    importing.trust(importing_id, wanted.keys, request.app.state.store)


@routes.post("/imports/{importing_id}/again", operation_id="importAgain", status_code=204)
def import_again(importing_id: UUID) -> None:
    importings.again(importing_id)


@routes.delete("/imports/{importing_id}", operation_id="discardImport", status_code=204)
def discard_import(importing_id: UUID, request: Request) -> None:
    importings.discard(importing_id, request.app.state.store)
