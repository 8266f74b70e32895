"""One door to the compiler for numerical kernels.

A cached kernel keeps the code of a callee in another file even after that file was edited, so the cache lives in a folder named
by a hash of every source that holds kernels: edited code never meets old machine code.
"""

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

Function = TypeVar("Function", bound=Callable[..., Any])


def kernel_sources() -> list[Path]:
    """Every core source that holds a kernel, in a fixed order."""
    root = Path(__file__).parent
    return [path for path in sorted(root.rglob("*.py")) if "@kernel" in path.read_text(encoding="utf-8")]


def cache_folder() -> Path:
    """Where machine code for exactly these sources is kept (`ISPETTORE_CACHE`, else the user's cache folder)."""
    digest = hashlib.sha256()
    for path in kernel_sources():
        digest.update(path.read_bytes())
    home = os.environ.get("ISPETTORE_CACHE") or Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "ispettore"
    return Path(home) / "kernels" / digest.hexdigest()[:16]


os.environ["NUMBA_CACHE_DIR"] = str(cache_folder())

import numba  # noqa: E402

numba.config.CACHE_DIR = os.environ["NUMBA_CACHE_DIR"]  # type: ignore[attr-defined]


def kernel(function: Function) -> Function:
    """Compile a pure function over arrays; sums may be reordered so that they use the processor's vector units."""
    compile_it: Any = numba.njit(cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "contract", "nsz"})
    compiled: Function = compile_it(function)
    return compiled
