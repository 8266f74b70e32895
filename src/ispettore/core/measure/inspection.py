"""What one measured file reads: all readings and findings, as typed data."""

from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts
from ispettore.core.measure.reading import Finding, Pause, Reading, Span
from ispettore.core.measure.repeats import Repeat
from ispettore.core.measure.spectrum import Spectrum
from ispettore.core.measure.turns import Turn


class Inspection(BaseModel):
    """All readings and findings of one file. Judged against a specification elsewhere."""

    model_config = ConfigDict(frozen=True)

    name: str
    sha256: str
    facts: FileFacts
    readings: dict[str, Reading]
    findings: list[Finding]
    speech: list[Span]
    room_tone: list[Span]
    pauses: list[Pause] = []
    turns: list[Turn] = []
    """The passages of two voices; empty where one is heard."""

    repeats: list[Repeat] = []
    """Words that are read again, with or without a mark, and what is proposed to be cut out."""

    spectrum: Spectrum = Spectrum()
    methods_version: int
    """The version of the methods it was taken by, by `methods_history`."""

    def value(self, quantity: str) -> float | None:
        """The reading's value, or None where it has none or does not exist."""
        reading = self.readings.get(quantity)
        return reading.value if reading else None
