"""Routes: what new work begins with, where everything lies; and the demo productions."""

from fastapi import APIRouter
from pydantic import BaseModel, Field

from ispettore.core.certify.certificate import issuer
from ispettore.core.deliver.entries import LONGEST
from ispettore.core.measure import methods_history
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.preferences import Preference
from ispettore.studio.catalogue import certificates, defaults, demonstration
from ispettore.studio.catalogue.defaults import Defaults
from ispettore.studio.jobs.works import WorkView
from ispettore.studio.store import places
from ispettore.studio.store.places import DataPlace

routes = APIRouter()


class SettingsView(BaseModel):
    """What new work begins with, where everything lies, and what runs here."""

    defaults: Defaults
    places: list[DataPlace]
    software: str
    methods_version: int


class ChangedDefaults(BaseModel):
    """What is to change; what is left out stays."""

    name: str | None = Field(None, max_length=LONGEST)
    specification_id: str | None = None
    preference: Preference | None = None
    bounds: Bounds | None = None


@routes.get("/settings", operation_id="getSettings")
def get_settings() -> SettingsView:
    return SettingsView(
        defaults=defaults.here(),
        places=places.everything(certificates.keys().path),
        software=issuer(),
        methods_version=methods_history.current(),
    )


@routes.get("/settings/defaults", operation_id="getDefaults")
def get_defaults() -> Defaults:
    return defaults.here()


@routes.patch("/settings/defaults", operation_id="changeDefaults")
def change_defaults(changed: ChangedDefaults) -> Defaults:
    return defaults.change(
        name=changed.name,
        specification_id=changed.specification_id,
        preference=changed.preference,
        bounds=changed.bounds,
    )


@routes.get("/demo", operation_id="getDemo")
def get_demo() -> WorkView | None:
    return demonstration.state()


@routes.post("/demo", operation_id="askForDemo", status_code=202)
def ask_for_demo() -> None:
    demonstration.ask()
