"""What somebody wants done to a recording, as edits of its file.

Everything here is said in the time of the recording as it is edited by now, and comes back as all its edits; what was edited inside
of a stretch before goes with that stretch.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ispettore.core.edit.edits import LONGEST_ROOM_S, MOST_ROOM, Edit, Edits, Put, Why, joined, merged
from ispettore.core.edit.timeline import Timeline
from ispettore.core.errors import IspettoreError

Times = tuple[float, float]
SHORTEST_S = 0.001
SHORTEST_TONE_S, LONGEST_TONE_S = 0.12, 4.0
SHORTEST_LEFT_S = 0.5


class SpanNotEditable(IspettoreError):
    """Select between {least_ms:.0f} ms and all of “{file}” but {left_s} s, inside of it. Nothing was changed."""

    file: str
    least_ms: float
    left_s: float


class NoRoomToneToEdit(IspettoreError):
    """“{file}” has no room tone of {least_ms:.0f} ms or more to put in. Select a pause and use it as room tone first."""

    file: str
    least_ms: float


class PutInTooLong(IspettoreError):
    """Up to {most_s:.0f} s of room tone can be put in at one place of “{file}”. Nothing was changed."""

    file: str
    most_s: float


@dataclass(frozen=True)
class PauseRule:
    """Pauses longer than `longest_s` become so long, those shorter than `shortest_s`, but of `from_s` at least, so long; each
    may be left out. Nothing is cut within `margin_s` of a word, as far as the pause is long enough."""

    longest_s: float | None = None
    shortest_s: float | None = None
    from_s: float = 0.2
    margin_s: float = 0.08


def unedited(*, sample_rate_hz: int, frames: int, room: Sequence[tuple[float, float]]) -> Edits:
    """A recording as it came in. `room` are stretches of it, in seconds, that are room tone: the longest will be used."""
    found = sorted(room, key=lambda one: one[0] - one[1])[:MOST_ROOM]
    tone = [
        (round(start * sample_rate_hz), min(round(min(end, start + LONGEST_TONE_S) * sample_rate_hz), frames))
        for start, end in found
        if end - start >= SHORTEST_TONE_S
    ]
    return Edits(sample_rate_hz=sample_rate_hz, frames=frames, tone=tuple(tone))


def cut(edits: Edits, start_s: float, end_s: float, *, file: str) -> Edits:
    """A stretch is left out. Raises SpanNotEditable."""
    return cuts(edits, [(start_s, end_s)], file=file)


def cuts(edits: Edits, spans: Sequence[Times], *, file: str, why: Why = "") -> Edits:
    """Several stretches are left out at once; those that overlap or meet are one. Raises SpanNotEditable."""
    wishes: list[_Wish] = []
    for start_s, end_s in sorted(spans):
        first, last = _span(edits, start_s, end_s, file)
        if wishes and first <= wishes[-1].last:
            before = wishes.pop()
            first, last = before.first, max(before.last, last)
        wishes.append(_Wish(first, last, why=why))
    if edits.length - sum(wish.last - wish.first for wish in wishes) < SHORTEST_LEFT_S * edits.sample_rate_hz:
        raise SpanNotEditable(file=file, least_ms=SHORTEST_S * 1000, left_s=SHORTEST_LEFT_S)
    return _spliced(edits, wishes, file)


def replaced(edits: Edits, start_s: float, end_s: float, *, file: str) -> Edits:
    """Room tone stands in the place of a stretch. Raises SpanNotEditable, NoRoomToneToEdit and PutInTooLong."""
    first, last = _span(edits, start_s, end_s, file, left_s=0.0)
    return _spliced(edits, [_Wish(first, last, _room(last - first))], file)


def lengthened(edits: Edits, at_s: float, by_s: float, *, file: str) -> Edits:
    """So much room tone is put in at a moment. Raises SpanNotEditable, NoRoomToneToEdit and PutInTooLong."""
    at = round(at_s * edits.sample_rate_hz)
    if not 0 <= at <= edits.length or by_s < SHORTEST_S:
        raise SpanNotEditable(file=file, least_ms=SHORTEST_S * 1000, left_s=SHORTEST_LEFT_S)
    return _spliced(edits, [_Wish(at, at, _room(round(by_s * edits.sample_rate_hz)))], file)


def joined_with(edits: Edits, put: Sequence[Put], *, file: str) -> Edits:
    """What another recording holds stands behind the end. Raises NoRoomToneToEdit and PutInTooLong."""
    return _spliced(edits, [_Wish(edits.length, edits.length, tuple(put), why="join")], file)


def retaken(edits: Edits, start_s: float, end_s: float, put: Sequence[Put], *, file: str) -> Edits:
    """What was put together of a retake stands in the place of a stretch, which may be a moment. Raises SpanNotEditable,
    NoRoomToneToEdit and PutInTooLong."""
    if start_s == end_s:
        at = min(round(start_s * edits.sample_rate_hz), edits.length)
        return _spliced(edits, [_Wish(at, at, tuple(put))], file)
    first, last = _span(edits, start_s, end_s, file, left_s=0.0)
    return _spliced(edits, [_Wish(first, last, tuple(put))], file)


def ended(edits: Edits, *, head: Times | None = None, tail: Times | None = None, file: str) -> Edits:
    """Head and tail brought from how long they are to how long they are to be, in seconds; None leaves one alone. What is cut lies
    farthest from the words; where there is to be more, what was cut so comes back first, and room tone is put in for the rest.
    Raises SpanNotEditable, NoRoomToneToEdit and PutInTooLong."""
    if tail is not None:
        edits = _brought(edits, tail[1] - tail[0], "tail", file)
    return edits if head is None else _brought(edits, head[1] - head[0], "head", file)


def _brought(edits: Edits, longer_s: float, which: Literal["head", "tail"], file: str) -> Edits:
    least, length_s = SHORTEST_S * edits.sample_rate_hz, edits.seconds(edits.length)
    longer = round(longer_s * edits.sample_rate_hz)
    if longer <= -least:
        spare = (0.0, -longer_s) if which == "head" else (length_s + longer_s, length_s)
        return _spliced(edits, [_Wish(*_span(edits, *spare, file), why=which)], file)
    edits, back = _given_back(edits, max(longer, 0), which)
    if longer - back < least:
        return edits
    at = 0 if which == "head" else edits.length
    return _spliced(edits, [_Wish(at, at, _room(longer - back), why=which)], file)


def _given_back(edits: Edits, most: int, which: Literal["head", "tail"]) -> tuple[Edits, int]:
    """With so many frames at the most of what was cut off head or tail, nearest to the words; and how many those were."""
    place = 0 if which == "head" else len(edits.edits) - 1
    found = edits.edits[place] if edits.edits else None
    if found is None or found.why != which or found.put:
        return edits, 0
    back = min(most, found.end - found.start)
    moved = {"end": found.end - back} if which == "head" else {"start": found.start + back}
    left = (found.model_copy(update=moved),) if back < found.end - found.start else ()
    return edits.model_copy(update={"edits": (*edits.edits[:place], *left, *edits.edits[place + 1 :])}), back


def paused(
    edits: Edits,
    pauses: Sequence[Times],
    rule: PauseRule,
    *,
    sounds: Sequence[Times] = (),
    file: str,
) -> Edits:
    """Pauses brought to a length, near their middle. `sounds` in them (breaths) stay whole or go whole wherever that can be. Raises
    NoRoomToneToEdit."""
    rate = edits.sample_rate_hz
    wishes = []
    for start, end in pauses:
        length = end - start
        inside = [one for one in sounds if one[1] > start and one[0] < end]
        if rule.longest_s is not None and length > rule.longest_s + SHORTEST_S:
            at = _cut_at((start, end), length - rule.longest_s, inside, rule.margin_s)
            wishes.append(_Wish(round(at * rate), round((at + length - rule.longest_s) * rate), why="pause"))
        elif rule.shortest_s is not None and rule.from_s <= length < rule.shortest_s - SHORTEST_S:
            at = round(_cut_at((start, end), 0.0, inside, rule.margin_s) * rate)
            wishes.append(_Wish(at, at, _room(round((rule.shortest_s - length) * rate)), why="pause"))
    return _spliced(edits, wishes, file)


def _cut_at(pause: Times, length_s: float, sounds: Sequence[Times], margin_s: float) -> float:
    """Where in a pause so much is best left out: through as few sounds as can be, losing as few as can be, near its middle.

    >>> _cut_at((0.0, 3.0), 1.0, [], 0.1), _cut_at((0.0, 3.0), 1.0, [(1.2, 1.7)], 0.1), _cut_at((0.0, 2.0), 1.2, [(0.3, 0.7)], 0.1)
    (1.0, 1.7, 0.7)
    """
    first, last = pause[0], pause[1] - length_s
    margin = min(margin_s, (last - first) / 2)
    first, last = first + margin, last - margin
    middle = (first + last) / 2
    edges = [edge for start, end in sounds for edge in (start, end, start - length_s, end - length_s)]

    def cost(at: float) -> tuple[int, int, float]:
        end = at + length_s
        within = [one for one in sounds if one[1] > at + 1e-9 and one[0] < end - 1e-9]
        within += [one for one in sounds if length_s == 0 and one[0] < at < one[1] and one not in within]
        whole = sum(at <= one[0] + 1e-9 and one[1] <= end + 1e-9 for one in within)
        return len(within) - whole, whole, abs(at - middle)

    places: list[float] = [middle, *(edge for edge in edges if first <= edge <= last)]
    best: float = min(places, key=cost)
    return round(best, 6)


def without(edits: Edits, numbers: Sequence[int]) -> Edits:
    """Without some of its edits, counted from 0."""
    gone = set(numbers)
    return edits.model_copy(update={"edits": tuple(one for place, one in enumerate(edits.edits) if place not in gone)})


def _span(edits: Edits, start_s: float, end_s: float, file: str, *, left_s: float = SHORTEST_LEFT_S) -> tuple[int, int]:
    rate, length = edits.sample_rate_hz, edits.length
    first, last = round(start_s * rate), min(round(end_s * rate), length)
    if first < 0 or last - first < SHORTEST_S * rate or length - (last - first) < left_s * rate:
        raise SpanNotEditable(file=file, least_ms=SHORTEST_S * 1000, left_s=SHORTEST_LEFT_S)
    return first, last


@dataclass(frozen=True)
class _Wish:
    """Frames of the recording left out, and what is put in their place."""

    first: int
    last: int
    put: tuple[Put, ...] = ()
    why: Why = ""


def _room(frames: int) -> tuple[Put, ...]:
    return (Put(frames=frames),) if frames else ()


def _spliced(edits: Edits, wishes: Sequence[_Wish], file: str) -> Edits:
    """With wishes for stretches that lie apart from one another."""
    if not edits.tone and any(not one.take for wish in wishes for one in wish.put):
        raise NoRoomToneToEdit(file=file, least_ms=SHORTEST_TONE_S * 1000)
    line = Timeline(edits)
    of = {edit.end: edit for edit in edits.edits}
    gone: set[int] = set()
    new: list[Edit] = []
    for wish in wishes:
        first = line.place(wish.first)
        last = line.place(wish.last - 1) if wish.last > wish.first else first
        # What was put in before goes with the stretch, but for what of it lies outside; a join there meets the new edit.
        gone |= {one.start for one in line.segments[first : last + 1] if one.made}
        start, before = _edge(of, line, first, wish.first, ends=False)
        end, after = _edge(of, line, last, wish.last, ends=True)
        put = joined((*before, *wish.put, *after))
        if end > start or put:
            new.append(Edit(start=start, end=end, put=put, why=wish.why))
    found = merged([*(edit for edit in edits.edits if edit.end not in gone), *new])
    if any(one.longest_room > LONGEST_ROOM_S * edits.sample_rate_hz for one in found):
        raise PutInTooLong(file=file, most_s=LONGEST_ROOM_S)
    return edits.model_copy(update={"edits": found})


def _edge(of: Mapping[int, Edit], line: Timeline, place: int, frame: int, *, ends: bool) -> tuple[int, tuple[Put, ...]]:
    """Where in the file a stretch of the recording begins or `ends`, which there lies in a segment; and, inside of what was put in,
    what of that stays outside of it."""
    segment = line.segments[place]
    inside = frame - segment.at
    if segment.put is None:
        return segment.start + min(inside, segment.frames), ()
    edit = of[segment.start]
    which = sum(1 for one in line.segments[max(place - len(edit.put), 0) : place] if one.made and one.start == segment.start)
    if ends:
        return edit.end, (*_part(segment.put, inside, segment.frames), *edit.put[which + 1 :])
    return edit.start, (*edit.put[:which], *_part(segment.put, 0, inside))


def _part(put: Put, first: int, last: int) -> tuple[Put, ...]:
    if last <= first:
        return ()
    start = put.start + first if put.take else 0
    return (put.model_copy(update={"start": start, "frames": last - first}),)
