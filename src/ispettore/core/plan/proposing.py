"""Proposing plans for one recording, without writing anything: what stands before a plan is run and measured, cleaning is tried,
and what is wished for beside the limits is given up where no plan meets it.
"""

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ispettore.core.audio.reading import Block
from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.edit.reading import Sound, named
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspecting import UNNAMED, inspect, measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.plan import bedded, cleaning, converting, ending, mending, one_sound, planner, preparing, reason, room, shaping
from ispettore.core.plan.bedded import Laid
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.cleaning import Cleaning, Missing
from ispettore.core.plan.converting import Conversion
from ispettore.core.plan.holding import Asked
from ispettore.core.plan.one_sound import Likeness
from ispettore.core.plan.planner import Fixed, Plan
from ispettore.core.plan.preferences import PREFERENCES, Preference
from ispettore.core.plan.shaping import Cells
from ispettore.core.plan.window import Learned
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import delivery
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Role, judge
from ispettore.core.treat import keeping, runner, touch
from ispettore.core.treat.bed import Mix
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Treatment

EXCERPT_S = 20.0


def role_for(out: OutputFormat, specification: Specification) -> Role:
    """A lossy file is a deliverable, and so is a lossless one where the specification names its format; else it is a master."""
    limit = specification.limit("container")
    asked = limit is not None and out.file_container in limit.one_of
    return "deliverable" if out.lossy or asked else "master"


@dataclass(frozen=True)
class Wanted:
    """What a recording (`source`, which measured `before`) is to become: a file of this form that meets the specification, within
    the bounds; by a kept `treatment`, if any, and as near to a `likeness` as can be. `folder` is for what is made on the way."""

    source: Sound
    name: str
    before: Basis
    specification: Specification
    form: OutputFormat
    folder: Path
    bounds: Bounds
    room_tone: Sequence[Span]
    treatment: KeptTreatment | None
    likeness: Likeness
    progress: Progress
    laid: Laid | None = None
    """What is laid under the voice, if anything."""

    @property
    def role(self) -> Role:
        return role_for(self.form, self.specification)


def proposed(
    source: Sound,
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
    laid: Laid | None = None,
    progress: Progress = no_progress,
) -> list[tuple[Preference, Plan]]:
    """Up to three plans for a recording, gentlest first, without running any; those alike once. Where none conforms, they hold the
    obstacles. With a kept `treatment` they begin with its steps, with a `likeness` they come as near to it as can be. `form` is
    what would be written: of itself, what the specification asks for. With something `laid` under the voice they are for the mix.
    Raises what reading raises, and NotWritable."""
    form = form or delivery.asked_for(specification)
    known = known or inspect(source, name=name, room_tone=room_tone, sha256=UNNAMED).basis
    with tempfile.TemporaryDirectory(prefix="ispettore-") as folder:
        wanted = Wanted(
            source=source,
            name=named(source, name),
            before=known,
            specification=specification,
            form=form,
            folder=Path(folder),
            bounds=bounds or Bounds(),
            room_tone=room_tone,
            treatment=treatment,
            likeness=likeness or Likeness(),
            progress=progress,
            laid=bedded.within(laid, specification, form),
        )
        proposer = Proposer(wanted)
        found: list[tuple[Preference, Plan]] = []
        for preference in preferences:
            plan = proposer.plan(preference, proposer.encoding, doubtful=True)
            plan = plan.model_copy(update={"encoding": proposer.encoding})
            if not any(plan.treatment == other.treatment and plan.obstacles == other.obstacles for _, other in found):
                found.append((preference, plan))
        return found


class Proposer:
    """Plans for one recording. Made, it has run what stands before every plan: the conversions, what is fixed before cleaning, what
    is mended, and what is fixed after cleaning; and has laid under the voice what is to be there. `basis` is what came out,
    `encoding` what encoding does to it. Conversions whose outcome can be told are not run for that."""

    def __init__(self, wanted: Wanted) -> None:
        self._wanted, self._likeness = wanted, wanted.likeness
        kept, before = wanted.treatment, wanted.before
        early, late = keeping.parted(kept.steps if kept is not None else ())
        own = {step.kind for step in early}
        prepared = preparing.preparation(before.inspection, wanted.specification, role=wanted.role, form=wanted.form)
        self._prepared = Treatment(steps=(*(step for step in prepared.steps if step.kind not in own), *early))
        self._path, self._early, touched = wanted.source, before, Touch()
        conversion = None
        if not late and wanted.laid is None:
            conversion = converting.told(before.inspection, self._prepared, wanted.specification)
        first = self._prepared if conversion is None else Treatment()
        if first.steps or before.inspection.facts.lossy:
            self._path, self._early, touched = self._after(wanted.source, before, first, "early")
        self._conversion = conversion or converting.none(self._early)
        self._early = self._conversion.told(self._path, self._early)
        mended, unmended = mending.needed(self._early.inspection, wanted.specification, role=wanted.role)
        if mended and not unmended:
            steps = mended if conversion is None else (*self._prepared.steps, *mended)
            self._path, self._early, moved = self._after(self._path, self._early, Treatment(steps=steps), "mended")
            self._conversion = converting.none(self._early)
            touched = touch.both(touched, moved)
        path, self.basis = self._path, self._early
        if late:
            path, self.basis, moved = self._after(self._path, self._early, Treatment(steps=late), "late")
            touched = touch.both(touched, moved)
        self._fixed = Fixed(mended=mended, unmended=unmended, touch=touched if mended else None)
        if kept is not None:
            self._fixed = self._fixed.model_copy(update={"name": kept.named, "late": late, "touch": touched})
        self._voice = self.basis
        self._mix: Mix | None = None
        self._alone = self._fixed
        if wanted.laid is not None:
            path = self._mixed(path, wanted.laid)
            self._fixed = self._fixed.model_copy(update={"bed": wanted.laid.step, "touch": self._fixed.touch or Touch()})
        self._cancels = preparing.cancelling(before.inspection, self.basis.inspection, self._prepared)
        self._cells = shaping.whole(self.basis)
        self._voice_cells = self._cells if self._mix is None else shaping.whole(self._voice)
        self._trial: cleaning.Trial | None = None
        self._short: tuple[Asked, Missing | None] | None = None
        self.encoding = self._encoder_effect(path)

    @property
    def asked(self) -> Specification:
        """What is planned for: the specification, and what is wished for beside it still."""
        return one_sound.asked(self._wanted.specification, self._likeness)

    def like(self, written: Inspection) -> bool:
        """Whether a written file is as it was planned for."""
        return judge(written, self.asked, role=self._wanted.role).passes

    def plan(self, preference: Preference, learned: Learned, *, doubtful: bool) -> Plan:
        """The plan for what is asked; where no plan is like that (nor, unless `doubtful` ones will do, beyond doubt), the nearest
        that meets the limits alone."""
        plan = self._planned(preference, learned)
        for likeness in one_sound.nearer(self._likeness, plan.obstacles or (() if doubtful else plan.doubts)):
            self._likeness = likeness
            plan = self._planned(preference, learned)
            if not plan.obstacles and (doubtful or not plan.doubts):
                break
        if self._mix is not None:
            plan = reason.named(plan, self._made(self._voice_cells, self._alone, preference, learned), self._mix)
        if self._cancels is None:
            return plan
        return plan.model_copy(update={"obstacles": (*plan.obstacles, self._cancels)})

    def _planned(self, preference: Preference, learned: Learned) -> Plan:
        return self._made(self._cells, self._fixed, preference, learned)

    def _made(self, cells: Cells, fixed: Fixed, preference: Preference, learned: Learned) -> Plan:
        return planner.make(
            cells,
            self.asked,
            role=self._wanted.role,
            preference=preference,
            bounds=self._wanted.bounds,
            learned=learned,
            prepared=self._prepared,
            fixed=fixed,
            cleaning=self._cleaned(learned),
        )

    def _cleaned(self, learned: Learned) -> Cleaning | None:
        """The cleaning that this recording needs by what is known so far, tried on a stretch of it before what is fixed of tone and
        dynamics; None where it needs none."""
        wanted, missing = self._wanted, self._short_of_quiet(learned)
        if missing is None:
            return None
        if self._trial is None:
            folder = wanted.folder / "trial"
            folder.mkdir()
            self._trial = cleaning.Trial(
                self._path,
                self._early,
                name=wanted.name,
                folder=folder,
                room_tone=wanted.room_tone,
                then=self._fixed.late,
                conversion=self._conversion,
                progress=wanted.progress,
            )
        hum = any(finding.kind == "hum" for finding in self._early.inspection.findings)
        found = cleaning.choose(self._trial, missing, wanted.bounds, hum=hum, fundamental_hz=self._trial.fundamental_hz)
        return found.model_copy(update={"touch": self._trial.touch(*found.steps)})

    def _short_of_quiet(self, learned: Learned) -> Missing | None:
        """What cleaning would have to bring: the same for every preference."""
        asked = Asked(self.asked, learned, "light", self._wanted.bounds)
        if self._short is None or self._short[0] != asked:
            readings = ending.readings(self._voice.inspection, self.asked, learned)
            self._short = asked, room.short_of_quiet(self._voice_cells, readings, asked)
        return self._short[1]

    def _after(self, path: Sound, before: Basis, treatment: Treatment, folder: str) -> tuple[Sound, Basis, Touch]:
        """A recording after steps as a file that can be sought in, what it measures then, and how much they touched it."""
        wanted, made = self._wanted, self._wanted.folder / folder
        made.mkdir()
        run = runner.run(path, treatment, folder=made, name=wanted.name, room_tone=wanted.room_tone, progress=wanted.progress)
        if not treatment.steps:  # only decoded, so that it can be sought in
            return run.path, before, Touch()
        after = inspect(run.path, name=wanted.name, room_tone=wanted.room_tone, sha256=UNNAMED)
        return run.path, after.basis, runner.touched(run, before, after)

    def _mixed(self, path: Sound, laid: Laid) -> Sound:
        """Lay the bed under the voice, and go on from the mix."""
        wanted, made = self._wanted, self._wanted.folder / "bed"
        made.mkdir()
        treatment = Treatment(steps=(laid.step,))
        run = runner.run(
            path,
            treatment,
            folder=made,
            name=wanted.name,
            room_tone=wanted.room_tone,
            sounds=laid.sounds,
            ledger=True,
            progress=wanted.progress,
        )
        self._mix = Mix.model_validate(run.ledger[0].learned)
        self.basis = inspect(run.path, name=wanted.name, room_tone=wanted.room_tone, sha256=UNNAMED).basis.as_spoken(self._voice)
        return run.path

    def _encoder_effect(self, path: Sound) -> Learned:
        """What encoding does to level and peak, from encoding the loudest 20 s and measuring the decoded result."""
        form, rate = self._wanted.form, self.basis.inspection.facts.sample_rate_hz
        if not form.lossy:
            return Learned()
        excerpt = _excerpt(path, self.basis, self._conversion)
        peak = float(np.abs(excerpt).max())
        if peak == 0.0:
            return Learned()
        excerpt = excerpt * np.float32(0.5 / peak)
        coded_path = self._wanted.folder / f"excerpt.{form.container}"
        with Sink(coded_path, sample_rate_hz=rate, channels=excerpt.shape[1], form=form) as sink:
            sink.write(excerpt)
        plain, coded = measure_array(excerpt, sample_rate_hz=rate).inspection, inspect(coded_path, sha256=UNNAMED).inspection
        return Learned(
            level_db=_change(plain, coded, "rms_dbfs"),
            peak_db=max(0.0, _change(plain, coded, "true_peak_dbtp")),
            noise_db=min(0.0, _change(plain, coded, "rms_dbfs")),
        )


def _excerpt(sound: Sound, basis: Basis, conversion: Conversion) -> Block:
    """The loudest 20 s of a sound that seeks exactly, after its conversion, shape (frames, channels)."""
    power = basis.power.mean(axis=0)
    width = min(int(EXCERPT_S * 200), power.size)
    total = np.concatenate(([0.0], np.cumsum(power, dtype=np.float64)))
    first = int(np.argmax(total[width:] - total[:-width])) if width < power.size else 0
    return conversion.read(sound, first * CELL_S, width * CELL_S)


def _change(before: Inspection, after: Inspection, quantity: str) -> float:
    first, second = before.value(quantity), after.value(quantity)
    return second - first if first is not None and second is not None else 0.0
