"""A draft rehearsed: how it sounds from any moment on, and what comes out of each step, before it is run.

Steps stand one behind another over a window of the recording, and each works only as far as somebody listens. What a step has put
out is kept for as long as nothing before it changes, so a change costs no more than the steps from there on; a step that has to
know the whole takes the whole window. A recording of up to `WHOLE_S` is its own window: then what is heard is, sample for sample,
what a run would write before it is encoded. Of a longer one the window is what lies around the moment that is listened to, and
levels that a step has to know of the whole are those of the recording, moved as the steps before it moved them in the window.
"""

import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from ispettore.core.audio.writing import write_working
from ispettore.core.edit.reading import Sound, open_samples
from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspecting import UNNAMED, inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Span
from ispettore.core.treat.step import Block, Context, Processor, spans_later
from ispettore.core.treat.treatment import Step

WHOLE_S = 240.0
WINDOW_S, BEFORE_S = 45.0, 5.0
"""A window of a longer recording, and how much of it lies before the moment that was asked for: dynamics have settled then."""

BLOCK_S = 0.5
KEPT = 24
"""So many results of steps that are not in use now are kept, for undoing and for comparing."""


class Sounding:
    """Samples as they become known, (frames, channels), from frame `first` on."""

    sample_rate_hz: int
    channels: int
    first: int = 0

    def __init__(self, *, name: str, folder: Path, room_tone: Sequence[Span]) -> None:
        self.name, self.folder, self.room_tone = name, folder, room_tone
        self._blocks: list[Block] = []
        self._count = 0
        self._ended = False
        self._path: Path | None = None
        self._measured: Measured | None = None

    def _more(self) -> Block | None:
        """The next samples; None once there are no more."""
        raise NotImplementedError

    def until(self, frame: int) -> None:
        """Work as far as to this frame, or to the end."""
        while not self._ended and self.first + self._count < frame:
            block = self._more()
            if block is None:
                self._ended = True
            elif len(block):
                self._blocks.append(block)
                self._count += len(block)

    def read(self, start: int, frames: int) -> Block:
        """Up to so many frames from `start`, which is not before the first: fewer at the end."""
        self.until(start + frames)
        found, at = [], self.first
        for block in self._blocks:
            first, last = max(start - at, 0), min(start + frames - at, len(block))
            if first < last:
                found.append(block[first:last])
            at += len(block)
        return np.concatenate(found) if found else np.zeros((0, self.channels), dtype=np.float32)

    @property
    def frames(self) -> int:
        """How many there are in all."""
        self.until(np.iinfo(np.int64).max)
        return self._count

    def path(self) -> Path:
        """All of it as a working file, for steps and meters that go through it themselves."""
        if self._path is None:
            self.until(np.iinfo(np.int64).max)
            with tempfile.NamedTemporaryFile(dir=self.folder, suffix=".rf64", delete=False) as file:
                self._path = Path(file.name)
            write_working(self._path, self._blocks, sample_rate_hz=self.sample_rate_hz, channels=self.channels)
        return self._path

    def measured(self) -> Measured:
        """All that the meters say of it."""
        if self._measured is None:
            self._measured = inspect(self.path(), name=self.name, room_tone=self.room_tone, sha256=UNNAMED)
        return self._measured

    def let_go(self) -> None:
        """Take its working file away."""
        if self._path is not None:
            self._path.unlink(missing_ok=True)


class Window(Sounding):
    """Stretches of the recording itself put together, each from a frame of it and so many frames long; `start` is the first's."""

    def __init__(
        self, sound: Sound, *stretches: tuple[int, int], sample_rate_hz: int, name: str, folder: Path, room_tone: Sequence[Span]
    ) -> None:
        super().__init__(name=name, folder=folder, room_tone=room_tone)
        self.start, self.sample_rate_hz = stretches[0][0], sample_rate_hz
        with open_samples(sound) as samples:
            found = np.concatenate([samples(start, frames) for start, frames in stretches])
        self.channels = found.shape[1]
        size = max(1, round(BLOCK_S * sample_rate_hz))
        self._waiting = [found[first : first + size] for first in range(0, len(found), size)]

    def _more(self) -> Block | None:
        return self._waiting.pop(0) if self._waiting else None


class Stage(Sounding):
    """One step at work on what comes out of another, from frame `skip` of it on. Raises what starting the step raises."""

    def __init__(
        self,
        step: Step,
        before: Sounding,
        known: Inspection | None,
        source: Sounding,
        skip: int = 0,
        sounds: Mapping[str, Path] | None = None,
    ) -> None:
        super().__init__(name=before.name, folder=before.folder, room_tone=before.room_tone)
        self.step, self.before = step, before
        self._known, self._source = known, source
        self.first = self._at = max(skip, before.first)
        self._finished = False
        learns = step.typed.learns()
        context = Context(
            name=before.name,
            sample_rate_hz=before.sample_rate_hz,
            channels=before.channels,
            measured=self.told() if learns else None,
            working=before.path() if learns else None,
            sounds=sounds or {},
        )
        self.processor: Processor = step.typed.start(context)
        self.sample_rate_hz, self.channels = self.processor.sample_rate_hz, self.processor.channels

    @property
    def whole(self) -> bool:
        """Whether it works on all of the recording."""
        return self._known is None

    def told(self) -> Measured:
        """What the step is told of what comes in: of a part of a recording, levels are told as of the whole."""
        measured = self.before.measured()
        if self._known is None:
            return measured
        return Measured(
            inspection=as_of_whole(self._known, self._source.measured().inspection, measured.inspection),
            meters=measured.meters,
            passages=measured.passages,
        )

    def _more(self) -> Block | None:
        size = max(1, round(BLOCK_S * self.before.sample_rate_hz))
        block = self.before.read(self._at, size)
        if len(block):
            self._at += len(block)
            return self.processor.feed(block.copy())
        if self._finished:
            return None
        self._finished = True
        return self.processor.finish()


class Idle(Sounding):
    """A step that could not be started over what comes in, and why: everything passes as it is, so that the rest can be heard."""

    def __init__(self, step: Step, before: Sounding, problem: str) -> None:
        super().__init__(name=before.name, folder=before.folder, room_tone=before.room_tone)
        self.step, self.before, self.problem = step, before, problem
        self.sample_rate_hz, self.channels = before.sample_rate_hz, before.channels
        self.first = self._at = before.first

    def _more(self) -> Block | None:
        block = self.before.read(self._at, max(1, round(BLOCK_S * self.sample_rate_hz)))
        self._at += len(block)
        return block if len(block) else None


def as_of_whole(whole: Inspection, before: Inspection, after: Inspection) -> Inspection:
    """An inspection of the whole, each reading of a level moved as it moved in a part of it."""
    moved = {}
    for name, reading in whole.readings.items():
        value, was, now = reading.value, before.value(name), after.value(name)
        if value is not None and was is not None and now is not None and reading.unit.startswith(("dB", "LU")):
            moved[name] = reading.model_copy(update={"value": value + now - was})
        else:
            moved[name] = reading
    return after.model_copy(update={"readings": {**after.readings, **moved}})


class Chain:
    """Steps in order over one window. The same steps at the beginning of another treatment are not done again."""

    def __init__(self, window: Window, frames: int, known: Inspection | None, sounds: Mapping[str, Path]) -> None:
        self.window, self.frames, self._known, self._sounds = window, frames, known, sounds
        self._stages: dict[str, Stage | Idle] = {}

    def through(self, steps: Sequence[Step], at: int = 0) -> list[Sounding]:
        """What comes in, and what comes out of each step. Only what comes from frame `at` of the last on is asked for: of a part of
        a recording, the last steps need not begin before they have settled for that."""
        found: list[Sounding] = [self.window]
        key = ""
        last = len(steps)
        while self._known is not None and last and steps[last - 1].typed.anywhere and not steps[last - 1].typed.learns():
            last -= 1
        for number, step in enumerate(steps):
            key += Step(kind=step.kind, settings=step.settings).model_dump_json()
            skip = max(0, at - round(BEFORE_S * found[-1].sample_rate_hz)) if number >= last else 0
            stage = self._stages.pop(key, None)
            if stage is None or stage.first > (at if number >= last else 0) or stage.before is not found[-1]:
                stage = self._started(step, found[-1], skip)
            self._stages[key] = stage  # the newest stand last
            found.append(stage)
        for old in list(self._stages)[: -max(KEPT, len(steps))]:
            self._stages.pop(old).let_go()
        return found

    def _started(self, step: Step, before: Sounding, skip: int) -> Stage | Idle:
        try:
            return Stage(step, before, self._known, self.window, skip, self._sounds)
        except IspettoreError as error:
            return Idle(step, before, error.sentence)

    def let_go(self) -> None:
        for stage in self._stages.values():
            stage.let_go()
        self.window.let_go()


class Rehearsal:
    """One recording under rehearsal. `sound` seeks exactly; `known` is its inspection; `room_tone` was chosen by hand. Steps that
    mix files in find them among its `sounds`."""

    def __init__(self, sound: Sound, known: Inspection, *, name: str, folder: Path, room_tone: Sequence[Span] = ()) -> None:
        self.recording, self.known, self.name, self.folder = sound, known, name, folder
        self.room_tone = room_tone
        self.sounds: dict[str, Path] = {}
        self.rate, self.frames = known.facts.sample_rate_hz, known.facts.frames
        self.whole = self.frames <= WHOLE_S * self.rate
        self._chains: list[Chain] = []
        self._ends: Chain | None = None

    def chain(self, first: int, last: int) -> Chain:
        """The steps over a window that holds these frames of the recording."""
        for chain in self._chains:
            window = chain.window
            if window.start <= first and last <= window.start + chain.frames:
                return chain
        start = 0 if self.whole else max(0, first - round(BEFORE_S * self.rate))
        return self._new(start, self.frames if self.whole else self._size())

    def over(self, start: int, frames: int) -> Chain:
        """The steps over just this window."""
        same = (chain for chain in self._chains if (chain.window.start, chain.frames) == (start, frames))
        return next(same, None) or self._new(start, frames)

    def ends(self) -> Chain:
        """The steps over a longer recording's beginning and its end, put together: for what works there alone."""
        if self._ends is None:
            self._ends = self._made((0, self._size()), (self.frames - self._size(), self._size()))
        return self._ends

    def _size(self) -> int:
        return round(WINDOW_S * self.rate)

    def _made(self, *stretches: tuple[int, int]) -> Chain:
        start, frames = stretches[0]
        inside = [span for span in spans_later(self.room_tone, -start / self.rate) if span.end_s <= frames / self.rate]
        window = Window(self.recording, *stretches, sample_rate_hz=self.rate, name=self.name, folder=self.folder, room_tone=inside)
        return Chain(window, sum(count for _, count in stretches), None if self.whole else self.known, self.sounds)

    def _new(self, start: int, frames: int) -> Chain:
        chain = self._made((start, frames))
        self._chains.insert(0, chain)
        for old in self._chains[3:]:
            old.let_go()
        self._chains = self._chains[:3]
        return chain

    def steps(self, steps: Sequence[Step], chain: Chain) -> list[Step]:
        """The steps that are heard in a window: all that are on, moved to its time; those that work at the ends of a recording
        only where the window is the whole, or holds both ends: spots have no time there, and are left out."""
        on = [step for step in steps if step.on]
        if self.whole:
            return on
        ends = chain is self._ends
        by = -(self.frames if ends else chain.window.start) / self.rate
        heard = (step for step in on if ends or not step.typed.at_ends)
        return [step.model_copy(update={"settings": step.typed.later(by).model_dump()}) for step in heard]

    def sound(self, steps: Sequence[Step], start: int, frames: int) -> Block:
        """Up to so many frames of what the steps make of the recording, from `start`, both at the rate that comes out."""
        chain = self._around(steps, start, frames)
        begins = round(chain.window.start * self.rate_of(steps) / self.rate)
        return chain.through(self.steps(steps, chain), start - begins)[-1].read(start - begins, frames)

    def rate_of(self, steps: Sequence[Step]) -> int:
        """The sample rate that comes out, in Hz."""
        rates = [int(step.settings["sample_rate_hz"]) for step in steps if step.on and step.kind == "sample-rate"]
        return rates[-1] if rates else self.rate

    def leads(self, steps: Sequence[Step]) -> float:
        """How much later the same word comes in what comes out, in seconds."""
        if not self.whole or not any(step.on and step.typed.at_ends for step in steps):
            return 0.0
        chain = self.chain(0, 1)
        sounds = chain.through(self.steps(steps, chain))
        return sum(sound.processor.leads_s for sound in sounds if isinstance(sound, Stage))

    def _around(self, steps: Sequence[Step], start: int, frames: int) -> Chain:
        rate = self.rate_of(steps)
        first = int(start * self.rate / rate)
        last = min(self.frames, int((start + frames) * self.rate / rate) + 1)
        return self.chain(first, last)

    def let_go(self) -> None:
        for chain in (*self._chains, *([self._ends] if self._ends else [])):
            chain.let_go()
