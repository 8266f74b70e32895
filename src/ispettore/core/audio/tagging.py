"""Writing titles, names and a cover into a finished file; the sound in it stays as it is to the bit (mutagen writes them).

Each format says it in its own way: ID3v2.4 in MP3, and in the ID3 chunk of WAV and AIFF that players read; Vorbis comments in FLAC,
Ogg Vorbis and Opus; in WAV besides the INFO list and the broadcast extension (EBU Tech 3285).
"""

import base64
from collections.abc import Callable
from pathlib import Path
from typing import Any

from mutagen import MutagenError, id3
from mutagen.aiff import AIFF
from mutagen.flac import FLAC, Picture
from mutagen.mp3 import MP3
from mutagen.oggopus import OggOpus
from mutagen.oggvorbis import OggVorbis
from mutagen.wave import WAVE
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio import broadcast, info
from ispettore.core.audio.cover import Cover
from ispettore.core.audio.formats import FormatName
from ispettore.core.errors import IspettoreError

FRONT = 3
"""The picture type of a front cover (ID3v2.4.0 frames, 4.14)."""
UTF_8 = 3


class NotTagged(IspettoreError):
    """The tags of “{file}” can't be written: {reason}. Nothing was delivered of it; change the tags or the format and try again."""

    file: str
    reason: str


class Tags(BaseModel):
    """What a file says of itself; what is empty is not written. `language` is its code by ISO 639-2 ("eng"); `year` has four
    digits."""

    model_config = ConfigDict(frozen=True)

    title: str = ""
    album: str = ""
    track: int | None = None
    narrator: str = ""
    author: str = ""
    publisher: str = ""
    year: str = ""
    language: str = ""


def write(path: Path, container: FormatName, tags: Tags, cover: Cover | None, *, name: str) -> None:
    """Write tags and cover into a file that has none yet; `path` has to be a copy of one's own. Raises NotTagged."""
    try:
        _WRITE[container](path, tags, cover)
    except (MutagenError, ValueError, OSError) as error:
        raise NotTagged(file=name, reason=str(error) or type(error).__name__) from error


def _track(tags: Tags) -> str:
    return "" if tags.track is None else str(tags.track)


def _frames(tags: Tags) -> list[Any]:
    """As ID3v2.4.0 frames (4.2): the narrator is the lead performer, the author the writer; players sort albums by the second
    performer, who is the author, or the narrator where no author is named."""
    told = (
        (id3.TIT2, tags.title),
        (id3.TALB, tags.album),
        (id3.TRCK, _track(tags)),
        (id3.TPE1, tags.narrator),
        (id3.TPE2, tags.author or tags.narrator),
        (id3.TEXT, tags.author),
        (id3.TPUB, tags.publisher),
        (id3.TDRC, tags.year),
        (id3.TLAN, tags.language),
    )
    return [frame(encoding=UTF_8, text=[text]) for frame, text in told if text]


def _id3(kind: Callable[[Path], Any]) -> Callable[[Path, Tags, Cover | None], None]:
    def write_frames(path: Path, tags: Tags, cover: Cover | None) -> None:
        file = kind(path)
        if file.tags is None:
            file.add_tags()
        for frame in _frames(tags):
            file.tags.add(frame)
        if cover is not None:
            picture = id3.APIC(encoding=UTF_8, mime=cover.kind, type=FRONT, desc="", data=cover.content)
            file.tags.add(picture)
        file.save(v2_version=4)

    return write_frames


def _wav(path: Path, tags: Tags, cover: Cover | None) -> None:
    broadcast.retell(path, description=" - ".join(filter(None, (tags.album, tags.title))), originator=tags.publisher or "Ispettore")
    told = {
        "title": tags.title,
        "album": tags.album,
        "track": _track(tags),
        "artist": tags.narrator,
        "date": tags.year,
        "language": tags.language,
    }
    if any(told.values()):
        info.write(path, {word: text for word, text in told.items() if text})
    _id3(WAVE)(path, tags, cover)


def _comments(tags: Tags) -> dict[str, str]:
    """As Vorbis comments, by the names of the comment header specification and those that players read besides."""
    told = {
        "TITLE": tags.title,
        "ALBUM": tags.album,
        "TRACKNUMBER": _track(tags),
        "ARTIST": tags.narrator,
        "PERFORMER": tags.narrator,
        "ALBUMARTIST": tags.author or tags.narrator,
        "AUTHOR": tags.author,
        "ORGANIZATION": tags.publisher,
        "DATE": tags.year,
        "LANGUAGE": tags.language,
    }
    return {name: text for name, text in told.items() if text}


def _picture(cover: Cover) -> Picture:
    picture = Picture()
    picture.type, picture.mime, picture.data = FRONT, cover.kind, cover.content
    picture.width, picture.height, picture.depth = cover.width, cover.height, 24
    return picture


def _flac(path: Path, tags: Tags, cover: Cover | None) -> None:
    file = FLAC(path)
    file.update(_comments(tags))
    if cover is not None:
        file.add_picture(_picture(cover))
    file.save()


def _ogg(kind: Callable[[Path], Any]) -> Callable[[Path, Tags, Cover | None], None]:
    def write_comments(path: Path, tags: Tags, cover: Cover | None) -> None:
        file = kind(path)
        file.update(_comments(tags))
        if cover is not None:
            file["METADATA_BLOCK_PICTURE"] = base64.b64encode(_picture(cover).write()).decode("ascii")
        file.save()

    return write_comments


_WRITE: dict[FormatName, Callable[[Path, Tags, Cover | None], None]] = {
    "mp3": _id3(MP3),
    "wav": _wav,
    "aiff": _id3(AIFF),
    "flac": _flac,
    "ogg": _ogg(OggVorbis),
    "opus": _ogg(OggOpus),
}
