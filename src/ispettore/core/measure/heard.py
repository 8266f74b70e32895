"""What is known when a file has passed: all that a meter works its readings and findings out of."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from ispettore.core.audio.facts import FileFacts
from ispettore.core.measure.cells import Cells, Milliseconds
from ispettore.core.measure.grid import Seconds
from ispettore.core.measure.level_meters import LevelMeters
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Finding, Pause, Reading
from ispettore.core.measure.spectra import Spectra
from ispettore.core.measure.speech import Passages

Read = tuple[Sequence[Reading], Sequence[Finding]]
"""What a meter reads and what it finds."""


@dataclass
class Heard:
    """The series that every meter may ask, where speech and pauses are, and what meters before it in the row have read and
    found."""

    facts: FileFacts
    levels: LevelMeters
    spectra: Spectra
    low_rate: LowRate
    passages: Passages
    readings: dict[str, Reading] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    pauses: list[Pause] = field(default_factory=list)

    @property
    def cells(self) -> Cells:
        return self.levels.cells

    @property
    def duration_s(self) -> float:
        return self.facts.duration_s

    @property
    def voice_dbfs(self) -> float | None:
        """The active speech level."""
        return self.readings["active_speech_level_dbfs"].value

    def add(self, read: Read) -> None:
        """Take in what a meter has read and found."""
        readings, findings = read
        self.readings.update({reading.quantity: reading for reading in readings})
        self.findings += findings


class Fed(Protocol):
    """A meter that looks at every sample as it passes."""

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds, and what `Cells` saw in them."""

    def read(self, heard: Heard) -> Read:
        """What it comes to."""
        ...


Reader = Callable[[Heard], Read]
"""A meter that works out of the series alone."""
