"""Routes: productions and their sheets."""

import io
from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.audio.formats import FormatName
from ispettore.core.certify import consistency_report, printed_sheet
from ispettore.studio.catalogue import (
    consistencies,
    disk_use,
    erasing,
    forecasts,
    productions,
    recordings,
    removals,
    sheet_table,
    sheets,
)
from ispettore.studio.catalogue.consistencies import ConsistencyView
from ispettore.studio.catalogue.disk_use import DiskPart, DiskUse
from ispettore.studio.catalogue.erasing import Erased, WantedErased
from ispettore.studio.catalogue.forecast_views import Approach, Forecast
from ispettore.studio.catalogue.incoming import allowed_name
from ispettore.studio.catalogue.removals import Removed
from ispettore.studio.catalogue.sheet_views import ProductionSummary, ProductionView, SheetView
from ispettore.studio.catalogue.views import AskedEach, RecordingView
from ispettore.web.transfer import RAW_BODY, named
from ispettore.web.uploading import into_store

routes = APIRouter()


class Made(BaseModel):
    """What was made."""

    id: UUID


class NewProduction(BaseModel):
    """`id` is the page's own choice: the same request sent twice makes one production."""

    name: str = Field(min_length=1, max_length=120)
    specification_id: str
    id: UUID | None = None


class ChangedProduction(BaseModel):
    """What is to change; what is left out stays."""

    specification_id: str | None = None
    specification_version: int | None = None
    name: str | None = Field(None, max_length=120)
    notes: str | None = Field(None, max_length=20_000)
    archived: bool | None = None
    reference: UUID | Literal["none"] | None = None


class WantedApproach(Approach):
    """How to conform a production, and which of its recordings (all where none are named). `container` left out means what the
    specification asks for."""

    recordings: list[UUID] | None = Field(None, max_length=10_000)
    container: FormatName | None = None
    again: bool = False
    """For a forecast: whether plans whose work failed or was cancelled are made once more."""

    def parts(self) -> dict[str, Any]:
        return {"approach": Approach(**self.model_dump(include=set(Approach.model_fields))), "chosen": self.recordings}


class WantedRows(BaseModel):
    """Some recordings of a production; what a screen shows at once."""

    recordings: list[UUID] = Field(max_length=200)


class WantedOrder(BaseModel):
    """Every recording of the production, in the order they are to have."""

    recordings: list[UUID] = Field(max_length=10_000)


@routes.get("/productions", operation_id="listProductions")
def list_productions() -> list[ProductionSummary]:
    return productions.summaries()


@routes.post("/productions", operation_id="createProduction", status_code=201)
def create_production(new: NewProduction) -> Made:
    return Made(id=productions.create(new.name, new.specification_id, production_id=new.id))


@routes.get("/productions/{production_id}", operation_id="getProduction")
def get_production(production_id: UUID) -> ProductionView:
    return sheets.sheet(production_id)


@routes.get("/productions/{production_id}/sheet", operation_id="getSheet")
def get_sheet(production_id: UUID, by: Annotated[str, Query(max_length=64)] = "", down: bool = False) -> SheetView:
    return sheets.listed(production_id, by=by, down=down)


@routes.post("/productions/{production_id}/rows", operation_id="getRows")
def get_rows(production_id: UUID, wanted: WantedRows) -> list[RecordingView]:
    return recordings.some(production_id, wanted.recordings)


@routes.patch("/productions/{production_id}", operation_id="changeProduction", status_code=204)
def change_production(production_id: UUID, change: ChangedProduction) -> None:
    productions.change(production_id, **change.model_dump())


@routes.post("/productions/{production_id}/remove", operation_id="removeProduction", status_code=204)
def remove_production(production_id: UUID) -> None:
    productions.remove(production_id, removed=True)


@routes.post("/productions/{production_id}/restore", operation_id="restoreProduction", status_code=204)
def restore_production(production_id: UUID) -> None:
    productions.remove(production_id, removed=False)


@routes.get("/removed", operation_id="listRemoved")
def list_removed() -> list[Removed]:
    return removals.everything()


@routes.post("/removed/erase", operation_id="eraseRemoved")
def erase_removed(wanted: WantedErased, request: Request) -> Erased:
    return erasing.erase(wanted.items, request.app.state.store)


@routes.put("/productions/{production_id}/order", operation_id="orderRecordings", status_code=204)
def order_recordings(production_id: UUID, wanted: WantedOrder) -> None:
    productions.order(production_id, wanted.recordings)


@routes.post("/productions/{production_id}/order-by-name", operation_id="orderRecordingsByName", status_code=204)
def order_recordings_by_name(production_id: UUID) -> None:
    productions.order_by_name(production_id)


@routes.post("/productions/{production_id}/forecast", operation_id="forecastProduction")
def forecast_production(production_id: UUID, wanted: WantedApproach) -> Forecast:
    return forecasts.forecast(production_id, container=wanted.container, again=wanted.again, **wanted.parts())


@routes.post("/productions/{production_id}/conform", operation_id="conformProduction", status_code=202)
def conform_production(production_id: UUID, wanted: WantedApproach) -> AskedEach:
    return forecasts.run(production_id, container=wanted.container, **wanted.parts())


@routes.post("/productions/{production_id}/cancel", operation_id="cancelProduction", status_code=202)
def cancel_production(production_id: UUID) -> None:
    productions.cancel(production_id)


@routes.get("/productions/{production_id}/disk", operation_id="getDiskUse")
def get_disk_use(production_id: UUID, request: Request) -> DiskUse:
    return disk_use.of_production(production_id, request.app.state.store)


@routes.post("/productions/{production_id}/clear", operation_id="clearMasters")
def clear_masters(production_id: UUID, request: Request) -> DiskPart:
    return disk_use.clear(production_id, request.app.state.store)


@routes.get("/productions/{production_id}/consistency", operation_id="getConsistency")
def get_consistency(production_id: UUID, made: bool = False) -> ConsistencyView:
    return consistencies.of_production(production_id, made_files=made)


@routes.get("/productions/{production_id}/consistency.{form}", operation_id="getConsistencyReport", response_class=Response)
def get_consistency_report(production_id: UUID, form: Literal["pdf", "html", "csv"], made: bool = False) -> Response:
    report = consistencies.report(production_id, made_files=made)
    headers = named(f"{report.production}.consistency.{form}")
    if form == "csv":
        return Response(consistency_report.table(report), media_type="text/csv; charset=utf-8", headers=headers)
    if form == "html":
        return Response(consistency_report.html(report), media_type="text/html; charset=utf-8", headers=headers)
    page = io.BytesIO()
    consistency_report.pdf(report, page)
    return Response(page.getvalue(), media_type="application/pdf", headers=headers)


@routes.get("/productions/{production_id}/sheet.csv", operation_id="getSheetAsTable", response_class=Response)
def get_sheet_as_table(production_id: UUID) -> Response:
    sheet = sheets.sheet(production_id)
    headers = named(f"{sheet.name}.csv")
    return Response(sheet_table.as_csv(sheet), media_type="text/csv; charset=utf-8", headers=headers)


@routes.get("/productions/{production_id}/sheet.pdf", operation_id="getPrintedSheet", response_class=Response)
def get_printed_sheet(production_id: UUID) -> Response:
    sheet = sheets.sheet(production_id)
    page = io.BytesIO()
    printed_sheet.write(sheets.printed(sheet), page)
    headers = named(f"{sheet.name}.pdf")
    return Response(page.getvalue(), media_type="application/pdf", headers=headers)


@routes.put(
    "/productions/{production_id}/recordings",
    operation_id="addRecording",
    status_code=201,
    openapi_extra=RAW_BODY,
)
async def add_recording(production_id: UUID, request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> Made:
    await run_in_threadpool(recordings.expected, production_id, None)
    return Made(id=await into_store(request, allowed_name(name), lambda blob: recordings.add(production_id, name, blob)))
