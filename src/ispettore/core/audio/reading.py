"""Reading a recording in blocks, any format the same way.

Lossy sources must never be sought in (the decoder's seeks are inexact): `Source` reads strictly forwards. What needs to go back
works on a float working file, which is PCM and seeks exactly.
"""

import os
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

import numpy as np
import soundfile
from numpy.typing import NDArray

from ispettore.core import errors
from ispettore.core.audio import mpeg_frames
from ispettore.core.audio.facts import CODECS, CONSTANT_CODECS, CONTAINERS, FileFacts, recognise
from ispettore.core.text import shown_name

BLOCK_FRAMES = 65_536
FLAC_FRAMES = 4_096
LONGEST_S = 48 * 3600
"""Whatever a header says: silence packs to next to nothing, and what is worked on is kept as samples."""
Block = NDArray[np.float32]


class _Forward(soundfile.SoundFile):  # type: ignore[misc]
    """A sound file that is never sought in: soundfile seeks after every read of a seekable file, which spoils MP3."""

    def seekable(self) -> bool:
        return False


class Source:
    """One open recording. Iterate `blocks()` once, then `facts` tells what was really there.

    >>> with Source(path) as source:                                        # doctest: +SKIP
    ...     for block in source.blocks():
    ...         print(block.shape)   # (frames, channels), float32, full scale 1.0

    Raises FileMissing, FileUnreadable, FileEmpty, NotAudio, NoSamples, TooManyChannels or RateOutOfRange when it is opened, and
    BadSamples or TooLong while it is read.
    """

    def __init__(self, path: Path, *, name: str | None = None) -> None:
        self.path = path
        self.name = name or shown_name(path)
        container = self._recognised()
        try:
            self._file = _Forward(os.fsencode(path))
        except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
            raise NotAudio(self.name, container, error) from error
        self.sample_rate_hz: int = self._file.samplerate
        self.channels: int = self._file.channels
        self.claimed_frames = int(self._file.frames)
        self.frames_read = 0
        self.broken_off: str | None = None
        self._container = CONTAINERS.get(self._file.format, self._file.format.lower())
        self._codec, self._depth = CODECS.get(self._file.subtype, (self._file.subtype.lower().replace("_", "-"), None))
        if self._container == "flac":
            self._codec = "flac"
        problem = self._unfit()
        if problem is not None:
            self._file.close()
            raise problem

    def _recognised(self) -> str | None:
        if not self.path.exists():
            raise errors.FileMissing(file=self.name)
        if not self.path.is_file():
            raise errors.FileUnreadable(file=self.name, reason="it is a folder")
        try:
            with self.path.open("rb") as file:
                head = file.read(512)
        except OSError as error:
            raise errors.FileUnreadable(file=self.name, reason=error.strerror or str(error)) from error
        if not head:
            raise errors.FileEmpty(file=self.name)
        return recognise(head)

    def _unfit(self) -> errors.IspettoreError | None:
        if not 8_000 <= self.sample_rate_hz <= 192_000:
            return errors.RateOutOfRange(file=self.name, rate=self.sample_rate_hz)
        if not 1 <= self.channels <= 6:
            return errors.TooManyChannels(file=self.name, channels=self.channels)
        if self.claimed_frames == 0:
            return errors.NoSamples(file=self.name, container=self._container.upper())
        return None

    def __enter__(self) -> "Source":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._file.close()

    def blocks(self, frames: int = BLOCK_FRAMES) -> Iterator[Block]:
        """Yield the recording as arrays of shape (at most `frames`, channels), float32, full scale 1.0.

        The array is reused: copy what must outlive the step. A file that breaks off in mid-stream yields what could be decoded;
        `broken_off` then says why.
        """
        buffer = np.empty((frames, self.channels), dtype=np.float32)
        while True:
            block = self._fill(buffer)
            if len(block) == 0:
                break
            if not np.isfinite(np.dot(block.ravel(), block.ravel())):
                self._refuse_bad(block)
            self.frames_read += len(block)
            if self.frames_read > LONGEST_S * self.sample_rate_hz:
                raise errors.TooLong(file=self.name, hours=LONGEST_S // 3600)
            yield block
            if self.broken_off is not None:
                break
        if self.frames_read == 0:
            raise errors.NoSamples(file=self.name, container=self._container.upper())
        if self.broken_off is None and self._short():
            missing = (self.claimed_frames - self.frames_read) / self.sample_rate_hz
            self.broken_off = f"the header promises {missing:.2f} s more than the file holds"

    def _fill(self, buffer: Block) -> Block:
        """The next block. FLAC is read frame by frame, as a broken one loses all of the read in which it breaks."""
        step = FLAC_FRAMES if self._container == "flac" else len(buffer)
        filled = 0
        while filled < len(buffer):
            try:
                got = len(self._file.read(out=buffer[filled : filled + step]))
            except (soundfile.LibsndfileError, RuntimeError) as error:
                self.broken_off = _plain(error)
                break
            filled += got
            if got == 0:
                break
        return buffer[:filled]

    def _short(self) -> bool:
        # An MP3 header may count a last frame that the decoder drops as padding.
        slack = 2_400 if self._codec == "mp3" else 0
        return self.claimed_frames < 2**62 and self.frames_read + slack < self.claimed_frames

    def _refuse_bad(self, block: Block) -> None:
        bad = np.flatnonzero(~np.isfinite(block).all(axis=1))
        if len(bad):
            at_s = (self.frames_read + int(bad[0])) / self.sample_rate_hz
            raise errors.BadSamples(file=self.name, at_s=at_s)

    @property
    def bit_depth(self) -> int | None:
        """Bits a sample, None where the codec has none."""
        depth: int | None = self._depth
        return depth

    @property
    def facts(self) -> FileFacts:
        """Facts of the file; frames and duration count what was decoded so far once reading began."""
        frames = self.frames_read or self.claimed_frames
        size = self.path.stat().st_size
        duration = frames / self.sample_rate_hz
        kbps, constant = self._bit_rate(size, duration)
        return FileFacts(
            container=self._container,
            codec=self._codec,
            sample_rate_hz=self.sample_rate_hz,
            bit_depth=self._depth,
            channels=self.channels,
            frames=frames,
            duration_s=duration,
            bit_rate_kbps=kbps,
            bit_rate_constant=constant,
            size_bytes=size,
        )

    def _bit_rate(self, size: int, duration_s: float) -> tuple[float | None, bool | None]:
        if self._codec == "mp3":
            return mpeg_frames.bit_rate(self.path) or (None, None)
        if self._codec in CONSTANT_CODECS and self._depth is not None:
            return self._depth * self.channels * self.sample_rate_hz / 1000, True
        return (size * 8 / duration_s / 1000, False) if duration_s > 0 else (None, None)


def NotAudio(name: str, container: str | None, error: Exception) -> errors.IspettoreError:  # noqa: N802 - reads as the error it makes
    """The error for a file the decoder refused, in words that fit what the file starts with."""
    if container is None:
        return errors.NotAudio(file=name, reason="its first bytes belong to no audio format")
    return errors.NotAudio(file=name, reason=f"it starts like {container.upper()}, but then {_plain(error)}")


def _plain(error: Exception) -> str:
    text = str(error).split(": ")[-1].strip().rstrip(".")
    return text[:1].lower() + text[1:] if text else "the decoder gave up"


def read_all(path: Path) -> tuple[Block, int]:
    """A whole short file as one array (frames, channels) and its rate in Hz. For excerpts and tests, not for long recordings."""
    with Source(path) as source:
        return np.concatenate([block.copy() for block in source.blocks()]), source.sample_rate_hz
