"""File names from a template, and what speaks against them on any system.

A template is text with words in braces; what stands in square brackets is left out where a word in it has nothing to say:
`[{number} ]{title}[, part {part}]`.
"""

import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from pathvalidate import ErrorReason, ValidationError, validate_filename

from ispettore.core.deliver.entries import Entry
from ispettore.core.text import LONGEST_NAME_BYTES, wrong_letter

USUAL = "[{number} ]{title}[, part {part}]"
WORDS = ("production", "number", "part", "title", "narrator")
"""What may stand in braces."""
LONGEST = 200
BESIDE = ".certificate.json"
"""What the name of the longest file beside a delivered one adds to its own."""
LONGEST_BYTES = LONGEST_NAME_BYTES - len(BESIDE)
FEWEST_FIGURES = 2
"""A chapter's number has at least so many figures, so that files sort by it everywhere."""
_PIECE = re.compile(r"\{([^{}]*)\}|([\[\]])|([^{}\[\]]+)|([{}])")


@dataclass(frozen=True)
class Piece:
    """A word in braces or plain text; `group` counts the square brackets it stands in, 0 outside of any."""

    text: str
    word: bool
    group: int


def parsed(template: str) -> tuple[list[Piece], str]:
    """A template in pieces, and what is wrong with it in a sentence; empty where nothing is.

    >>> parsed("{nubmer} {title}")[1]
    'There is no {nubmer}. Words that can be used: {production}, {number}, {part}, {title}, {narrator}.'
    """
    pieces: list[Piece] = []
    group, inside = 0, False
    known = ", ".join(f"{{{word}}}" for word in WORDS)
    if len(template) > LONGEST:
        return [], f"A template has at most {LONGEST} characters; this one has {len(template)}."
    for word, bracket, text, brace in _PIECE.findall(template):
        if brace:
            return [], f"A brace stands alone. Write a word between two of them: {known}."
        if bracket:
            if inside == (bracket == "["):
                return [], "Square brackets come in pairs, and none inside of others."
            inside = bracket == "["
            group += inside
        elif text:
            pieces.append(Piece(text, word=False, group=group if inside else 0))
        elif word.strip().lower() not in WORDS:
            return [], f"There is no {{{word}}}. Words that can be used: {known}."
        else:
            pieces.append(Piece(word.strip().lower(), word=True, group=group if inside else 0))
    if inside:
        return [], "A square bracket is not closed."
    if not any(piece.word and piece.text != "production" for piece in pieces):
        return [], "Every file would have the same name. Use {number} or {title}."
    return pieces, ""


@dataclass(frozen=True)
class Name:
    """The name of one file, and what speaks against it in a sentence; empty where nothing does."""

    name: str
    problem: str


def names(template: str, entries: Sequence[Entry], *, production: str, narrator: str, ending: str) -> list[Name]:
    """The name of the file of every entry. No file gets one where the template is wrong: `problem` says why."""
    pieces, wrong = parsed(template)
    if wrong:
        return [Name("", wrong) for _ in entries]
    figures = max([FEWEST_FIGURES, *(len(str(entry.number)) for entry in entries if entry.number is not None)])
    found = []
    for entry in entries:
        values = {
            "production": production,
            "number": "" if entry.number is None else f"{entry.number:0{figures}d}",
            "part": str(entry.part or ""),
            "title": entry.title,
            "narrator": entry.narrator or narrator,
        }
        stem, missing = _filled(pieces, values)
        name = f"{stem}.{ending}"
        found.append(Name(name, f"It has no {missing}, which the name needs." if missing else _objection(stem, name)))
    return _apart(found)


def _filled(pieces: Sequence[Piece], values: Mapping[str, str]) -> tuple[str, str]:
    """The text, and the first word outside of brackets that has nothing to say."""
    empty = {piece.group for piece in pieces if piece.word and piece.group and not values[piece.text]}
    missing = next((piece.text for piece in pieces if piece.word and not piece.group and not values[piece.text]), "")
    said = [values[piece.text] if piece.word else piece.text for piece in pieces if piece.group not in empty]
    return unicodedata.normalize("NFC", "".join(said)).strip(), missing


def _objection(stem: str, name: str) -> str:
    """What speaks against a name on Linux, Windows or macOS, in a sentence."""
    if not stem:
        return "The name would be empty."
    if (letter := wrong_letter(stem)) is not None:
        return f"The name would contain {letter}."
    if stem.startswith("."):
        return "A name that begins with a dot is hidden on many systems."
    if stem[-1] in ". ":
        return "A name can't end in a dot or a space before its ending."
    size = len(name.encode())
    if size > LONGEST_BYTES:
        return f"The name is {size} bytes long; with its certificate beside it, {LONGEST_BYTES} is the most. Shorten the title."
    try:
        validate_filename(name, platform="universal")
    except ValidationError as error:
        return _said(name, stem, error)
    return ""


def _said(name: str, stem: str, error: ValidationError) -> str:
    if error.reason == ErrorReason.INVALID_CHARACTER:
        letters = sorted({letter for letter in name if not _fits(letter)})
        return f"A file name can't contain {' '.join(f'“{letter}”' for letter in letters)}. Change the title or the template."
    if error.reason == ErrorReason.RESERVED_NAME:
        return f"“{stem}” is reserved on Windows; no file can have that name there."
    return f"This name can't be kept on every system: {error.description or error.reason}."


def _fits(letter: str) -> bool:
    try:
        validate_filename(f"a{letter}a", platform="universal")
    except ValidationError:
        return False
    return True


def _apart(found: list[Name]) -> list[Name]:
    """The same with an objection to names that are alike: capitals make no difference on many systems."""
    same: dict[str, list[int]] = {}
    for place, one in enumerate(found):
        same.setdefault(unicodedata.normalize("NFC", one.name).casefold(), []).append(place)
    for places in same.values():
        for place in places if len(places) > 1 else ():
            if not found[place].problem:
                others = len(places) - 1
                told = "another recording has" if others == 1 else f"{others} other recordings have"
                found[place] = Name(
                    found[place].name, f"The name is already used: {told} it too. Tell them apart by number, part or title."
                )
    return found
