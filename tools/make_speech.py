#!/usr/bin/env python3
"""Speak the demo's texts once, with Debian's flite, into small FLAC files beside them. Run by hand; the result is committed.

Sentences are spoken one by one and set apart by pauses of true silence; faults and rooms come later, in code, at seeding.
Beside each file a JSON names where every sentence starts and ends: the truth that tests hold the meters against.
"""

import json
import re
import subprocess
import tempfile
from pathlib import Path

import numpy as np
import soundfile

DEMO = Path(__file__).parent.parent / "src/ispettore/demo"
FIRST, SECOND = "slt", "rms"
BOTH = (FIRST, SECOND)  # paragraphs in turn
VOICES = {
    "almanac-01": FIRST,
    "almanac-02": SECOND,
    "almanac-03": FIRST,
    "almanac-04": SECOND,
    "almanac-05": FIRST,
    "almanac-06": SECOND,
    "almanac-07": BOTH,
    "almanac-08": SECOND,
    "almanac-09": FIRST,
    "almanac-10": SECOND,
    "museum-guide": FIRST,
    "harbour-bulletin": SECOND,
}


def spoken(sentence: str, voice: str) -> tuple[np.ndarray, int]:
    with tempfile.NamedTemporaryFile(suffix=".wav") as file:
        subprocess.run(["flite", "-voice", voice, "-t", sentence, "-o", file.name], check=True)
        samples, rate = soundfile.read(file.name)
    return trimmed(samples, rate), rate


def trimmed(samples: np.ndarray, rate: int, *, below_db: float = 32.0) -> np.ndarray:
    """From where the speech begins to where it ends (so far under its loudest 10 ms), with fades of 5 ms."""
    frame = rate // 100
    level = np.array([np.mean(samples[i : i + frame] ** 2) for i in range(0, len(samples) - frame, frame)])
    loud = np.flatnonzero(level > level.max() * 10 ** (-below_db / 10))
    samples = samples[loud[0] * frame : (loud[-1] + 1) * frame].copy()
    fade = rate // 200
    samples[:fade] *= np.linspace(0, 1, fade)
    samples[-fade:] *= np.linspace(1, 0, fade)
    return samples


def main() -> None:
    for name, voice in VOICES.items():
        random = np.random.default_rng(sum(name.encode()))
        parts, spans, starts, at = [], [], [], 0
        paragraphs = (DEMO / "texts" / f"{name}.txt").read_text().strip().split("\n\n")
        for number, paragraph in enumerate(paragraphs):
            starts.append(round(at / 16_000, 4))
            speaker = voice[number % 2] if isinstance(voice, tuple) else voice
            for sentence in re.split(r"(?<=[.!?])\s+", paragraph.strip()):
                samples, rate = spoken(sentence, speaker)
                spans.append([at / rate, (at + len(samples)) / rate])
                gap = int(rate * random.uniform(0.55, 0.9))
                parts += [samples, np.zeros(gap)]
                at += len(samples) + gap
            if number + 1 < len(paragraphs):
                extra = int(rate * random.uniform(0.5, 0.8))
                parts.append(np.zeros(extra))
                at += extra
        whole = np.concatenate(parts[:-1])
        whole *= 0.5 / np.abs(whole).max()
        soundfile.write(DEMO / "speech" / f"{name}.flac", whole, rate, subtype="PCM_16", compression_level=1.0)
        (DEMO / "speech" / f"{name}.json").write_text(
            json.dumps({"sentences": np.round(spans, 4).tolist(), "paragraphs": starts}) + "\n"
        )
        print(name, f"{len(whole) / rate:.1f} s")


if __name__ == "__main__":
    main()
