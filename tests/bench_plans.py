"""What planning guarantees, over the whole corpus: every recording conformed to every specification, judged by others' code.

`./run bench --plans`: takes half an hour on two cores. Every line is printed as it comes, then the table.
"""

import os
import statistics
import tempfile
from collections import Counter, defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pyebur128
import soundfile

from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import window
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import reading_for
from ispettore.core.treat import runner
from ispettore.core.treat.treatment import Step, Treatment
from tests import recordings
from tests.core.test_steps import independent_true_peak

WAV = OutputFormat(container="wav")
ACCURACY = 0.1
"""How far two honest meters differ, in dB or LU."""


@dataclass(frozen=True)
class Came:
    """What came of one recording and one specification."""

    recording: str
    specification: str
    passes: bool
    rounds: int = 0
    steps: tuple[str, ...] = ()
    touch: float = 0.0
    recipe_touch: float | None = None
    recipe_short_db: float = 0.0
    """By how much the recipe misses the specification, at whatever gain."""
    refused: tuple[str, ...] = ()
    short_db: float = 0.0
    off: dict[str, float] = field(default_factory=dict)
    """By how much the plan's predictions missed what was measured."""
    against: tuple[str, ...] = ()
    """Limits that others' meters found missed in a file that passed."""


def others(path: Path) -> dict[str, float]:
    """Readings of a file by others' code."""
    samples, rate = soundfile.read(path, always_2d=True)
    mode = pyebur128.MeasurementMode
    state = pyebur128.R128State(samples.shape[1], rate, mode.MODE_I | mode.MODE_LRA | mode.MODE_S)
    short = -99.0
    for first in range(0, len(samples), rate // 10):
        part = samples[first : first + rate // 10]
        state.add_frames(part.astype(np.float32).ravel(), len(part))
        if first + len(part) >= 3 * rate:
            short = max(short, pyebur128.get_loudness_shortterm(state))
    peak = 20 * np.log10(np.abs(samples).max())
    rms = max(10 * np.log10(np.mean(channel**2)) for channel in samples.T)
    return {
        "sample_peak_dbfs": peak,
        "true_peak_dbtp": independent_true_peak(samples),
        "integrated_loudness_lufs": pyebur128.get_loudness_global(state),
        "loudness_range_lu": pyebur128.get_loudness_range(state),
        "short_term_max_lufs": short,
        "crest_factor_db": peak - 10 * np.log10(np.mean(samples**2)),
        "rms_dbfs": rms,
    }


def missed_by_others(path: Path, specification: Specification, channels: int) -> list[str]:
    read, found = others(path), []
    for limit in specification.limits:
        value = read.get(limit.quantity)
        if value is None or limit.severity != "must" or limit.applies_to == "production":
            continue
        if limit.about.k_weighted and specification.mono_on_two_loudspeakers and channels == 1:
            value += 3.01
        if (limit.low is not None and value < limit.low - ACCURACY) or (limit.high is not None and value > limit.high + ACCURACY):
            found.append(limit.quantity)
    return found


def recipe() -> Treatment:
    """What is done by habit: peaks to −3 dBFS, 4:1 above −18, peaks to −3 again (a constant gain is no touch)."""
    return Treatment(steps=(Step(kind="compressor", settings={"threshold_dbfs": -18, "ratio": 4}),))


def by_habit(path: Path, folder: Path) -> tuple[float, Inspection]:
    """The touch of the recipe, and what comes of it."""
    basis = inspect(path).basis
    peak = basis.inspection.value("sample_peak_dbfs") or 0.0
    steps = (Step(kind="gain", settings={"gain_db": round(-3 - peak, 2)}), *recipe().steps)
    run = runner.run(path, Treatment(steps=steps), folder=folder, name="recipe")
    after = inspect(run.path)
    return runner.touched(run, basis, after).touch, after.inspection


def one(case: tuple[str, list[str]]) -> list[Came]:
    """One recording against some specifications."""
    name, wanted = case
    wave, rate = recordings.recordings()[name]()
    found = []
    with tempfile.TemporaryDirectory() as held:
        folder = Path(held)
        path, out = folder / "in.wav", folder / "out.wav"
        soundfile.write(path, wave, rate, "PCM_24")
        known = inspect(path).basis
        habit, came_of_it = by_habit(path, folder)
        for each in wanted:
            specification = recordings.specifications()[each]
            result = conform(path, specification, out, known=known, form=WAV)
            if not result.passes:
                refused = tuple(dict.fromkeys(limit for obstacle in result.obstacles for limit in obstacle.limits))
                short = max((obstacle.shortfall_db for obstacle in result.obstacles), default=0.0)
                found.append(Came(name, each, False, result.rounds, refused=refused, short_db=short))
                continue
            plan = dict(proposed(path, specification, known=known, form=WAV))
            balanced = plan.get("balanced") or plan["light"]
            off = {
                quantity: abs(value - read)
                for quantity, value in balanced.predicted.items()
                if isinstance(read := reading_for(quantity, result.after, specification), float)
            }
            found.append(
                Came(
                    name,
                    each,
                    True,
                    result.rounds,
                    tuple(step.kind for step in result.treatment.steps),
                    result.touch.touch,
                    habit,
                    window.short_of(window.expected(came_of_it, specification), specification),
                    off=off,
                    against=tuple(missed_by_others(out, specification, result.after.facts.channels)),
                )
            )
            out.unlink()
    return found


def main() -> None:
    cases = [(name, list(recordings.specifications())) for name in recordings.recordings()]
    came: list[Came] = []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for some in pool.map(one, cases):
            came += some
            for each in some:
                said = "passes" if each.passes else f"refused, {each.short_db:.1f} short: {', '.join(each.refused)}"
                worst = max(each.off.items(), key=lambda pair: pair[1], default=("", 0.0))
                touched = f"{each.touch:.0f} ({each.recipe_touch or 0:.0f})"
                parts = (
                    said,
                    str(each.rounds),
                    " ".join(each.steps),
                    touched,
                    f"{worst[0]} {worst[1]:.2f}",
                    " ".join(each.against),
                )
                print(f"{each.recording} | {each.specification} | {' | '.join(parts)}", flush=True)
    table(came)


def table(came: list[Came]) -> None:
    by: dict[str, list[Came]] = defaultdict(list)
    for each in came:
        by[each.specification].append(each)
    heads = (
        "specification",
        "pass",
        "first round",
        "refused",
        "touch, median (habit)",
        "above habit (that would do)",
        "foretold within 0.5",
    )
    print(f"\n| {' | '.join(heads)} |\n| {' | '.join(['---'] * len(heads))} |")
    for name, some in by.items():
        good = [each for each in some if each.passes]
        offs = [off for each in good if each.rounds == 1 for off in each.off.values()]
        above = [each for each in good if each.touch >= (each.recipe_touch or 0)]
        more = f"{len(above)} ({sum(each.recipe_short_db <= 0 for each in above)})"
        touch = statistics.median(each.touch for each in good) if good else 0.0
        habit = statistics.median(each.recipe_touch or 0 for each in good) if good else 0.0
        within = 100 * sum(off <= 0.5 for off in offs) / max(len(offs), 1)
        first = sum(each.rounds == 1 for each in good)
        print(f"| {name} | {len(good)} | {first} | {len(some) - len(good)} | {touch:.0f} ({habit:.0f}) | {more} | {within:.1f} % |")
    refused = Counter(" and ".join(each.refused) for each in came if not each.passes)
    print("\nRefused for:", ", ".join(f"{names} ({count})" for names, count in refused.most_common()))
    print("Missed by others' meters:", [(e.recording, e.specification, e.against) for e in came if e.against])
    print("Refused after a run:", [(e.recording, e.specification) for e in came if not e.passes and e.rounds > 1])
