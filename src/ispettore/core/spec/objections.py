"""What speaks against a specification: bounds the wrong way round, limits no file can meet together, corridors finer than a meter.

A draft is looked at limit by limit, so that each objection can be shown beside the limits it is about while they are being written.
"""

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from ispettore.core.audio.formats import ABILITIES
from ispettore.core.figures import exact
from ispettore.core.spec import delivery
from ispettore.core.spec.builtin import impostor
from ispettore.core.spec.quantities import Quantity, quantity
from ispettore.core.spec.specification import MOST_LIMITS, Limit, Specification
from ispettore.core.spec.wording import figure

Numbered = tuple[int, Limit]


class Objection(BaseModel):
    """One thing that speaks against a specification. `limits` are the places in its list; none where it is about the whole.

    What `blocks` can't be kept; the rest is worth knowing.
    """

    model_config = ConfigDict(frozen=True)

    limits: tuple[int, ...]
    sentence: str
    blocks: bool = True


def objections(draft: Mapping[str, Any]) -> list[Objection]:
    """Everything that speaks against a draft given as JSON values; nothing blocks a specification that can be kept.

    >>> loud = {"quantity": "rms_dbfs", "low": -3}
    >>> [o.limits for o in objections({"id": "x", "name": "X", "limits": [loud, {"quantity": "sample_peak_dbfs", "high": -6}]})]
    [(0, 1)]
    """
    listed = draft.get("limits")
    if not isinstance(listed, Sequence) or isinstance(listed, str):
        return [Objection(limits=(), sentence="There is no list of limits.")]
    if len(listed) > MOST_LIMITS:  # said before anything is compared with anything
        return [Objection(limits=(), sentence=f"It has {len(listed)} limits; the most is {MOST_LIMITS}.")]
    found: list[Objection] = []
    limits: list[Numbered] = []
    for index, raw in enumerate(listed):
        limit, wrong = readable_limit(raw)
        if limit is None:
            found.append(Objection(limits=(index,), sentence=wrong))
            continue
        alone = list(_alone(limit))
        found += [Objection(limits=(index,), sentence=sentence, blocks=blocks) for sentence, blocks in alone]
        if not any(blocks for _, blocks in alone):
            limits.append((index, limit))
    found += _of_the_whole(draft)
    if not listed:
        found.append(Objection(limits=(), sentence="There are no limits yet, so every file would pass. Add one."))
    found += _named_twice(limits)
    on_files = [numbered for numbered in limits if numbered[1].applies_to != "production"]
    found += [*_out_of_order(on_files), *_wrong_differences(on_files), *_formats(on_files), *_tied(on_files)]
    if not any(objection.blocks for objection in found):
        found += _unwritable(draft, on_files)
    return found


def refusal(draft: Mapping[str, Any]) -> str:
    """Why a draft can't be kept, all of it in one text; empty where it can."""
    return " ".join(objection.sentence for objection in objections(draft) if objection.blocks)


def readable_limit(raw: Any) -> tuple[Limit | None, str]:
    """A limit from JSON values; or None, and why it can't be read."""
    try:
        return Limit.model_validate(raw), ""
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(part) for part in first["loc"])
        if first["type"] in ("float_parsing", "float_type", "finite_number"):
            return None, f"“{first['input']}” is not a number: write one, such as −18.5."
        said = _said(first)
        return None, _closed(f"{where}: {said}" if where and first["type"] != "value_error" else said)


def _closed(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('.') else '.'}"


def _alone(limit: Limit) -> Iterator[tuple[str, bool]]:
    """What speaks against a limit by itself, and whether it blocks."""
    about = limit.about
    if about.choices:
        yield from _choices(limit, about)
        return
    if limit.one_of:
        yield f"{about.title} is a number: enter a minimum or a maximum, not a list of words.", True
        return
    spread = limit.applies_to == "production" and not about.of_package
    least, most = (0.0, about.range[1] - about.range[0]) if spread else about.range
    for bound in (limit.low, limit.high):
        if bound is not None and not least <= bound <= most:
            span = f"{_with_unit(least, about)} and {_with_unit(most, about)}"
            yield f"{about.title} can't be {_with_unit(bound, about)}. Enter a value between {span}.", True
            return
    if spread and limit.low is not None:
        yield f"{about.title}: a production-wide limit sets the largest allowed difference, so it has only a maximum.", True
        return
    if limit.low is None or limit.high is None:
        return
    width = limit.high - limit.low
    if about.accuracy and width < about.accuracy:
        yield (
            f"{about.title}: a range of {figure(width, about)} {about.difference_unit} is narrower than the meters' accuracy of "
            f"{figure(about.accuracy, about)} {about.difference_unit}. Widen it to at least that.",
            True,
        )
    elif width and limit.guard_at(limit.low) + limit.guard_at(limit.high) >= width:
        yield (
            f"{about.title}: every reading inside would count as near, as its warning range is as wide as the limit itself.",
            False,
        )


def _choices(limit: Limit, about: Quantity) -> Iterator[tuple[str, bool]]:
    if limit.low is not None or limit.high is not None:
        yield f"{about.title} is a word, not a number: choose from {', '.join(about.choices)}.", True
    elif limit.applies_to == "production":
        yield (
            f"{about.title} is a word; only numeric limits can apply across a production. Apply it to every recording instead.",
            True,
        )
    elif unknown := [word for word in limit.one_of if word not in about.choices]:
        yield f"Unknown {about.title.lower()} “{unknown[0]}”: choose from {', '.join(about.choices)}.", True


def _of_the_whole(draft: Mapping[str, Any]) -> Iterator[Objection]:
    try:
        Specification.model_validate({**draft, "limits": []})
    except ValidationError as error:
        for wrong in error.errors():
            where = " → ".join(str(part) for part in wrong["loc"])
            yield Objection(limits=(), sentence=_closed(_NAMED.get(where) or f"{where}: {_said(wrong)}"))
    if against := impostor(draft.get("id"), draft.get("name"), _as_it_stands(draft)):
        yield Objection(limits=(), sentence=_closed(f"{against}: give it another"))


def _as_it_stands(draft: Mapping[str, Any]) -> Specification | None:
    try:
        return Specification.model_validate(draft)
    except ValidationError:
        return None


def _said(wrong: Any) -> str:
    return str(wrong["msg"]).removeprefix("Value error, ")


_NAMED = {
    "name": "Enter a name of up to 80 characters",
    "id": "The identifier may use lower-case letters, digits and hyphens (up to 64)",
}


def _named_twice(limits: Sequence[Numbered]) -> Iterator[Objection]:
    for (one, first), (other, second) in combinations(limits, 2):
        same_scope = (first.applies_to == "production") == (second.applies_to == "production")
        if first.quantity == second.quantity and same_scope:
            yield Objection(limits=(one, other), sentence=f"{first.about.title} has two limits. Keep one of them.")


def _out_of_order(limits: Sequence[Numbered]) -> Iterator[Objection]:
    known = {limit.quantity: (index, limit) for index, limit in limits}
    pairs = [(lower, upper, factor) for lower in known for upper, factor in quantity(lower).never_above if upper in known]
    for lower, upper, factor in pairs:
        (one, low), (other, high) = known[lower], known[upper]
        slack = low.about.accuracy + high.about.accuracy
        if low.low is not None and high.high is not None and factor * low.low > high.high + slack:
            times = "" if factor == 1 else f" {exact(factor)} times"
            yield Objection(
                limits=tuple(sorted((one, other))),
                sentence=(
                    f"No file can meet both: {low.about.title} at least {_with_unit(low.low, low.about)} and "
                    f"{high.about.title} at most {_with_unit(high.high, high.about)}. In any file{times} "
                    f"{low.about.title} is at most {high.about.title}."
                ),
            )


def _wrong_differences(limits: Sequence[Numbered]) -> Iterator[Objection]:
    known = {limit.quantity: (index, limit) for index, limit in limits}
    for name in known:
        names = (name, *(quantity(name).difference or ()))
        if len(names) < 3 or not all(each in known for each in names):
            continue
        (one, difference), (two, whole), (three, part) = (known[name] for name in names)
        slack = sum(limit.about.accuracy for limit in (difference, whole, part))
        least = _minus(whole.low, part.high)
        most = _minus(whole.high, part.low)
        too_little = most is not None and difference.low is not None and difference.low > most + slack
        too_much = least is not None and difference.high is not None and difference.high < least - slack
        if too_little or too_much:
            side, bound = ("at most", most) if too_little else ("at least", least)
            yield Objection(
                limits=tuple(sorted((one, two, three))),
                sentence=(
                    f"No file can meet all three: {difference.about.title} is {whole.about.title} less {part.about.title}, "
                    f"which here is {side} {_with_unit(bound or 0.0, difference.about)}."
                ),
            )


def _minus(one: float | None, other: float | None) -> float | None:
    return None if one is None or other is None else one - other


def _formats(limits: Sequence[Numbered]) -> Iterator[Objection]:
    """Limits that none of the containers asked for can meet."""
    asked = {limit.quantity: (index, limit) for index, limit in limits}.get("container")
    if asked is None:
        return
    containers = [name for name in asked[1].one_of if name in ABILITIES]
    for index, limit in limits:
        able = limit.about.able if limit is not asked[1] else None
        if able is None:
            continue
        can = [able(ABILITIES[name]) for name in containers]
        if can and not any(one.meets(low=limit.low, high=limit.high, one_of=limit.one_of) for one in can):
            names = " or ".join(name.upper() for name in containers)
            yield Objection(limits=tuple(sorted((asked[0], index))), sentence=f"No file can meet both: {names} {can[0].said}.")


def _unwritable(draft: Mapping[str, Any], limits: Sequence[Numbered]) -> Iterator[Objection]:
    """Said, but in nobody's way: files can be checked against it all the same."""
    try:
        delivery.asked_for(Specification.model_validate(draft))
    except delivery.NotWritable:
        concerned = [(index, limit) for index, limit in limits if limit.about.able]
        asked = delivery.asked_in_words([limit for _, limit in concerned])
        yield Objection(
            limits=tuple(index for index, _ in concerned),
            sentence=f"Ispettore can check files against this but can't make them: it can't write {asked} that meets the "
            "other limits on the file.",
            blocks=False,
        )


def _tied(limits: Sequence[Numbered]) -> Iterator[Objection]:
    """Words that a quantity has exactly where a count has a value, where the two limits can't both be met."""
    known = {limit.quantity: (index, limit) for index, limit in limits}
    for one, words in limits:
        tie = words.about.exactly_where
        if tie is None or tie.quantity not in known:
            continue
        other, count = known[tie.quantity]
        never = (count.low is not None and count.low > tie.value) or (count.high is not None and count.high < tie.value)
        only = not never and count.high is not None and count.high < tie.value + 1
        if (only and tie.word not in words.one_of) or (never and set(words.one_of) == {tie.word}):
            yield Objection(
                limits=tuple(sorted((one, other))),
                sentence=f"No file can meet both: {words.about.title} is “{tie.word}” where {count.about.title} is "
                f"{figure(tie.value, count.about)}, and only there.",
            )


def _with_unit(value: float, about: Quantity) -> str:
    text = figure(value, about)
    return text if about.clock or not about.unit else f"{text} {about.unit}"
