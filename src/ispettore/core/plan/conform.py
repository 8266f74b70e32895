"""Conforming: run the plan, write the file, measure what was written, and let that decide.

At most four rounds: each learns from the written and decoded file what encoding, limiting and new ends did, and plans again. The
file appears under its name only when every must-limit is met by its own measurement.
"""

import shutil
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ispettore.core import errors
from ispettore.core.audio.broadcast import STATED, Broadcast
from ispettore.core.audio.reading import Block, Source
from ispettore.core.audio.writing import OutputFormat, Sink, format_for, hidden_beside, read_span
from ispettore.core.beside import Behind
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspecting import UNNAMED, inspect, measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Span
from ispettore.core.plan import cleaning, closing, ending, learning, levelling, one_sound, planner, preparing, room
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.cleaning import Cleaning
from ispettore.core.plan.closing import Closing
from ispettore.core.plan.holding import PREFERENCES, USUAL_PREFERENCE, Asked, Preference
from ispettore.core.plan.one_sound import Likeness
from ispettore.core.plan.planner import Plan
from ispettore.core.plan.window import PEAKS, GainWindow, Learned, gain_window, level_of
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import delivery, standing
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Role, Verdict, judge
from ispettore.core.text import shown_name
from ispettore.core.treat import keeping, order, runner, touch
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.runner import LedgerLine
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Treatment

ROUNDS = 4
EXCERPT_S = 20.0
CLOSE_DB = 0.1


class Conformed(BaseModel):
    """Everything about one attempt. `after` and `verdict` are of the written file; both None when nothing was written.

    `ledger` has a line for each step that ran; `out_of_order` says what an unusual order of steps risks.
    """

    model_config = ConfigDict(frozen=True, arbitrary_types_allowed=True)

    role: Role
    treatment: Treatment
    window: GainWindow
    touch: Touch
    before: Inspection
    after: Inspection | None
    verdict: Verdict | None
    obstacles: tuple[Obstacle, ...] = ()
    rounds: int = 0
    ledger: tuple[LedgerLine, ...] = ()
    out_of_order: tuple[str, ...] = ()
    closing: Closing | None = None
    """For a treatment of somebody's own that missed a limit: the smallest change that should close it."""
    reduction_db: NDArray[np.float32] | None = Field(None, exclude=True, repr=False)
    """The gain that dynamic steps moved, in dB of each 5 ms cell of the recording; not kept in JSON."""

    measured: Measured | None = Field(None, exclude=True, repr=False)
    """All that was measured of the written file, whose hash was taken of the very bytes; not kept in JSON."""

    @property
    def passes(self) -> bool:
        return self.verdict is not None and self.verdict.passes


def role_for(out: OutputFormat, specification: Specification) -> Role:
    """A lossy file is a deliverable, and so is a lossless one where the specification names its format; else it is a master."""
    limit = specification.limit("container")
    asked = limit is not None and out.file_container in limit.one_of
    return "deliverable" if out.lossy or asked else "master"


def conform(
    source: Path,
    specification: Specification,
    out: Path,
    *,
    name: str | None = None,
    out_name: str | None = None,
    known: Basis | None = None,
    sha256: str | None = None,
    form: OutputFormat | None = None,
    treatment: Treatment | None = None,
    likeness: Likeness | None = None,
    preference: Preference = USUAL_PREFERENCE,
    bounds: Bounds | None = None,
    room_tone: Sequence[Span] = (),
    written_at: datetime | None = None,
    progress: Progress = no_progress,
) -> Conformed:
    """Conform `source` and write `out`, or say why not and write nothing.

    With a `treatment` its steps run as they are and the result is judged; with a kept one whose finish is planned, the plan adds
    what each limit still asks for. With a `likeness`, the plan brings the file as near to it as the limits and the bounds allow.
    `room_tone` is where it was chosen by hand: the plan is
    made by it; what is written is measured as anybody would. `written_at` is stated in a WAV file. `name` and `out_name` are what
    both files are called where their paths are not. `known` is what the recording measured with that room tone, and `sha256` its
    hash; without them, it is measured and hashed here. Raises what reading and writing raise.
    """
    form = form or delivery.chosen(format_for(out).container, specification)
    if out.exists() and source.exists() and out.samefile(source):
        raise errors.WouldOverwrite(file=shown_name(out))
    shown = name or shown_name(source)
    if known is None:
        progress("measuring the recording", 0.0)
        watched: Progress = lambda _stage, fraction: progress("measuring the recording", fraction)  # noqa: E731
        known = inspect(source, name=name, room_tone=room_tone, sha256=sha256, progress=watched).basis
    with tempfile.TemporaryDirectory(prefix="ispettore-") as folder:
        attempt = _Attempt(
            source,
            shown,
            known,
            specification,
            out,
            out_name or shown_name(out),
            form,
            Path(folder),
            bounds or Bounds(),
            room_tone,
            written_at,
            progress,
            treatment,
            likeness,
        )
        try:
            if treatment is None or (isinstance(treatment, KeptTreatment) and treatment.finish == "planned"):
                return attempt.planned(preference)
            return attempt.given(
                Treatment(name=treatment.named, steps=treatment.steps) if isinstance(treatment, KeptTreatment) else treatment
            )
        finally:
            attempt.candidate.unlink(missing_ok=True)


def proposed(
    source: Path,
    specification: Specification,
    *,
    name: str | None = None,
    known: Basis | None = None,
    form: OutputFormat | None = None,
    treatment: KeptTreatment | None = None,
    likeness: Likeness | None = None,
    preferences: Sequence[Preference] = PREFERENCES,
    bounds: Bounds | None = None,
    room_tone: Sequence[Span] = (),
    progress: Progress = no_progress,
) -> list[tuple[Preference, Plan]]:
    """Up to three plans for a recording, gentlest first, without running any; those alike once. Where none conforms, they hold the
    obstacles. With a kept `treatment` they begin with its steps, with a `likeness` they come as near to it as can be. `form` is
    what would be written: of itself, what the specification asks for. Raises what reading raises, and NotWritable."""
    form = form or delivery.asked_for(specification)
    known = known or inspect(source, name=name, room_tone=room_tone, sha256=UNNAMED).basis
    with tempfile.TemporaryDirectory(prefix="ispettore-") as folder:
        out = Path(folder) / f"out.{form.written.endings[0].lstrip('.')}"
        shown = name or shown_name(source)
        attempt = _Attempt(
            source,
            shown,
            known,
            specification,
            out,
            out.name,
            form,
            Path(folder),
            bounds or Bounds(),
            room_tone,
            None,
            progress,
            treatment,
            likeness,
        )
        return attempt.proposed(preferences)


@dataclass(frozen=True)
class _Round:
    """What one round ran, in which window, and what came of it; the touch is that of the run, before it was encoded."""

    treatment: Treatment
    window: GainWindow
    moved: Touch
    written: Measured
    verdict: Verdict
    run: runner.Run
    number: int


class _Attempt:
    """One conform: the state that its rounds share."""

    def __init__(
        self,
        source: Path,
        name: str,
        before: Basis,
        specification: Specification,
        out: Path,
        out_name: str,
        form: OutputFormat,
        folder: Path,
        bounds: Bounds,
        room_tone: Sequence[Span],
        written_at: datetime | None,
        progress: Progress,
        treatment: Treatment | None = None,
        likeness: Likeness | None = None,
    ) -> None:
        self.source, self.name, self.before, self.specification = source, name, before, specification
        self.out, self.out_name, self.form, self.folder = out, out_name, form, folder
        self.bounds, self.progress = bounds, progress
        self.room_tone, self.written_at, self.treatment = room_tone, written_at, treatment
        self.likeness, self.asked = likeness or Likeness(), one_sound.asked(specification, likeness or Likeness())
        self.role: Role = role_for(form, specification)
        self.candidate = hidden_beside(out, "candidate")
        self.trial: cleaning.Trial | None = None

    def given(self, treatment: Treatment) -> Conformed:
        """Run a person's own treatment once and judge the result."""
        written, run, moved = self._write(treatment, 1)
        verdict = judge(written.inspection, self.specification, role=self.role)
        window = gain_window(self.before.inspection, self.specification)
        settled = self._settle(_Round(treatment, window, moved, written, verdict, run, 1))
        if verdict.passes:
            return settled
        before, after = self.before.inspection, written.basis
        change = closing.smallest(treatment, verdict.missed, before, after, self.specification, self.bounds)
        return settled.model_copy(update={"closing": change})

    def planned(self, preference: Preference) -> Conformed:
        """Plan, run, measure, learn, and plan again until the written file passes, and is like what it is to be like, or it is
        plain that it can't."""
        prepared, fixed, basis, cancels, learned = self._begun()
        met: _Round | None = None
        for number in range(1, ROUNDS + 1):
            plan = self._nearest(basis, preference, learned, prepared, fixed, doubtful=number == 1)
            if obstacles := (*plan.obstacles, *cancels, *(plan.doubts if number > 1 else ())):
                return self._met(met) if met is not None else self._refuse(plan, obstacles, number)
            written, run, moved = self._write(plan.treatment, number)
            limited = touch.of(run.reductions.get("true-peak-limiter", run.reduction_db[:0]), self.before.speech).depth_p99_db
            within = limited <= self.bounds.limiting_db + CLOSE_DB
            verdict = judge(written.inspection, self.specification, role=self.role)
            made = _Round(plan.treatment, plan.window, moved, written, verdict, run, number)
            if verdict.passes and within:
                if number == ROUNDS or self._like(written.inspection):
                    return self._settle(made)
                met = made
                shutil.move(self.candidate, self.folder / "met")
            deeper = 0.0 if within else limited - self.bounds.limiting_db
            learned = learning.corrected(plan, basis, written.inspection, self.asked, learned, deeper_db=deeper)
        if met is not None:
            return self._met(met)
        if not within:
            level = level_of(plan.window) or PEAKS[0]
            too_deep = levelling.beyond((level, PEAKS[0]), limited - self.bounds.limiting_db, self.bounds)
            return self._refuse(plan, (too_deep,), number)
        return self._settle(made)

    def _met(self, met: "_Round") -> Conformed:
        """An earlier round that met every limit, where no later one came nearer to what it is to be like."""
        shutil.move(self.folder / "met", self.candidate)
        return self._settle(met)

    def proposed(self, preferences: Sequence[Preference]) -> list[tuple[Preference, Plan]]:
        """A plan for each preference, without running any; those alike once."""
        prepared, fixed, basis, cancels, learned = self._begun()
        found: list[tuple[Preference, Plan]] = []
        for preference in preferences:
            plan = self._nearest(basis, preference, learned, prepared, fixed, doubtful=True)
            plan = plan.model_copy(update={"obstacles": (*plan.obstacles, *cancels), "encoding": learned})
            if not any(plan.treatment == other.treatment and plan.obstacles == other.obstacles for _, other in found):
                found.append((preference, plan))
        return found

    def _nearest(
        self,
        basis: Basis,
        preference: Preference,
        learned: Learned,
        prepared: Treatment,
        fixed: planner.Fixed,
        *,
        doubtful: bool,
    ) -> Plan:
        """The plan for what is asked; where no plan is like that (nor, unless `doubtful` ones will do, beyond doubt), the nearest
        that meets the limits alone."""
        plan = self._plan(basis, preference, learned, prepared, fixed, self._cleaned(basis, fixed, learned))
        for likeness in one_sound.nearer(self.likeness, plan.obstacles or (() if doubtful else plan.doubts)):
            self.likeness, self.asked = likeness, one_sound.asked(self.specification, likeness)
            plan = self._plan(basis, preference, learned, prepared, fixed, self._cleaned(basis, fixed, learned))
            if not plan.obstacles and (doubtful or not plan.doubts):
                break
        return plan

    def _like(self, written: Inspection) -> bool:
        """Whether the written file is like what it is to be like."""
        return judge(written, self.asked, role=self.role).passes

    def _plan(
        self,
        basis: Basis,
        preference: Preference,
        learned: Learned,
        prepared: Treatment,
        fixed: planner.Fixed,
        cleaned: Cleaning | None,
    ) -> Plan:
        return planner.make(
            basis,
            self.asked,
            role=self.role,
            preference=preference,
            bounds=self.bounds,
            learned=learned,
            prepared=prepared,
            fixed=fixed,
            cleaning=cleaned,
        )

    def _begun(self) -> tuple[Treatment, planner.Fixed, Basis, list[Obstacle], Learned]:
        """What every plan begins with: the conversions and what is fixed before cleaning, what is fixed after it, the recording
        after all of these, what would cancel, and what encoding does."""
        kept = self.treatment if self.treatment is not None else Treatment()
        early, late = keeping.parted(kept.steps)
        prepared = preparing.preparation(self.before.inspection, self.specification, role=self.role, form=self.form)
        own = {step.kind for step in early}
        prepared = Treatment(steps=(*(step for step in prepared.steps if step.kind not in own), *early))
        self.early_path, self.early, touched = self.source, self.before, Touch()
        if prepared.steps or self.before.inspection.facts.lossy:
            self.early_path, self.early, touched = self._after(self.source, self.before, prepared, "early")
        self.late_path, basis, fixed = self.early_path, self.early, planner.Fixed()
        if late:
            self.late_path, basis, moved = self._after(self.early_path, self.early, Treatment(steps=late), "late")
            touched = touch.both(touched, moved)
        if isinstance(self.treatment, KeptTreatment):
            fixed = planner.Fixed(name=self.treatment.named, late=late, unshaped=self.early.inspection, touch=touched)
        cancels = preparing.cancelling(self.before.inspection, basis.inspection, prepared)
        return prepared, fixed, basis, [cancels] if cancels else [], self._encoder_effect(basis)

    def _after(self, path: Path, before: Basis, treatment: Treatment, folder: str) -> tuple[Path, Basis, Touch]:
        """A recording after steps as a file that can be sought in, what it measures then, and how much they touched it."""
        made = self.folder / folder
        made.mkdir()
        run = runner.run(path, treatment, folder=made, name=self.name, room_tone=self.room_tone, progress=self.progress)
        if not treatment.steps:  # only decoded, so that it can be sought in
            return run.path, before, Touch()
        after = inspect(run.path, name=self.name, room_tone=self.room_tone, sha256=UNNAMED)
        return run.path, after.basis, runner.touched(run, before, after)

    def _encoder_effect(self, basis: Basis) -> Learned:
        """What encoding does to level and peak, from encoding the loudest 20 s and measuring the decoded result."""
        if not self.form.lossy:
            return Learned()
        rate = basis.inspection.facts.sample_rate_hz
        excerpt = _excerpt(self.late_path, basis, rate)
        peak = float(np.abs(excerpt).max())
        if peak == 0.0:
            return Learned()
        excerpt = excerpt * np.float32(0.5 / peak)
        path = self.folder / f"excerpt.{self.form.container}"
        with Sink(path, sample_rate_hz=rate, channels=excerpt.shape[1], form=self.form) as sink:
            sink.write(excerpt)
        plain, coded = measure_array(excerpt, sample_rate_hz=rate).inspection, inspect(path, sha256=UNNAMED).inspection
        return Learned(
            level_db=_change(plain, coded, "rms_dbfs"),
            peak_db=max(0.0, _change(plain, coded, "true_peak_dbtp")),
            noise_db=min(0.0, _change(plain, coded, "rms_dbfs")),
        )

    def _cleaned(self, basis: Basis, fixed: planner.Fixed, learned: Learned) -> Cleaning | None:
        """The cleaning that this recording needs by what is known so far, tried on a stretch of it before what is fixed of tone and
        dynamics; None where it needs none."""
        readings = ending.readings(basis.inspection, self.asked, learned)
        missing = room.short_of_quiet(basis, readings, Asked(self.asked, learned, "light", self.bounds))
        if missing is None:
            return None
        self.progress("trying what cleans the room", 0.0)
        if self.trial is None:
            folder = self.folder / "trial"
            folder.mkdir()
            self.trial = cleaning.Trial(self.early_path, self.early, name=self.name, folder=folder, then=fixed.late)
        hum = any(finding.kind == "hum" for finding in self.early.inspection.findings)
        found = cleaning.choose(self.trial, missing, self.bounds, hum=hum, fundamental_hz=self.trial.fundamental_hz)
        return found.model_copy(update={"touch": self.trial.touch(*found.steps)})

    def _write(self, treatment: Treatment, number: int) -> tuple[Measured, runner.Run, Touch]:
        """One round: run, write the candidate, decode, measure and hash it; and the touch of the run, before it was encoded."""

        def staged(stage: str, fraction: float) -> None:
            self.progress(f"{stage} (round {number})", fraction)

        folder = self.folder / f"round-{number}"
        folder.mkdir()
        if self.form.lossy:
            run = self._encoded(treatment, folder, staged)
        else:
            run = self._run(treatment, folder, staged)
            with Source(run.path, name=self.name) as master, self._sink(run.sample_rate_hz, run.channels, run) as sink:
                for block in master.blocks():
                    sink.write(block)
                    staged("writing", master.frames_read / max(master.claimed_frames, 1))
        reshaped = any(step.on and step.kind not in touch.LEAVE_THE_SOUND for step in treatment.steps)
        moved = runner.touched(run, self.before, inspect(run.path, name=self.name, sha256=UNNAMED) if reshaped else None)
        run.path.unlink()
        watched: Progress = lambda _stage, fraction: staged("measuring the result", fraction)  # noqa: E731
        return inspect(self.candidate, name=self.out_name, progress=watched), run, moved

    def _run(self, treatment: Treatment, folder: Path, progress: Progress, passing: runner.Passing | None = None) -> runner.Run:
        return runner.run(
            self.source,
            treatment,
            folder=folder,
            name=self.name,
            room_tone=self.room_tone,
            ledger=True,
            passing=passing,
            progress=progress,
        )

    def _encoded(self, treatment: Treatment, folder: Path, progress: Progress) -> runner.Run:
        """The run, its last pass encoded beside while it is made: what an encoded file says of itself is not known of the run."""
        with ExitStack() as kept:
            encoding: Behind[Block] | None = None

            def passing(block: Block, rate: int, channels: int) -> None:
                nonlocal encoding
                if encoding is None:
                    sink = kept.enter_context(self._sink(rate, channels))
                    encoding = Behind(sink.write, kept.enter_context(ThreadPoolExecutor(1)))  # ends before its file is closed
                encoding(block.copy())

            run = self._run(treatment, folder, progress, passing)
            if encoding is None:
                kept.enter_context(self._sink(run.sample_rate_hz, run.channels))
            else:
                encoding.wait()
            return run

    def _sink(self, rate: int, channels: int, run: runner.Run | None = None) -> Sink:
        told = self._broadcast(run) if run is not None else None
        return Sink(self.candidate, sample_rate_hz=rate, channels=channels, form=self.form, broadcast=told)

    def _broadcast(self, run: runner.Run) -> Broadcast:
        """What a WAV file states of itself: where it comes from, and its loudness as the run measured it before quantisation."""
        facts = self.before.inspection.facts
        readings = run.ledger[-1].readings if run.ledger else self.before.inspection.readings
        values = {quantity: readings[quantity].value for quantity in STATED if quantity in readings}
        channels = {1: "mono", 2: "stereo"}.get(run.channels, f"{run.channels} channels")
        return Broadcast(
            description=facts.tag("description") or self.name,
            originator="Ispettore",
            reference=self.before.inspection.sha256[:32],
            written_at=self.written_at,
            levels={quantity: value for quantity, value in values.items() if isinstance(value, float | int)},
            history=f"A=PCM,F={run.sample_rate_hz},W={self.form.bit_depth},M={channels},T=Ispettore",
        )

    def _settle(self, made: "_Round") -> Conformed:
        """What came of a round: the file, where it passes."""
        passes = made.verdict.passes
        if passes:
            self.candidate.replace(self.out)
        return Conformed(
            role=self.role,
            treatment=made.treatment.having_learned([line.learned for line in made.run.ledger]),
            window=made.window,
            touch=made.moved,
            ledger=made.run.ledger,
            out_of_order=tuple(order.objections(made.treatment)),
            before=self.before.inspection,
            after=made.written.inspection if passes else None,
            measured=made.written if passes else None,
            verdict=made.verdict if passes else None,
            obstacles=() if passes else tuple(_missed(made.verdict)),
            rounds=made.number,
            reduction_db=made.run.reduction_db,
        )

    def _refuse(self, plan: Plan, obstacles: tuple[Obstacle, ...], rounds: int) -> Conformed:
        return Conformed(
            role=self.role,
            treatment=plan.treatment,
            window=plan.window,
            touch=Touch(),
            before=self.before.inspection,
            after=None,
            verdict=None,
            obstacles=obstacles,
            rounds=rounds,
        )


def _excerpt(path: Path, basis: Basis, rate: int) -> Block:
    """The loudest 20 s of a PCM file, shape (frames, channels)."""
    power = basis.power.mean(axis=0)
    width = min(int(EXCERPT_S * 200), power.size)
    total = np.concatenate(([0.0], np.cumsum(power, dtype=np.float64)))
    first = int(np.argmax(total[width:] - total[:-width])) if width < power.size else 0
    return read_span(path, first * rate // 200, width * rate // 200)


def _change(before: Inspection, after: Inspection, quantity: str) -> float:
    first, second = before.value(quantity), after.value(quantity)
    return second - first if first is not None and second is not None else 0.0


def _missed(verdict: Verdict) -> list[Obstacle]:
    """Must-limits the written file still missed, as obstacles."""
    return [
        Obstacle(
            limits=(limit.quantity, limit.quantity),
            shortfall_db=abs(limit.margin or 0.0),
            advice=f"{limit.title} reads {standing.reading(limit)} {standing.unit(limit)} in the written file, "
            f"{standing.apart(limit)} {limit.difference_unit} outside its limit."
            if isinstance(limit.reading, float | int)
            else f"{limit.title}: {limit.note or limit.reading}.",
        )
        for limit in verdict.missed
    ]
