"""Writing open formats in blocks: lossless masters, encoded deliverables, float working files.

Every file is written under a temporary name beside its place, synced and renamed: a reader sees a whole file or none.
"""

import hashlib
import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, model_validator

from ispettore.core import errors
from ispettore.core.audio.broadcast import Broadcast, put
from ispettore.core.audio.formats import WRITABLE, FormatName, Writable, named_by
from ispettore.core.audio.mp3 import Mp3File
from ispettore.core.audio.reading import Block
from ispettore.core.figures import exact
from ispettore.core.text import shown_name

MP3_DEPTH = 16
"""Bits of the samples that the encoder takes: their dither lies 60 dB under what the encoder itself adds."""


class OutputFormat(BaseModel):
    """How a file is to be written: the name of a format in `WRITABLE`, and its depth or constant bit rate where it has one."""

    model_config = ConfigDict(frozen=True)

    container: FormatName
    bit_depth: int | None = None
    bit_rate_kbps: int | None = None

    @model_validator(mode="before")
    @classmethod
    def _usual(cls, data: Any) -> Any:
        """What is not said is as it usually is."""
        written = WRITABLE.get(data.get("container", "")) if isinstance(data, dict) else None
        if written is None:
            return data
        depth = data.get("bit_depth") or (written.depths[0] if written.depths else None)
        return {**data, "bit_depth": depth, "bit_rate_kbps": data.get("bit_rate_kbps") or written.usual_kbps}

    @model_validator(mode="after")
    def _writable(self) -> "OutputFormat":

        if self.bit_depth is not None and self.bit_depth not in self.written.depths:
            raise ValueError(f"{self.written.title} is not written with {self.bit_depth} bit")
        if self.bit_rate_kbps is not None and self.bit_rate_kbps not in self.written.bit_rates_kbps:
            raise ValueError(f"{self.written.title} is not written at {self.bit_rate_kbps} kbit/s")
        return self

    @property
    def written(self) -> Writable:
        """What is known of this format."""
        return WRITABLE[self.container]

    @property
    def lossy(self) -> bool:
        return self.written.lossy

    @property
    def file_container(self) -> str:
        """What the container of the written file is called in its facts."""
        return self.written.container

    @property
    def title(self) -> str:
        """As a person names it.

        >>> OutputFormat(container="mp3").title, OutputFormat(container="wav", bit_depth=16).title
        ('MP3, 192 kbit/s', 'WAV, 16 bit')
        """
        if self.bit_depth is not None:
            return f"{self.written.title}, {self.bit_depth} bit"
        return f"{self.written.title}, {self.bit_rate_kbps} kbit/s" if self.bit_rate_kbps is not None else self.written.title

    @property
    def quality(self) -> str:
        """What of it can be chosen.

        >>> OutputFormat(container="mp3").quality, OutputFormat(container="flac").quality, OutputFormat(container="opus").quality
        ('192 kbit/s', '24 bit', 'variable bit rate')
        """
        return self.title.removeprefix(self.written.title).removeprefix(", ") or "variable bit rate"

    def rate_for(self, sample_rate_hz: int) -> int:
        """The rate this format can be written at for sound of a rate: its own where that will do, else one no lower.

        >>> OutputFormat(container="opus").rate_for(44_100), OutputFormat(container="mp3").rate_for(22_050)
        (48000, 44100)
        """
        rates = self.written.rates_hz
        if not rates or sample_rate_hz in rates:
            return sample_rate_hz
        kin = [rate for rate in rates if rate >= sample_rate_hz and rate % sample_rate_hz == 0]
        if not kin and sample_rate_hz % 11_025 == 0 and 44_100 in rates:
            return 44_100
        return min(kin or [rate for rate in rates if rate >= sample_rate_hz] or [max(rates)])


def format_for(path: Path) -> OutputFormat:
    """The format a file name asks for. Raises UnsupportedOutput for endings nothing is written as."""
    name = named_by(path.suffix.lstrip("."))
    if name is not None:
        return OutputFormat(container=name)
    endings = [f".{ending}" for written in WRITABLE.values() for ending in written.endings]
    raise errors.UnsupportedOutput(file=shown_name(path), reason=f"its ending must be {', '.join(endings[:-1])} or {endings[-1]}")


def hidden_beside(path: Path, what: str) -> Path:
    """A name for a file on its way to `path`, in the same folder, never longer than a name may be."""
    known = hashlib.sha256(os.fsencode(path.name)).hexdigest()[:12]
    return path.with_name(f".ispettore-{known}-{os.getpid()}.{what}")


def quantised(block: Block, depth: int, random: np.random.Generator) -> NDArray[np.int64]:
    """Samples as whole steps of so many bits, with triangular dither (±1 step); what is silent stays silent."""
    full = 2.0 ** (depth - 1)
    drawn = random.random((*block.shape, 2))  # sample by sample, so that blocks of any size give the same
    dither = drawn[..., 0] - drawn[..., 1]
    steps = np.floor(block.astype(np.float64) * full + np.where(block == 0.0, 0.0, dither) + 0.5)
    return np.clip(steps, -full, full - 1).astype(np.int64)


class Sink:
    """One file being written. Used as a context; leaving it normally puts the file in place, any error leaves nothing.

    Lossless integer formats, and what an MP3 encoder takes, get triangular dither of ±1 LSB (TPDF; Lipshitz, Wannamaker and
    Vanderkooy, J. Audio Eng. Soc. 40(5), 1992) from a fixed seed, so that the same input gives the same file. Exact digital silence
    stays silent. A WAV file carries what `broadcast` states, where it is given.
    """

    def __init__(
        self, path: Path, *, sample_rate_hz: int, channels: int, form: OutputFormat, broadcast: Broadcast | None = None
    ) -> None:
        way = form.written
        if way.rates_hz and sample_rate_hz not in way.rates_hz:
            known = " or ".join(f"{exact(rate / 1000)}" for rate in way.rates_hz)
            raise errors.UnsupportedOutput(
                file=shown_name(path),
                reason=f"{way.title} is written at {known} kHz here, not at {exact(sample_rate_hz / 1000)} kHz",
            )
        if channels > way.most_channels:
            raise errors.UnsupportedOutput(
                file=shown_name(path), reason=f"{way.title} holds up to {way.most_channels} channels here, not {channels}"
            )
        if not path.parent.is_dir():
            raise errors.UnsupportedOutput(file=shown_name(path), reason=f"there is no folder “{shown_name(path.parent)}”")
        self.path = path
        self.form = form
        self._temporary = hidden_beside(path, "part")
        self._random = np.random.default_rng(1)
        self._file: soundfile.SoundFile | Mp3File
        try:
            if form.bit_rate_kbps is not None:
                self._file = Mp3File(
                    self._temporary, sample_rate_hz=sample_rate_hz, channels=channels, bit_rate_kbps=form.bit_rate_kbps
                )
                return
            self._file = opened = soundfile.SoundFile(
                os.fsencode(self._temporary),
                "w",
                samplerate=sample_rate_hz,
                channels=channels,
                format=way.file_format,
                subtype=way.subtype or f"PCM_{form.bit_depth}",
                **({"compression_level": way.level} if way.level is not None else {}),
            )
        except (soundfile.LibsndfileError, OSError) as error:
            self._temporary.unlink(missing_ok=True)
            raise errors.UnsupportedOutput(file=shown_name(path), reason=str(error)) from error
        if broadcast is not None and form.container == "wav":
            put(opened, broadcast)

    def write(self, block: Block) -> None:
        """Append (frames, channels) float samples; quantised here and nowhere else."""
        if isinstance(self._file, Mp3File):
            self._file.write(quantised(block, MP3_DEPTH, self._random).astype(np.int16))
        elif self.form.lossy:
            self._file.write(block)
        else:
            depth = self.form.bit_depth or 24
            self._file.write((quantised(block, depth, self._random) << (32 - depth)).astype(np.int32))

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
            os.fsencode(path), "w", samplerate=sample_rate_hz, channels=channels, format="RF64", subtype="FLOAT"
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


Samples = Callable[[int, int], NDArray[np.float32]]
"""(first frame, frames) → shape (frames, channels)."""


def spanned(path: Path) -> tuple[int, int]:
    """Of a file that seeks exactly the sample rate in Hz, and how many frames it has."""
    told = soundfile.info(os.fsencode(path))
    return int(told.samplerate), int(told.frames)


@contextmanager
def open_spans(path: Path) -> Iterator[Samples]:
    """A file that seeks exactly, from which many spans are read."""
    with soundfile.SoundFile(os.fsencode(path)) as file:

        def samples(start: int, frames: int) -> NDArray[np.float32]:
            if file.tell() != start:  # some decoders begin anew with every seek
                file.seek(min(start, file.frames))
            return np.asarray(file.read(frames, dtype="float32", always_2d=True), dtype=np.float32)

        yield samples
