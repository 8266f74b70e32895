"""Chapter marks: moments of a file from which a chapter is read, and where they are in the edited recording."""

from collections.abc import Sequence

from ispettore.core.edit.timeline import Timeline


def heard(at_s: Sequence[float], line: Timeline | None) -> list[float | None]:
    """Where chapters that begin at moments of the file, in their order, begin in the recording; None where nothing of one is
    heard. What was put in before everything is of the chapter that begins with it.

    A mark in the midst of what was left out stands at the join, as its chapter goes on behind that. Of those before the first thing
    that is heard the last one counts: what is heard there is its chapter.
    """
    if line is None:
        return list(at_s)
    rate, begins, ends = line.edits.sample_rate_hz, line.to_recording(0), line.to_recording(line.edits.frames)
    frames = [round(at * rate) for at in at_s]
    there = [now if now > begins else 0 for now in map(line.to_recording, frames)]
    behind = [*there, ends][1:]
    places: list[float | None] = []
    for at, frame, now, following in zip(at_s, frames, there, behind, strict=True):
        passed = now >= following and not line.hears(frame)  # what is read from there on is another's chapter, or nothing
        stays = abs(now / rate - at) < 1 / rate
        places.append(None if passed or now >= ends else at if stays else now / rate)
    return places
