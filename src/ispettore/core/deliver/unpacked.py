"""Files of a package or an archive by their names in it: a folder, or a ZIP file whose files are unpacked one by one."""

import shutil
import tempfile
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO, Any

UNREADABLE = (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, EOFError)
"""What a damaged, locked or strangely compressed ZIP file raises."""
CHUNK = 1 << 20


def is_package(path: Path) -> bool:
    """Whether something can be a package: a folder, or a ZIP file."""
    return path.is_dir() or (path.is_file() and zipfile.is_zipfile(path))


class Unpacked:
    """`twice` are names that stand in it more than once; of these the last counts."""

    def __init__(
        self, names: dict[str, Any], open_: Callable[[Any], IO[bytes]], folder: Path | None, twice: tuple[str, ...] = ()
    ) -> None:
        self._names, self._open, self._folder, self.twice = names, open_, folder, twice

    @property
    def names(self) -> set[str]:
        return set(self._names)

    def read(self, name: str, largest: int) -> bytes | None:
        """A small file, or a little more of it than may be."""
        if name not in self._names:
            return None
        with self._open(self._names[name]) as file:
            return file.read(largest + 1)

    def pieces(self, name: str) -> Iterator[bytes]:
        """A file that is there, in pieces."""
        with self._open(self._names[name]) as file:
            while piece := file.read(CHUNK):
                yield piece

    def size(self, name: str) -> int:
        """How many bytes a file that is there says it has."""
        found = self._names[name]
        return int(found.stat().st_size if isinstance(found, Path) else found.file_size)

    @contextmanager
    def file(self, name: str) -> Iterator[Path | None]:
        """A file on this machine, for a while."""
        if name not in self._names:
            yield None
            return
        if isinstance(self._names[name], Path):
            yield self._names[name]
            return
        with tempfile.TemporaryDirectory(dir=self._folder) as held:
            path = Path(held) / "file"
            with self._open(self._names[name]) as file, path.open("wb") as out:
                shutil.copyfileobj(file, out, CHUNK)
            yield path


@contextmanager
def opened(path: Path, folder: Path | None) -> Iterator[Unpacked]:
    """A folder or ZIP file, whose files go into `folder` as they are asked for. Raises one of UNREADABLE, here or in reading."""
    if path.is_dir():
        files = {one.relative_to(path).as_posix(): one for one in path.rglob("*") if one.is_file()}
        yield Unpacked(files, lambda one: one.open("rb"), folder)
        return
    with zipfile.ZipFile(path) as zipped:
        members = [(PurePosixPath(info.filename).parts, info) for info in zipped.infolist() if not info.is_dir()]
        # All of it may lie in one folder.
        inside = len({parts[0] for parts, _ in members}) == 1 and all(len(parts) > 1 for parts, _ in members)
        named = [("/".join(parts[inside:]), info) for parts, info in members]
        twice = tuple(name for name, count in Counter(name for name, _ in named).items() if count > 1)
        yield Unpacked(dict(named), zipped.open, folder, twice)
