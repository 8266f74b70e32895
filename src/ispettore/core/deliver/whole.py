"""What a production is as a whole: credits and sample, its numbering, its length and size. Limits are held against it."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from ispettore.core.deliver.entries import KINDS, Entry
from ispettore.core.spec.verdict import Whole

NAMED = 6
"""So many are named in a note."""


@dataclass(frozen=True)
class File:
    """One recording: what it is, how long it is (or its file, where that is made) and how large its file is; None where that is not
    known."""

    entry: Entry
    duration_s: float | None
    size_bytes: int | None


def whole(files: Sequence[File]) -> Whole:
    """Every quantity of the package, with notes that name what is meant."""
    chapters = [file.entry for file in files if file.entry.kind == "chapter" and file.entry.number is not None]
    kinds = Counter(file.entry.kind for file in files)
    samples = [file for file in files if file.entry.kind == "sample"]
    missing, repeated = _missing(chapters), _repeated(chapters)
    lengths = [file.duration_s for file in files if file.entry.kind != "sample"]
    sizes = [file.size_bytes for file in files]
    return {
        "opening_credits": (
            float(kinds["opening"]),
            None if kinds["opening"] else f"no recording is the {KINDS['opening'][0].lower()}",
        ),
        "closing_credits": (
            float(kinds["closing"]),
            None if kinds["closing"] else f"no recording is the {KINDS['closing'][0].lower()}",
        ),
        "sample_length_s": _longest(samples),
        "numbers_missing": (float(len(missing)), _named(missing, "missing")),
        "numbers_repeated": (float(len(repeated)), _named(repeated, "there more than once")),
        "total_duration_s": _sum(lengths, "not every recording is measured"),
        "package_size_mb": _sum([None if size is None else size / 1e6 for size in sizes], "not every file is made"),
    }


def _longest(samples: Sequence[File]) -> tuple[float | None, str | None]:
    if not samples:
        return None, "there is no sample; select a stretch on a bench and cut it"
    known = [file.duration_s for file in samples if file.duration_s is not None]
    return (max(known), None) if len(known) == len(samples) else (None, "the sample is not measured")


def _missing(chapters: Sequence[Entry]) -> list[str]:
    """Numbers and parts that are left out, as they are told."""
    numbers = {entry.number for entry in chapters if entry.number is not None}
    if not numbers:
        return []
    found = [str(number) for number in range(min(1, *numbers), max(numbers)) if number not in numbers]
    for number in sorted(numbers):
        parts = {entry.part for entry in chapters if entry.number == number and entry.part is not None}
        found += [f"{number}, part {part}" for part in range(1, max(parts, default=0)) if part not in parts]
    return found


def _repeated(chapters: Sequence[Entry]) -> list[str]:
    """Numbers and parts that are there more than once, as they are told."""
    counts = Counter((entry.number, entry.part) for entry in chapters)
    in_parts = {number for number, part in counts if part is not None}
    found = []
    for (number, part), count in sorted(counts.items(), key=lambda each: (each[0][0] or 0, each[0][1] or 0)):
        beside_parts = part is None and number in in_parts
        if count > 1 or beside_parts:
            found.append(f"{number}" if part is None else f"{number}, part {part}")
    return found


def _named(found: Sequence[str], what: str) -> str | None:
    """What is meant, in words; None for nothing."""
    if not found:
        return None
    rest = f" and {len(found) - NAMED} more" if len(found) > NAMED else ""
    told = "; ".join(found[:NAMED]) if any("part" in one for one in found) else ", ".join(found[:NAMED])
    return f"{told}{rest} {what}"


def _sum(values: Sequence[float | None], otherwise: str) -> tuple[float | None, str | None]:
    known = [value for value in values if value is not None]
    return (sum(known), None) if known and len(known) == len(values) else (None, otherwise)
