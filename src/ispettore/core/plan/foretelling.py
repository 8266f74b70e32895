"""What readings will be once each cell is multiplied by its own factor: told from cells, without touching any sound.

Both readings are taken on the same cells by the same rules, so that what the cells simplify falls out of the difference. Good for
deciding, never for proving.
"""

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import loudness
from ispettore.core.measure.basis import Basis
from ispettore.core.spec.quantities import QUANTITIES, quantity

RANGE = "loudness_range_lu"
Moved = dict[str, float]
"""What something does to readings, in their units, by quantity."""


def changes(before: Basis, after: Basis, names: Iterable[str]) -> Moved:
    """How the readings of these quantities change; those that cells don't tell are left out."""
    found: Moved = {}
    names = tuple(names)
    for name in names:
        for part in QUANTITIES[name].difference or (name,):
            if part not in found and (change := _change(before, after, part)) is not None:
                found[part] = change
    for name in names:
        difference = QUANTITIES[name].difference
        if difference is not None and all(part in found for part in difference):
            found[name] = found[difference[0]] - found[difference[1]]
    return {name: found[name] for name in names if name in found}


def _change(before: Basis, after: Basis, name: str) -> float | None:
    if QUANTITIES[name].is_room:  # silence has no level to fall from
        was, now = _power(before, before.room), _power(after, before.room)
        return 10 * float(np.log10(now / was)) if was > 0 and now > 0 else None
    known, came = _told(before, name), _told(after, name)
    return None if known is None or came is None else came - known


def _told(basis: Basis, name: str) -> float | None:
    if name not in basis.told:
        basis.told[name] = _reading(basis, name)
    return basis.told[name]


def _reading(basis: Basis, name: str) -> float | None:
    if quantity(name).is_peak:
        return _db(float(basis.peak.max(initial=0)) ** 2)
    read = OF_CELLS.get(name)
    return read(basis) if read is not None else None


def _power(basis: Basis, cells: NDArray[np.bool_] | None) -> float:
    """Mean square over some cells, or all."""
    power, counts = basis.power[0] if len(basis.power) == 1 else basis.power.mean(axis=0), basis.counts
    if cells is not None:
        power, counts = power[cells], counts[cells]
    # Not np.dot, whose threads take as much of a second core again.
    return float(np.einsum("n,n->", power, counts, dtype=np.float64)) / max(int(counts.sum()), 1)


def _db(power: float) -> float | None:
    return 10 * float(np.log10(power)) if power > 0 else None


def _seconds(basis: Basis) -> float:
    return basis.inspection.facts.duration_s


OF_CELLS: dict[str, Callable[[Basis], float | None]] = {
    "rms_dbfs": lambda basis: _db(_power(basis, None)),
    "active_speech_level_dbfs": lambda basis: _db(_power(basis, basis.speech)),
    "integrated_loudness_lufs": lambda basis: (
        loudness.integrated(basis.k_power, duration_s=basis.inspection.facts.duration_s).value
    ),
    "momentary_max_lufs": lambda basis: loudness.momentary_max(basis.k_power).value,
    "short_term_max_lufs": lambda basis: loudness.short_term_max(basis.k_power).value,
    RANGE: lambda basis: loudness.loudness_range(basis.k_power, duration_s=_seconds(basis)).value,
}
"""What cells alone read."""
