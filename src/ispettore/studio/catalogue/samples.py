"""The sample that shops play: cut from a recording, and from then on a recording of its production like any other."""

import tempfile
from pathlib import Path
from uuid import UUID

from ispettore.core.audio import excerpt
from ispettore.core.deliver.entries import KINDS, Entry
from ispettore.studio.catalogue import lookup, recordings, sounds, wholes
from ispettore.studio.database import transaction
from ispettore.studio.errors import NoSuchSpan, NotFound, NotReady
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import Recording

LONGEST_S = 300.0
SHORTEST_S = 1.0
NAME = f"{KINDS['sample'][0]}.wav"


def cut(recording_id: UUID, store: Store, *, start_s: float, end_s: float, fades_s: tuple[float, float]) -> UUID:
    """Cut a stretch of an inspected recording, faded, as the sample of its production: what it is as a recording. It takes the
    place of one that was cut before, which stays as an earlier file. Raises NotFound, NotReady, and NoSuchSpan where the stretch
    does not lie inside the recording, is shorter than its fades, or longer than five minutes."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        inspection = lookup.held(session, recording)
        if inspection is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        present = recordings.current(session, recording.production_id)
        earlier = next(
            (
                one.id
                for one, (entry, _) in zip(present, wholes.listed(present), strict=True)
                if entry.kind == "sample" and one.name == NAME
            ),
            None,
        )
    facts = inspection.facts
    inside = start_s >= 0 and end_s <= facts.duration_s + 0.001
    if not inside or not max(SHORTEST_S, sum(fades_s)) <= end_s - start_s <= LONGEST_S or min(fades_s) < 0:
        raise NoSuchSpan(longest_min=LONGEST_S / 60)
    with tempfile.TemporaryDirectory(prefix="ispettore-sample-") as folder:
        with sounds.opened(recording_id, store) as samples:
            path = excerpt.write(
                samples, Path(folder) / NAME, sample_rate_hz=facts.sample_rate_hz, start_s=start_s, end_s=end_s, fades_s=fades_s
            )
        with placing():
            blob = store.put_file(path)
            if earlier is not None:
                return recordings.replace(earlier, NAME, blob)
            entry = Entry(kind="sample", title=KINDS["sample"][0]).model_dump(mode="json")
            return recordings.add(recording.production_id, NAME, blob, entry=entry)
