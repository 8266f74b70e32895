"""Writing open formats in blocks: lossless masters, encoded deliverables, float working files.

Every file is written under a temporary name beside its place, synced and renamed: a reader sees a whole file or none.
"""

import os
from collections.abc import Iterable
from pathlib import Path
from types import TracebackType
from typing import Literal

import numpy as np
import soundfile
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core import errors
from ispettore.core.audio.reading import Block

Container = Literal["wav", "flac", "mp3"]
MP3_RATES_HZ = (32_000, 44_100, 48_000)
# soundfile's 0…1 "compression level" that gives each constant rate with MPEG 1 Layer III.
MP3_LEVEL = {192: 0.4}


class OutputFormat(BaseModel):
    """How a file is to be written."""

    model_config = ConfigDict(frozen=True)

    container: Container
    bit_depth: Literal[16, 24] = 24
    bit_rate_kbps: Literal[192] = 192

    @property
    def lossy(self) -> bool:
        return self.container == "mp3"

    @property
    def subtype(self) -> str:
        return "MPEG_LAYER_III" if self.lossy else f"PCM_{self.bit_depth}"


def format_for(path: Path) -> OutputFormat:
    """The format a file name asks for. Raises UnsupportedOutput for endings nothing is written as."""
    ending = path.suffix.lower().lstrip(".")
    if ending in ("wav", "flac", "mp3"):
        return OutputFormat.model_validate({"container": ending})
    raise errors.UnsupportedOutput(file=path.name, reason="its ending must be .wav, .flac or .mp3")


class Sink:
    """One file being written. Used as a context; leaving it normally puts the file in place, any error leaves nothing.

    Lossless integer formats get triangular dither of ±1 LSB (TPDF; Lipshitz, Wannamaker and Vanderkooy, J. Audio Eng. Soc. 40(5),
    1992) from a fixed seed, so that the same input gives the same file. Exact digital silence stays silent.
    """

    def __init__(self, path: Path, *, sample_rate_hz: int, channels: int, form: OutputFormat) -> None:
        if form.lossy and sample_rate_hz not in MP3_RATES_HZ:
            raise errors.UnsupportedOutput(
                file=path.name, reason=f"MP3 at 192 kbit/s needs 32, 44.1 or 48 kHz, not {sample_rate_hz / 1000:g} kHz"
            )
        if form.lossy and channels > 2:
            raise errors.UnsupportedOutput(file=path.name, reason=f"MP3 holds one or two channels, not {channels}")
        if not path.parent.is_dir():
            raise errors.UnsupportedOutput(file=path.name, reason=f"there is no folder “{path.parent.name}”")
        self.path = path
        self.form = form
        self._temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
        self._random = np.random.default_rng(1)
        extra = {"bitrate_mode": "CONSTANT", "compression_level": MP3_LEVEL[form.bit_rate_kbps]} if form.lossy else {}
        try:
            self._file = soundfile.SoundFile(
                str(self._temporary),
                "w",
                samplerate=sample_rate_hz,
                channels=channels,
                format=form.container.upper(),
                subtype=form.subtype,
                **extra,
            )
        except (soundfile.LibsndfileError, OSError) as error:
            self._temporary.unlink(missing_ok=True)
            raise errors.UnsupportedOutput(file=path.name, reason=str(error)) from error

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
    with soundfile.SoundFile(str(path)) as file:
        file.seek(min(start, file.frames))
        return np.asarray(file.read(frames, dtype="float32", always_2d=True), dtype=np.float32)
