"""What somebody else's meter read of a delivered file, beside what this program read: where they are apart, one of them is
wrong."""

from collections.abc import Mapping

from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.quantities import QUANTITIES


class ReadTwice(BaseModel):
    """One reading by both. `agree` says whether they lie as near as two honest meters do."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    unit: str
    decimals: int
    ours: float | None
    theirs: float | None
    agree: bool


def beside(inspection: Inspection, theirs: Mapping[str, float | None]) -> list[ReadTwice]:
    """Every reading that both took, by the names that quantities have; what only one of them takes is left out."""
    found = []
    for name, value in theirs.items():
        about, own = QUANTITIES.get(name), inspection.readings.get(name)
        if about is None or own is None:
            continue
        near = about.elsewhere or about.accuracy
        agree = value is own.value is None or (value is not None and own.value is not None and abs(value - own.value) <= near)
        found.append(
            ReadTwice(
                quantity=name,
                title=about.title,
                unit=about.unit,
                decimals=about.decimals,
                ours=own.value,
                theirs=value,
                agree=agree,
            )
        )
    return found


def told(file: str, apart: ReadTwice) -> str:
    """A disagreement as a finding against ourselves, in a sentence."""
    ours, theirs = (with_unit(value, apart.unit) if value is not None else "nothing" for value in (apart.ours, apart.theirs))
    return (
        f"{file}: {apart.title} is {ours} here and {theirs} there, further apart than two honest meters are. One of them is wrong: "
        "have it measured by a third before you rely on the certificate."
    )
