"""What a child that takes foreign sound apart may reach: the files it was given, its own folder, and the program itself.

Linux's Landlock (landlock(7), since 5.13) takes everything else away for good, from the process and all it starts: other people's
recordings, the keys, the database's password, and from kernel 6.7 on every network. A fault in a decoder that somebody
uses to run code of their own then finds nothing to take and nobody to tell. Where the kernel has no Landlock nothing is taken
away, and `level()` says so.
"""

import ctypes
import os
import struct
import sys
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

from pydantic import BaseModel

from ispettore.core.kernels import cache_folder
from ispettore.studio.locations import PACKAGE

CREATE, ADD, RESTRICT = 444, 445, 446
"""The numbers of the system calls; the same on every architecture."""
ASK_VERSION, PATH_BENEATH = 1, 1
NO_NEW_PRIVILEGES = 38
EXECUTE, WRITE_FILE, READ_FILE, READ_DIR = 1 << 0, 1 << 1, 1 << 2, 1 << 3
FILES = (1 << 13) - 1
REFER, TRUNCATE, DEVICES = 1 << 13, 1 << 14, 1 << 15
NETWORK = 0b11
"""Rights over files that the first version knows, what later ones added, and binding and connecting (TCP)."""
PROGRAM = ("/usr", "/lib", "/lib64", "/bin", "/etc/ld.so.cache", "/etc/localtime", "/proc/self", "/proc/cpuinfo", "/proc/meminfo")
DEVICES_OPEN = ("/dev/null", "/dev/zero", "/dev/urandom", "/dev/shm")
MACHINE = ("/sys/devices/system", "/sys/fs/cgroup")
_libc = ctypes.CDLL(None, use_errno=True)


def level() -> int:
    """The version of Landlock that the kernel knows; 0 for none."""
    return max(0, int(_libc.syscall(CREATE, None, ctypes.c_size_t(0), ctypes.c_uint32(ASK_VERSION))))


def confine(*, read: Iterable[Path], write: Iterable[Path], compiles: bool = True) -> bool:
    """Take from this process, for good, whatever is not among these; whether it could be done.

    `read` are files and folders that may be read, `write` such as may be changed as well. The program itself can be read and run,
    and what it compiles can be kept, unless it `compiles` nothing. Raises OSError.
    """
    version = level()
    if version == 0:
        return False
    handled = FILES | (REFER if version >= 2 else 0) | (TRUNCATE if version >= 3 else 0) | (DEVICES if version >= 5 else 0)
    rules = _ruleset(handled, NETWORK if version >= 4 else 0)
    try:
        for path in _program():
            _allow(rules, path, READ_FILE | READ_DIR | EXECUTE)
        for path in read:
            _allow(rules, path, READ_FILE | READ_DIR)
        for path in (*write, *map(Path, DEVICES_OPEN), *([cache_folder()] if compiles else [])):
            _allow(rules, path, handled)
        if _libc.prctl(NO_NEW_PRIVILEGES, 1, 0, 0, 0) != 0:
            raise OSError(ctypes.get_errno(), "no new privileges")
        _called(RESTRICT, rules, 0)
    finally:
        os.close(rules)
    return True


def paths_in(model: BaseModel) -> Iterator[Path]:
    """The paths that a request names, however deep."""
    for name in type(model).model_fields:
        value = getattr(model, name)
        parts = value.values() if isinstance(value, dict) else value if isinstance(value, tuple | list) else (value,)
        for one in parts:
            if isinstance(one, Path):
                yield one
            elif isinstance(one, BaseModel):
                yield from paths_in(one)


def _program() -> Iterator[Path]:
    """Where the program and what it is made of lie."""
    own = {Path(place) for place in (*PROGRAM, *MACHINE, sys.prefix, sys.base_prefix, *sys.path) if place}
    yield from (path for path in {*own, PACKAGE} if path.exists())


def _ruleset(files: int, network: int) -> int:
    attributes = struct.pack("=QQ", files, network) if network else struct.pack("=Q", files)
    return _called(CREATE, attributes, len(attributes), 0)


def _allow(rules: int, path: Path, rights: int) -> None:
    """What is not there needs no right; over a file, rights over folders mean nothing and would be refused."""
    with suppress(FileNotFoundError):
        descriptor = os.open(path, os.O_PATH | os.O_CLOEXEC)
        try:
            if not path.is_dir():
                rights &= EXECUTE | WRITE_FILE | READ_FILE | TRUNCATE | DEVICES
            _called(ADD, rules, PATH_BENEATH, struct.pack("=Qi", rights, descriptor), 0)
        finally:
            os.close(descriptor)


def _called(number: int, *arguments: int | bytes) -> int:
    """A system call. Raises OSError."""
    given = [ctypes.c_char_p(one) if isinstance(one, bytes) else ctypes.c_size_t(one) for one in arguments]
    found = int(_libc.syscall(number, *given))
    if found < 0:
        raise OSError(ctypes.get_errno(), f"system call {number}")
    return found
