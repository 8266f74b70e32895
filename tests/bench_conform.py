"""How long planning and conforming take, in one run: a plan for an inspected hour; a conform against its parts alone."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import soundfile

from ispettore.core.audio.reading import Source
from ispettore.core.audio.writing import Sink
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue, delivery
from ispettore.core.treat import runner
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
