"""How long planning and conforming take, in one run: plans for an inspected hour; a conform against its parts alone."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import soundfile

from ispettore.core.audio.reading import Source
from ispettore.core.audio.writing import Sink
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue, delivery
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat import runner
from tests import recordings
from tests.core.test_cleaning_chosen import noisy
from tests.treating import RATE

Result = TypeVar("Result")
ROOMS = (("quiet", "white", -70.0), ("hiss", "white", -52.0), ("hum", "hum", -53.0))


def timed(function: Callable[..., Result], *given: Any, **named: Any) -> tuple[Result, float, float]:
    """What it gives, its processor time and its wall time in seconds."""
    processor, wall = time.process_time(), time.perf_counter()
    result = function(*given, **named)
    return result, time.process_time() - processor, time.perf_counter() - wall


def written(path: Path, kind: str, dbfs: float, minutes: float) -> Path:
    wave = noisy("wren", kind, dbfs, seconds=60)
    with soundfile.SoundFile(path, "w", RATE, 1, "PCM_16") as file:
        for _ in range(max(1, round(minutes * 60 * RATE / wave.size))):
            file.write(wave)
    return path


def uneven(path: Path, minutes: float) -> Path:
    """A voice whose every third minute is 6 to 14 dB softer."""
    random, minute = np.random.default_rng(3), recordings.spoken("wren", seconds=60)
    with soundfile.SoundFile(path, "w", RATE, 1, "PCM_24") as file:
        for number in range(max(1, round(minutes))):
            level = -19 - (random.uniform(6, 14) if number % 3 == 0 else 0)
            file.write(np.clip(recordings.at(minute, level) + recordings.noise(minute.size, "pink", -75), -1, 1))
    return path


def asked() -> dict[str, Specification]:
    """All that are shipped, those that ask for more, and limits on peaks and moments over the level."""
    loud = Limit(quantity="integrated_loudness_lufs", low=-17, high=-15)
    more = (("peak_to_loudness_db", 13), ("momentary_max_lufs", -10))
    made = (
        Specification(id=name.replace("_", "-"), name=name, limits=(loud, Limit(quantity=name, high=high))) for name, high in more
    )
    return {**recordings.specifications(), **{each.id: each for each in made}}


def plans(folder: Path, minutes: float) -> None:
    """All three plans of an inspected recording, for everything that may be asked of it."""
    path = uneven(folder / "uneven.wav", minutes)
    basis = inspect(path).basis
    print(f"\n| {minutes:g} min with soft passages, three plans | processor |\n| --- | --- |")
    for name, specification in asked().items():
        _, processor, _ = timed(proposed, path, specification, known=basis)
        print(f"| {name} | {processor:.1f} s |", flush=True)


def encoded(source: Path, out: Path) -> None:
    form = delivery.chosen("mp3", catalogue.shipped()["audiobook-retail"])
    with Source(source) as opened, Sink(out, sample_rate_hz=RATE, channels=1, form=form) as sink:
        for block in opened.blocks():
            sink.write(block)


def main(minutes: float = 60) -> None:
    specification = catalogue.shipped()["audiobook-retail"]
    parts_alone = "÷ (encoding + two inspections + treating)"
    heads = (f"{minutes:g} min, mono WAV", "plan, processor", "conform to MP3", parts_alone, "wall ÷ that")
    print(f"| {' | '.join(heads)} |")
    print("| --- | --- | --- | --- | --- |")
    with tempfile.TemporaryDirectory() as held:
        folder = Path(held)
        for name, kind, dbfs in ROOMS:
            path, out = written(folder / "in.wav", kind, dbfs, minutes), folder / "out.mp3"
            basis = inspect(path).basis
            proposed(path, specification, known=basis)  # or the first run pays for loading the kernels
            _, planning, _ = timed(proposed, path, specification, known=basis)
            result, whole, wall = timed(conform, path, specification, out, known=basis)
            assert result.passes, result.obstacles
            _, encoding, _ = timed(encoded, path, folder / "bare.mp3")
            _, before, _ = timed(inspect, path)
            _, after, _ = timed(inspect, out)
            _, treating, _ = timed(runner.run, path, result.treatment, folder=folder, name="bench", ledger=True)
            parts = encoding + before + after + treating
            print(f"| {name} | {planning:.1f} s | {whole:.1f} s | {whole / parts:.2f} | {wall / parts:.2f} |", flush=True)
        plans(folder, minutes)
