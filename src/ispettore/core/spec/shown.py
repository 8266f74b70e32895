"""A quantity as it is shown beside figures of it: its title, its units, and how many decimals its figures have."""

from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.spec.quantities import quantity


class Shown(BaseModel):
    """What stands beside figures of a quantity."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    unit: str
    difference_unit: str
    decimals: int


def shown(name: str) -> dict[str, Any]:
    """The parts of `Shown` for a quantity."""
    about = quantity(name)
    return {
        "quantity": name,
        "title": about.title,
        "unit": about.unit,
        "difference_unit": about.difference_unit,
        "decimals": about.decimals,
    }
