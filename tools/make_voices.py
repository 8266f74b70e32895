#!/usr/bin/env python3
"""Speak some lines with several of Debian's synthetic voices, for tests, into small FLAC files: with some of them twice, slower or
quicker and at another pitch, as one who reads a line again. Run by hand; the result is committed.

Needs festival, festvox-kallpc16k, festvox-kdlpc16k, festvox-us-slt-hts and espeak-ng. The real speaker that tests use beside them
is not copied: his words come with Debian's alsa-utils.
"""

import json
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

import make_speech
import numpy as np
import soundfile

TARGET = Path(__file__).parent.parent / "tests/voices"
GAP_S = 0.1
PITCH = "(set! int_lr_params '((target_f0_mean {mean}) (target_f0_std 17) (model_f0_mean 170) (model_f0_std 34)))"
LINES = (
    "The sluice opens an hour after high water, and the wheel begins to turn.",
    "Six sacks of barley stand beside the stair.",
    "Put the lantern on the hook, then pull the rope twice.",
    "Who counts the tides when the keeper sleeps?",
    "Fog came over the flats before noon, thick and quite still.",
    "All evening the stones sang in the dark.",
    "Careful steps are shorter steps, said the miller.",
    "Nobody moved. Nothing was heard but the dripping of the gate.",
)


def festival(voice: str, *settings: str) -> Callable[[str, str], None]:
    def speak(line: str, path: str) -> None:
        command = ["text2wave", "-eval", f"({voice})", *(part for one in settings for part in ("-eval", one)), "-o", path]
        subprocess.run(command, input=line, text=True, check=True, capture_output=True)

    return speak


def espeak(voice: str, speed: int, pitch: int = 50) -> Callable[[str, str], None]:
    def speak(line: str, path: str) -> None:
        subprocess.run(["espeak-ng", "-v", voice, "-s", str(speed), "-p", str(pitch), "-w", path, line], check=True)

    return speak


SPEAKERS = {
    "reed": festival("voice_kal_diphone"),
    "heron": festival("voice_ked_diphone"),
    "wren": festival("voice_cmu_us_slt_arctic_hts"),
    "sluice": espeak("en-gb+m3", 150),
    "plover": espeak("en-us+f4", 165),
    "reed-again": festival("voice_kal_diphone", "(Parameter.set 'Duration_Stretch 1.13)", PITCH.format(mean=116)),
    "heron-again": festival("voice_ked_diphone", "(Parameter.set 'Duration_Stretch 0.9)", PITCH.format(mean=98)),
    "sluice-again": espeak("en-gb+m3", 136, 57),
    "plover-again": espeak("en-us+f4", 182, 44),
}


def main() -> None:
    for name, speak in SPEAKERS.items():
        parts, spans, at = [], [], 0
        for line in LINES:
            with tempfile.NamedTemporaryFile(suffix=".wav") as file:
                speak(line, file.name)
                samples, rate = soundfile.read(file.name)
            samples = make_speech.trimmed(samples, rate, below_db=45.0)
            spans.append([at / rate, (at + len(samples)) / rate])
            parts += [samples, np.zeros(round(GAP_S * rate))]
            at += len(samples) + round(GAP_S * rate)
        whole = np.concatenate(parts)
        whole *= 0.5 / np.abs(whole).max()
        soundfile.write(TARGET / f"{name}.flac", whole, rate, subtype="PCM_16", compression_level=1.0)
        (TARGET / f"{name}.json").write_text(json.dumps(np.round(spans, 4).tolist()) + "\n")
        print(name, rate, f"{len(whole) / rate:.1f} s")


if __name__ == "__main__":
    main()
