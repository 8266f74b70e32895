"""Number, part and title of each recording of a production: read from file names, changed by a person, pasted from a table."""

import csv
import itertools
import re
from collections.abc import Sequence
from pathlib import PurePath
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from ispettore.core.errors import IspettoreError
from ispettore.core.text import cleaned

LONGEST = 200
MOST = 9_999
MOST_PARTS = 99
_CHAPTER = r"chapter|chap|ch|track|section|episode|ep|no|number|kapitel|chapitre|capitolo|hoofdstuk"
_NUMBERED = re.compile(
    rf"^(?:(?:{_CHAPTER})\.?[ ]*)?(?P<number>\d{{1,3}})(?![\d.-]*\d)(?:(?P<letter>[a-h])(?![a-z]))?[ .:)–-]*", re.IGNORECASE
)
_PART = re.compile(r"[ ,–(\[-]*\b(?:part|pt|teil|partie|parte|deel)\.?[ ]*(?P<part>\d{1,2})\b[ )\]]*", re.IGNORECASE)
_GAPS = re.compile(r"[\s_]+")


Kind = Literal["chapter", "opening", "closing", "sample"]
KINDS: dict[Kind, tuple[str, re.Pattern[str]]] = {
    "opening": ("Opening credits", re.compile(r"\b(opening|intro(ductory)?|start(ing)?) credits?\b", re.IGNORECASE)),
    "closing": ("Closing credits", re.compile(r"\b(closing|end(ing)?|outro) credits?\b", re.IGNORECASE)),
    "sample": ("Sample", re.compile(r"^((retail|shop|audio) )?sample$", re.IGNORECASE)),
}
"""What a recording can be that is no chapter: its usual title, and how file names say so."""


class Entry(BaseModel):
    """Where a recording stands in its production and what it is called. `narrator` is empty where it is the production's."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Kind = "chapter"
    number: int | None = Field(None, ge=0, le=MOST)
    part: int | None = Field(None, ge=1, le=MOST_PARTS)
    title: str = Field("", max_length=LONGEST)
    narrator: str = Field("", max_length=LONGEST)


class PasteRefused(IspettoreError):
    """What was pasted can't be used: {reason}. Nothing was changed. Paste rows of number and title, of titles alone, or a table
    whose first row names its columns: file, number, part, title, narrator."""

    reason: str


def read(names: Sequence[str]) -> list[Entry]:
    """What the file names of a production say. Where none holds a number, all are numbered in their order.

    >>> [(one.number, one.part, one.title) for one in read(["Mill_007a - The weir.wav", "Mill_008 part 2.wav"])]
    [(7, 1, 'The weir'), (8, 2, 'Chapter 8')]
    >>> [(one.number, one.title) for one in read(["Room of clocks.wav", "Room of bells.wav"])]
    [(1, 'Room of clocks'), (2, 'Room of bells')]
    """
    stems = [_GAPS.sub(" ", PurePath(name).stem).strip() for name in names]
    start = _common_start(stems)
    found = [_entry(stem, stem.removeprefix(start).lstrip(" -–,.")) for stem in stems]
    if all(entry.number is None for entry in found):
        places = itertools.count(1)
        return [entry.model_copy(update={"number": next(places)}) if entry.kind == "chapter" else entry for entry in found]
    return found


def _common_start(stems: Sequence[str]) -> str:
    """What all names with a number begin with before it: it is the production's, not a title's."""
    stems = [stem for stem in stems if re.search(r"\d", stem)]
    alike = list(itertools.takewhile(lambda letters: len(set(letters)) == 1, zip(*stems, strict=False))) if len(stems) > 1 else []
    shared = re.split(r"\d", "".join(letters[0] for letters in alike))[0]
    return shared if all(stem[len(shared) : len(shared) + 1].isdigit() for stem in stems) else ""


def _entry(whole: str, text: str) -> Entry:
    number = _NUMBERED.match(text)
    rest = text[number.end() :] if number is not None else text
    kind = next((kind for kind, (_, said) in KINDS.items() if said.search(rest.strip(" -–,.:"))), None)
    if kind is not None:
        return Entry(kind=kind, title=KINDS[kind][0])
    if number is None:
        return Entry(title=whole[:LONGEST])
    told = _PART.search(rest)
    part = int(told["part"]) if told else None
    if part is None and number["letter"]:
        part = ord(number["letter"].lower()) - ord("a") + 1
    title = (rest[: told.start()] + " " + rest[told.end() :] if told else rest).strip(" -–,.:")
    value = int(number["number"])
    return Entry(number=value, part=part or None, title=(title or f"Chapter {value}")[:LONGEST])


_COLUMNS = {
    "file": "file",
    "file name": "file",
    "filename": "file",
    "number": "number",
    "no": "number",
    "no.": "number",
    "#": "number",
    "chapter": "number",
    "part": "part",
    "title": "title",
    "name": "title",
    "narrator": "narrator",
    "reader": "narrator",
}
_BY_COUNT = {
    1: ("title",),
    2: ("number", "title"),
    3: ("number", "title", "narrator"),
    4: ("number", "part", "title", "narrator"),
}


def pasted(text: str, names: Sequence[str], entries: Sequence[Entry]) -> list[Entry]:
    """The entries as a table copied from a spreadsheet (rows of cells between tabs, or a CSV file) has them.

    Rows are those of the production in its order; where a column names the files, those of its rows. An empty cell changes nothing.
    Raises PasteRefused.
    """
    delimiter = next((mark for mark in "\t,;" if mark in text), "\t")
    rows = [[cleaned(cell) for cell in row] for row in csv.reader(text.splitlines(), delimiter=delimiter)]
    rows = [row for row in rows if any(row)]
    if not rows:
        raise PasteRefused(reason="it is empty")
    columns = _columns(rows[0])
    if columns is not None:
        rows = rows[1:]
    else:
        count = max(len(row) for row in rows)
        if count not in _BY_COUNT:
            raise PasteRefused(reason=f"it has {count} columns, and none of them is named")
        columns = _BY_COUNT[count]
    changed = list(entries)
    for place, row in _placed(rows, columns, names):
        cells = {column: cell for column, cell in zip(columns, row, strict=False) if column and column != "file" and cell}
        changed[place] = _changed(changed[place], cells, place)
    return changed


def _columns(first: Sequence[str]) -> tuple[str, ...] | None:
    """What the columns are, if the first row names them."""
    named = [_COLUMNS.get(cell.lower(), "") for cell in first]
    known = [name for name in named if name]
    return tuple(named) if len(known) == len(set(known)) and len(known) > len(first) / 2 else None


def _placed(rows: Sequence[list[str]], columns: tuple[str, ...], names: Sequence[str]) -> list[tuple[int, list[str]]]:
    if "file" not in columns:
        if len(rows) != len(names):
            raise PasteRefused(reason=f"it has {len(rows)} rows, and there are {len(names)} recordings")
        return list(enumerate(rows))
    places = {key: place for place, name in enumerate(names) for key in (name.lower(), PurePath(name).stem.lower())}
    found = []
    for row in rows:
        file = row[columns.index("file")] if len(row) > columns.index("file") else ""
        if file.lower() not in places:
            raise PasteRefused(reason=f"there is no recording “{file}”")
        found.append((places[file.lower()], row))
    return found


def _changed(entry: Entry, cells: dict[str, str], place: int) -> Entry:
    values: dict[str, str | int] = dict(cells)
    for column, most in (("number", MOST), ("part", MOST_PARTS)):
        if column in cells:
            if not cells[column].isdecimal() or int(cells[column]) > most:
                raise PasteRefused(reason=f"in row {place + 1}, “{cells[column]}” is no {column}")
            values[column] = int(cells[column])
    for column in ("title", "narrator"):
        if len(cells.get(column, "")) > LONGEST:
            raise PasteRefused(reason=f"in row {place + 1}, the {column} is longer than {LONGEST} characters")
    return Entry.model_validate({**entry.model_dump(), **values})
