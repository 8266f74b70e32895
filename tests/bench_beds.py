"""Beds under voices: how near to the level asked for, how far down when a phrase begins, how clean loops join, what a bed costs."""

import resource
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import pyebur128
import soundfile

from ispettore.core.audio.reading import read_all
from ispettore.core.bed import looping
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.bedded import Laid
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec.builtin import shipped
from ispettore.core.treat import runner
from ispettore.core.treat.bed import Bed, Clip
from ispettore.core.treat.treatment import Treatment
from ispettore.demo.bed import harmonium
from ispettore.demo.faults import RATE_HZ
from tests import corpus, signals, speakers

LEVELS_LU = (-24.0, -18.0, -12.0, -6.0, 0.0)
HOURS = 3


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="ispettore-bench-") as name:
        folder = Path(name)
        soundfile.write(folder / "music.flac", harmonium(16.0), RATE_HZ, subtype="PCM_24")
        _cost(folder)  # first, as the most memory is told of all that ran
        _voices(folder)
        _loops()
        _reasons(folder)


def _run(voice: Path, laid: Laid, folder: Path) -> runner.Run:
    return runner.run(voice, Treatment(steps=(laid.step,)), folder=folder, sounds=laid.sounds, ledger=True)


def _lufs(wave: np.ndarray, rate: int) -> float:
    state = pyebur128.R128State(wave.shape[1], rate, pyebur128.MeasurementMode.MODE_I)
    state.add_frames(np.ascontiguousarray(wave, dtype=np.float32).ravel(), len(wave))
    return float(pyebur128.get_loudness_global(state))


def _voices(folder: Path) -> None:
    """Every speaker at every rate: levels by another meter, and where the bed is as each phrase begins."""
    apart, told, down, early = [], [], [], []
    for place, name in enumerate(speakers.NAMES):
        for rate in corpus.RATES:
            where = speakers.laid(name, rate=rate, pause_s=1.6, seconds=20)
            wave = where.wave + speakers.room(where.wave.size, rate=rate, dbfs=-68, seed=place)
            voice = signals.write(folder / "voice.wav", wave, rate)
            level = LEVELS_LU[(place + rate) % len(LEVELS_LU)]
            clip = Clip(sound="m", out_s=16, loop=True, level_lu=level, fade_in_s=0, fade_out_s=0)
            plain = _run(voice, Laid(Bed(clips=(clip,), lower_db=0), {"m": folder / "music.flac"}), folder)
            heard, _ = read_all(voice)
            under = read_all(plain.path)[0] - heard
            apart.append(_lufs(under, rate) - _lufs(heard, rate) - level)
            told.append(abs(plain.ledger[0].learned["bed_lufs"] - _lufs(under, rate)))
            bed = Bed(clips=(clip,), lower_db=10, hold_ms=200, release_ms=500)
            lowered = _run(voice, Laid(bed, {"m": folder / "music.flac"}), folder).lowered_db
            down += [float(lowered[round(start * 200)]) for start, _ in where.spans]
            pauses = [(end, start) for (_, end), (start, _) in zip(where.spans, where.spans[1:], strict=False)]
            early += [float(lowered[round(end * 200) : round(start * 200)].max()) for end, start in pauses]
    print(f"\n| {len(speakers.NAMES)} speakers, {len(corpus.RATES)} rates | |\n| --- | --- |")
    worst = max(apart, key=abs)
    middle = statistics.median(apart)
    print(f"| bed against voice less what was asked for (another meter) | median {middle:+.3f} LU, worst {worst:+.3f} |")
    print(f"| bed’s loudness told against another meter | worst {max(told):.3f} LU |")
    reached = sum(one <= -9.9 for one in down)
    print(f"| phrases at whose beginning it is down by 9.9 dB of 10 | {reached} of {len(down)}; the rest {_spread(down, -9.9)} |")
    up = sum(one >= -0.5 for one in early)
    print(f"| pauses of 1.6 s in which it comes up to within 0.5 dB | {up} of {len(early)} |")


def _spread(found: list[float], bound: float) -> str:
    rest = [one for one in found if one > bound]
    return f"{min(rest):.1f} to {max(rest):.1f} dB" if rest else "none"


def _loops() -> None:
    """Stretches at random: how alike both sides are where a loop is cut as asked for, and where it is joined."""
    random = np.random.default_rng(7)
    asked, joined = [], []
    wave = harmonium(40.0).astype(np.float32)
    samples = lambda start, frames: wave[start : start + frames]  # noqa: E731
    fade = round(looping.FADE_S * RATE_HZ)
    for _ in range(200):
        first = int(random.integers(0, 15 * RATE_HZ))
        last = first + int(random.integers(2 * RATE_HZ, 20 * RATE_HZ))
        loop = looping.found(samples, first, last, sample_rate_hz=RATE_HZ)
        begins = wave[first : first + fade].mean(axis=1)

        def alike(at: int, begins: np.ndarray = begins) -> float:
            ends = wave[at : at + fade].mean(axis=1)
            return float(begins @ ends / np.sqrt((begins @ begins) * (ends @ ends)))

        asked.append(alike(last - fade))
        joined.append(alike(first + loop.period))
    before, after = statistics.median(asked), statistics.median(joined)
    before, after = statistics.median(asked), statistics.median(joined)
    print(f"\n200 loops of the chords: alike as asked for {before:+.2f} (median), as joined {after:+.2f}; "
          f"least {min(asked):+.2f} and {min(joined):+.2f}")  # fmt: skip


def _reasons(folder: Path) -> None:
    """Who is named as the reason for limiting or refusing, by level and specification."""
    print("\n| reason named, five voices | " + " | ".join(f"{level:+.0f} LU" for level in LEVELS_LU) + " |")
    print("| --- |" + " --- |" * len(LEVELS_LU))
    for key in ("podcast-mono", "broadcast-r128", "audiobook-retail"):
        cells = []
        for level in LEVELS_LU:
            named = []
            for place, name in enumerate(speakers.SYNTHETIC):
                where = speakers.laid(name, rate=44_100, pause_s=1.2, seconds=12)
                room = speakers.room(where.wave.size, rate=44_100, dbfs=-72, seed=place)
                voice = signals.write(folder / "reason.wav", where.wave * 0.5 + room, 44_100)
                clip = Clip(sound="m", out_s=16, loop=True, level_lu=level)
                laid = Laid(Bed(clips=(clip,)), {"m": folder / "music.flac"})
                [(_, plan), *_] = proposed(voice, shipped()[key], laid=laid)
                named.append((plan.under.reason if plan.under else "") or "none")
            cells.append(", ".join(f"{named.count(one)} {one}" for one in ("none", "voice", "bed") if one in named))
        print(f"| {key} | {' | '.join(cells)} |")


def _cost(folder: Path) -> None:
    """Three hours with a loop of 16 s under them: processor time against measuring alone, and the most memory."""
    rate = 44_100
    path = folder / "long.wav"
    with soundfile.SoundFile(path, "w", rate, 1, subtype="PCM_16") as file:
        piece = signals.long_voice(600, rms_dbfs=-24, rate=rate)
        for _ in range(HOURS * 6):
            file.write(piece)
    begun = time.process_time()
    inspect(path)
    measuring = time.process_time() - begun
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.process_time()
    plain = runner.run(path, Treatment(), folder=folder)
    plain.path.unlink()
    copying = time.process_time() - begun
    begun = time.process_time()
    clip = Clip(sound="m", out_s=16, loop=True)
    run = _run(path, Laid(Bed(clips=(clip,)), {"m": folder / "music.flac"}), folder)
    laying = time.process_time() - begun
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    run.path.unlink()
    print(f"{HOURS} h mono with a stereo loop at the same rate: laying (with measuring the voice and the mix) takes "
          f"{laying / measuring:.1f} times measuring it once; copying alone {copying / measuring:.1f}. "
          f"Memory: {before / 1024:.0f} MB before, at most {after / 1024:.0f} MB.")  # fmt: skip


if __name__ == "__main__":
    main()
