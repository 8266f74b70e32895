"""The specifications that ship, and what would pass itself off as one of them."""

import json
import unicodedata
from functools import cache
from importlib import resources
from importlib.resources.abc import Traversable

from ispettore.core.spec.specification import Specification

_FOLDER = resources.files("ispettore.core.spec") / "shipped"


@cache
def shipped() -> dict[str, Specification]:
    """All shipped specifications by identifier, in the order of their file names."""
    return {specification.id: specification for specification in _in(_FOLDER)}


@cache
def versions(identifier: str) -> tuple[Specification, ...]:
    """Every version of a shipped specification that ever shipped, the newest last; empty where none is called so.

    >>> [each.version for each in versions("audiobook-retail")], versions("mine")
    ([1, 2, 3], ())
    """
    every = [*_in(_FOLDER / "earlier"), *shipped().values()]
    return tuple(sorted((each for each in every if each.id == identifier), key=lambda each: each.version))


def _in(folder: Traversable) -> list[Specification]:
    entries = sorted((entry for entry in folder.iterdir() if entry.name.endswith(".json")), key=lambda entry: entry.name)
    return [Specification.model_validate(json.loads(entry.read_text(encoding="utf-8"))) for entry in entries]


def impostor(identifier: object, name: object, specification: Specification | None = None) -> str:
    """Why something can't have this identifier and name: they belong to a specification that ships and asks for something else.

    Empty where they may be had, and where `specification` is that very one.

    >>> impostor("audiobook-retail", "Mine")
    'its identifier is that of “Audiobook, retail”, which is built in and asks for something else'
    >>> impostor("mine", "AUDIOBOOK,  Retail")
    'its name is that of “Audiobook, retail”, which is built in and asks for something else'
    """
    for known in shipped().values():
        if specification is not None and specification in versions(known.id):
            return ""
        taken = "identifier" if identifier == known.id else "name" if _plain(str(name)) == _plain(known.name) else ""
        if taken:
            return f"its {taken} is that of “{known.name}”, which is built in and asks for something else"
    return ""


def _plain(name: str) -> str:
    """A name as somebody reads it: without differences of case, width, accents drawn apart and spaces."""
    return " ".join(unicodedata.normalize("NFKC", name).casefold().split())
