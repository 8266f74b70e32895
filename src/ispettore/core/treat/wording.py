"""Steps as sentences: "Compress above −24 dBFS at 2 : 1", with every setting apart, so that it can be edited in its place.

The words stand with each step's settings; here they are put together with the figures, and an error in a setting becomes a sentence
beside it. A step whose settings can't be used still reads: what is wrong may be what somebody is about to mend.
"""

import re
import types
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal, Protocol, Union, get_args, get_origin

from annotated_types import Ge, Le
from pydantic import BaseModel, ConfigDict, ValidationError
from pydantic.fields import FieldInfo

from ispettore.core.figures import exact
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.step import Settings
from ispettore.core.treat.treatment import STEPS

Form = Literal["number", "numbers", "choice"]


class _Done(Protocol):
    """A step that ran: of what kind, and why."""

    @property
    def kind(self) -> str: ...

    @property
    def reason(self) -> str: ...


def numbered(steps: Iterable[_Done]) -> list[str]:
    """Steps that ran, each with its reason, as they are listed on paper."""
    return [f"{place}. {step.kind.replace('-', ' ').capitalize()}. {step.reason}".rstrip() for place, step in enumerate(steps, 1)]


class Choice(BaseModel):
    """One of a few values, and its word."""

    model_config = ConfigDict(frozen=True)

    value: int | float | str | bool
    word: str


class Setting(BaseModel):
    """One setting of a step, as a person edits it.

    `path` names it in the settings, with dots into what they hold (`bands.0.gain_db`). `value` is what is written there, be it
    right or wrong; `absent` is how it reads where it may be left to the step. `least`, `most` and `usual` are in `unit`.
    """

    model_config = ConfigDict(frozen=True)

    path: str
    title: str
    why: str
    form: Form
    unit: str = ""
    value: Any = None
    text: str
    usual: Any = None
    least: float | None = None
    most: float | None = None
    whole: bool = False
    absent: str = ""
    choices: tuple[Choice, ...] = ()
    problem: str = ""


class StepPiece(BaseModel):
    """A piece of a step's sentence: words, or the setting at `path`."""

    model_config = ConfigDict(frozen=True)

    words: str = ""
    path: str = ""


class ListEntry(BaseModel):
    """One entry of a step's list, and where it stands in the settings."""

    model_config = ConfigDict(frozen=True)

    path: str
    pieces: tuple[StepPiece, ...]


class StepReading(BaseModel):
    """A step as it reads: its sentence, what else can be set, the entries of its list, and every setting by its path.

    `problems` are what is wrong with the step and belongs to none of its settings.
    """

    model_config = ConfigDict(frozen=True)

    title: str
    pieces: tuple[StepPiece, ...]
    further: tuple[StepPiece, ...] = ()
    entries: tuple[ListEntry, ...] = ()
    list_of: str = ""
    settings: dict[str, Setting] = {}
    problems: tuple[str, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether the step can run as it is set."""
        return not self.problems and not any(setting.problem for setting in self.settings.values())


def read(kind: str, settings: Mapping[str, Any], inspection: Inspection | None = None) -> StepReading:
    """How a step of this kind reads, whatever its settings hold; for a recording that is known, with what it has of the step.

    >>> said = read("compressor", {"threshold_dbfs": -24})
    >>> text(said)
    'Compress above −24 dBFS at 2 : 1'
    >>> read("compressor", {"threshold_dbfs": 3}).settings["threshold_dbfs"].problem
    'Threshold: enter −80 to 0 dBFS.'
    >>> read("harp", {}).problems
    ('This version of Ispettore does not know the step “harp”. Remove it to run the rest.',)
    """
    made = STEPS.get(kind)
    if made is None:
        unknown = f"This version of Ispettore does not know the step “{kind}”. Remove it to run the rest."
        return StepReading(title=kind, pieces=(StepPiece(words=kind),), problems=(unknown,))
    wrong, problems = _wrong(made, settings)
    found: dict[str, Setting] = {}
    field, sentence = made.each or ("", "")
    there = settings.get(field) if field else ()
    listed = there if isinstance(there, Sequence) and not isinstance(there, str) else ()
    words = made.filled if listed and made.filled else made.sentence
    if inspection is not None and not wrong and not problems and not listed:
        words = made.model_validate(settings).said(inspection)
    pieces = _pieces(words, "", made, settings, wrong, found)
    further = _pieces(made.further, "", made, settings, wrong, found)
    entries = []
    for number in range(len(listed)):
        path = f"{field}.{number}"
        entries.append(ListEntry(path=path, pieces=_pieces(sentence, f"{path}.", made, settings, wrong, found)))
    left = [said for path, said in wrong.items() if path not in found]
    return StepReading(
        title=made.title,
        pieces=pieces,
        further=further,
        entries=tuple(entries),
        list_of=field,
        settings=found,
        problems=(*problems, *left),
    )


def text(reading: StepReading) -> str:
    """The sentence without its further settings."""
    return _joined(reading, reading.pieces)


def further_text(reading: StepReading) -> str:
    """The rest of the settings, and the entries of its list."""
    entries = [_joined(reading, entry.pieces) for entry in reading.entries]
    return "; ".join([_joined(reading, reading.further), *entries] if reading.further else entries)


def _joined(reading: StepReading, pieces: Sequence[StepPiece]) -> str:
    return "".join(piece.words or _with_unit(reading.settings[piece.path]) for piece in pieces)


def _with_unit(setting: Setting) -> str:
    return setting.text if setting.value is None or not setting.unit else f"{setting.text} {setting.unit}"


def changed(setting: Setting) -> str:
    """A setting with its title, as a list of changes names it."""
    return f"{setting.title.lower()} {_with_unit(setting)}"


def _pieces(
    sentence: str, within: str, made: type[Settings], settings: Mapping[str, Any], wrong: dict[str, str], found: dict[str, Setting]
) -> tuple[StepPiece, ...]:
    """A sentence cut at its braces; the settings named there are added to `found`."""
    pieces = []
    for number, part in enumerate(re.split(r"\{([\w.]+)\}", sentence)):
        if number % 2 == 0:
            if part:
                pieces.append(StepPiece(words=part))
            continue
        path = f"{within}{part}"
        found[path] = _setting(path, made, settings, wrong.get(path, ""))
        pieces.append(StepPiece(path=path))
    return tuple(pieces)


def _setting(path: str, made: type[Settings], settings: Mapping[str, Any], problem: str) -> Setting:
    field = field_at(made, path)
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    kind = _bare(field.annotation)
    usual = None if field.is_required() else field.get_default(call_default_factory=True)
    value = _at(settings, path, usual)
    words: Any = extra.get("words", {})
    values = (True, False) if kind is bool else get_args(kind) if get_origin(kind) is Literal else ()
    choices = tuple(Choice(value=one, word=words.get(str(one), _figure(one))) for one in values)
    form: Form = "choice" if choices else "numbers" if get_origin(kind) is tuple else "number"
    absent = str(extra.get("absent", ""))
    return Setting(
        path=path,
        title=field.description or path,
        why=str(extra.get("why", "")),
        form=form,
        unit=str(extra.get("unit", "")),
        value=value,
        text=_text(value, choices, absent),
        usual=usual,
        least=next((float(str(one.ge)) for one in field.metadata if isinstance(one, Ge)), None),
        most=next((float(str(one.le)) for one in field.metadata if isinstance(one, Le)), None),
        whole=kind is int,
        absent=absent,
        choices=choices,
        problem=problem,
    )


def _text(value: Any, choices: tuple[Choice, ...], absent: str) -> str:
    if value is None:
        return absent or "…"
    if isinstance(value, list | tuple):
        return ", ".join(_figure(one) for one in value) or "none"
    return next((one.word for one in choices if one.value == value and type(one.value) is type(value)), _figure(value))


def _figure(value: Any) -> str:
    return exact(round(value, 3)) if isinstance(value, float | int) and not isinstance(value, bool) else str(value)


def field_at(made: type[BaseModel], path: str) -> FieldInfo:
    """The field that a path leads to: through lists by their numbers and through models by their names."""
    field: FieldInfo | None = None
    inside: Any = made
    for part in path.split("."):
        if part.isdigit():
            inside = next(one for one in get_args(inside) if one is not Ellipsis)
            continue
        field = inside.model_fields[part]
        inside = _bare(field.annotation)
    assert field is not None
    return field


def _bare(annotation: Any) -> Any:
    """An annotation without its None."""
    if get_origin(annotation) in (Union, types.UnionType):
        return next(one for one in get_args(annotation) if one is not types.NoneType)
    return annotation


def _at(settings: Any, path: str, usual: Any) -> Any:
    for part in path.split("."):
        if isinstance(settings, Mapping) and part in settings:
            settings = settings[part]
        elif isinstance(settings, Sequence) and part.isdigit() and int(part) < len(settings):
            settings = settings[int(part)]
        else:
            return usual
    return settings


def _wrong(made: type[Settings], settings: Mapping[str, Any]) -> tuple[dict[str, str], list[str]]:
    """What is wrong with settings: by path, and what belongs to none."""
    try:
        made.model_validate(settings)
    except ValidationError as error:
        by_path: dict[str, str] = {}
        other: list[str] = []
        for one in error.errors():
            path = ".".join(str(part) for part in one["loc"])
            try:
                by_path.setdefault(path, _told(field_at(made, path), one["type"], one["msg"]))
            except (KeyError, AttributeError, StopIteration, AssertionError, TypeError):
                other.append(_plain(one["msg"], path if one["type"] == "extra_forbidden" else ""))
        return by_path, other
    return {}, []


def _told(field: FieldInfo, kind: str, message: str) -> str:
    title = field.description or "This"
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    unit = f" {extra['unit']}" if extra.get("unit") else ""
    least = next((exact(float(str(one.ge))) for one in field.metadata if isinstance(one, Ge)), None)
    most = next((exact(float(str(one.le))) for one in field.metadata if isinstance(one, Le)), None)
    if kind == "value_error":
        return _plain(message, "")
    if least is not None and most is not None:
        return f"{title}: enter {least} to {most}{unit}."
    if kind == "missing":
        return f"{title} is missing."
    return f"{title}: {message[:1].lower()}{message[1:]}."


def _plain(message: str, unknown: str) -> str:
    if unknown:
        return f"This version of Ispettore does not know the setting “{unknown}”. Remove the step, or add it anew."
    said = message.removeprefix("Value error, ")
    return f"{said[:1].upper()}{said[1:]}."
