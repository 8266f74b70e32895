"""Finding a specification by its name, and reading one from a file."""

import json
from pathlib import Path
from typing import Any

from ispettore.core import errors
from ispettore.core.spec.builtin import shipped
from ispettore.core.spec.objections import refusal
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.text import shown_name

LARGEST_BYTES = 1024 * 1024


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
        raise errors.FileMissing(file=shown_name(path))
    return parse(path.read_bytes(), name=shown_name(path))


def parse(text: bytes, *, name: str) -> Specification:
    """A specification from JSON as `schema()` describes it. Raises BadSpecification with what speaks against it."""
    if len(text) > LARGEST_BYTES:
        raise errors.BadSpecification(file=name, reason="it is larger than 1 MB, which no specification is")
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise errors.BadSpecification(file=name, reason="it is not JSON") from error
    if not isinstance(data, dict):
        raise errors.BadSpecification(file=name, reason="it is not a JSON object")
    data.pop("$schema", None)
    if against := refusal(data):
        raise errors.BadSpecification(file=name, reason=against)
    return Specification.model_validate(data)


def schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a specification's file."""
    found = Specification.model_json_schema()
    limit = found["$defs"]["Limit"]["properties"]
    limit["quantity"] = {"enum": list(QUANTITIES), "title": "Quantity"}
    words = sorted({word for quantity in QUANTITIES.values() for word in quantity.choices})
    limit["one_of"]["items"] = {"enum": words}
    found["properties"]["$schema"] = {"type": "string"}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "ispettore-specification-1", **found}
