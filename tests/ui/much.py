"""Much material, made up as it is kept once it was inspected: three hours on the bench, sheets of many chapters."""

import hashlib
import tempfile
from pathlib import Path
from types import SimpleNamespace
from uuid import UUID

import numpy as np

from ispettore.core.measure import pyramid, ribbon, tracks
from ispettore.core.measure.grid import Series
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.methods_history import current
from ispettore.studio.catalogue import productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import InspectionRecord, Recording
from tests import signals

RATE = 44_100
HOURS_3 = 3 * 3600
CHAPTERS = 200
THOUSANDS = 2_000
TURN = """async ([ctrl, deltaX, deltaY, count]) => {
  const area = document.querySelector('.ribbon');
  const box = area.getBoundingClientRect();
  const frames = [];
  let before = performance.now();
  for (let step = 0; step < count; step++) {
    const at = { clientX: box.left + 500, clientY: box.top + 100, bubbles: true, cancelable: true };
    area.dispatchEvent(new WheelEvent('wheel', { ...at, ctrlKey: ctrl, deltaX, deltaY }));
    await new Promise((done) => requestAnimationFrame(done));
    frames.push(performance.now() - before);
    before = performance.now();
  }
  return frames;
}"""
"""Turns the wheel over the ribbon, so many times; the length of each frame in ms."""


def short(folder: Path):
    """Twelve seconds of a made-up voice, measured."""
    path = signals.write(
        folder / "short.wav", signals.voice_like(12, rate=RATE, rms_dbfs=-22, room_dbfs=-75), RATE, subtype="PCM_16"
    )
    return inspect(path)


def three_hours(folder: Path, store: Store) -> tuple[UUID, int]:
    """A recording whose levels are made up, and the size of its tiles in bytes; there is no sound behind it."""
    measured = short(folder)
    data = measured.inspection.model_dump(mode="json")
    data["facts"] |= {"duration_s": float(HOURS_3), "frames": HOURS_3 * RATE}
    data["pauses"] = [{**data["pauses"][0], "start_s": 4.0 * at, "end_s": 4.0 * at + 0.6} for at in range(HOURS_3 // 4)]
    data["speech"] = [{"start_s": 4.0 * at + 0.6, "end_s": 4.0 * at + 4} for at in range(HOURS_3 // 4)]
    count = HOURS_3 * 200
    random = np.random.default_rng(3)
    power, peak = Series(1), Series(1)
    levels = (10 ** (random.uniform(-60, -6, count) / 20)).astype(np.float32)
    peak.append(levels[None])
    power.append(levels[None] ** 2 / 8)

    class Cells(SimpleNamespace):
        def __len__(self):
            return count

    with tempfile.TemporaryDirectory() as folder:
        zoomed = Path(folder) / "pyramid"
        with zoomed.open("wb") as file:
            pyramid.write(SimpleNamespace(meters=SimpleNamespace(cells=Cells(power=power, peak=peak))), file)
        kept = store.put_file(zoomed)
    drawn = ribbon.Ribbon(np.full(480, -30.0), np.full(480, -6.0)).packed()
    sha256 = hashlib.sha256(b"three hours").hexdigest()
    production = productions.create("Three hours", "audiobook-retail")
    recording = Recording(production_id=production, position=1, name="long.wav", sha256=sha256, size_bytes=9)
    with transaction() as session:
        record = InspectionRecord(
            sha256=sha256,
            methods_version=current(),
            data=data,
            ribbon=drawn,
            tracks=tracks.of(measured).packed(),
        )
        record.pyramid_sha256 = kept.sha256
        session.add(record)
        session.add(recording)
    return recording.id, kept.size_bytes


def twelve_minutes(folder: Path, store: Store) -> UUID:
    """A recording of twelve minutes of speech, to be measured."""
    production = productions.create("Long", "audiobook-retail")
    wave = np.tile(signals.voice_like(60, rms_dbfs=-20, rate=RATE), 12).astype(np.float32)
    path = signals.write(folder / "twelve.wav", wave, RATE, subtype="PCM_16")
    return recordings.add(production, "long.wav", store.put_file(path))


def many_chapters(folder: Path, count: int = CHAPTERS, *, long: int = 800) -> UUID:
    """A production in which each chapter has `long` pauses and spans of speech (800 in half an hour); the 77th stands apart."""
    measured = short(folder)
    data, drawn, run = measured.inspection.model_dump(mode="json"), ribbon.of(measured).packed(), tracks.of(measured).packed()
    for name in ("speech", "pauses", "room_tone"):
        data[name] = (data[name] * long)[:long]
    production = productions.create(f"{count} chapters", "audiobook-retail")
    with transaction() as session:
        for chapter in range(1, count + 1):
            sha256 = hashlib.sha256(f"{count} {chapter}".encode()).hexdigest()
            level = {**data["readings"]["rms_dbfs"], "value": -20 - chapter % 200 / 100 - (6 if chapter == 77 else 0)}
            one = {**data, "sha256": sha256, "readings": {**data["readings"], "rms_dbfs": level}}
            session.add(InspectionRecord(sha256=sha256, methods_version=current(), data=one, ribbon=drawn, tracks=run))
            name = f"Chapter {chapter}.wav"
            session.add(Recording(production_id=production, position=chapter, name=name, sha256=sha256, size_bytes=9))
    return production
