"""What a file says about itself, recognised by its content and never by its name."""

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, field_validator

from ispettore.core.text import cleaned

LOSSY_CODECS = frozenset({"mp3", "vorbis", "opus"})
CONSTANT_CODECS = frozenset({"pcm", "pcm-float", "u-law", "a-law"})
"""Every sample takes as many bits as the next."""

CONTAINERS = {
    "WAV": "wav",
    "WAVEX": "wav",
    "RF64": "rf64",
    "W64": "w64",
    "FLAC": "flac",
    "MP3": "mp3",
    "MPEG": "mp3",
    "AIFF": "aiff",
    "CAF": "caf",
    "OGG": "ogg",
}
CODECS = {
    "PCM_S8": ("pcm", 8),
    "PCM_U8": ("pcm", 8),
    "PCM_16": ("pcm", 16),
    "PCM_24": ("pcm", 24),
    "PCM_32": ("pcm", 32),
    "FLOAT": ("pcm-float", 32),
    "DOUBLE": ("pcm-float", 64),
    "VORBIS": ("vorbis", None),
    "OPUS": ("opus", None),
    "MPEG_LAYER_III": ("mp3", None),
    "MPEG_LAYER_II": ("mp2", None),
    "MPEG_LAYER_I": ("mp1", None),
    "ULAW": ("u-law", 8),
    "ALAW": ("a-law", 8),
    "ALAC_16": ("alac", 16),
    "ALAC_20": ("alac", 20),
    "ALAC_24": ("alac", 24),
    "ALAC_32": ("alac", 32),
}


def parted(text: str) -> tuple[str, ...]:
    """The values in one text of a tag, which null characters part (ID3v2.4, 4.2), without what no text may hold.

    >>> parted("Ada Quill\\0Tom Weir")
    ('Ada Quill', 'Tom Weir')
    """
    return tuple(clean for part in text.split("\0") if (clean := cleaned(part)))


class FileFacts(BaseModel):
    """Facts of one file. `frames` counts what was really decoded once the whole file has been read.

    `channel_relation` is known once it was measured: one, identical, silent (one of them), inverted or different.
    """

    model_config = ConfigDict(frozen=True)

    container: str
    codec: str
    sample_rate_hz: int
    bit_depth: int | None
    channels: int
    frames: int
    duration_s: float
    bit_rate_kbps: float | None
    bit_rate_constant: bool | None
    size_bytes: int
    channel_relation: str | None = None
    tags: dict[str, tuple[str, ...]] = {}

    @field_validator("tags", mode="before")
    @classmethod
    def _lists(cls, tags: Any) -> Any:
        """Facts from before a tag could have several values hold each as one text, with null characters between them."""
        if not isinstance(tags, dict):
            return tags
        return {name: parted(values) if isinstance(values, str) else values for name, values in tags.items()}

    def tag(self, name: str) -> str:
        """A tag's values as one text; empty where the file has no such tag."""
        return "; ".join(self.tags.get(name, ()))

    @property
    def seeks_exactly(self) -> bool:
        """Whether a position in the file can be gone to without an error: not in variable MP3, nor in Vorbis."""
        return not self.lossy or self.codec == "opus" or (self.codec == "mp3" and self.bit_rate_constant is True)

    @property
    def lossy(self) -> bool:
        return self.codec in LOSSY_CODECS


def recognise(head: bytes) -> str | None:
    """Name the container a file starts with, or None. `head` is its first few hundred bytes.

    >>> recognise(b"RIFF\\x00\\x00\\x00\\x00WAVEfmt ")
    'wav'
    >>> recognise(b"Dear listener,") is None
    True
    """
    if head[:4] == b"RIFF" and head[8:12] == b"WAVE":
        return "wav"
    if head[:4] == b"RF64" and head[8:12] == b"WAVE":
        return "rf64"
    if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        return "aiff"
    for magic, name in (
        (b"fLaC", "flac"),
        (b"OggS", "ogg"),
        (b"caff", "caf"),
        (b"ID3", "mp3"),
        (b"riff\x2e\x91", "w64"),
    ):
        if head.startswith(magic):
            return name
    if len(head) >= 4 and head[0] == 0xFF and head[1] & 0xE0 == 0xE0 and head[1] & 0x06 == 0x02 and head[2] & 0xF0 != 0xF0:
        return "mp3"
    return None


def sha256_of(path: Path, *, given_up: Callable[[], bool] = lambda: False) -> str:
    """SHA-256 of a file's bytes, as lower-case hexadecimal; of no use once it is `given_up`, which is asked at every megabyte."""
    digest, piece = hashlib.sha256(), memoryview(bytearray(1 << 20))
    with path.open("rb", buffering=0) as file:
        while (size := file.readinto(piece)) and not given_up():
            digest.update(piece[:size])
    return digest.hexdigest()
