"""Routes: certificates as they are listed, looked at, printed, ended and issued; and the keys that seal them."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.certify.keys import LARGEST_BYTES
from ispettore.core.deliver.entries import LONGEST
from ispettore.studio.catalogue.certificates import Of
from ispettore.studio.certifying import printing, register, trusting, whole
from ispettore.studio.certifying.views import CertificateList, CertificateView, KeysView, ProductionCertified, Stands
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY, named, read_within

routes = APIRouter()
Reason = Annotated[str, Field(max_length=register.LONGEST_REASON)]


class Withdrawal(BaseModel):
    """Why a certificate is withdrawn, and by whom."""

    reason: Reason
    by: str = Field("", max_length=LONGEST)


class IssuedAgain(BaseModel):
    """Why a certificate is issued in the place of another."""

    reason: Reason = ""


class Fingerprint(BaseModel):
    """The fingerprint of a key (RFC 7638)."""

    fingerprint: str


@routes.get("/certificates", operation_id="listCertificates")
def list_certificates(
    production: UUID | None = None,
    of: Of | None = None,
    stands: Stands | None = None,
    search: Annotated[str, Query(max_length=200)] = "",
    start: Annotated[int, Query(ge=0)] = 0,
    count: Annotated[int, Query(ge=1, le=register.MOST)] = 100,
) -> CertificateList:
    return register.listed(production=production, of=of, stands=stands, search=search, start=start, count=count)


@routes.get("/certificates/{certificate_id}", operation_id="getOneCertificate")
def get_one_certificate(certificate_id: UUID) -> CertificateView:
    return register.view(certificate_id)


@routes.get("/certificates/{certificate_id}/sealed.json", operation_id="getSealed", response_class=Response)
def get_sealed(certificate_id: UUID) -> Response:
    name, content = printing.document(certificate_id)
    return Response(content, media_type="application/json", headers=named(name))


@routes.get("/certificates/{certificate_id}/printed.pdf", operation_id="getPrinted", response_class=Response)
def get_printed(certificate_id: UUID) -> Response:
    name, content = printing.printed(certificate_id)
    return Response(content, media_type="application/pdf", headers=named(name))


@routes.get("/certificates/{certificate_id}/notice.json", operation_id="getNotice", response_class=Response)
def get_notice(certificate_id: UUID) -> Response:
    name, content = printing.notice(certificate_id)
    return Response(content, media_type="application/json", headers=named(name))


@routes.post("/certificates/{certificate_id}/withdraw", operation_id="withdrawCertificate", status_code=204)
def withdraw_certificate(certificate_id: UUID, wanted: Withdrawal) -> None:
    register.withdraw(certificate_id, reason=wanted.reason, by=wanted.by)


@routes.post("/certificates/{certificate_id}/issue-again", operation_id="issueAgain", status_code=201)
def issue_again(certificate_id: UUID, wanted: IssuedAgain, request: Request) -> Made:
    return Made(id=register.issue_again(certificate_id, request.app.state.store, reason=wanted.reason))


@routes.get("/productions/{production_id}/certificate", operation_id="getProductionCertified")
def get_production_certified(production_id: UUID) -> ProductionCertified:
    return whole.state(production_id)


@routes.post("/productions/{production_id}/certificate", operation_id="certifyProduction", status_code=201)
def certify_production(production_id: UUID, wanted: IssuedAgain, request: Request) -> Made:
    return Made(id=whole.certify(production_id, request.app.state.store, reason=wanted.reason))


@routes.get("/keys", operation_id="getKeys")
def get_keys() -> KeysView:
    return trusting.view()


@routes.get("/keys/{fingerprint}.pem", operation_id="getKey", response_class=Response)
def get_key(fingerprint: str) -> Response:
    name, content = trusting.public(fingerprint)
    return Response(content, media_type="application/x-pem-file", headers=named(name))


@routes.post("/keys", operation_id="trustKey", status_code=201, openapi_extra=RAW_BODY)
async def trust_key(request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> Fingerprint:
    content = await read_within(request, LARGEST_BYTES)
    return Fingerprint(fingerprint=await run_in_threadpool(trusting.trust, content, name=name))


@routes.delete("/keys/{fingerprint}", operation_id="distrustKey", status_code=204)
def distrust_key(fingerprint: str) -> None:
    trusting.distrust(fingerprint)


@routes.post("/keys/roll", operation_id="rollKey", status_code=201)
def roll_key() -> Fingerprint:
    return Fingerprint(fingerprint=trusting.roll())
