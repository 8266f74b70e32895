"""Runs a treatment over a recording, block by block, with constant memory."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import takewhile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.reading import Source
from ispettore.core.audio.writing import write_working
from ispettore.core.edit.reading import EditedSource, Sound, named, open_sound, path_of
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.inspecting import UNNAMED, inspect
from ispettore.core.measure.level_meters import Listener
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Reading, Span
from ispettore.core.progress import Progress, no_progress
from ispettore.core.treat import touch
from ispettore.core.treat.step import Block, Context, Processor
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step, Treatment

Passing = Callable[[Block, int, int], object]
"""Called with a block of shape (frames, channels), the sample rate in Hz and the number of channels."""


class LedgerLine(BaseModel):
    """One step of a run: every level reading of what came out of it, what it learned, and what a person should know."""

    model_config = ConfigDict(frozen=True)

    kind: str
    readings: dict[str, Reading] = {}
    learned: dict[str, Any] = {}
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Run:
    """What came out: a float working file (the master before quantisation), and for each dynamic step the gain that moved, per 5 ms
    cell in dB; and the ledger, a line for each step that was on, with readings where they were asked for."""

    path: Path
    sample_rate_hz: int
    channels: int
    reductions: dict[str, NDArray[np.float32]]
    ledger: tuple[LedgerLine, ...] = field(default=())
    heard: Listener | None = None
    """What listened to the last step, where a ledger was asked for and any step ran."""

    voice: Measured | None = None
    """The voice as it was before other sound was laid under it, where any was."""

    lowered_db: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, dtype=np.float32))
    """How far the voice lowered what was laid under it, per 5 ms cell in dB."""

    leads_s: float = 0.0
    """How much later everything comes than in the recording, in seconds."""

    steady: bool = False
    """Whether every step was: then the room does not come and go."""

    settled: NDArray[np.float32] | None = None
    """The mean squares of the cells that came out of the steady steps before the first that is not, shape (cells,); None where none
    was before it."""

    @property
    def reduction_db(self) -> NDArray[np.float32]:
        """All dynamic steps together, shape (cells,)."""
        total = np.zeros(0, dtype=np.float32)
        for part in self.reductions.values():
            total = _add(total, part)
        return total


def run(
    source: Sound,
    treatment: Treatment,
    *,
    folder: Path,
    name: str | None = None,
    room_tone: Sequence[Span] = (),
    sounds: Mapping[str, Path] | None = None,
    ledger: bool = False,
    passing: Passing | None = None,
    progress: Progress = no_progress,
) -> Run:
    """Run the treatment's steps that are on, in order, into a working file in `folder`.

    Steps that need to know the whole file first get the working file of the steps before them, and its inspection, with the room
    tone that was chosen by hand, if any; those that mix files in find them among the `sounds`. With `ledger`, what comes out of
    every step is measured as it passes. `passing` is called with each block of what comes out of the last, as it is made.
    """
    steps = [step for step in treatment.steps if step.on]
    groups, steady = _groups(steps), list(takewhile(lambda step: step.typed.steady, steps))
    last_steady = steady[-1] if 0 < len(steady) < len(steps) else None
    settled: NDArray[np.float32] | None = None
    path: Sound = source
    reductions: dict[str, NDArray[np.float32]] = {}
    lines: list[LedgerLine] = []
    last: Listener | None = None
    voice: Measured | None = None
    lowered, leads_s = np.zeros(0, dtype=np.float32), 0.0
    for number, group in enumerate(groups):
        stage = f"Processing, pass {number + 1} of {len(groups)}" if len(groups) > 1 else "Processing"
        learns = group and group[0].typed.learns()
        measured = inspect(path, name=name, room_tone=room_tone, sha256=UNNAMED) if learns else None
        with open_sound(path, name=name) as opened:
            context = Context(
                name=named(source, name),
                sample_rate_hz=opened.sample_rate_hz,
                channels=opened.channels,
                measured=measured,
                working=path_of(path),
                sounds=sounds or {},
            )
            processors = _start(group, context)
            listeners = [
                Listener(sample_rate_hz=each.sample_rate_hz, channels=each.channels, cells_alone=not ledger)
                if ledger or step is last_steady
                else None
                for step, each in zip(group, processors, strict=True)
            ]
            rate = processors[-1].sample_rate_hz if processors else opened.sample_rate_hz
            channels = processors[-1].channels if processors else opened.channels
            target = folder / f"pass-{number + 1}.rf64"
            blocks = _through(opened, processors, listeners, stage, progress)
            if passing is not None and group is groups[-1]:
                blocks = _shown(blocks, rate, channels, passing)
            write_working(target, blocks, sample_rate_hz=rate, channels=channels)
        if learns and group[0].typed.adds_sound:
            voice = measured
        if path != source:
            path_of(path).unlink()
        path = target
        for step, processor, listener in zip(group, processors, listeners, strict=True):
            moved = processor.reduction_db()
            if moved.size:
                reductions[step.kind] = _add(reductions.get(step.kind, moved[:0]), moved)
            lowered = _add(lowered, processor.lowered_db())
            leads_s += processor.leads_s
            readings = listener.readings() if listener is not None else {}
            if listener is not None and step is last_steady:
                settled = listener.cells.power.part(0, len(listener.cells)).mean(axis=0)
            last = listener if ledger else None
            told = tuple(processor.warnings())
            lines.append(LedgerLine(kind=step.kind, readings=readings, learned=processor.learned(), warnings=told))
    still = len(steady) == len(steps)
    return Run(path_of(path), rate, channels, reductions, tuple(lines), last, voice, lowered, leads_s, still, settled)


def touched(run: Run, before: Basis, after: Measured | None) -> Touch:
    """Touch of a run over a recording. `after` is what came out, where its sound was changed: of a voice with a bed under it, the
    voice alone. Whether the room comes and goes is told from what the steps heard that can make it so: against what a filter hid
    from it, the ends of words would be taken for room that came back."""
    if after is None:
        return touch.of(run.reduction_db, before.speech)
    power = after.cells.power.mean(axis=0)
    later = round(run.leads_s * CELLS_PER_SECOND)
    power = power[later:] if later >= 0 else np.concatenate((np.zeros(-later, dtype=power.dtype), power))
    was = before.power.mean(axis=0) if run.settled is None else run.settled
    measured = None if run.steady else touch.swing(was, power, before.speech, before.room)
    told = sum(line.learned.get("swelling_db", 0.0) for line in run.ledger)
    swing = None if measured is None and not told else (measured or 0.0) + told
    return touch.of(run.reduction_db, before.speech, before.inspection, after.inspection, swing_db=swing)


def _groups(steps: list[Step]) -> list[list[Step]]:
    """Split before every step that needs the whole file; the first is then a plain copy, as a working file seeks exactly."""
    groups: list[list[Step]] = [[]]
    for step in steps:
        if step.typed.learns():
            groups.append([])
        groups[-1].append(step)
    return groups


def _start(steps: list[Step], context: Context) -> list[Processor]:
    processors: list[Processor] = []
    for step in steps:
        processor = step.typed.start(context)
        context = Context(
            name=context.name,
            sample_rate_hz=processor.sample_rate_hz,
            channels=processor.channels,
            measured=context.measured,
            working=context.working,
            sounds=context.sounds,
        )
        processors.append(processor)
    return processors


def _through(
    source: Source | EditedSource,
    processors: Sequence[Processor],
    listeners: Sequence[Listener | None],
    stage: str,
    progress: Progress,
) -> Iterator[Block]:
    total = max(source.claimed_frames, 1)

    def passed(piece: Block, first: int) -> Block:
        for processor, listener in zip(processors[first:], listeners[first:], strict=True):
            piece = processor.feed(piece)
            if listener is not None and len(piece):
                listener.feed(piece)
        return piece

    for block in source.blocks():
        piece = passed(block.copy(), 0)
        progress(stage, min(source.frames_read / total, 1.0))
        if len(piece):
            yield piece
    for number, processor in enumerate(processors):
        rest = processor.finish()
        listener = listeners[number]
        if listener is not None and len(rest):
            listener.feed(rest)
        rest = passed(rest, number + 1)
        if len(rest):
            yield rest


def _shown(blocks: Iterator[Block], rate: int, channels: int, passing: Passing) -> Iterator[Block]:
    for block in blocks:
        passing(block, rate, channels)
        yield block


def _add(first: NDArray[np.float32], second: NDArray[np.float32]) -> NDArray[np.float32]:
    if first.size == 0 or second.size == 0:
        return first if second.size == 0 else second
    count = max(first.size, second.size)
    padded = [np.pad(part, (0, count - part.size)) for part in (first, second)]
    return np.asarray(padded[0] + padded[1], dtype=np.float32)
