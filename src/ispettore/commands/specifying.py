"""`ispettore specs`: what ships, and one of them to the last limit."""

import json

import typer

from ispettore.core.spec.builtin import shipped
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.wording import sentence


def listed(*, as_json: bool) -> None:
    """All that ship."""
    if as_json:
        typer.echo(json.dumps([one.model_dump(mode="json") for one in shipped().values()], indent=2, ensure_ascii=False))
        return
    for one in shipped().values():
        typer.echo(f"{one.id:24} {one.name}\n{'':24} {one.description}")
        for limit in one.limits:
            typer.echo(f"{'':24} · {sentence(limit)}")


def one(identifier: str, *, as_json: bool) -> None:
    """One of them, or of a file. Raises UnknownSpecification and what reading a file raises."""
    found = shipped().get(identifier) or _of_file(identifier)
    if as_json:
        typer.echo(json.dumps(found.model_dump(mode="json"), indent=2, ensure_ascii=False))
        return
    typer.echo(f"{found.name} ({found.id}), version {found.version}")
    for text in (found.description, found.source):
        if text:
            typer.echo(text)
    for limit in found.limits:
        typer.echo(
            f"  {'·' if limit.severity == 'must' else '○'} {sentence(limit)}{'' if limit.severity == 'must' else ' (advice)'}"
        )
        if limit.purpose:
            typer.echo(f"      {limit.purpose}")


def _of_file(identifier: str) -> Specification:
    from ispettore.core.spec.catalogue import find

    return find(identifier)
