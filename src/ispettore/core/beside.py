"""What goes on beside other work: decoding, hashing and kernels leave the interpreter to others, so a second core can take them."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future
from typing import Generic, TypeVar

Item = TypeVar("Item")


def ahead(items: Iterable[Item], beside: Executor) -> Iterator[Item]:
    """The same items; while one is used the next one is made beside it. An error comes where its item would have come.

    >>> from concurrent.futures import ThreadPoolExecutor
    >>> with ThreadPoolExecutor(1) as beside:
    ...     list(ahead(range(3), beside))
    [0, 1, 2]
    """
    source = iter(items)
    end = object()

    def following() -> object:
        return next(source, end)

    waiting = beside.submit(following)
    while (item := waiting.result()) is not end:
        waiting = beside.submit(following)
        yield item  # type: ignore[misc]


def both(first: Callable[[], object], second: Callable[[], object], beside: Executor | None) -> None:
    """Do both, the second beside the first where there is a place for it; what neither can do is raised when both have ended."""
    if beside is None:
        first()
        second()
        return
    waiting = beside.submit(second)
    try:
        first()
    finally:
        waiting.result()


class Behind(Generic[Item]):
    """Uses each item beside, one after another, while the next is made; no more than a few wait. What goes wrong is raised with a
    later item, or when all are waited for.

    >>> from concurrent.futures import ThreadPoolExecutor
    >>> with ThreadPoolExecutor(1) as beside:
    ...     used = []
    ...     behind = Behind(used.append, beside)
    ...     for item in range(3):
    ...         behind(item)
    ...     behind.wait()
    ...     used
    [0, 1, 2]
    """

    def __init__(self, use: Callable[[Item], object], beside: Executor, *, most: int = 4) -> None:
        self._use, self._beside, self._most = use, beside, most
        self._waiting: deque[Future[object]] = deque()

    def __call__(self, item: Item) -> None:
        self._waiting.append(self._beside.submit(self._use, item))
        while len(self._waiting) > self._most:
            self._waiting.popleft().result()

    def wait(self) -> None:
        while self._waiting:
            self._waiting.popleft().result()
