"""`ispettore conform` and `ispettore plan`: what would bring recordings inside, and doing it."""

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import typer

from ispettore import telling
from ispettore.commands import files
from ispettore.commands.progress import shown
from ispettore.core.audio.writing import format_for
from ispettore.core.plan import bounds as own_bounds
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.conform import conform
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue, delivery
from ispettore.core.treat.keeping import load as load_treatment


def run(
    paths: list[Path],
    *,
    spec: str,
    out: Path,
    treatment: Path | None,
    preference: Preference,
    bounds: Path | None,
    as_json: bool,
    quiet: bool,
) -> int:
    """Conform each; the exit status. Into a folder each is written as the specification asks. Raises what naming things raises."""
    specification, given, allowed = catalogue.find(spec), load_treatment(treatment) if treatment else None, _bounds(bounds)
    recordings = files.found(paths)
    many = files.several(paths, recordings)
    ending = f".{delivery.asked_for(specification).container}" if many or out.is_dir() else ""
    targets = dict(zip(recordings, files.into(out, recordings, ending, many=many), strict=True))
    for target in targets.values():
        format_for(target)
    rows: list[dict[str, Any]] = []

    def one(path: Path) -> int:
        with shown(path.name, quiet=quiet) as progress:
            result = conform(
                path,
                specification,
                targets[path],
                treatment=given,
                preference=preference,
                bounds=allowed,
                written_at=datetime.now(UTC),
                progress=progress,
            )
        rows.append(telling.conformed_as_data(result, path, targets[path]))
        if not as_json:
            if many:
                typer.echo(f"{path}:")
            telling.print_conformed(result, targets[path])
        return 0 if result.passes else 1

    worst = files.each(recordings, one, lambda path, said: rows.append({"path": str(path), "error": said}))
    _as_json(rows, many=many, wanted=as_json)
    return worst


def plan(paths: list[Path], *, spec: str, bounds: Path | None, as_json: bool, quiet: bool) -> int:
    """Say what would conform each, without running anything; the exit status. Raises what naming things raises."""
    specification, allowed = catalogue.find(spec), _bounds(bounds)
    recordings = files.found(paths)
    many = files.several(paths, recordings)
    rows: list[dict[str, Any]] = []

    def one(path: Path) -> int:
        with shown(path.name, quiet=quiet) as progress:
            plans = proposed(path, specification, bounds=allowed, progress=progress)
        good = [(preference, each) for preference, each in plans if not each.obstacles]
        obstacles = [] if good else list(plans[0][1].obstacles)
        told = {
            "plans": [telling.plan_as_data(*each) for each in good],
            "obstacles": [obstacle.model_dump(mode="json") for obstacle in obstacles],
        }
        rows.append({"path": str(path), **told} if many else told)
        if not as_json:
            if many:
                typer.echo(f"{path}:")
            telling.print_plans(good, obstacles)
        return 0 if good else 1

    worst = files.each(recordings, one, lambda path, said: rows.append({"path": str(path), "error": said}))
    _as_json(rows, many=many, wanted=as_json)
    return worst


def _bounds(path: Path | None) -> Bounds | None:
    return own_bounds.load(path) if path else None


def _as_json(rows: list[dict[str, Any]], *, many: bool, wanted: bool) -> None:
    """One object for one file that was named, else a list."""
    if wanted and (many or (rows and "error" not in rows[0])):
        telling.print_json(rows if many else rows[0])
