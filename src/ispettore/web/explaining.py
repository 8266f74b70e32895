"""Route: what every figure and finding means, from the text that docs/METHODS.md shows."""

from fastapi import APIRouter
from pydantic import BaseModel

from ispettore.core.spec.methods import Method, methods
from ispettore.core.spec.quantities import QUANTITIES, Group

routes = APIRouter()


class Explained(Method):
    """A quantity's entry with how its figures are shown, and what a limit on it may ask: a number in a range, or words. `first_low`
    and `first_high` are what one asks when it is added."""

    unit: str
    difference_unit: str
    group: Group
    decimals: int
    choices: list[str]
    least: float
    most: float
    first_low: float | None
    first_high: float | None


class Explanations(BaseModel):
    """Every quantity a limit can be set on, and every kind of finding."""

    quantities: list[Explained]
    findings: list[Method]


@routes.get("/methods", operation_id="listMethods")
def list_methods() -> Explanations:
    return Explanations(
        quantities=[
            Explained(
                **entry.model_dump(),
                unit=quantity.unit,
                difference_unit=quantity.difference_unit,
                group=quantity.group,
                decimals=quantity.decimals,
                choices=list(quantity.choices),
                least=quantity.range[0],
                most=quantity.range[1],
                first_low=quantity.first[0] if quantity.first else None,
                first_high=None if quantity.choices else quantity.first[1] if quantity.first else quantity.range[1],
            )
            for name, quantity in QUANTITIES.items()
            if (entry := methods()["readings"].get(name))
        ],
        findings=list(methods()["findings"].values()),
    )
