"""What was worked out of a sound and lies in the store beside it: where a disk lost it, it is worked out once more."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from uuid import UUID

from ispettore.core.errors import ContentChanged
from ispettore.studio.catalogue import recordings
from ispettore.studio.errors import NotReady
from ispettore.studio.store.blobs import NotInStore


@dataclass(frozen=True)
class Drawn:
    """A blob that was worked out of a sound, what it is called, and the recording that it can be worked out of once more."""

    sha256: str
    name: str
    recording: UUID | None = None

    @contextmanager
    def whole(self) -> Iterator[None]:
        """While it is read: where it turns out lost or damaged, the recording is measured once more. Raises NotReady; else
        NotInStore and ContentChanged."""
        try:
            yield
        except (NotInStore, ContentChanged):
            if self.recording is None:
                raise
            recordings.inspect_again(self.recording)
            raise NotReady(file=self.name, reason="is measured once more, as the disk lost its picture") from None
