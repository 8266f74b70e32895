"""What was read once and never changes, held ready in this process: the last so many."""

from collections.abc import Callable, Hashable, Iterable
from itertools import islice
from threading import Lock
from typing import Generic, TypeVar

AT_ONCE = 200
"""So many are read in one go: what is read is larger than what is held of it."""


K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Held(Generic[K, V]):
    """Values by their keys, those asked for last kept. Threads may ask at once; then something may be read twice."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._there: dict[K, V] = {}
        self._lock = Lock()

    def of(self, keys: Iterable[K], read: Callable[[list[K]], dict[K, V]]) -> dict[K, V]:
        """The values of `keys`; `read` gets those that are missing, some at a time. What it does not find is left out."""
        wanted = dict.fromkeys(keys)
        with self._lock:
            found = {key: self._there.pop(key) for key in wanted if key in self._there}
        missing = iter([key for key in wanted if key not in found])
        while some := list(islice(missing, AT_ONCE)):
            found |= read(some)
        with self._lock:
            self._there |= found  # those asked for last stand last
            for oldest in list(islice(self._there, max(0, len(self._there) - self.most))):
                del self._there[oldest]
        return found
