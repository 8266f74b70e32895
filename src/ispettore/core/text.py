"""Text that comes from outside: what no name, note or tag may hold.

A null character can't be kept in a database, control characters break lines of tables and terminals, half of a surrogate pair is
no character at all, and what turns the direction of writing shows a name as another. Line breaks and tabs may stand in a text, but
never in a name.
"""

import unicodedata
from pathlib import Path
from typing import Any

from ispettore.core.errors import IspettoreError

LONGEST_NAME_BYTES = 255
"""What every file system can keep as a name."""
BREAKS = "\t\n\r"
TURNING = frozenset("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
"""Embeddings, overrides and isolates (Unicode Annex 9): by them a name shows another ending than it has. Languages that are written
from right to left do without them."""
_NAMED = {"\n": "a line break", "\r": "a line break", "\t": "a tab"}
_NAMED = {"\n": "a line break", "\r": "a line break", "\t": "a tab"}


class BadText(IspettoreError):
    """{what} contains {which}, which can't be stored. Remove it, then try again."""

    what: str
    which: str


def wrong_letter(text: str, *, breaks: bool = False) -> str | None:
    """What in a text can't be kept, in words; None where all of it can. `breaks` allows line breaks and tabs.

    >>> wrong_letter("Almanac"), wrong_letter("a\\0b"), wrong_letter("one\\ntwo", breaks=True)
    (None, 'a null character', None)
    """
    for letter in text:
        if letter == "\0":
            return "a null character"
        kind = unicodedata.category(letter)
        if kind == "Cs":
            return "half of a surrogate pair"
        if letter in TURNING:
            return f"the invisible character U+{ord(letter):04X}, which turns the direction of writing"
        if kind == "Cc" and not (breaks and letter in BREAKS):
            return _NAMED.get(letter, f"the control character U+{ord(letter):04X}")
    return None


def refuse(text: str, *, what: str, breaks: bool = False) -> str:
    """The text itself. Raises BadText where it holds what can't be kept."""
    wrong = wrong_letter(text, breaks=breaks)
    if wrong is not None:
        raise BadText(what=what, which=wrong)
    return text


TOO_DEEP = "too many levels"


def wrong_in(content: Any, *, deepest: int) -> str | None:
    """What in parsed JSON can't be kept, in words: text in it, or `TOO_DEEP` where it is nested deeper than that; None where all
    can.

    >>> wrong_in({"a": ["fine", "not\\0so"]}, deepest=5), wrong_in([[[1]]], deepest=3)
    ('a null character', 'too many levels')
    """
    level, depth = [content], 0
    while level:
        depth += 1
        if depth > deepest:
            return TOO_DEEP
        inner: list[Any] = []
        for one in level:
            if isinstance(one, str) and (wrong := wrong_letter(one, breaks=True)):
                return wrong
            if isinstance(one, dict):
                inner += [*one.keys(), *one.values()]
            elif isinstance(one, list):
                inner += one
        level = inner
    return None


def cleaned(text: str) -> str:
    """The text without what can't be kept; line breaks and tabs become spaces. For what a foreign file says of itself.

    >>> cleaned("A\\x07 tide\\nmill\\0")
    'A tide mill'
    """
    spaced = "".join(" " if letter in BREAKS else letter for letter in text)
    return " ".join("".join(letter for letter in spaced if wrong_letter(letter) is None).split())


def shown_name(path: Path) -> str:
    """A file's name as it can be shown and kept: bytes that are no character become �.

    >>> shown_name(Path("takes/one.wav"))
    'one.wav'
    """
    return cleaned(path.name.encode("utf-8", "replace").decode("utf-8")) or "?"


_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def as_cell(text: str) -> str:
    """A text that a spreadsheet will not take for a formula: an apostrophe stands before what looks like one.

    >>> as_cell("=1"), as_cell("May.wav")
    ("'=1", 'May.wav')
    """
    return f"'{text}" if text.lstrip().startswith(_FORMULA) or text.startswith(_FORMULA) else text
