"""Speed as ratios within one run: the full inspection against bare decoding and hashing, and against other people's meters."""

import argparse
import hashlib
import io
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyebur128
import pyloudnorm
import soundfile

from ispettore.core.audio.reading import Source
from ispettore.core.measure import span_levels
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.demo.faults import RATE_HZ, clean_speech, in_room
from tests import bench_treatment

HEADS = ("file", "decode + hash", "inspection", "÷ (decode + hash)", "the same in wall time", "C library ÷ inspection¹",
         "Python library ÷ inspection")  # fmt: skip
KINDS = {"mono": (1, 0), "stereo": (2, 40), "mono held twice": (2, 0)}
"""Channels, and by how many samples each lags behind the one before."""


def material(channels: int, lag: int = 40) -> np.ndarray:
    """Four minutes of demo speech, to be repeated: shape (frames, channels), float32."""
    names = [f"almanac-0{number}" for number in range(1, 9)]
    spoken = [in_room(clean_speech(name)[0], noise_dbfs=-65, head_s=0.6, tail_s=1.2, seed=3) for name in names]
    once = np.concatenate(spoken)
    once *= 10 ** (-20 / 20) / np.sqrt(np.mean(once**2))
    return np.clip(np.stack([np.roll(once, lag * channel) for channel in range(channels)], axis=1), -1, 1).astype(np.float32)


def write(path: Path, wave: np.ndarray, minutes: float) -> None:
    more = {"bitrate_mode": "CONSTANT", "compression_level": 0.4} if path.suffix == ".mp3" else {}
    subtype = "MPEG_LAYER_III" if path.suffix == ".mp3" else "PCM_16"
    left = round(minutes * 60 * RATE_HZ)
    with soundfile.SoundFile(path, "w", RATE_HZ, wave.shape[1], format=path.suffix[1:].upper(), subtype=subtype, **more) as file:
        while left:
            taken = min(left, len(wave))
            for start in range(0, taken, RATE_HZ * 30):
                file.write(wave[start : min(start + RATE_HZ * 30, taken)])
            left -= taken


def decode_and_hash(path: Path) -> None:
    with path.open("rb") as file:
        hashlib.file_digest(file, "sha256")
    decode(path)


def decode(path: Path) -> None:
    with Source(path) as source:
        for _ in source.blocks():
            pass


def c_library(path: Path) -> None:
    """I, LRA and true peak, block by block."""
    mode = pyebur128.MeasurementMode
    with Source(path) as source:
        state = pyebur128.R128State(source.channels, source.sample_rate_hz, mode.MODE_I | mode.MODE_LRA | mode.MODE_TRUE_PEAK)
        for block in source.blocks():
            state.add_frames(block.ravel(), len(block))
    pyebur128.get_loudness_global(state)
    pyebur128.get_loudness_range(state)


def python_library(path: Path) -> None:
    """Integrated loudness alone, the whole file in memory."""
    samples, rate = soundfile.read(path)
    pyloudnorm.Meter(rate).integrated_loudness(samples)


def best(function: Callable[[Path], object], path: Path, times: int) -> tuple[float, float]:
    """Least processor time and least wall time of several runs, in seconds."""
    found = []
    for _ in range(times):
        began = np.array((time.process_time(), time.perf_counter()))
        function(path)
        found.append(np.array((time.process_time(), time.perf_counter())) - began)
    processor, wall = np.min(found, axis=0)
    return float(processor), float(wall)


def resident_mb(path: Path | None) -> float:
    """The largest resident memory of a process that inspects one file, or only has everything loaded."""
    code = "import sys; from pathlib import Path; from ispettore.core.measure.inspecting import inspect; "
    code += "[inspect(Path(name)) for name in sys.argv[1:]]; "
    code += "print([line.split()[1] for line in open('/proc/self/status') if line.startswith('VmHWM')][0])"
    arguments = [str(path)] if path else []
    done = subprocess.run([sys.executable, "-W", "ignore", "-c", code, *arguments], capture_output=True, text=True, check=True)
    return float(done.stdout) / 1024


def speeds(folder: Path, minutes: float, times: int) -> None:
    """One line of ratios for each format, mono and stereo."""
    for kind, (channels, lag) in KINDS.items():
        wave = material(channels, lag)
        for ending in ("wav", "flac", "mp3"):
            path = folder / f"bench.{ending}"
            write(path, wave, minutes)
            if minutes <= 30:
                inspect(path)  # or the first run pays for loading the kernels
            (bare, waited), (plain, _) = best(decode_and_hash, path, times), best(decode, path, times)
            (full, wall), (theirs, _) = best(inspect, path, times), best(c_library, path, times)
            # The Python library wants the whole file in memory as doubles: not for hours of it.
            slow = f"{best(python_library, path, 1)[0] / full:.1f}" if minutes <= 30 else "–"
            ours = full - (bare - plain)
            ratios = f"{full / bare:.2f} | {wall / waited:.2f} | {(theirs - plain) / (ours - plain):.2f} | {slow}"
            print(f"| {minutes:g} min {kind} {ending} | {bare:.2f} s | {full:.2f} s | {ratios} |", flush=True)
            path.unlink()


def spans() -> None:
    """Every level reading of ten minutes, out of what was kept, against inspecting them."""
    wave = np.tile(material(1)[: 60 * RATE_HZ], (10, 1))
    measure_array(wave[: 5 * RATE_HZ], sample_rate_hz=RATE_HZ)  # or the first run pays for loading the kernels
    began = time.process_time()
    measured = measure_array(wave, sample_rate_hz=RATE_HZ)
    inspecting = time.process_time() - began
    file = io.BytesIO()
    span_levels.write(measured, file)
    file.seek(0)
    header = json.loads(file.readline())
    tiles = file.read()
    began = time.process_time()
    levels = span_levels.cut(header, lambda first, last: tiles[first:last], start_s=0, end_s=600)
    span_levels.readings(levels, lambda first, frames: wave[first : first + frames])
    answering = time.process_time() - began
    print(f"readings of 10 minutes: {answering:.2f} s, inspecting them {inspecting:.2f} s, ratio {answering / inspecting:.2f}")


def corpora() -> int:
    """Every test of the core, each corpus whole."""
    command = [sys.executable, "-W", "ignore::ResourceWarning", "-m", "tests.everything", "tests.core."]
    return subprocess.run(command, env={**os.environ, "ISPETTORE_WHOLE_CORPORA": "1"}, check=False).returncode


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, nargs="*", default=[10, 180])
    parser.add_argument("--times", type=int, default=3)
    parser.add_argument("--hours", type=float, default=10, help="how long the file is whose inspection's memory is measured")
    parser.add_argument("--treatment", action="store_true", help="only how fast steps are")
    parser.add_argument("--conform", action="store_true", help="only how long planning and conforming take")
    parser.add_argument("--interface", action="store_true", help="only how quick the interface is")
    parser.add_argument("--hearing", action="store_true", help="only how soon a change of a draft is heard")
    parser.add_argument(
        "--production", action="store_true", help="only how fast a production of --hours is, by one and two workers"
    )
    parser.add_argument("--commands", action="store_true", help="only what the command line costs beside what it does")
    parser.add_argument("--spans", action="store_true", help="only how quick readings of a span are")
    parser.add_argument("--check", action="store_true", help="only the take check: advice followed, delay and cost")
    parser.add_argument("--beds", action="store_true", help="only sound under the voice")
    parser.add_argument("--marks", action="store_true", help="only marks made in the read, and words read again")
    parser.add_argument("--edits", action="store_true", help="only what a thousand edits in --hours cost")
    parser.add_argument("--corpora", action="store_true", help="no speed: every test on the whole of its corpus")
    parser.add_argument("--voices", action="store_true", help="no speed: how right meters and steps are on every voice")
    parser.add_argument("--plans", action="store_true", help="no speed: every made-up recording to every specification")
    parser.add_argument("--hostile", action="store_true", help="no speed: spoilt files and made-up requests in masses")
    parser.add_argument("--supply", action="store_true", help="no speed: whether anything locked is known to be unsafe")
    parser.add_argument("--storm", action="store_true", help="no speed: kills and other faults while forty jobs go on")
    parser.add_argument("--crowd", action="store_true", help="the real queue with stub computations, many productions and workers")
    parser.add_argument(
        "--crowd-size", type=int, nargs=3, default=[1_000, 100, 50], help="productions, recordings of each, workers"
    )
    parser.add_argument("--crowd-s", type=float, default=3_600, help="for how long the crowd is looked at")
    parser.add_argument("--kills", type=int, default=200, help="how many kills in a storm")
    parser.add_argument("--files", type=int, default=100_000, help="how many spoilt files")
    parser.add_argument("--requests", type=int, default=50_000, help="how many made-up requests")
    chosen = parser.parse_args()
    if chosen.supply:
        from tests import bench_supply

        return 0 if bench_supply.main() else 1
    if chosen.crowd:
        from tests import bench_crowd

        bench_crowd.main(*chosen.crowd_size, most_s=chosen.crowd_s)
        return 0
    if chosen.storm:
        from tests import bench_storm

        return 0 if bench_storm.main(chosen.kills, [1, 2, 3]) else 1
    if chosen.hostile:
        from tests import bench_hostile

        return 0 if bench_hostile.main(chosen.files, chosen.requests) else 1
    if chosen.corpora:
        return corpora()
    if chosen.interface:
        from tests import bench_interface

        return 0 if bench_interface.main() else 1
    if chosen.hearing:
        from tests import bench_hearing

        return 0 if bench_hearing.main() else 1
    if chosen.commands:
        from tests import bench_commands

        bench_commands.main()
        return 0
    if chosen.spans:
        spans()
        return 0
    if chosen.check:
        from tests import bench_check

        bench_check.main()
        return 0
    if chosen.beds:
        from tests import bench_beds

        bench_beds.main()
        return 0
    if chosen.marks:
        from tests import bench_marks

        bench_marks.main()
        return 0
    if chosen.edits:
        from tests import bench_edits

        bench_edits.main(min(chosen.hours, 3))
        return 0
    if chosen.voices:
        from tests import bench_voices

        bench_voices.main()
        return 0
    if chosen.production:
        from tests import bench_production

        bench_production.main(chosen.hours)
        return 0
    if chosen.conform:
        from tests import bench_conform

        bench_conform.main(chosen.minutes[0])
        return 0
    if chosen.plans:
        from tests import bench_plans

        bench_plans.main()
        return 0
    if chosen.treatment:
        bench_treatment.main()
        return 0
    with tempfile.TemporaryDirectory() as held:
        folder = Path(held)
        print(f"| {' | '.join(HEADS)} |")
        print("| --- | --- | --- | --- | --- | --- | --- |")
        for minutes in chosen.minutes:
            speeds(folder, minutes, chosen.times if minutes <= 30 else 1)
        print("\n¹ decoding and hashing aside.\n")
        loaded = resident_mb(None)
        for hours in (chosen.hours / 60, chosen.hours):
            path = folder / "long.wav"
            write(path, material(1), hours * 60)
            most = resident_mb(path)
            print(
                f"inspecting {hours:.2g} h: at most {most:.0f} MB resident, {loaded:.0f} MB of it before anything is read",
                flush=True,
            )
            path.unlink()
    return 0


if __name__ == "__main__":
    sys.exit(main())
