"""The specifications that ship, and reading one from a file."""

import json
from functools import cache
from importlib import resources
from pathlib import Path

from pydantic import ValidationError

from ispettore.core import errors
from ispettore.core.spec.specification import Specification


@cache
def shipped() -> dict[str, Specification]:
    """All shipped specifications by identifier, in the order of their file names."""
    folder = resources.files("ispettore.core.spec") / "shipped"
    found = [
        Specification.model_validate_json(entry.read_text(encoding="utf-8"))
        for entry in sorted(folder.iterdir(), key=lambda entry: entry.name)
        if entry.name.endswith(".json")
    ]
    return {specification.id: specification for specification in found}


def find(name: str) -> Specification:
    """A shipped specification by identifier, or one from a JSON file. Raises UnknownSpecification or BadSpecification."""
    known = shipped()
    if name in known:
        return known[name]
    path = Path(name)
    if path.suffix == ".json" or path.is_file():
        return load(path)
    raise errors.UnknownSpecification(name=name, known=", ".join(known))


def load(path: Path) -> Specification:
    """Read a specification from a JSON file. Raises FileMissing or BadSpecification with the reason."""
    if not path.is_file():
        raise errors.FileMissing(file=str(path))
    try:
        return Specification.model_validate(json.loads(path.read_text(encoding="utf-8")))
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(part) for part in first["loc"])
        raise errors.BadSpecification(file=path.name, reason=f"{where}: {first['msg']}" if where else first["msg"]) from error
    except (ValueError, UnicodeDecodeError) as error:
        raise errors.BadSpecification(file=path.name, reason="it is not JSON") from error
