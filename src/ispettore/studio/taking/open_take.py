"""A take that somebody records just now: sound is appended to its file, and counts once it lies on the disk."""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path, PurePath
from threading import RLock

from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.cues import Mark
from ispettore.core.audio.growing_wav import SAMPLE_BYTES, GrowingWav
from ispettore.core.certify.certificate import issuer
from ispettore.studio.errors import NotFound
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.taking import places
from ispettore.studio.taking.errors import SoundMissing, TakeElsewhere, TakeOtherwise, TakeTooLong
from ispettore.studio.taking.places import TakeFacts, TakeMark

_open: dict[str, "OpenTake"] = {}
opening = RLock()
"""Held while a take is opened, closed, finished or removed, always before the lock of one: each of these is done alone."""


class OpenTake:
    """One of them; whoever opens it anew takes it over from whoever had it."""

    def __init__(self, wanted: TakeFacts, *, begin: bool) -> None:
        """Begin a take, or go on with one. Raises NotFound, TakeOtherwise, NoRoomLeft and StoreReadOnly."""
        self.id, self._lock, self._over = wanted.id, RLock(), False
        path = places.sound(wanted.id)
        with opening, disk.in_words(wanted.name):
            if (before := _open.get(wanted.id)) is not None:
                before.close()
            if begin and not path.exists():
                places.note(wanted)
                stated = Broadcast(description=PurePath(wanted.name).stem, originator=issuer(), written_at=wanted.begun_at)
                make = {"sample_rate_hz": wanted.sample_rate_hz, "channels": wanted.channels}
                self._wav = GrowingWav.create(path, **make, stated=stated)
            elif path.exists():
                self._wav = GrowingWav(path)
            else:
                raise NotFound(what="take")
            self.facts = places.facts(wanted.id)
            if (self._wav.sample_rate_hz, self._wav.channels) != (wanted.sample_rate_hz, wanted.channels):
                self._wav.close()
                raise TakeOtherwise(file=self.facts.name, sample_rate_hz=self.facts.sample_rate_hz)
            _open[wanted.id] = self

    @property
    def frames(self) -> int:
        """How many are kept, whatever happens."""
        return self._wav.frames

    def append(self, first: int, samples: bytes) -> None:
        """Sound from a frame on; what is there already is not added again. Raises SoundMissing, TakeTooLong, TakeElsewhere,
        NoRoomLeft and StoreReadOnly."""
        with self._held():
            if first > self._wav.appended:
                raise SoundMissing(file=self.facts.name, at_s=self._wav.appended / self._wav.sample_rate_hz)
            fresh = samples[(self._wav.appended - first) * self._wav.channels * SAMPLE_BYTES :]
            if self._bytes + len(fresh) > settings().largest_upload_bytes:
                raise TakeTooLong(file=self.facts.name, hours=self._wav.appended / self._wav.sample_rate_hz / 3600)
            if fresh:
                self._wav.append(fresh)

    @property
    def _bytes(self) -> int:
        return self._wav.appended * self._wav.channels * SAMPLE_BYTES

    def sync(self) -> int:
        """How many frames are kept now. Raises as `append` does."""
        with self._held():
            return self._wav.sync()

    def mark(self, marks: Iterable[TakeMark]) -> None:
        """All marks that were set so far. Raises as `append` does."""
        with self._held():
            self.facts = self.facts.model_copy(update={"marks": tuple(sorted(marks, key=lambda mark: mark.frame))})
            places.note(self.facts)

    def finish(self, target: Path) -> None:
        """Promise all that came, with its marks behind it, close it, and move its file away before anybody else can open it. Raises
        as `append` does."""
        with opening, self._held():
            rate = self._wav.sample_rate_hz
            self._wav.finish([Mark(mark.frame / rate, mark.text) for mark in self.facts.marks])
            self.close()
            places.sound(self.id).replace(target)

    def close(self) -> None:
        """Let go of the file; what came and was not promised yet is, if it can be."""
        with opening, self._lock:
            if self._over:
                return
            self._over = True
            if _open.get(self.id) is self:
                del _open[self.id]
            try:
                self._wav.sync()
            finally:
                self._wav.close()

    @contextmanager
    def _held(self) -> Iterator[None]:
        """While one thread writes."""
        with self._lock, disk.in_words(self.facts.name):
            if self._over:
                raise TakeElsewhere(file=self.facts.name)
            yield


def is_open(identifier: str) -> bool:
    """Whether somebody records it just now."""
    return identifier in _open
