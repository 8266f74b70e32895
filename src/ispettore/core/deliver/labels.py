"""What the files of a production say of themselves: what all have in common, and the tags of each."""

import re

from pydantic import BaseModel, ConfigDict, Field

from ispettore.core.audio.tagging import Tags
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.deliver import languages, naming
from ispettore.core.deliver.entries import LONGEST, Entry
from ispettore.core.errors import IspettoreError
from ispettore.core.text import refuse


class YearRefused(IspettoreError):
    """“{said}” is no year. Write four figures, such as 2026, or leave it empty."""

    said: str


class Labels(BaseModel):
    """What all files of a production say. An empty album means the production's name; `language` is as a person wrote it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    album: str = Field("", max_length=LONGEST)
    author: str = Field("", max_length=LONGEST)
    narrator: str = Field("", max_length=LONGEST)
    publisher: str = Field("", max_length=LONGEST)
    year: str = Field("", max_length=LONGEST)
    language: str = Field("", max_length=LONGEST)

    def checked(self) -> "Labels":
        """The same without spaces around. Raises BadText, YearRefused and LanguageUnknown."""
        found = {name: refuse(text.strip(), what=f"The {name}") for name, text in self.model_dump().items()}
        if found["year"] and not re.fullmatch(r"[12]\d{3}", found["year"]):
            raise YearRefused(said=found["year"])
        languages.code(found["language"])
        return Labels(**found)


class Delivering(BaseModel):
    """How a production is delivered: as what its files are written (None: as the specification asks), how they are named, what
    they say, and who answers for their certificates."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    form: OutputFormat | None = None
    naming: str = Field(naming.USUAL, max_length=10 * naming.LONGEST)
    labels: Labels = Labels()
    certified_by: str = Field("", max_length=LONGEST)


def tags(entry: Entry, labels: Labels, *, production: str, track: int) -> Tags:
    """The tags of one file: `track` is its place in the production, whatever its chapter's number is.

    >>> tags(Entry(number=7, part=2, title="The weir"), Labels(), production="Almanac", track=9).title
    'The weir, part 2'
    """
    return Tags(
        title=f"{entry.title}, part {entry.part}" if entry.part is not None and entry.title else entry.title,
        album=labels.album or production,
        track=track,
        narrator=entry.narrator or labels.narrator,
        author=labels.author,
        publisher=labels.publisher,
        year=labels.year,
        language=languages.code(labels.language),
    )
