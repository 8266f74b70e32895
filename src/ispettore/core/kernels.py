"""One door to the compiler for numerical kernels.

A cached kernel keeps the code of a callee in another file even after that file was edited, so the cache lives in a folder named
by a hash of every source that holds kernels: edited code never meets old machine code.
"""

import functools
import hashlib
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar, cast

Function = TypeVar("Function", bound=Callable[..., Any])


def kernel_sources() -> list[Path]:
    """Every core source that holds a kernel, in a fixed order."""
    root = Path(__file__).parent
    return [path for path in sorted(root.rglob("*.py")) if "@kernel" in path.read_text(encoding="utf-8")]


@functools.cache
def cache_folder() -> Path:
    """Where machine code for exactly these sources is kept (`ISPETTORE_CACHE`, else the user's cache folder)."""
    digest = hashlib.sha256()
    for path in kernel_sources():
        digest.update(path.read_bytes())
    home = os.environ.get("ISPETTORE_CACHE") or Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "ispettore"
    return Path(home) / "kernels" / digest.hexdigest()[:16]


_one_at_a_time = threading.Lock()


class _Lazy:
    """Compiles at the first call: who only reads typed data need not load the compiler."""

    def __init__(self, function: Callable[..., Any]) -> None:
        functools.update_wrapper(self, function)
        self._function = function
        self._compiled: Callable[..., Any] | None = None

    def __call__(self, *arguments: Any) -> Any:
        if self._compiled is None:
            with _one_at_a_time:
                self._compiled = self._compiled or _compile(self._function)
        return self._compiled(*arguments)


def larger(first: Any, second: Any) -> Any:
    """The larger of two floats of one type, neither of them NaN. In a kernel's loop over samples this keeps to the vector units,
    which `max` does not: three times as fast.

    >>> larger(0.5, 0.25)
    0.5
    """
    return first if first > second else second


@functools.cache
def _teach() -> None:
    """Tell the compiler that `larger` never sees NaN nor minds the sign of zero; without that it compares one by one."""
    from numba.core import types
    from numba.extending import intrinsic, overload

    sure = ("nnan", "nsz")

    @intrinsic
    def chosen(_typing: Any, first: Any, second: Any) -> Any:
        def build(_context: Any, builder: Any, _signature: Any, values: Any) -> Any:
            return builder.select(builder.fcmp_ordered(">", *values, flags=sure), *values, flags=sure)

        return first(first, second), build

    @overload(larger, inline="always")
    def _larger(first: Any, second: Any) -> Any:
        def of_floats(first: Any, second: Any) -> Any:
            return chosen(first, second)  # type: ignore[call-arg]

        return of_floats if isinstance(first, types.Float) and first == second else None


def _compile(function: Callable[..., Any]) -> Callable[..., Any]:
    os.environ["NUMBA_CACHE_DIR"] = str(cache_folder())
    import numba

    _teach()

    numba.config.CACHE_DIR = os.environ["NUMBA_CACHE_DIR"]  # type: ignore[attr-defined]
    compiled: Callable[..., Any] = numba.njit(
        cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "contract", "nsz", "nnan"}
    )(function)
    return compiled


def kernel(function: Function) -> Function:
    """Compile a pure function over arrays; sums may be reordered so that they use the processor's vector units.

    Samples are never NaN (the reader refuses them), so maxima may be vectors too, where they are written as `larger`.

    A kernel calls no other kernel.
    """
    return cast(Function, _Lazy(function))
