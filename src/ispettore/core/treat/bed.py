"""Bed: music or ambience laid under the voice, so far below its loudness, and lowered by it while somebody speaks.

The voice is known before the first sample passes. Its integrated loudness (BS.1770-5) is what each sound of the bed is set against:
the stretch of it that is heard is measured alike, in the channels it is mixed in, which are those of the voice, or two. By its
level the bed is lowered (`core/bed/ducking.py`), and is down when the word begins. Voice and mix are told apart after the idea of
EBU R 128 s4: the loudness of what is spoken against that of the whole programme.
"""

import math
from contextlib import ExitStack
from pathlib import Path
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, computed_field, model_validator

from ispettore.core.audio.reading import BLOCK_FRAMES
from ispettore.core.audio.writing import Samples, open_spans, spanned
from ispettore.core.bed import ducking, line, looping
from ispettore.core.bed.ducking import Ducking
from ispettore.core.bed.line import Part
from ispettore.core.errors import IspettoreError
from ispettore.core.figures import exact
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.passing_loudness import PassingLoudness
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

SHORTEST_S = 0.1
MOST_CLIPS = 64
LOWEST_LU, HIGHEST_LU = -60.0, 6.0
LATEST_S = 86_400.0
TWICE_LU = 10 * math.log10(2)
"""A mono file counts as one loudspeaker (BS.1770-5); on both sides of a stereo file it is two."""


class BedSoundMissing(IspettoreError):
    """The sound “{sound}” of the bed under “{file}” is not here, so it can't be mixed. Bring it in again, or take it out of the
    bed."""

    file: str
    sound: str


class Clip(BaseModel):
    """One sound of a bed: the stretch of its file from `in_s` to `out_s`, heard from `at_s` on (counted back from the end of the
    recording where `from_end`), once or over and over, up to `until_s` at the latest. `level_lu` is its loudness against the
    voice's where nothing lowers it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    sound: str = Field(min_length=1, max_length=64)
    """The file it is read from, by the hash of its bytes; it seeks exactly."""

    name: str = Field("", max_length=200)
    at_s: float = Field(0.0, ge=0, le=LATEST_S, description="At", json_schema_extra=about("When it is heard first.", unit="s"))
    from_end: bool = Field(
        False,
        description="Counted",
        json_schema_extra=about(
            "From which end of the recording that is counted.", words={False: "after the start", True: "before the end"}
        ),
    )
    in_s: float = Field(
        0.0, ge=0, le=LATEST_S, description="From", json_schema_extra=about("Where in its file it begins.", unit="s")
    )
    out_s: float = Field(ge=0, le=LATEST_S, description="To", json_schema_extra=about("Where in its file it ends.", unit="s"))
    loop: bool = Field(
        False,
        description="Played",
        json_schema_extra=about(
            "Whether it begins anew where it ends, joined where both are most alike.", words={False: "once", True: "over and over"}
        ),
    )
    until_s: float | None = Field(
        None,
        ge=0,
        le=LATEST_S,
        description="Until",
        json_schema_extra=about("When it ends at the latest.", unit="s", absent="the end of the recording"),
    )
    fade_in_s: float = Field(
        1.0, ge=0, le=60, description="Fade in", json_schema_extra=about("How long it takes to come up.", unit="s")
    )
    fade_out_s: float = Field(
        2.0, ge=0, le=60, description="Fade out", json_schema_extra=about("How long it takes to go.", unit="s")
    )
    level_lu: float = Field(
        -12.0,
        ge=LOWEST_LU,
        le=HIGHEST_LU,
        description="Level",
        json_schema_extra=about("Its loudness against the voice's, where nobody speaks.", unit="LU"),
    )

    @model_validator(mode="after")
    def _long_enough(self) -> Self:
        if self.out_s - self.in_s < SHORTEST_S:
            raise ValueError("a stretch of a sound is at least 0.1 s long")
        return self

    def heard_s(self, length_s: float) -> tuple[float, float]:
        """From when to when it is heard in a recording of this length; the end is not after the start where it is not heard.

        >>> Clip(sound="a", out_s=10, at_s=4).heard_s(60), Clip(sound="a", out_s=10, at_s=8, from_end=True).heard_s(60)
        ((4.0, 14.0), (52.0, 60))
        """
        start = max(length_s - self.at_s, 0.0) if self.from_end else self.at_s
        end = length_s if self.loop else start + self.out_s - self.in_s
        return start, min(end, length_s if self.until_s is None else self.until_s, length_s)


class Bed(Settings):
    """Lay sounds under the voice and lower them by it. `begins_s` is how much of a recording of `length_s` passed before what comes
    in; None: all of it comes in."""

    title: ClassVar[str] = "Bed"
    purpose: ClassVar[str] = "Lay music or ambience under the voice."
    sentence: ClassVar[str] = "Lower the bed by {lower_db} while somebody speaks"
    further: ClassVar[str] = (
        "Speech counts from {threshold_db} against its level on. Attack {attack_ms}, hold {hold_ms}, release {release_ms}. "
        "Mixed in {stereo}."
    )
    each: ClassVar[tuple[str, str]] = (
        "clips",
        "{level_lu} against the voice, from {at_s} {from_end} until {until_s}; {in_s} to {out_s} of its file, {loop}, "
        "fading in over {fade_in_s} and out over {fade_out_s}",
    )
    needs_whole: ClassVar[bool] = True
    adds_sound: ClassVar[bool] = True
    clips: tuple[Clip, ...] = Field((), max_length=MOST_CLIPS)
    lower_db: float = Field(
        8.0,
        ge=0,
        le=40,
        description="Lowered by",
        json_schema_extra=about("How far the bed goes down while somebody speaks; 0 leaves it where it is.", unit="dB"),
    )
    threshold_db: float = Field(
        -15.0,
        ge=-50,
        le=0,
        description="Threshold",
        json_schema_extra=about("From which level on the voice lowers the bed, against its active speech level.", unit="dB"),
    )
    attack_ms: float = Field(
        300.0,
        ge=5,
        le=5_000,
        description="Attack",
        json_schema_extra=about("How long the bed takes to go down; it is down when the word begins.", unit="ms"),
    )
    hold_ms: float = Field(
        400.0,
        ge=0,
        le=10_000,
        description="Hold",
        json_schema_extra=about("How long it stays down behind a word.", unit="ms"),
    )
    release_ms: float = Field(
        800.0,
        ge=5,
        le=10_000,
        description="Release",
        json_schema_extra=about("How long it takes to come up again.", unit="ms"),
    )
    stereo: bool = Field(
        False,
        description="Mixed in",
        json_schema_extra=about(
            "Whether a mono voice stands in the middle of a bed in stereo.", words={False: "the voice’s channels", True: "stereo"}
        ),
    )
    begins_s: float = Field(0.0, ge=0, le=LATEST_S)
    length_s: float | None = Field(None, ge=0, le=LATEST_S)

    @property
    def ducking(self) -> Ducking:
        return Ducking(
            lower_db=self.lower_db,
            threshold_db=self.threshold_db,
            attack_s=self.attack_ms / 1000,
            hold_s=self.hold_ms / 1000,
            release_s=self.release_ms / 1000,
        )

    @property
    def sounds(self) -> tuple[str, ...]:
        """The files that are heard, each once."""
        return tuple(dict.fromkeys(clip.sound for clip in self.clips))

    def elsewhere(self) -> None:
        return None

    def later(self, by_s: float) -> "Bed":
        return self.model_copy(update={"begins_s": max(self.begins_s - by_s, 0.0)})

    def start(self, context: Context) -> "BedProcessor":
        return BedProcessor(context, self)


class Mix(BaseModel):
    """Voice, bed and both together, integrated loudness in LUFS where they are mixed; None of what is silent."""

    model_config = ConfigDict(frozen=True)

    voice_lufs: float | None
    bed_lufs: float | None
    mix_lufs: float | None
    lowered_s: float = 0.0
    """How long the bed was lowered by more than half of what it may be."""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def difference_lu(self) -> float | None:
        """The voice's loudness less the mix's: EBU R 128 s4's difference between what is spoken and the programme."""
        return None if self.voice_lufs is None or self.mix_lufs is None else self.voice_lufs - self.mix_lufs

    @computed_field  # type: ignore[prop-decorator]
    @property
    def above_bed_lu(self) -> float | None:
        """How far the voice stands above the bed as it is heard."""
        return None if self.voice_lufs is None or self.bed_lufs is None else self.voice_lufs - self.bed_lufs

    def delivered(self, mix_lufs: float | None) -> "Mix":
        """The same once what follows has brought the mix to this loudness: gain and limiting move voice and bed alike."""
        if mix_lufs is None or self.mix_lufs is None:
            return self
        by = mix_lufs - self.mix_lufs
        voice, bed = (None if one is None else one + by for one in (self.voice_lufs, self.bed_lufs))
        return self.model_copy(update={"voice_lufs": voice, "bed_lufs": bed, "mix_lufs": mix_lufs})


_measured: dict[tuple[Any, ...], float | None] = {}
"""What stretches of files measured, the last so many: a draft is heard again with every change."""
MOST_MEASURED = 256


class BedProcessor(Processor):
    """The bed is made as the voice passes, block by block. Raises BedSoundMissing, and what reading a file raises."""

    def __init__(self, context: Context, bed: Bed) -> None:
        super().__init__(context)
        if context.measured is None:
            raise ValueError("a bed is laid under a voice that is known")
        self._bed, self._at = bed, 0
        inspection = context.measured.inspection
        self._voice_lufs = inspection.value("integrated_loudness_lufs")
        self._widens = bed.stereo and context.channels == 1
        if self._widens:
            self.channels = 2
            if self._voice_lufs is not None:
                self._voice_lufs += TWICE_LU
        power = context.measured.cells.power.mean(axis=0)
        self._gain_db = ducking.gain_db(power, inspection.value("active_speech_level_dbfs"), bed.ducking)
        self._files, self._notes = ExitStack(), list[str]()
        self._begins = round(bed.begins_s * self.sample_rate_hz)
        length_s = bed.length_s or inspection.facts.frames / self.sample_rate_hz
        self._parts = [part for clip in bed.clips if (part := self._part(clip, context, length_s)) is not None]
        self._alone = self._loudness()
        self._mixed = self._loudness()

    def _loudness(self) -> PassingLoudness:
        return PassingLoudness(sample_rate_hz=self.sample_rate_hz, channels=self.channels)

    def _part(self, clip: Clip, context: Context, length_s: float) -> Part | None:
        """A clip as it is heard; None where the recording ends before it."""
        rate = self.sample_rate_hz
        start_s, end_s = clip.heard_s(length_s)
        start, end = round(start_s * rate), round(end_s * rate)
        if end <= start:
            return None
        path = context.sounds.get(clip.sound)
        if path is None:
            raise BedSoundMissing(file=context.name, sound=clip.name or clip.sound[:8])
        samples, came_hz, frames = self._opened(path)
        first, last = round(clip.in_s * came_hz), min(round(clip.out_s * came_hz), frames)
        if last - first < SHORTEST_S * came_hz:
            self._notes.append(f"“{clip.name}” is not heard: its file ends before {exact(round(clip.in_s, 2))} s.")
            return None
        samples = line.as_channels(samples, self.channels)
        lufs = self._measured(path, samples, first, last, came_hz)
        if clip.loop:
            heard = looping.looped(samples, looping.found(samples, first, last, sample_rate_hz=came_hz))
        else:
            heard, end = line.stretch(samples, first, last), min(end, start + round((last - first) * rate / came_hz))
        if lufs is None or self._voice_lufs is None:
            silent = "it is too short or too soft to be measured" if lufs is None else "nobody speaks to set it against"
            self._notes.append(f"“{clip.name}” is mixed at the level of its file: {silent}.")
        gain_db = 0.0 if lufs is None or self._voice_lufs is None else self._voice_lufs + clip.level_lu - lufs
        length = end - start
        fade_in, fade_out = min(round(clip.fade_in_s * rate), length), min(round(clip.fade_out_s * rate), length)
        return Part(line.at_rate(heard, came_hz, rate), start, length, 10 ** (gain_db / 20), fade_in, fade_out)

    def _opened(self, path: Path) -> tuple[Samples, int, int]:
        """Its samples, its sample rate and its length in frames."""
        return self._files.enter_context(open_spans(path)), *spanned(path)

    def _measured(self, path: Path, samples: Samples, first: int, last: int, rate: int) -> float | None:
        """The loudness of a stretch of a file, in the channels it is mixed in."""
        now = path.stat()
        key = (path, now.st_mtime_ns, now.st_size, first, last, self.channels)
        if key not in _measured:
            meter = PassingLoudness(sample_rate_hz=rate, channels=self.channels)
            for at in range(first, last, BLOCK_FRAMES):
                meter.feed(samples(at, min(BLOCK_FRAMES, last - at)))
            _measured[key] = meter.lufs()
            while len(_measured) > MOST_MEASURED:
                _measured.pop(next(iter(_measured)), None)
        return _measured[key]

    def feed(self, block: Block) -> Block:
        under = line.together(self._parts, self._begins + self._at, len(block), channels=self.channels)
        under *= self._factor(self._at, len(block))[:, None]
        self._at += len(block)
        self._alone.feed(under)
        voice = np.repeat(block, 2, axis=1) if self._widens else block
        mixed = np.asarray(voice + under, dtype=np.float32)
        self._mixed.feed(mixed)
        return mixed

    def _factor(self, start: int, frames: int) -> NDArray[np.float32]:
        """The gain of each frame, between those of the cells' middles."""
        if not self._gain_db.size:
            return np.ones(frames, dtype=np.float32)
        at = (np.arange(start, start + frames) + 0.5) * (CELLS_PER_SECOND / self.sample_rate_hz) - 0.5
        first = max(int(at[0]) - 1, 0) if frames else 0
        cells = self._gain_db[first : first + frames * CELLS_PER_SECOND // self.sample_rate_hz + 4]
        if not cells.size:
            cells, first = self._gain_db[-1:], self._gain_db.size - 1
        return np.asarray(10 ** (np.interp(at - first, np.arange(cells.size), cells) / 20), dtype=np.float32)

    def finish(self) -> Block:
        self._files.close()
        return super().finish()

    def lowered_db(self) -> NDArray[np.float32]:
        return self._gain_db if self._parts else self._gain_db[:0]

    def learned(self) -> dict[str, Any]:
        """Voice, bed and mix, as `Mix` holds them."""
        deep = self._gain_db < -self._bed.lower_db / 2
        mix = Mix(
            voice_lufs=_rounded(self._voice_lufs),
            bed_lufs=_rounded(self._alone.lufs()),
            mix_lufs=_rounded(self._mixed.lufs()),
            lowered_s=round(float(deep.sum()) / CELLS_PER_SECOND, 2) if self._parts else 0.0,
        )
        return mix.model_dump(exclude={"difference_lu", "above_bed_lu"})

    def warnings(self) -> list[str]:
        return self._notes


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 2)
