"""Writing open formats in blocks: lossless masters, encoded deliverables, float working files.

Every file is written under a temporary name beside its place, synced and renamed: a reader sees a whole file or none.
"""

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Any, Literal

import numpy as np
import soundfile
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core import errors
from ispettore.core.audio.broadcast import Broadcast, put
from ispettore.core.audio.reading import Block

Container = Literal["wav", "flac", "mp3", "ogg", "opus"]
"""What is written, by its ending: `ogg` holds Vorbis, `opus` Opus in an Ogg container."""


class Codec(BaseModel):
    """How soundfile writes it: `level` is its 0…1 "compression level"; `rates_hz` are empty where any rate will do."""

    model_config = ConfigDict(frozen=True)

    title: str
    file_format: str
    subtype: str
    level: float
    rates_hz: tuple[int, ...] = ()
    most_channels: int = 2


OPUS_RATES_HZ = (8_000, 12_000, 16_000, 24_000, 48_000)
LOSSY: dict[str, Codec] = {
    # The level that gives 192 kbit/s, constant, with MPEG 1 Layer III.
    "mp3": Codec(title="MP3", file_format="MP3", subtype="MPEG_LAYER_III", level=0.4, rates_hz=(32_000, 44_100, 48_000)),
    "ogg": Codec(title="Ogg Vorbis", file_format="OGG", subtype="VORBIS", level=0.3, most_channels=6),
    "opus": Codec(
        title="Opus",
        file_format="OGG",
        subtype="OPUS",
        level=0.5,
        rates_hz=OPUS_RATES_HZ,
        most_channels=6,
    ),
}


class OutputFormat(BaseModel):
    """How a file is to be written."""

    model_config = ConfigDict(frozen=True)

    container: Container
    bit_depth: Literal[16, 24] = 24
    bit_rate_kbps: Literal[192] = 192

    @property
    def lossy(self) -> bool:
        return self.container in LOSSY

    @property
    def codec(self) -> Codec | None:
        return LOSSY.get(self.container)

    @property
    def file_container(self) -> str:
        """What the container of the written file is called in its facts."""
        return "ogg" if self.container == "opus" else self.container

    def rate_for(self, sample_rate_hz: int) -> int:
        """The rate this format can be written at for sound of a rate: its own where that will do, else one no lower.

        >>> OutputFormat(container="opus").rate_for(44_100), OutputFormat(container="mp3").rate_for(22_050)
        (48000, 44100)
        """
        rates = self.codec.rates_hz if self.codec else ()
        if not rates or sample_rate_hz in rates:
            return sample_rate_hz
        kin = [rate for rate in rates if rate >= sample_rate_hz and rate % sample_rate_hz == 0]
        if not kin and sample_rate_hz % 11_025 == 0 and 44_100 in rates:
            return 44_100
        return min(kin or [rate for rate in rates if rate >= sample_rate_hz] or [max(rates)])


def format_for(path: Path) -> OutputFormat:
    """The format a file name asks for. Raises UnsupportedOutput for endings nothing is written as."""
    ending = path.suffix.lower().lstrip(".")
    if ending in ("wav", "flac", *LOSSY):
        return OutputFormat.model_validate({"container": ending})
    raise errors.UnsupportedOutput(file=path.name, reason="its ending must be .wav, .flac, .mp3, .ogg or .opus")


class Sink:
    """One file being written. Used as a context; leaving it normally puts the file in place, any error leaves nothing.

    Lossless integer formats get triangular dither of ±1 LSB (TPDF; Lipshitz, Wannamaker and Vanderkooy, J. Audio Eng. Soc. 40(5),
    1992) from a fixed seed, so that the same input gives the same file. Exact digital silence stays silent. A WAV file carries what
    `broadcast` states, where it is given.
    """

    def __init__(
        self, path: Path, *, sample_rate_hz: int, channels: int, form: OutputFormat, broadcast: Broadcast | None = None
    ) -> None:
        codec = form.codec
        if codec and codec.rates_hz and sample_rate_hz not in codec.rates_hz:
            known = " or ".join(f"{rate / 1000:g}" for rate in codec.rates_hz)
            raise errors.UnsupportedOutput(
                file=path.name, reason=f"{codec.title} is written at {known} kHz here, not at {sample_rate_hz / 1000:g} kHz"
            )
        if codec and channels > codec.most_channels:
            raise errors.UnsupportedOutput(
                file=path.name, reason=f"{codec.title} holds up to {codec.most_channels} channels here, not {channels}"
            )
        if not path.parent.is_dir():
            raise errors.UnsupportedOutput(file=path.name, reason=f"there is no folder “{path.parent.name}”")
        self.path = path
        self.form = form
        self._temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
        self._random = np.random.default_rng(1)
        extra: dict[str, Any] = {"compression_level": codec.level} if codec else {}
        if form.container == "mp3":
            extra["bitrate_mode"] = "CONSTANT"
        try:
            self._file = soundfile.SoundFile(
                str(self._temporary),
                "w",
                samplerate=sample_rate_hz,
                channels=channels,
                format=codec.file_format if codec else form.container.upper(),
                subtype=codec.subtype if codec else f"PCM_{form.bit_depth}",
                **extra,
            )
        except (soundfile.LibsndfileError, OSError) as error:
            self._temporary.unlink(missing_ok=True)
            raise errors.UnsupportedOutput(file=path.name, reason=str(error)) from error
        if broadcast is not None and form.container == "wav":
            put(self._file, broadcast)

    def write(self, block: Block) -> None:
        """Append (frames, channels) float samples; quantised here and nowhere else."""
        if self.form.lossy:
            self._file.write(block)
            return
        full = 2.0 ** (self.form.bit_depth - 1)
        dither = self._random.random(block.shape) - self._random.random(block.shape)
        steps = np.floor(block.astype(np.float64) * full + np.where(block == 0.0, 0.0, dither) + 0.5)
        whole = np.clip(steps, -full, full - 1).astype(np.int64)
        shift = 32 - self.form.bit_depth
        self._file.write((whole << shift).astype(np.int32))

    def __enter__(self) -> "Sink":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._file.close()
        if kind is not None:
            self._temporary.unlink(missing_ok=True)
            return
        with self._temporary.open("rb+") as file:
            os.fsync(file.fileno())
        self._temporary.replace(self.path)


class WorkingFile:
    """A float file between two passes: 32-bit RF64, so that any length fits and every seek is exact."""

    def __init__(self, path: Path, *, sample_rate_hz: int, channels: int) -> None:
        self.path = path
        self.sample_rate_hz = sample_rate_hz
        self.channels = channels
        self._file = soundfile.SoundFile(
            str(path), "w", samplerate=sample_rate_hz, channels=channels, format="RF64", subtype="FLOAT"
        )

    def write(self, block: Block) -> None:
        self._file.write(block)

    def __enter__(self) -> "WorkingFile":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._file.close()


def write_working(path: Path, blocks: Iterable[Block], *, sample_rate_hz: int, channels: int) -> Path:
    """Write blocks (frames, channels) to a float working file and return its path."""
    with WorkingFile(path, sample_rate_hz=sample_rate_hz, channels=channels) as file:
        for block in blocks:
            file.write(block)
    return path


def read_span(path: Path, start: int, frames: int) -> NDArray[np.float32]:
    """Read up to `frames` samples from `start` of a file that seeks exactly: shape (frames, channels)."""
    with open_spans(path) as samples:
        return samples(start, frames)


@contextmanager
def open_spans(path: Path) -> Iterator[Callable[[int, int], NDArray[np.float32]]]:
    """A file that seeks exactly, from which many spans are read: (start, frames) → shape (frames, channels)."""
    with soundfile.SoundFile(str(path)) as file:

        def samples(start: int, frames: int) -> NDArray[np.float32]:
            file.seek(min(start, file.frames))
            return np.asarray(file.read(frames, dtype="float32", always_2d=True), dtype=np.float32)

        yield samples
