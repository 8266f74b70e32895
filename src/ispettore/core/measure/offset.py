"""`dc_offset_percent` and `asymmetry_db`: how far the wave leans to one side."""

import numpy as np

from ispettore.core.measure.cells import Cells
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, FindingKind, Reading, Severity

WORTH_SAYING_PERCENT = 0.5
WORTH_SAYING_DB = 6.0


def read(heard: Heard) -> Read:
    """Offset and asymmetry."""
    dc, leaning = (measure(heard.cells, duration_s=heard.duration_s) for measure in (dc_offset, asymmetry))
    return (dc, leaning), findings(dc, leaning)


def dc_offset(cells: Cells, *, duration_s: float) -> Reading:
    """The mean of all samples in percent of full scale, of the channel that leans most."""
    means = 100 * cells.sum / max(cells.frames, 1)
    worst = int(np.argmax(np.abs(means)))
    return Reading(
        quantity="dc_offset_percent",
        value=float(means[worst]),
        unit="%",
        method="mean of all samples, worst channel",
        channel=worst + 1,
        end_s=duration_s,
        per_channel=tuple(float(mean) for mean in means),
    )


def asymmetry(cells: Cells, *, duration_s: float) -> Reading:
    """The largest positive against the largest negative excursion in dB, of the channel in which they differ most."""
    up, down = np.maximum(cells.largest, 0.0), np.maximum(-cells.smallest, 0.0)
    each = tuple(20 * float(np.log10(u / d)) if u > 0 and d > 0 else None for u, d in zip(up, down, strict=True))
    known = [(abs(value), channel) for channel, value in enumerate(each) if value is not None]
    worst = max(known)[1] if known else None
    return Reading(
        quantity="asymmetry_db",
        value=each[worst] if worst is not None else None,
        unit="dB",
        method="largest positive against largest negative sample, worst channel",
        channel=worst + 1 if worst is not None else None,
        end_s=duration_s,
        note=None if worst is not None else "the wave stays on one side of zero",
        per_channel=each,
    )


def findings(offset: Reading, leaning: Reading) -> list[Finding]:
    """An offset of more than half a percent, an asymmetry of more than 6 dB."""
    found: list[tuple[FindingKind, Reading, Severity]] = []
    if offset.value is not None and abs(offset.value) > WORTH_SAYING_PERCENT:
        found.append(("dc-offset", offset, "warning"))
    if leaning.value is not None and abs(leaning.value) > WORTH_SAYING_DB:
        found.append(("asymmetry", leaning, "note"))
    return [
        Finding(
            kind=kind,
            start_s=0.0,
            end_s=reading.end_s,
            channel=reading.channel,
            measure=reading.value,
            unit=reading.unit,
            severity=severity,
        )
        for kind, reading, severity in found
    ]
