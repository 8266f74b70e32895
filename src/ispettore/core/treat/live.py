"""Steps over sound that is still being spoken, as somebody hears it on headphones while recording.

The same processors as in a run: they hold back what they need to look ahead, so what is heard is what a run would write, that much
later. A step that has to know the whole learns from a stretch of the same voice in the same room instead, which went through the
steps before it. Steps that work on spots, or draw a gain over the whole, are left out.
"""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.writing import write_working
from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspecting import UNNAMED, inspect
from ispettore.core.treat.step import Block, Context, Processor, Settings
from ispettore.core.treat.treatment import Step


class LiveSteps(BaseModel):
    """Which steps are heard, by their titles; which can't be while somebody speaks; and which found nothing to learn from."""

    model_config = ConfigDict(frozen=True)

    heard: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()
    untaught: tuple[str, ...] = ()


class LiveChain:
    """Feed blocks of shape (frames, channels), float32, full scale 1.0, as they come."""

    def __init__(
        self, steps: Sequence[Step], *, sample_rate_hz: int, channels: int, name: str, folder: Path, known: Block | None = None
    ) -> None:
        """`known` is sound of the same voice and room, with some of the room alone in it; working files lie in `folder` while steps
        learn from it."""
        self._rate, self._name, self._folder = sample_rate_hz, name, folder
        self._chain: list[Processor] = []
        self.channels = channels
        self._fed = self._given = self._behind = 0
        heard, left_out, untaught = [], [], []
        on = [step.typed for step in steps if step.on]
        teachers = [number for number, typed in enumerate(on) if typed.as_spoken() and typed.learns()]
        for number, typed in enumerate(on):
            live = typed.as_spoken()
            if live is None:
                left_out.append(typed.title)
                continue
            context = self._context(live, known)
            processor = self._started(live, context) if context is not None else None
            if processor is None:
                untaught.append(typed.title)
                continue
            heard.append(typed.title)
            self._chain.append(processor)
            self.channels = processor.channels
            if known is not None and any(later > number for later in teachers):
                assert context is not None
                again = live.start(context)
                known = np.concatenate((again.feed(known.copy()), again.finish()))
        self.steps = LiveSteps(heard=tuple(heard), left_out=tuple(left_out), untaught=tuple(untaught))

    @property
    def next_frame(self) -> int:
        """Which frame of what was fed comes out next."""
        return self._given

    @property
    def behind_frames(self) -> int:
        """How much of what was fed is held back, at most so far: so much later the same sample comes out."""
        return self._behind

    def feed(self, block: Block) -> Block:
        """Take the next block in; give back what is ready."""
        self._fed += len(block)
        for processor in self._chain:
            block = processor.feed(block)
        self._given += len(block)
        self._behind = max(self._behind, self._fed - self._given)
        return block

    def _context(self, typed: Settings, known: Block | None) -> Context | None:
        """What a step is told: nothing, or what it asks for; None where there is nothing to learn from."""
        plain = Context(name=self._name, sample_rate_hz=self._rate, channels=self.channels)
        if not typed.learns():
            return plain
        if known is None or not len(known):
            return None
        path = self._folder / f"learned-{len(self._chain)}.rf64"
        write_working(path, [known], sample_rate_hz=self._rate, channels=self.channels)
        measured = inspect(path, name=self._name, sha256=UNNAMED)
        return Context(name=self._name, sample_rate_hz=self._rate, channels=self.channels, measured=measured, working=path)

    def _started(self, typed: Settings, context: Context) -> Processor | None:
        try:
            return typed.start(context)
        except IspettoreError:
            return None
