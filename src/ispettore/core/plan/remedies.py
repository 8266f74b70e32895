"""What mends a finding: a step, another take, or nothing, and why."""

REMEDIES = {
    "dead-silence": "Replace it with the recording's own room tone; a gate or an editor cut the room away.",
    "broken-off": "The file ends before its header says it should. Copy or export it again.",
}


def advice(kind: str) -> str:
    """One sentence for a kind of finding; empty where there is nothing to say.

    >>> advice("broken-off")
    'The file ends before its header says it should. Copy or export it again.'
    """
    return REMEDIES.get(kind, "")
