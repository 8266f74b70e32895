"""What each reading and finding means, from `methods.md`: the one text behind docs/METHODS.md and the interface's explanations."""

import re
from functools import lru_cache
from importlib import resources

from pydantic import BaseModel, ConfigDict


class Method(BaseModel):
    """One entry: its `name` (a quantity or a kind of finding), and two sentences for a narrator before the details.

    `formula` and `source` are empty where there are none.
    """

    model_config = ConfigDict(frozen=True)

    name: str
    title: str
    meaning: str
    definition: str
    formula: str = ""
    source: str = ""


@lru_cache(maxsize=1)
def methods() -> dict[str, dict[str, Method]]:
    """Entries by name, in the order of the text, by what they are: `readings` and `findings`.

    >>> methods()["readings"]["rms_dbfs"].title
    'RMS level'
    >>> methods()["findings"]["clipping"].meaning
    'Peaks were cut flat here. They sound harsh, and nothing restores them.'
    """
    text = resources.files("ispettore.core.spec").joinpath("methods.md").read_text(encoding="utf-8")
    readings, findings = text.split("\n## Findings\n")
    return {"readings": _entries(readings), "findings": _entries(findings)}


def title_of_finding(kind: str) -> str:
    """How a kind of finding is called; its own name where the text has none."""
    entry = methods()["findings"].get(kind)
    return entry.title if entry else kind


def _entries(text: str) -> dict[str, Method]:
    found = {}
    for part in re.split(r"^### ", text, flags=re.MULTILINE)[1:]:
        lines = [line for line in part.splitlines() if line.strip() and not line.startswith("## ")]
        title, name, meaning = lines[0].strip(), lines[1].strip().strip("`"), lines[2].strip()
        details = dict(re.findall(r"^- \*\*(\w+)\.\*\* (.*)$", "\n".join(lines[3:]), flags=re.MULTILINE))
        formula = details.get("Formula", "")
        found[name] = Method(
            name=name,
            title=title,
            meaning=meaning,
            definition=details["Definition"],
            formula="" if formula == "none" else formula,
            source=details.get("Source", ""),
        )
    return found
