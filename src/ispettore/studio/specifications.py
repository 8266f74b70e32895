"""Specifications as the application knows them."""

from ispettore.core import errors
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Specification


def all_specifications() -> list[Specification]:
    """Every specification that a production may use."""
    return list(catalogue.shipped().values())


def specification(identifier: str) -> Specification:
    """One by its identifier. Raises UnknownSpecification."""
    known = catalogue.shipped()
    if identifier not in known:
        raise errors.UnknownSpecification(name=identifier, known=", ".join(known))
    return known[identifier]
