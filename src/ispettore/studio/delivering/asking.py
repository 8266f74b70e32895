"""What a person says of a production's files: format, naming, tags, cover, and number and title of each."""

from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from sqlmodel import Session

from ispettore.core.audio import cover
from ispettore.core.audio.formats import WRITABLE
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.deliver import entries, naming
from ispettore.core.deliver.entries import LONGEST, Entry
from ispettore.core.deliver.labels import Delivering
from ispettore.core.spec import delivery, kept
from ispettore.core.spec.specification import Specification
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import recordings, wholes
from ispettore.studio.database import transaction
from ispettore.studio.delivering.views import CoverView, FormatChoice, Quality
from ispettore.studio.errors import FormatRefused, NamingRefused, NotFound
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import Production, Recording


def of(production: Production) -> Delivering:
    """How a production is delivered, as it was said; what was not is as usual."""
    return Delivering.model_validate(production.delivering or {})


def form(production: Production) -> OutputFormat | None:
    """As what the files of a production are written: as somebody said, as long as that meets the specification, else as this asks;
    None where it asks for what can't be made."""
    said, specification = of(production).form, kept.specification(production.specification)
    if said is not None and said in delivery.qualities(said.container, specification):
        return said
    try:
        return delivery.asked_for(specification)
    except delivery.NotWritable:
        return None


def formats(specification: Specification) -> list[FormatChoice]:
    """The formats and qualities that can meet a specification, as it asks for first."""
    found = [_choice(choice) for name in WRITABLE if (choice := delivery.qualities(name, specification))]
    try:
        asked = delivery.asked_for(specification)
    except delivery.NotWritable:
        return []
    return sorted(found, key=lambda choice: choice.qualities[0].form.container != asked.container)


def _choice(forms: Sequence[OutputFormat]) -> FormatChoice:
    return FormatChoice(title=forms[0].written.title, qualities=[Quality(title=one.quality, form=one) for one in forms])


def change(
    production_id: UUID,
    *,
    form: OutputFormat | str | None = None,
    naming: str | None = None,
    certified_by: str | None = None,
    labels: Mapping[str, str | None] = {},
) -> None:
    """Change what is given; `form` "asked" means as the specification asks. Raises NotFound, FormatRefused, NamingRefused, BadText,
    YearRefused and LanguageUnknown."""
    with transaction() as session:
        production = there(session, production_id, lock=True)
        said = of(production)
        if form is not None:
            said = said.model_copy(update={"form": _form(form, production)})
        if naming is not None:
            said = said.model_copy(update={"naming": _naming(naming)})
        if certified_by is not None:
            said = said.model_copy(update={"certified_by": refuse(certified_by.strip()[:LONGEST], what="The name")})
        given = {name: text for name, text in labels.items() if text is not None}
        if given:
            said = said.model_copy(update={"labels": said.labels.model_copy(update=given).checked()})
        production.delivering = said.model_dump(mode="json")
        session.add(production)
        _tell(session, production)


def _form(form: OutputFormat | str, production: Production) -> OutputFormat | None:
    if not isinstance(form, OutputFormat):
        return None
    specification = kept.specification(production.specification)
    if form not in delivery.qualities(form.container, specification):
        raise FormatRefused(format=form.title, specification=specification.name)
    return form


def _naming(template: str) -> str:
    _, wrong = naming.parsed(refuse(template.strip(), what="The naming"))
    if wrong:
        raise NamingRefused(reason=wrong)
    return template.strip()


def put_cover(production_id: UUID, content: bytes, *, name: str, store: Store) -> None:
    """Take a picture as the cover. Raises NotFound and CoverRefused."""
    picture = cover.read(content, name=refuse(name, what="The file's name"))
    with placing():
        blob = store.put([content], name=name)
        told = {"name": name, "kind": picture.kind, "width": picture.width, "height": picture.height, "size_bytes": len(content)}
        _cover(production_id, blob.sha256, {**told, "advice": picture.advice})


def remove_cover(production_id: UUID) -> None:
    """Deliver without a picture. Raises NotFound."""
    _cover(production_id, None, None)


def _cover(production_id: UUID, sha256: str | None, told: dict[str, Any] | None) -> None:
    with transaction() as session:
        production = there(session, production_id, lock=True)
        production.cover_sha256, production.cover = sha256, told
        session.add(production)
        _tell(session, production)


def cover_asked(production: Production) -> dict[str, Any] | None:
    """The picture as a deliverable names it: by its hash, with its kind and size."""
    if production.cover is None:
        return None
    return {"sha256": production.cover_sha256, **{name: production.cover[name] for name in ("kind", "width", "height")}}


def cover_view(production: Production) -> CoverView | None:
    if production.cover is None or production.cover_sha256 is None:
        return None
    told = {name: value for name, value in production.cover.items() if name in CoverView.model_fields}
    return CoverView(sha256=production.cover_sha256, **told)


def cover_content(production_id: UUID, store: Store) -> tuple[bytes, str, str]:
    """The picture itself, its kind, and its hash. Raises NotFound and NotInStore."""
    with transaction() as session:
        production = there(session, production_id)
    if production.cover is None or production.cover_sha256 is None:
        raise NotFound(what="cover")
    content = b"".join(store.read_checked(production.cover_sha256, name=production.cover["name"]))
    return content, production.cover["kind"], production.cover_sha256


def put_entries(production_id: UUID, wanted: Mapping[UUID, Mapping[str, Any] | None]) -> None:
    """Change the entries of some recordings, each in what is given of it; None has the file name say number, part and title again.
    Raises NotFound and BadText."""
    with transaction() as session:
        production = there(session, production_id, lock=True)
        present = recordings.current(session, production_id)
        read = entries.read([recording.name for recording in present])
        here = {one.id: (one, entry, said) for one, (entry, _), said in zip(present, wholes.listed(present), read, strict=True)}
        for of_recording, changes in wanted.items():
            if of_recording not in here:
                raise NotFound(what="recording")
            recording, entry, said = here[of_recording]
            changed = (
                entry.model_copy(update=dict(changes))
                if changes is not None
                else said.model_copy(update={"narrator": entry.narrator})
            )
            _put(session, recording, changed if changed != said else None)
        _tell(session, production)


def paste(production_id: UUID, text: str) -> int:
    """Set entries from a table that was copied from a spreadsheet; how many changed. Raises NotFound and PasteRefused."""
    with transaction() as session:
        production = there(session, production_id, lock=True)
        here = recordings.current(session, production_id)
        before = [entry for entry, _ in wholes.listed(here)]
        changed = 0
        for recording, was, entry in zip(here, before, entries.pasted(text, [one.name for one in here], before), strict=True):
            if entry != was:
                _put(session, recording, entry)
                changed += 1
        _tell(session, production)
        return changed


def _put(session: Session, recording: Recording, entry: Entry | None) -> None:
    if entry is not None:
        for what, text in (("title", entry.title), ("narrator", entry.narrator)):
            refuse(text, what=f"The {what} of “{recording.name}”")
    recording.entry = entry.model_dump(mode="json") if entry is not None else None
    session.add(recording)


def there(session: Session, production_id: UUID, *, lock: bool = False) -> Production:
    """A production. Raises NotFound."""
    production = session.get(Production, production_id, with_for_update=lock or None)
    if production is None:
        raise NotFound(what="production")
    return production


def _tell(session: Session, production: Production) -> None:
    events.tell(session, events.Notice(about="production", id=str(production.id), production=production.id))
