"""The demo recordings: which reading, which fault, and what was truly put in."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from ispettore.core.deliver.labels import Labels
from ispettore.demo import bed, cover
from ispettore.demo.faults import (
    RATE_HZ,
    Wave,
    at_level,
    breath,
    clean_speech,
    click,
    clipped,
    gated,
    hum,
    in_hall,
    in_room,
    laid,
    misread,
    paragraph_starts,
    plosive,
    shouted,
)
from ispettore.demo.standin import Setting


@dataclass(frozen=True)
class Truth:
    """What was put in: level of the room in dBFS (None for dead silence), time before the first word and after the last.

    `findings` are kinds and times in seconds; `readings` quantities, values and how near a meter must come. The tail is None where
    the hall goes on after the voice.
    """

    noise_dbfs: float | None
    head_s: float
    tail_s: float | None
    findings: tuple[tuple[str, float], ...] = ()
    readings: tuple[tuple[str, float, float], ...] = ()


@dataclass(frozen=True)
class DemoRecording:
    """One recording of the scenario; `make` gives shape (frames, channels)."""

    file_name: str
    fault: str
    make: Callable[[], tuple[NDArray[np.float64], Truth]]


@dataclass(frozen=True)
class DemoBed:
    """What lies under every voice of a production: a sound of so many seconds, over and over; `make` gives shape (frames, 2)."""

    file_name: str
    seconds: float
    level_lu: float
    lower_db: float
    hold_ms: float
    release_ms: float
    make: Callable[[float], NDArray[np.float64]]

    def write(self, path: Path) -> None:
        """The same file every time."""
        soundfile.write(path, self.make(self.seconds), RATE_HZ, subtype="PCM_24", format="FLAC")


@dataclass(frozen=True)
class DemoProduction:
    """`labels` is what all its files say; `narrators` those of recordings that another voice reads; `cover` draws their picture;
    `certified_by` answers for their certificates; `checks` are how a reader sat at the take checks of a week, the oldest first;
    `bed` is what lies under its voices."""

    name: str
    specification: str
    recordings: tuple[DemoRecording, ...]
    labels: Labels = field(default_factory=Labels)
    narrators: Mapping[str, str] = field(default_factory=dict)
    certified_by: str = ""
    cover: Callable[[], bytes] | None = None
    checks: tuple[Setting, ...] = ()
    bed: DemoBed | None = None


def _placed(wave: Wave, *, rms_dbfs: float, noise_dbfs: float, head_s: float, tail_s: float, seed: int) -> tuple[Wave, Truth]:
    """The voice set so that the whole file reads `rms_dbfs`, then the room around it."""
    whole = wave.size + (head_s + tail_s) * RATE_HZ
    wave = at_level(wave, rms_dbfs=rms_dbfs + 10 * float(np.log10(whole / wave.size)))
    truth = Truth(noise_dbfs, head_s, tail_s)
    return in_room(wave, noise_dbfs=noise_dbfs, head_s=head_s, tail_s=tail_s, seed=seed)[:, None], truth


def _passes() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-01")
    return _placed(wave, rms_dbfs=-20.5, noise_dbfs=-66.0, head_s=0.75, tail_s=2.5, seed=1)


def _too_quiet() -> tuple[NDArray[np.float64], Truth]:
    wave, sentences = clean_speech("almanac-02")
    made, truth = _placed(wave, rms_dbfs=-33.0, noise_dbfs=-76.0, head_s=0.3, tail_s=1.8, seed=2)
    known = []
    for number, gap in enumerate(_gaps(sentences, longer_than_s=1.0)[:3]):
        middle = 0.3 + (gap[0] + gap[1]) / 2
        laid(made[:, 0], breath(seconds=0.35, level_dbfs=-58.0, seed=number), middle - 0.15)
        known.append(("breath", middle))
    laid(made[:, 0], click(peak=0.02), len(made) / RATE_HZ - 0.7)
    return made, replace(truth, findings=(*known, ("click", len(made) / RATE_HZ - 0.7)))


def _gaps(sentences: NDArray[np.float64], *, longer_than_s: float) -> NDArray[np.float64]:
    """The pauses between sentences in seconds, shape (gaps, 2)."""
    gaps = np.stack((sentences[:-1, 1], sentences[1:, 0]), axis=1)
    return gaps[gaps[:, 1] - gaps[:, 0] > longer_than_s]


def _wild_peaks() -> tuple[NDArray[np.float64], Truth]:
    wave, sentences = clean_speech("almanac-03")
    wave = shouted(wave, sentences, which=[1, 2, 4], gain_db=13.0)
    made, truth = _placed(wave, rms_dbfs=-22.0, noise_dbfs=-67.0, head_s=0.8, tail_s=2.2, seed=3)
    starts = [0.8 + float(start) for start in sentences[[3, 5], 0]]
    for start in starts:
        laid(made[:, 0], plosive(level_dbfs=-16.0), start)
    return made, replace(truth, findings=tuple(("plosive", start) for start in starts))


def _noisy_room() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-04")
    return _placed(wave, rms_dbfs=-21.0, noise_dbfs=-45.0, head_s=0.9, tail_s=2.0, seed=4)


def _beyond_saving() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-10")
    return _placed(wave, rms_dbfs=-21.0, noise_dbfs=-36.0, head_s=0.9, tail_s=2.0, seed=10)


def _hum() -> tuple[NDArray[np.float64], Truth]:
    wave, sentences = clean_speech("almanac-05")
    wave, clapped_s = misread(wave, sentences[4], share=0.6, peak=0.2)
    made, truth = _placed(wave, rms_dbfs=-21.0, noise_dbfs=-68.0, head_s=0.8, tail_s=2.4, seed=5)
    buzz = hum(len(made), base_hz=50.0, level_dbfs=-53.0)
    together = 10 * float(np.log10(10 ** (truth.noise_dbfs / 10) + np.mean(buzz**2)))  # type: ignore[operator]
    return made + buzz[:, None], replace(truth, noise_dbfs=together, findings=(("hum", 0.0), ("mark", 0.8 + clapped_s)))


def _clipped() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-06")
    made, truth = _placed(wave, rms_dbfs=-19.0, noise_dbfs=-66.0, head_s=0.7, tail_s=2.0, seed=6)
    loudest = 0.7 + float(np.argmax(np.abs(wave))) / RATE_HZ
    return clipped(made[:, 0], share=0.45)[:, None] * 0.95, replace(
        truth, noise_dbfs=-66.0 + 20 * float(np.log10(0.95)), findings=(("clipping", loudest),)
    )


def _two_voices() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-07")
    second = int(paragraph_starts("almanac-07")[1] * RATE_HZ)
    wave[second:] *= 10 ** (-9 / 20)
    made, truth = _placed(wave, rms_dbfs=-24.5, noise_dbfs=-72.0, head_s=0.6, tail_s=1.9, seed=7)
    return made, replace(truth, findings=(("level-jump", 0.6 + second / RATE_HZ),))


def _dead_silence() -> tuple[NDArray[np.float64], Truth]:
    wave, sentences = clean_speech("almanac-08")
    made, truth = _placed(wave, rms_dbfs=-20.5, noise_dbfs=-64.0, head_s=0.7, tail_s=2.3, seed=8)
    return gated(made[:, 0], sentences + 0.7)[:, None], replace(truth, noise_dbfs=None)


def _dual_mono() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-09")
    made, truth = _placed(wave, rms_dbfs=-26.0, noise_dbfs=-72.0, head_s=1.4, tail_s=2.0, seed=9)
    return np.repeat(made, 2, axis=1), replace(truth, findings=(("identical-channels", 0.0),))


def _guide() -> tuple[NDArray[np.float64], Truth]:
    """A voice a little to the left in a hall, with a hiss of its own on each side."""
    wave, _ = clean_speech("museum-guide")
    wave = at_level(wave, rms_dbfs=-25.0)
    sides = [
        in_room(
            in_hall(wave * gain, decay_s=0.5, direct_db=3.0, seed=40 + k), noise_dbfs=-70.0, head_s=0.5, tail_s=0.9, seed=20 + k
        )
        for k, gain in enumerate((1.0, 0.7))
    ]
    truth = Truth(-70.0, 0.5, None, findings=(("room-echo", 0.0),), readings=(("decay_s", 0.5, 0.125),))
    return np.stack(sides, axis=1), truth


def _upside_down() -> tuple[NDArray[np.float64], Truth]:
    """The guide's last sentences, with a hiss of its own on each side and the right side wired the wrong way round."""
    wave, sentences = clean_speech("museum-guide")
    wave = wave[int((sentences[len(sentences) // 2, 0] - 0.05) * RATE_HZ) :]
    wave = at_level(wave, rms_dbfs=-20.0)
    sides = [in_room(wave * sign, noise_dbfs=-68.0, head_s=0.6, tail_s=1.1, seed=24 + k) for k, sign in enumerate((1.0, -1.0))]
    return np.stack(sides, axis=1), Truth(-68.0, 0.65, 1.1, findings=(("inverted-channel", 0.0),))


def _bulletin() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("harbour-bulletin")
    made, truth = _placed(wave, rms_dbfs=-17.5, noise_dbfs=-60.0, head_s=0.4, tail_s=1.2, seed=30)
    return made + 0.012, replace(truth, findings=(("dc-offset", 0.0),), readings=(("dc_offset_percent", 1.2, 0.02),))


FIRST_VOICE, SECOND_VOICE = "Ilse Weir", "Morten Ebb"
"""The two invented readers."""
PRODUCTIONS = (
    DemoProduction(
        "Almanac of a Tidal Mill",
        "audiobook-retail",
        (
            DemoRecording("01 January.wav", "none: passes as it is", _passes),
            DemoRecording("02 February.wav", "too quiet, head too short, breaths and a click between the words", _too_quiet),
            DemoRecording("03 March.wav", "peaks too high, two bursts of air on the microphone", _wild_peaks),
            DemoRecording("04 April.wav", "a room so loud that cleaning just saves it", _noisy_room),
            DemoRecording("05 May.wav", "mains hum, a sentence broken off with two claps and read again", _hum),
            DemoRecording("06 June.wav", "clipped, then turned down", _clipped),
            DemoRecording("07 July.wav", "two voices, the second 9 dB lower", _two_voices),
            DemoRecording("08 August.wav", "dead silence between the sentences", _dead_silence),
            DemoRecording("09 September.wav", "the same voice on both channels, too quiet, head too long", _dual_mono),
            DemoRecording("10 October.wav", "room too noisy to be conformed", _beyond_saving),
        ),
        certified_by="Elspeth Sluice",
        labels=Labels(author="Elspeth Sluice", narrator=FIRST_VOICE, publisher="Mill Pond Press", year="2026", language="English"),
        narrators={
            **dict.fromkeys(("02 February.wav", "04 April.wav", "06 June.wav", "08 August.wav", "10 October.wav"), SECOND_VOICE),
            "07 July.wav": f"{FIRST_VOICE}, {SECOND_VOICE}",
        },
        cover=cover.almanac,
        checks=(
            Setting(seed=7, distance_cm=22, input_db=9, room_dbfs=-84),
            Setting(seed=8, distance_cm=30, input_db=4, room_dbfs=-73, hum_dbfs=-73),
        ),
    ),
    DemoProduction(
        "Museum guide",
        "podcast-stereo",
        (
            DemoRecording("Room of instruments.wav", "too quiet, leans to the left, the hall is heard", _guide),
            DemoRecording("Room of clocks.wav", "the right channel is upside down", _upside_down),
        ),
        labels=Labels(narrator=FIRST_VOICE),
        bed=DemoBed(bed.NAME, 16.0, -10.0, 9.0, 200.0, 500.0, bed.harmonium),
    ),
    DemoProduction(
        "Harbour bulletin",
        "broadcast-r128",
        (DemoRecording("Evening.wav", "much too loud for broadcasting, with an offset", _bulletin),),
    ),
)


def write(recording: DemoRecording, path: Path) -> Truth:
    """Make one recording as a 24-bit WAV file and return what was put in. The same file every time."""
    samples, truth = recording.make()
    soundfile.write(path, samples, RATE_HZ, subtype="PCM_24", format="WAV")
    return truth
