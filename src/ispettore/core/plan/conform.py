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
from ispettore.core.audio.writing import OutputFormat, Sink, format_for, hidden_beside
from ispettore.core.beside import Behind
from ispettore.core.edit.reading import Sound, named, path_of
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspecting import UNNAMED, inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Span
from ispettore.core.plan import bedded, closing, encoding, ending, learning, levelling
from ispettore.core.plan.bedded import Laid, UnderVoice
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.closing import Closing
from ispettore.core.plan.encoding import Master
from ispettore.core.plan.one_sound import Likeness
from ispettore.core.plan.planner import Plan
from ispettore.core.plan.preferences import USUAL_PREFERENCE, Preference
from ispettore.core.plan.proposing import Proposer, Wanted
from ispettore.core.plan.window import PEAKS, GainWindow, gain_window, level_of
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import delivery, standing
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Role, Verdict, judge
from ispettore.core.text import shown_name
from ispettore.core.treat import order, runner, touch
from ispettore.core.treat.bed import Mix
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.runner import LedgerLine
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Treatment

ROUNDS = 4
CLOSE_DB = 0.1


class Conformed(BaseModel):
    """Everything about one attempt. `after` and `verdict` are of the written file; both None when nothing was written.

    `ledger` has a line for each step that ran; `out_of_order` says what an unusual order of steps risks. `master` is what was
    treated before it was written; `corrections` says why rounds were followed by others.
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
    master: Master | None = None
    corrections: tuple[str, ...] = ()
    ledger: tuple[LedgerLine, ...] = ()
    out_of_order: tuple[str, ...] = ()
    closing: Closing | None = None
    """For a treatment of somebody's own that missed a limit: the smallest change that should close it."""
    mix: Mix | None = None
    """Voice and bed where they were mixed, if anything was laid under the voice; what follows moves both alike."""
    under: UnderVoice | None = None
    """What the bed did to the plan, if a plan was made."""
    reduction_db: NDArray[np.float32] | None = Field(None, exclude=True, repr=False)
    """The gain that dynamic steps moved, in dB of each 5 ms cell of the recording; not kept in JSON."""

    lowered_db: NDArray[np.float32] | None = Field(None, exclude=True, repr=False)
    """How far the bed was lowered by the voice, in dB of each 5 ms cell; not kept in JSON."""

    measured: Measured | None = Field(None, exclude=True, repr=False)
    """All that was measured of the written file, whose hash was taken of the very bytes; not kept in JSON."""

    @property
    def passes(self) -> bool:
        return self.verdict is not None and self.verdict.passes


def conform(
    source: Sound,
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
    laid: Laid | None = None,
    written_at: datetime | None = None,
    progress: Progress = no_progress,
) -> Conformed:
    """Conform `source` and write `out`, or say why not and write nothing.

    With a `treatment` its steps run as they are and the result is judged; with a kept one whose finish is planned, the plan adds
    what each limit still asks for. What is `laid` under the voice is mixed in, and the mix has to meet the limits. With a
    `likeness`, the plan brings the file as near to it as the limits and the bounds allow.
    `room_tone` is where it was chosen by hand: the plan is
    made by it; what is written is measured as anybody would. `written_at` is stated in a WAV file. `name` and `out_name` are what
    both files are called where their paths are not. `known` is what the recording measured with that room tone, and `sha256` its
    hash; without them, it is measured and hashed here. Raises what reading and writing raise.
    """
    form = form or delivery.chosen(format_for(out).container, specification)
    if out.exists() and path_of(source).exists() and out.samefile(path_of(source)):
        raise errors.WouldOverwrite(file=shown_name(out))
    shown = named(source, name)
    if known is None:
        progress("Measuring the recording", 0.0)
        watched: Progress = lambda _stage, fraction: progress("Measuring the recording", fraction)  # noqa: E731
        known = inspect(source, name=name, room_tone=room_tone, sha256=sha256, progress=watched).basis
    with tempfile.TemporaryDirectory(prefix="ispettore-") as folder:
        wanted = Wanted(
            source=source,
            name=shown,
            before=known,
            specification=specification,
            form=form,
            folder=Path(folder),
            bounds=bounds or Bounds(),
            room_tone=room_tone,
            treatment=treatment if isinstance(treatment, KeptTreatment) else None,
            likeness=likeness or Likeness(),
            progress=progress,
            laid=bedded.within(laid, specification, form),
        )
        attempt = _Attempt(wanted, out, out_name or shown_name(out), written_at)
        try:
            if treatment is None or (isinstance(treatment, KeptTreatment) and treatment.finish == "planned"):
                return attempt.planned(preference)
            return attempt.given(
                Treatment(name=treatment.named, steps=treatment.steps) if isinstance(treatment, KeptTreatment) else treatment
            )
        finally:
            attempt.candidate.unlink(missing_ok=True)


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
    master: Master
    under: UnderVoice | None = None


class _Attempt:
    """One conform: the state that its rounds share."""

    def __init__(self, wanted: Wanted, out: Path, out_name: str, written_at: datetime | None) -> None:
        self.wanted, self.out, self.out_name, self.written_at = wanted, out, out_name, written_at
        self.before, self.specification, self.role = wanted.before, wanted.specification, wanted.role
        self.name, self.form, self.folder, self.bounds = wanted.name, wanted.form, wanted.folder, wanted.bounds
        self.candidate = hidden_beside(out, "candidate")
        self.corrections: list[tuple[int, str]] = []

    def given(self, treatment: Treatment) -> Conformed:
        """Run a person's own treatment once and judge the result."""
        if self.wanted.laid is not None:
            treatment = treatment.model_copy(update={"steps": order.with_bed(treatment.steps, self.wanted.laid.step)})
        written, run, moved = self._write(treatment, 1)
        verdict = judge(written.inspection, self.specification, role=self.role)
        window = gain_window(self.before.inspection, self.specification)
        settled = self._settle(_Round(treatment, window, moved, written, verdict, run, 1, self._master(run, written)))
        if verdict.passes:
            return settled
        before, after = self.before.inspection, written.basis
        change = closing.smallest(treatment, verdict.missed, before, after, self.specification, self.bounds)
        return settled.model_copy(update={"closing": change})

    def planned(self, preference: Preference) -> Conformed:
        """Plan, run, measure, learn, and plan again until the written file passes, and is like what it is to be like, or it is
        plain that it can't."""
        proposer = Proposer(self.wanted)
        learned = proposer.encoding
        met: _Round | None = None
        for number in range(1, ROUNDS + 1):
            plan = proposer.plan(preference, learned, doubtful=number == 1)
            if obstacles := (*plan.obstacles, *(plan.doubts if number > 1 else ())):
                return self._met(met) if met is not None else self._refuse(plan, obstacles, number)
            written, run, moved = self._write(plan.treatment, number)
            limited = touch.of(run.reductions.get("true-peak-limiter", run.reduction_db[:0]), self.before.speech).depth_p99_db
            within = limited <= self.bounds.limiting_db + CLOSE_DB
            verdict = judge(written.inspection, self.specification, role=self.role)
            made = _Round(plan.treatment, plan.window, moved, written, verdict, run, number, self._master(run, written), plan.under)
            if verdict.passes and within:
                if number == ROUNDS or proposer.like(written.inspection):
                    return self._settle(made)
                met = made
                shutil.move(self.candidate, self.folder / "met")
            if not verdict.passes:
                said = encoding.correction(verdict, made.master, written.inspection, self.specification)
                self.corrections.append((number, said))
            deeper = 0.0 if within else limited - self.bounds.limiting_db
            learned = learning.corrected(plan, proposer.basis, written.inspection, proposer.asked, learned, deeper_db=deeper)
        if met is not None:
            return self._met(met)
        if not within:
            level = level_of(plan.window) or PEAKS[0]
            too_deep = levelling.beyond((level, PEAKS[0]), limited - self.bounds.limiting_db, self.bounds)
            return self._refuse(plan, (too_deep,), number)
        return self._settle(made)

    def _master(self, run: runner.Run, written: Measured) -> Master:
        return encoding.master(run, self.before, written)

    def _met(self, met: "_Round") -> Conformed:
        """An earlier round that met every limit, where no later one came nearer to what it is to be like."""
        shutil.move(self.folder / "met", self.candidate)
        return self._settle(met)

    def _write(self, treatment: Treatment, number: int) -> tuple[Measured, runner.Run, Touch]:
        """One round: run, write the candidate, decode, measure and hash it; and the touch of the run, before it was encoded."""

        def staged(stage: str, fraction: float) -> None:
            self.wanted.progress(f"{stage} (round {number})", fraction)

        folder = self.folder / f"round-{number}"
        folder.mkdir()
        if self.form.lossy:
            run = self._encoded(treatment, folder, staged)
        else:
            run = self._run(treatment, folder, staged)
            with Source(run.path, name=self.name) as master, self._sink(run.sample_rate_hz, run.channels, run) as sink:
                for block in master.blocks():
                    sink.write(block)
                    staged("Writing", master.frames_read / max(master.claimed_frames, 1))
        spared = touch.LEAVE_THE_SOUND
        reshaped = any(step.on and step.kind not in spared and not step.typed.adds_sound for step in treatment.steps)
        sound = (run.voice or inspect(run.path, name=self.name, sha256=UNNAMED)) if reshaped else None
        moved = runner.touched(run, self.before, sound)
        run.path.unlink()
        watched: Progress = lambda _stage, fraction: staged("Measuring the result", fraction)  # noqa: E731
        return inspect(self.candidate, name=self.out_name, progress=watched), run, moved

    def _run(self, treatment: Treatment, folder: Path, progress: Progress, passing: runner.Passing | None = None) -> runner.Run:
        return runner.run(
            self.wanted.source,
            treatment,
            folder=folder,
            name=self.name,
            room_tone=self.wanted.room_tone,
            sounds=self.wanted.laid.sounds if self.wanted.laid else None,
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
            obstacles=() if passes else tuple(_missed(made.verdict, planned=made.number == ROUNDS)),
            rounds=made.number,
            master=made.master if passes else None,
            corrections=tuple(said for number, said in self.corrections if number < made.number) if passes else (),
            reduction_db=made.run.reduction_db,
            lowered_db=made.run.lowered_db if made.run.voice is not None else None,
            mix=next((Mix.model_validate(line.learned) for line in made.run.ledger if line.kind == "bed"), None),
            under=made.under,
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
            mix=plan.under.mix if plan.under else None,
            under=plan.under,
        )


def _missed(verdict: Verdict, *, planned: bool) -> list[Obstacle]:
    """Must-limits the written file still missed, as obstacles; `planned`, in spite of every round."""
    return [
        Obstacle(
            limits=(limit.quantity, limit.quantity), shortfall_db=abs(limit.margin or 0.0), advice=_told(limit, planned=planned)
        )
        for limit in verdict.missed
    ]


def _told(limit: LimitVerdict, *, planned: bool) -> str:
    """How far a written file is outside a limit, and what to do where that is known."""
    if not isinstance(limit.reading, float | int):
        return f"{limit.title}: {limit.note or limit.reading}."
    read, unit = standing.reading(limit), standing.unit(limit)
    off = f"{limit.title} in the finished file is {read} {unit}, {standing.apart(limit)} {limit.difference_unit} outside its limit."
    if not planned or limit.quantity not in ending.ENDS:
        return off
    return (
        f"{off} A sound near this end, such as a knock, is not always taken for speech: cut it off under Edits, then conform again."
    )
