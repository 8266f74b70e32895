"""The one pass over a file that drives every meter."""

import hashlib
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from types import TracebackType

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio import cues, tags
from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.audio.reading import Block
from ispettore.core.beside import ahead
from ispettore.core.edit.reading import Edited, Sound, open_sound, path_of
from ispettore.core.edit.timeline import Timeline
from ispettore.core.measure import repeats
from ispettore.core.measure.grid import TOGETHER, seconds
from ispettore.core.measure.meters import Measured, Meters
from ispettore.core.measure.reading import Finding, Span
from ispettore.core.progress import Progress, no_progress

UNNAMED = ""
"""Instead of a hash: for working files, which nobody ever names by theirs."""


def inspect(
    sound: Sound,
    *,
    name: str | None = None,
    progress: Progress = no_progress,
    block_frames: int | None = None,
    room_tone: Sequence[Span] = (),
    sha256: str | None = None,
) -> Measured:
    """Measure one sound in one pass, as far as it goes. Raises what `Source` raises, and RoomToneOutside.

    Four seconds are read at a time unless `block_frames` says otherwise. `room_tone` are spans marked by hand: where there are any,
    they are the room tone, and nothing else is. `sha256` is the file's hash where the caller has hashed these bytes, or `UNNAMED`;
    without it they are hashed here. Of an edited recording what is heard is measured, and its caller says what it is known by.
    """
    path = path_of(sound)
    with open_sound(sound, name=name) as source, _Beside() as beside:
        hashed = beside.submit(sha256_of, path, given_up=beside.given_up) if sha256 is None else None
        meters = Meters(sample_rate_hz=source.sample_rate_hz, channels=source.channels, bit_depth=source.bit_depth)
        total = max(source.claimed_frames, 1)

        def watched(block: Block) -> Block:
            progress("Measuring", min(source.frames_read / total, 1.0))
            return block

        blocks = ahead((block.copy() for block in source.blocks(block_frames or TOGETHER * source.sample_rate_hz)), beside)
        for whole in seconds(map(watched, blocks), sample_rate_hz=source.sample_rate_hz, channels=source.channels):
            meters.feed(whole, beside)
        facts = source.facts.model_copy(update={"tags": tags.read(path)})
        measured = meters.result(
            name=source.name,
            sha256=hashed.result() if hashed else sha256 or UNNAMED,
            facts=facts,
            room_tone=room_tone,
            found=marks_set(sound, facts.duration_s),
        )
        if source.broken_off is None:
            return measured
        end = source.facts.duration_s
        cut = Finding(kind="broken-off", start_s=end, end_s=end, severity="serious")
        findings = [*measured.inspection.findings, cut]
        return replace(measured, inspection=measured.inspection.model_copy(update={"findings": findings}))


def marks_set(sound: Sound, duration_s: float) -> list[Finding]:
    """The marks that a file carries, where they are heard. Where misread words were cut out, the mark that was set for them is
    answered: it goes, also where the key was pressed a little later."""
    marks = [(mark.at_s, mark.text) for mark in cues.read(path_of(sound))]
    if isinstance(sound, Edited) and marks:
        line, rate = Timeline(sound.edits), sound.edits.sample_rate_hz
        cut = [(edit.start / rate, edit.end / rate + repeats.EARLY_S) for edit in sound.edits.edits if edit.why == "misread"]
        left = [(at_s, text) for at_s, text in marks if not any(start <= at_s < end for start, end in cut)]
        marks = [(heard[0], text) for at_s, text in left if (heard := line.from_file(at_s, at_s)) is not None]
    return [
        Finding(kind="mark-set", start_s=at_s, end_s=at_s, severity="note", detail=text)
        for at_s, text in marks
        if at_s <= duration_s
    ]


class _Beside(ThreadPoolExecutor):
    """Threads for an inspection: one reads ahead, one hashes, one takes half of the meters. They end with it, however it ends."""

    def __init__(self) -> None:
        super().__init__(max_workers=3, thread_name_prefix="inspecting")
        self._given_up = threading.Event()
        self.given_up = self._given_up.is_set

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._given_up.set()
        self.shutdown()


def measure_array(samples: NDArray[np.floating], *, sample_rate_hz: int, room_tone: Sequence[Span] = ()) -> Measured:
    """Measure samples of shape (frames, channels) that are in memory, full scale 1.0 (used for short spans and tests)."""
    samples = np.atleast_2d(samples.astype(np.float32).T).T
    meters = Meters(sample_rate_hz=sample_rate_hz, channels=samples.shape[1])
    for sound in seconds([samples], sample_rate_hz=sample_rate_hz, channels=samples.shape[1]):
        meters.feed(sound)
    facts = FileFacts(
        container="memory",
        codec="pcm-float",
        sample_rate_hz=sample_rate_hz,
        bit_depth=32,
        channels=samples.shape[1],
        frames=len(samples),
        duration_s=len(samples) / sample_rate_hz,
        bit_rate_kbps=None,
        bit_rate_constant=None,
        size_bytes=samples.nbytes,
    )
    sha256 = hashlib.sha256(samples.tobytes()).hexdigest()
    return meters.result(name="", sha256=sha256, facts=facts, room_tone=room_tone)
