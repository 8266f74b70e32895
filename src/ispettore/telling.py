"""What the command line says: the same facts as the page shows, as text for a person and as JSON for scripts."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from ispettore.core.figures import clock, number, with_unit
from ispettore.core.plan.remedies import advice
from ispettore.core.spec import standing
from ispettore.core.spec.methods import title_of_finding
from ispettore.core.spec.quantities import QUANTITIES

if TYPE_CHECKING:  # each command loads what it uses, and no more
    from ispettore.core.archive.checking import Archive
    from ispettore.core.certify.verification import Verification
    from ispettore.core.measure.inspection import Inspection
    from ispettore.core.measure.reading import Reading
    from ispettore.core.plan.bounds import Obstacle
    from ispettore.core.plan.conform import Conformed
    from ispettore.core.plan.planner import Plan
    from ispettore.core.spec.breaches import Breach
    from ispettore.core.spec.verdict import LimitVerdict, Verdict

MARKS = {"inside": "[•] ", "over": "[ ]•", "under": "•[ ]", "near": "[•  ", "unmeasured": "[ ] "}


def as_data(inspection: "Inspection", verdict: "Verdict | None") -> dict[str, Any]:
    """An inspection as the JSON contract names it."""
    facts = inspection.facts
    notes = {quantity: reading.note or reading.method for quantity, reading in inspection.readings.items()}
    return {
        "sha256": inspection.sha256,
        "facts": {
            "container": facts.container,
            "codec": facts.codec,
            "sample_rate_hz": facts.sample_rate_hz,
            "bit_depth": facts.bit_depth,
            "channels": facts.channels,
            "duration_s": facts.duration_s,
            "bit_rate_kbps": facts.bit_rate_kbps,
            "bit_rate_constant": facts.bit_rate_constant,
        },
        "readings": {
            **{quantity: reading.value for quantity, reading in inspection.readings.items()},
            "duration_s": facts.duration_s,
        },
        "notes": notes,
        "findings": [
            {
                "kind": finding.kind,
                "title": title_of_finding(finding.kind),
                "start_s": finding.start_s,
                "end_s": finding.end_s,
                "channel": finding.channel,
                "measure": finding.measure,
                "severity": finding.severity,
                "advice": advice(finding.kind),
            }
            for finding in inspection.findings
        ],
        "verdict": verdict_as_data(verdict),
    }


def verdict_as_data(verdict: "Verdict | None") -> dict[str, Any] | None:
    """A verdict as the JSON contract names it."""
    return verdict.model_dump(mode="json") if verdict else None


def conformed_as_data(result: "Conformed", source: Path, out: Path) -> dict[str, Any]:
    """A conform's outcome as the JSON contract names it."""
    return {
        "plan": {
            "steps": [
                {"kind": step.kind, "settings": step.settings, "reason": step.reason} for step in result.treatment.steps if step.on
            ],
            "touch": result.touch.touch,
            "touch_figures": result.touch.model_dump(exclude={"touch"}),
            "out_of_order": list(result.out_of_order),
        },
        "ledger": [
            {
                "kind": line.kind,
                "readings": {quantity: reading.value for quantity, reading in line.readings.items()},
                "learned": line.learned,
                "warnings": list(line.warnings),
            }
            for line in result.ledger
        ],
        "before": {"path": str(source), **as_data(result.before, None)},
        "after": {"path": str(out), **as_data(result.after, result.verdict)} if result.after else None,
        "verdict": verdict_as_data(result.verdict),
        "obstacles": [obstacle.model_dump(mode="json") for obstacle in result.obstacles],
    }


def print_json(data: Any) -> None:
    typer.echo(json.dumps(data, indent=2, ensure_ascii=False, allow_nan=False))


def print_inspection(inspection: "Inspection", verdict: "Verdict | None") -> None:
    facts = inspection.facts
    depth = f", {facts.bit_depth} bit" if facts.bit_depth else ""
    rate = f", {number(facts.bit_rate_kbps, 0)} kbit/s" if facts.lossy and facts.bit_rate_kbps else ""
    typer.echo(
        f"{inspection.name}: {facts.container.upper()} {facts.codec}, {number(facts.sample_rate_hz, 0)} Hz{depth}{rate}, "
        f"{facts.channels} channel{'s' if facts.channels > 1 else ''}, {clock(facts.duration_s, 2)}"
    )
    if verdict is None:
        for quantity, reading in inspection.readings.items():
            about = QUANTITIES[quantity]
            note = f"   {reading.note}" if reading.note else ""
            typer.echo(f"       {about.title:22} {_figure(reading, about.decimals + 1):>14}{note}")
    else:
        for limit in verdict.limits:
            _print_limit(limit)
        typer.echo("  Passes." if verdict.passes else "  Does not pass.")
    for finding in inspection.findings:
        typer.echo(f"  {clock(finding.start_s, 2):>10}  {title_of_finding(finding.kind)}: {advice(finding.kind)}")


def print_breach(breach: "Breach") -> None:
    side = "over" if breach.reading > breach.bound else "under"
    by = with_unit(breach.excess, breach.difference_unit, breach.decimals)
    reading = with_unit(breach.reading, breach.unit, breach.decimals)
    typer.echo(f"  {clock(breach.start_s, 2):>10}  {breach.title}: {reading}, {by} {side}")


def _print_limit(limit: "LimitVerdict") -> None:
    reading = f"{standing.reading(limit)} {standing.unit(limit)}".rstrip()
    typer.echo(f"  {MARKS[limit.position]} {limit.title:22} {reading:>14}   {standing.distance(limit)}".rstrip())


def _figure(reading: "Reading", decimals: int) -> str:
    return "–" if reading.value is None and not reading.silence else with_unit(reading.value, reading.unit, decimals)


def print_conformed(result: "Conformed", out: Path) -> None:
    for step in result.treatment.steps:
        typer.echo(f"  {step.kind:20} {step.reason}".rstrip())
    for said in (*result.out_of_order, *(warning for line in result.ledger for warning in line.warnings)):
        typer.echo(f"  Note: {said}")
    if result.passes and result.after is not None:
        rounds = f"{result.rounds} round{'s' if result.rounds > 1 else ''}"
        typer.echo(f"Conformed in {rounds}; touch {number(result.touch.touch, 0)} of 100. Measured:")
        print_inspection(result.after, result.verdict)
        typer.echo(f"Written: {out}")
        return
    typer.echo("Can't meet this specification; nothing was written.")
    for obstacle in result.obstacles:
        typer.echo(f"  {obstacle.told}")


def print_plans(good: "Sequence[tuple[str, Plan]]", obstacles: "Sequence[Obstacle]") -> None:
    for preference, each in good:
        print_plan(preference, each)
    if obstacles:
        typer.echo("Can't meet this specification.")
    for obstacle in obstacles:
        typer.echo(f"  {obstacle.told}")


def print_plan(preference: str, plan: "Plan") -> None:
    parts = f"voice {number(plan.touch.voice or 0.0, 0)}, room {number(plan.touch.room or 0.0, 0)}"
    typer.echo(f"{preference.capitalize()}: touch about {number(plan.touch.touch, 0)} of 100 ({parts})")
    for step in plan.treatment.steps:
        typer.echo(f"  {step.kind:20} {step.reason}".rstrip())
    if not plan.treatment.steps:
        typer.echo("  Nothing needs to be done.")
    for quantity, value in plan.predicted.items():
        about = QUANTITIES[quantity]
        typer.echo(f"       {about.title:22} {with_unit(value, about.unit, about.decimals):>14}")
    if plan.leaves:
        typer.echo(f"  Left as found: {', '.join(f'{title_of_finding(each.kind)} ({each.count})' for each in plan.leaves)}.")


def plan_as_data(preference: str, plan: "Plan") -> dict[str, Any]:
    """A plan as the JSON contract names it."""
    return {
        "preference": preference,
        "steps": [{"kind": step.kind, "settings": step.settings, "reason": step.reason} for step in plan.treatment.steps],
        "predicted": plan.predicted,
        "leaves": [each.model_dump() for each in plan.leaves],
        "touch": plan.touch.model_dump(),
    }


def print_verification(checked: "Verification", name: str) -> None:
    of = "package" if checked.of_production else "file"
    fits = f"{name} is the certified {of}" if name else "the certificate was not changed"
    if not checked.intact:
        typer.echo("Not genuine:\n" + "\n".join(f"  {problem}" for problem in checked.problems))
    elif checked.withdrawn:
        typer.echo(f"Withdrawn: {fits}, but it no longer counts.")
    elif not checked.genuine:
        typer.echo(f"Intact: {fits}; but the key {checked.key_id} is not known here.")
    else:
        typer.echo(f"Genuine: {fits}.")
    if checked.notice is not None:
        typer.echo(checked.notice.told)
    if checked.intact:
        typer.echo(checked.said)
    if checked.methods:
        typer.echo(checked.methods)
    for one in checked.older:
        typer.echo(f"  {one.title}: {one.certified} then, {one.measured} now")
    for note in checked.notes:
        typer.echo(f"Note: {note}", err=True)


def archive_as_data(archive: "Archive", *, trusted: bool) -> dict[str, Any]:
    """A whole archive as the JSON contract names it."""
    return {**archive.head.model_dump(mode="json"), "key_id": archive.key.thumbprint(), "trusted": trusted}


def print_archive(archive: "Archive", *, trusted: bool) -> None:
    head = archive.head
    known = "a key that is trusted here" if trusted else f"the key {archive.key.thumbprint()}, which is not known here"
    typer.echo(f"{'Whole' if trusted else 'Intact'}: {archive.name} was not changed since it was sealed with {known}.")
    recordings = f"{head.recordings} recording{'s' if head.recordings != 1 else ''}"
    size = f"{number(head.files, 0)} files, {number(head.size_bytes, 0)} bytes"
    typer.echo(f"{head.production}: {recordings}, {size}, as of {head.made:%Y-%m-%d %H:%M} UTC, by {head.software}.")
