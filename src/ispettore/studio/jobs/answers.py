"""What comes back from a child, read without trusting it.

A child takes foreign sound apart. Should somebody run code of their own in it, its answer must not run any here, where keys can be
read: of a pickle only values are taken, models and errors of our own and a few plain types, and nothing that is called.
"""

import dataclasses
import enum
import io
import pickle
import sys
from typing import Any

from pydantic import BaseModel

from ispettore.core import errors

PLAIN = frozenset(
    {
        ("builtins", "RuntimeError"),
        ("builtins", "set"),
        ("builtins", "frozenset"),
        ("datetime", "datetime"),
        ("datetime", "timezone"),
        ("datetime", "timedelta"),
        ("pydantic_core._pydantic_core", "TzInfo"),
        ("pathlib", "PosixPath"),
        ("uuid", "UUID"),
        ("uuid", "SafeUUID"),
        ("numpy", "ndarray"),
        ("numpy", "dtype"),
        ("numpy._core.multiarray", "_reconstruct"),
        ("numpy._core.multiarray", "scalar"),
        ("numpy._core.numeric", "_frombuffer"),
        (errors._rebuild.__module__, errors._rebuild.__name__),
    }
)


class _Reader(pickle.Unpickler):
    def find_class(self, module: str, name: str) -> Any:
        if (module, name) not in PLAIN and module not in sys.modules:
            raise pickle.UnpicklingError(f"{module}.{name} is no part of an answer")
        found = super().find_class(module, name)
        if (module, name) not in PLAIN and not _is_value(found):
            raise pickle.UnpicklingError(f"{module}.{name} is no part of an answer")
        return found


def _is_value(found: Any) -> bool:
    """Whether something is a kind of value: making one runs nothing but its own checks."""
    if not isinstance(found, type):
        return False
    return issubclass(found, BaseModel | errors.IspettoreError | enum.Enum) or dataclasses.is_dataclass(found)


def read(content: bytes) -> Any:
    """Raises pickle.UnpicklingError for what is no answer."""
    return _Reader(io.BytesIO(content)).load()
