"""What can go wrong in the application itself, as sentences for a person."""

from ispettore.core.errors import IspettoreError


class NotFound(IspettoreError):
    """There is no such {what} here. It may have been removed; go back and look again."""


class NameMissing(IspettoreError):
    """A production needs a name. Write one, then try again."""


class NotReady(IspettoreError):
    """“{file}” {reason}. Wait until that is done, then try again."""


class OrderChanged(IspettoreError):
    """The recordings of “{production}” changed while they were put in order. Look at the sheet again, then move what is to move."""
