"""How alike the recordings of a production are: per quantity the span between them, and those that stand apart from the rest."""

import statistics
from collections.abc import Sequence

from pydantic import BaseModel, ConfigDict

from ispettore.core.spec.quantities import Quantity, quantity
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Values

FEWEST = 4
"""Of fewer recordings none can be said to stand apart."""
DEVIATIONS = 3.0
SCALE = 1.4826
"""The median absolute deviation times this estimates the standard deviation of normal data (Rousseeuw and Croux,
J. Amer. Statist. Assoc. 88(424), 1993)."""


class Outlier(BaseModel):
    """One recording that stands apart: its place among those given, its reading, and how far it is from the median."""

    model_config = ConfigDict(frozen=True)

    index: int
    reading: float
    off: float


class Spread(BaseModel):
    """One quantity over all recordings. `spread` is largest less smallest, in the quantity's unit of difference."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    difference_unit: str
    decimals: int
    median: float
    spread: float
    outliers: tuple[Outlier, ...]


def spreads(recordings: Sequence[Values], specification: Specification) -> tuple[Spread, ...]:
    """The spread of every number that a specification limits in recordings (their `values`) or over the production, in the order
    of its limits.

    What it asks of the delivered file alone says nothing here. Nothing is told where fewer than two recordings have the number.
    """
    found = []
    for name in dict.fromkeys(
        limit.quantity for limit in specification.limits if limit.applies_to != "deliverable" and not limit.about.of_package
    ):
        about = quantity(name)
        numbers = {
            index: float(value) for index, value in enumerate(each[name] for each in recordings) if isinstance(value, int | float)
        }
        if len(numbers) < 2:
            continue
        values = list(numbers.values())
        middle = statistics.median(values)
        found.append(
            Spread(
                quantity=name,
                title=about.title,
                difference_unit=about.difference_unit,
                decimals=about.decimals,
                median=middle,
                spread=max(values) - min(values),
                outliers=outliers(numbers, middle, about),
            )
        )
    return tuple(found)


def outliers(numbers: dict[int, float], middle: float, about: Quantity) -> tuple[Outlier, ...]:
    """Those further from the median than three deviations, and far enough to matter; the furthest first."""
    if len(numbers) < FEWEST:
        return ()
    deviation = SCALE * statistics.median(abs(value - middle) for value in numbers.values())
    far = max(DEVIATIONS * deviation, _matters(about, middle))
    apart = [
        Outlier(index=index, reading=value, off=value - middle) for index, value in numbers.items() if abs(value - middle) > far
    ]
    return tuple(sorted(apart, key=lambda outlier: -abs(outlier.off)))


def _matters(about: Quantity, middle: float) -> float:
    """No less than a decibel where the unit is one, else a tenth of the median; and never what meters may differ by."""
    least = 1.0 if about.difference_unit in ("dB", "LU") else 0.1 * abs(middle)
    return max(least, 3 * about.accuracy)
