"""What the desk asks of a package and of each file in it, and its answer with reasons."""

import hashlib
import json
import re
import shutil
import tempfile
import zipfile
from functools import cache
from importlib import resources
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from ispettore.desk.meter import TITLES, Unreadable, measure

SUMS, ASIDE = "SHA256SUMS", "certificates/"
LARGEST_SUMS_BYTES = 10_000_000


class Bound(BaseModel):
    """One reading and between what it has to lie."""

    model_config = ConfigDict(frozen=True)

    reading: str
    low: float | None = None
    high: float | None = None


class Requirements(BaseModel):
    """What the desk asks of one kind of delivery: which kinds of files, and bounds on readings."""

    model_config = ConfigDict(frozen=True)

    id: str
    title: str
    containers: list[str]
    bounds: list[Bound]


class Reason(BaseModel):
    """Why a file is rejected: in words and, where it is a reading, which and what it read."""

    text: str
    reading: str | None = None
    value: float | None = None


class FileAnswer(BaseModel):
    """The answer for one file."""

    name: str
    sha256: str
    accepted: bool
    reasons: list[Reason]
    readings: dict[str, float | None]


class Answer(BaseModel):
    """The answer for a package: accepted where every file is and nothing is wrong with it as a whole (`reasons`)."""

    accepted: bool
    reasons: list[str]
    files: list[FileAnswer]


@cache
def asked() -> dict[str, Requirements]:
    """All requirements by their identifiers."""
    text = (resources.files("ispettore.desk") / "requirements.json").read_text(encoding="utf-8")
    return {one["id"]: Requirements.model_validate(one) for one in json.loads(text)}


def check(package: Path, wanted: Requirements, folder: Path) -> Answer:
    """Check a package (ZIP); its files are unpacked one by one into `folder`."""
    try:
        with zipfile.ZipFile(package) as zipped:
            return _check(zipped, wanted, folder)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, OSError) as error:
        return Answer(accepted=False, reasons=[f"The package can't be opened as a ZIP file: {error}."], files=[])


def _check(zipped: zipfile.ZipFile, wanted: Requirements, folder: Path) -> Answer:
    members = {info.filename: info for info in zipped.infolist() if not info.is_dir()}
    tops = {name.split("/", 1)[0] for name in members}
    prefix = f"{next(iter(tops))}/" if len(tops) == 1 and all("/" in name for name in members) else ""
    inside = {name.removeprefix(prefix): info for name, info in members.items()}
    if SUMS not in inside or inside[SUMS].file_size > LARGEST_SUMS_BYTES:
        return Answer(accepted=False, reasons=[f"There is no list of hashes ({SUMS})."], files=[])
    listed = _listed(zipped.read(inside[SUMS]).decode("utf-8", errors="replace"))
    reasons = [f"“{name}” is in the list of hashes but not in the package." for name in listed if name not in inside]
    reasons += [
        f"“{name}” is in the package but not in the list of hashes." for name in inside if name not in listed and name != SUMS
    ]
    files = []
    for name, sha256 in listed.items():
        if name not in inside:
            continue
        with tempfile.TemporaryDirectory(dir=folder) as held:
            path = Path(held) / "file"
            with zipped.open(inside[name]) as source, path.open("wb") as target:
                shutil.copyfileobj(source, target, 1 << 20)
            if name.startswith(ASIDE):
                if _sha256(path) != sha256:
                    reasons.append(f"“{name}” is not what the list of hashes says.")
            else:
                files.append(_file(name, path, sha256, wanted))
    if not files:
        reasons.append("There is no recording in it.")
    return Answer(accepted=not reasons and all(file.accepted for file in files), reasons=reasons, files=files)


def _listed(text: str) -> dict[str, str]:
    """Names and hashes as `sha256sum` writes them; a name with a backslash or a line break is escaped, and its line marked."""
    found = {}
    for line in text.splitlines():
        if match := re.fullmatch(r"(\\?)([0-9a-f]{64}) [ *](.+)", line):
            name = match.group(3)
            found[name.replace("\\n", "\n").replace("\\\\", "\\") if match.group(1) else name] = match.group(2)
    return found


def _file(name: str, path: Path, sha256: str, wanted: Requirements) -> FileAnswer:
    if _sha256(path) != sha256:
        reason = Reason(text="It was damaged on the way: its bytes are not what the list of hashes says.")
        return FileAnswer(name=name, sha256=sha256, accepted=False, reasons=[reason], readings={})
    try:
        found = measure(path)
    except Unreadable as error:
        return FileAnswer(name=name, sha256=sha256, accepted=False, reasons=[Reason(text=f"{error}.")], readings={})
    reasons = []
    if found.container not in wanted.containers:
        reasons.append(Reason(text=f"It is {found.container}; asked for is {' or '.join(wanted.containers)}."))
    reasons += [missed for bound in wanted.bounds if (missed := _missed(bound, found.readings.get(bound.reading)))]
    readings = {reading: None if value is None else round(value, 4) for reading, value in found.readings.items()}
    return FileAnswer(name=name, sha256=sha256, accepted=not reasons, reasons=reasons, readings=readings)


def _missed(bound: Bound, value: float | None) -> Reason | None:
    """Why a reading misses a bound; None where it doesn't."""
    title, unit = TITLES[bound.reading]
    if value is None:
        return Reason(text=f"{title} has no value.", reading=bound.reading)
    if bound.low is not None and value < bound.low:
        said = f"under {bound.low:g}"
    elif bound.high is not None and value > bound.high:
        said = f"over {bound.high:g}"
    else:
        return None
    return Reason(text=f"{title} is {value:.2f} {unit}, {said} {unit}.".replace("-", "−"), reading=bound.reading, value=value)


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
