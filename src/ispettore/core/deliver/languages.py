"""Languages by their names or codes of ISO 639 (pycountry holds the tables)."""

from functools import lru_cache

from ispettore.core.errors import IspettoreError


class LanguageUnknown(IspettoreError):
    """“{said}” is no language known by ISO 639. Write its English name or its code, such as English, en or eng."""

    said: str


@lru_cache(maxsize=100)
def code(said: str) -> str:
    """The code by ISO 639-2 of three letters, which tags want; empty for nothing. Raises LanguageUnknown.

    >>> code("English"), code("de"), code("en-GB"), code(" ")
    ('eng', 'deu', 'eng', '')
    """
    from pycountry import languages  # its tables take a moment to read, and few need them

    text = said.strip()
    if not text:
        return ""
    short = text.split("-")[0].lower()
    found = languages.get(alpha_2=short) if len(short) == 2 else languages.get(alpha_3=short) if len(short) == 3 else None
    try:
        found = found or languages.lookup(text)
    except LookupError:
        raise LanguageUnknown(said=text) from None
    return str(found.alpha_3)
