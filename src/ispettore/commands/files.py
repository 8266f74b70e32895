"""Files and folders as commands take them: each by itself, and one that fails takes nothing from the others."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

import typer
from natsort import natsorted, ns

from ispettore.core.audio.formats import SOUND
from ispettore.core.errors import IspettoreError

FAILED = 2


class NothingInFolder(IspettoreError):
    """There is no {what} in the folder “{file}”. Name files, or another folder."""

    what: str
    file: str


class FolderNeeded(IspettoreError):
    """Several files need a folder to go to, and “{file}” is not one. Name a folder; it is made if need be."""

    file: str


class SameName(IspettoreError):
    """“{file}” and another file would both become “{name}”. Give one of them another name, or a folder of its own."""

    file: str
    name: str


def found(paths: Iterable[Path], endings: frozenset[str] = SOUND, *, what: str = "recording") -> list[Path]:
    """Files as they are named, and those of folders, below them too, in the order of their names. Raises NothingInFolder."""
    return [file for path in paths for file in (_within(path, endings, what) if path.is_dir() else [path])]


def several(paths: Sequence[Path], files: Sequence[Path]) -> bool:
    """Whether what was named is more than one file: then results go to a folder, and JSON is a list."""
    return len(files) > 1 or any(path.is_dir() for path in paths)


def _within(folder: Path, endings: frozenset[str], what: str) -> list[Path]:
    there = [path for path in folder.rglob("*") if path.suffix.lower() in endings and path.is_file() and not _hidden(path, folder)]
    if not there:
        raise NothingInFolder(what=what, file=str(folder))
    return natsorted(there, key=str, alg=ns.IGNORECASE)


def _hidden(path: Path, folder: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(folder).parts)


def into(out: Path, files: list[Path], ending: str, *, many: bool) -> Iterator[Path]:
    """Where the result of each goes: `out` itself for one file, unless it is a folder; else a file in that folder, by the name of
    what it is made from with another ending. Raises FolderNeeded and SameName."""
    if many and not out.is_dir() and (out.exists() or out.suffix):
        raise FolderNeeded(file=str(out))
    if not many and not out.is_dir():
        yield out
        return
    taken: set[str] = set()
    for file in files:
        name = f"{file.stem}{ending}"
        if name.lower() in taken:
            raise SameName(file=str(file), name=name)
        taken.add(name.lower())
    out.mkdir(parents=True, exist_ok=True)
    yield from (out / f"{file.stem}{ending}" for file in files)


def each(files: Iterable[Path], act: Callable[[Path], int], failed: Callable[[Path, str], None] = lambda _file, _said: None) -> int:
    """Do something with each; the highest of their exit statuses. What is meant for a person ends one file with status 2 and its
    sentence, which `failed` hears too."""
    worst = 0
    for file in files:
        try:
            worst = max(worst, act(file))
        except IspettoreError as error:
            typer.echo(error.sentence, err=True)
            failed(file, error.sentence)
            worst = FAILED
    return worst
