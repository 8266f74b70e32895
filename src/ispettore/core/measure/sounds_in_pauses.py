"""Breaths, mouth noises and other sounds between the words: what stands out of the room tone and is neither speech nor a mark."""

import numpy as np

from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.marks import outside_marks
from ispettore.core.measure.reading import Finding, FindingKind
from ispettore.core.measure.spectra import Spectra, centres_hz
from ispettore.core.measure.speech import VOICED_BELOW_HZ, VOICED_SHARE, Passages

BREATH_S = 0.1
LONGEST_BREATH_S = 1.5
SHORT_S = 0.06


def read(heard: Heard) -> Read:
    """Sounds in pauses; clicks and marks are known before."""
    clicks = [finding for finding in heard.findings if finding.kind == "click"]
    return (), outside_marks(findings(heard.cells, heard.spectra, heard.passages, clicks), heard.findings)


def findings(cells: Cells, spectra: Spectra, passages: Passages, clicks: list[Finding]) -> list[Finding]:
    """Each sound with its level in dBFS (energy mean over its length); short ones that are known as clicks are left out."""
    clicked = np.array([click.start_s for click in clicks])
    found = []
    kind: FindingKind
    low = centres_hz(spectra.sample_rate_hz) < VOICED_BELOW_HZ
    for start, end in passages.sounds.tolist():
        level = decibels.of_power(float(cells.power.part(start, end).mean()))
        length = (end - start) * CELL_S
        bands = spectra.within(start, end)
        dull = length >= SHORT_S and bool(bands[low].sum() > VOICED_SHARE * bands.sum() > 0)
        if length < SHORT_S:
            if np.any(np.abs(clicked - (start + end) / 2 * CELL_S) < SHORT_S):
                continue
            kind = "mouth-noise"
        elif BREATH_S <= length <= LONGEST_BREATH_S and not dull:
            kind = "breath"
        else:
            kind = "noise-in-pause"
        found.append(Finding(kind=kind, start_s=start * CELL_S, end_s=end * CELL_S, measure=level, unit="dBFS", severity="note"))
    return found
