"""Routes: how a production is delivered, making its files, and handing them over."""

from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.audio import cover
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.deliver.entries import LONGEST, MOST, MOST_PARTS, Kind
from ispettore.studio.catalogue.views import AskedEach
from ispettore.studio.certifying import printing
from ispettore.studio.delivering import asking, deliverables, desk, handing_over, packing, screen
from ispettore.studio.delivering.desk import Asked
from ispettore.studio.delivering.views import DeliveryView
from ispettore.studio.errors import NotFound
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY, named, ranged, read_within

routes = APIRouter()
Some = Annotated[str, Query(max_length=60_000)]
Text = Annotated[str | None, Field(max_length=1_000)]


class ChangedDelivering(BaseModel):
    """What is to change; what is left out stays. `form` "asked" means as the specification asks."""

    form: OutputFormat | Literal["asked"] | None = None
    naming: Text = None
    certified_by: Text = None
    album: Text = None
    author: Text = None
    narrator: Text = None
    publisher: Text = None
    year: Text = None
    language: Text = None


class WantedNaming(BaseModel):
    """A template, to see what it makes of every name."""

    naming: str = Field(max_length=2_000)


class FileNameView(BaseModel):
    """The name of a recording's file, and what speaks against it; empty where nothing does."""

    recording: UUID
    file_name: str
    problem: str


class Names(BaseModel):
    """What a template names every file; `problem` says what is wrong with the template itself."""

    problem: str
    names: list[FileNameView]


class ChangedEntry(BaseModel):
    """What of an entry is to change; what is left out stays as it is. Number and part may be taken away."""

    kind: Kind | None = None
    number: int | None = Field(None, ge=0, le=MOST)
    part: int | None = Field(None, ge=1, le=MOST_PARTS)
    title: str | None = Field(None, max_length=LONGEST)
    narrator: str | None = Field(None, max_length=LONGEST)

    def changes(self) -> dict[str, Any]:
        given = self.model_dump(exclude_unset=True)
        return {name: value for name, value in given.items() if value is not None or name in ("number", "part")}


class SetEntry(BaseModel):
    """The entry of a recording; None has its file name say it."""

    recording: UUID
    entry: ChangedEntry | None


class SetEntries(BaseModel):
    entries: list[SetEntry] = Field(max_length=10_000)


class Pasted(BaseModel):
    """A table as it was copied from a spreadsheet."""

    text: str = Field(max_length=2_000_000)


class Changed(BaseModel):
    """How many of them changed."""

    count: int


class WantedFiles(BaseModel):
    """Of which recordings the files are to be made; of all where none are named."""

    recordings: list[UUID] | None = Field(None, max_length=10_000)


class WantedHandIn(WantedFiles):
    """And what the intake desk is to hold them against, by its own name for that."""

    requirements: str = Field(min_length=1, max_length=100)


@routes.get("/productions/{production_id}/delivery", operation_id="getDelivery")
def get_delivery(production_id: UUID) -> DeliveryView:
    return screen.view(production_id)


@routes.patch("/productions/{production_id}/delivery", operation_id="changeDelivery", status_code=204)
def change_delivery(production_id: UUID, change: ChangedDelivering) -> None:
    labels = change.model_dump(exclude={"form", "naming", "certified_by"})
    asking.change(production_id, form=change.form, naming=change.naming, certified_by=change.certified_by, labels=labels)


@routes.post("/productions/{production_id}/delivery/names", operation_id="previewNames")
def preview_names(production_id: UUID, wanted: WantedNaming) -> Names:
    problem, found = deliverables.names(production_id, wanted.naming)
    return Names(
        problem=problem,
        names=[FileNameView(recording=of, file_name=name.name, problem=name.problem) for of, name in found.items()],
    )


@routes.put("/productions/{production_id}/delivery/cover", operation_id="putCover", status_code=204, openapi_extra=RAW_BODY)
async def put_cover(production_id: UUID, request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> None:
    content = await read_within(request, cover.LARGEST_BYTES)
    await run_in_threadpool(asking.put_cover, production_id, content, name=name, store=request.app.state.store)


@routes.delete("/productions/{production_id}/delivery/cover", operation_id="removeCover", status_code=204)
def remove_cover(production_id: UUID) -> None:
    asking.remove_cover(production_id)


@routes.get("/productions/{production_id}/delivery/cover", operation_id="getCover", response_class=Response)
def get_cover(production_id: UUID, request: Request) -> Response:
    content, kind, sha256 = asking.cover_content(production_id, request.app.state.store)
    return Response(content, media_type=kind, headers={"etag": f'"{sha256}"', "cache-control": "private, no-cache"})


@routes.put("/productions/{production_id}/entries", operation_id="setEntries", status_code=204)
def set_entries(production_id: UUID, wanted: SetEntries) -> None:
    changes = {one.recording: one.entry.changes() if one.entry else None for one in wanted.entries}
    asking.put_entries(production_id, changes)


@routes.post("/productions/{production_id}/entries/paste", operation_id="pasteEntries")
def paste_entries(production_id: UUID, pasted: Pasted) -> Changed:
    return Changed(count=asking.paste(production_id, pasted.text))


@routes.post("/productions/{production_id}/delivery/make", operation_id="makeFiles", status_code=202)
def make_files(production_id: UUID, wanted: WantedFiles) -> AskedEach:
    return deliverables.make(production_id, wanted.recordings)


@routes.get("/productions/{production_id}/package.zip", operation_id="getPackage", response_class=Response)
def get_package(production_id: UUID, request: Request, of: Some = "") -> Response:
    """All files that are made, or those of some recordings (their identifiers, between commas), as one ZIP file."""
    store = request.app.state.store
    found = packing.of_production(production_id, _ids(of))
    zipped = found.zipped(store)
    headers = named(f"{packing.plain(found.production)}.zip")
    return ranged(request, zipped.read, size=zipped.size, tag=zipped.tag, kind="application/zip", headers=headers)


@routes.get("/deliverables/{deliverable_id}/file", operation_id="getDeliveredFile", response_class=Response)
def get_delivered_file(deliverable_id: UUID, request: Request) -> Response:
    store = request.app.state.store
    found = packing.one(deliverable_id)

    def read(start: int, end: int):  # type: ignore[no-untyped-def]
        return found.read(store, start, end)

    kind, headers = "application/octet-stream", named(found.name)
    return ranged(request, read, size=found.size_bytes, tag=found.sha256, kind=kind, headers=headers)


@routes.get("/deliverables/{deliverable_id}/certificate", operation_id="getDeliveredCertificate", response_class=Response)
def get_delivered_certificate(deliverable_id: UUID) -> Response:
    name, content = printing.document(printing.of("deliverable", deliverable_id))
    return Response(content, media_type="application/json", headers=named(name))


@routes.post("/productions/{production_id}/deliver-to-folder", operation_id="deliverToFolder", status_code=202)
def deliver_to_folder(production_id: UUID, wanted: WantedFiles) -> Made:
    return Made(id=handing_over.deliver_to_folder(production_id, wanted.recordings))


@routes.get("/desk", operation_id="getDesk")
def get_desk() -> list[Asked]:
    """What the intake desk asks, for each kind of delivery that it takes; nothing where there is none."""
    return desk.asked() if desk.there() else []


@routes.post("/productions/{production_id}/hand-in", operation_id="handIn", status_code=202)
def hand_in(production_id: UUID, wanted: WantedHandIn) -> Made:
    return Made(id=handing_over.hand_in(production_id, wanted.requirements, wanted.recordings))


@routes.get("/deliverables/{deliverable_id}/certificate.pdf", operation_id="getPrintedDelivered", response_class=Response)
def get_printed_delivered(deliverable_id: UUID) -> Response:
    name, page = printing.printed(printing.of("deliverable", deliverable_id))
    return Response(page, media_type="application/pdf", headers=named(name))


def _ids(text: str) -> list[UUID] | None:
    """Identifiers between commas. Raises NotFound for what is none."""
    try:
        return [UUID(one) for one in text.split(",")] if text else None
    except ValueError:
        raise NotFound(what="recording") from None
