"""The record of a production: what was done to which recording when, to be read and as JSON."""

import json
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict

Topic = Literal["recording", "decision", "file", "certificate", "delivery", "listening"]
TOPICS: dict[Topic, str] = {
    "recording": "Recordings",
    "decision": "Decisions",
    "file": "Files made",
    "certificate": "Certificates",
    "delivery": "Delivered",
    "listening": "Listening and notes",
}


class Deed(BaseModel):
    """Something that was done: when, what about, to which recording (none where it was the production as a whole), in a sentence.
    `details` say how; `file` and `sha256` name what came of it or in, `certificate` what was sealed."""

    model_config = ConfigDict(frozen=True)

    at: datetime
    topic: Topic
    text: str
    recording: UUID | None = None
    name: str = ""
    details: tuple[str, ...] = ()
    file: str = ""
    sha256: str = ""
    certificate: UUID | None = None


def in_order(deeds: Sequence[Deed]) -> list[Deed]:
    """From the first to the last; what was done in one moment in the order of topics."""
    topics = list(TOPICS)
    return sorted(deeds, key=lambda one: (one.at, topics.index(one.topic), one.name, one.text, one.details, one.sha256))


def as_json(production: str, deeds: Sequence[Deed]) -> str:
    """The record for programs: format and version, the production, and every deed with all it holds."""
    told = {
        "format": "ispettore-record",
        "version": 1,
        "production": production,
        "deeds": [deed.model_dump(mode="json", exclude_defaults=True) for deed in deeds],
    }
    return json.dumps(told, ensure_ascii=False, indent=1) + "\n"


def as_text(production: str, deeds: Sequence[Deed]) -> str:
    """The record to be read: a line for each deed, times in UTC, details below it.

    >>> deed = Deed(at=datetime(2026, 3, 1, 9, 30, tzinfo=UTC), topic="recording", name="01.wav", text="Came in.", sha256="ab" * 32)
    >>> print(as_text("Almanac", [deed]))
    Almanac: what was done
    <BLANKLINE>
    2026-03-01 09:30:00 UTC  01.wav  Came in.
        SHA-256 abababababababababababababababababababababababababababababababab
    <BLANKLINE>
    """
    lines = [f"{production}: what was done", ""]
    for deed in deeds:
        named = f"{deed.name}  " if deed.name else ""
        lines.append(f"{deed.at.astimezone(UTC):%Y-%m-%d %H:%M:%S} UTC  {named}{deed.text}")
        lines += [f"    {detail}" for detail in deed.details]
        if deed.sha256:
            lines.append(f"    SHA-256 {deed.sha256}")
    return "\n".join(lines) + "\n"
