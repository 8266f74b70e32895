"""`ispettore inspect`: measure recordings, and judge them."""

import re
from pathlib import Path
from typing import Any

from ispettore import telling
from ispettore.commands import files
from ispettore.commands.progress import shown
from ispettore.core import errors
from ispettore.core.measure import tracks
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.reading import Span
from ispettore.core.spec import catalogue
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import judge, role_of


def run(paths: list[Path], *, spec: str | None, room_tone: list[str], as_json: bool, quiet: bool) -> int:
    """Measure each; the exit status. Raises what naming the specification, the spans and folders raises."""
    specification, marked = catalogue.find(spec) if spec else None, spans(room_tone)
    rows: list[dict[str, Any]] = []

    def one(path: Path) -> int:
        row, status = _inspected(path, specification, marked, quiet=quiet, said=not as_json)
        rows.append(row)
        return status

    worst = files.each(files.found(paths), one, lambda path, said: rows.append({"path": str(path), "error": said}))
    if as_json:
        telling.print_json(rows)
    return worst


def _inspected(
    path: Path, specification: Specification | None, marked: list[Span], *, quiet: bool, said: bool
) -> tuple[dict[str, Any], int]:
    with shown(path.name, quiet=quiet) as progress:
        measured = inspect(path, room_tone=marked, progress=progress)
    inspection = measured.inspection
    verdict = judge(inspection, specification, role=role_of(inspection)) if specification else None
    places = breaches(verdict, inspection, tracks.of(measured)) if verdict else []
    row = {"path": str(path), **telling.as_data(inspection, verdict)}
    if row["verdict"]:
        row["verdict"]["breaches"] = [place.model_dump(mode="json") for place in places]
    if said:
        telling.print_inspection(inspection, verdict)
        for place in places:
            telling.print_breach(place)
    return row, int(verdict is not None and not verdict.passes)


def spans(texts: list[str]) -> list[Span]:
    """Spans written as START-END in seconds. Raises BadSpan."""
    found = []
    for text in texts:
        match = re.fullmatch(r"(\d+(?:\.\d+)?)-(\d+(?:\.\d+)?)", text)
        if match is None or float(match[2]) <= float(match[1]):
            raise errors.BadSpan(text=text)
        found.append(Span(start_s=float(match[1]), end_s=float(match[2])))
    return found
