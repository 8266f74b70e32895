"""The deliver screen of a production: what was said, every file, and what was handed over."""

from uuid import UUID

from ispettore.core.deliver import naming
from ispettore.core.spec import kept
from ispettore.core.spec.delivery import NotWritable
from ispettore.studio.catalogue import progressing, sheets
from ispettore.studio.database import snapshot
from ispettore.studio.delivering import asking, deliverables, desk, handing_over, listenings
from ispettore.studio.delivering.views import DeliveryView


def view(production_id: UUID) -> DeliveryView:
    """Raises NotFound."""
    with snapshot() as session:
        production = asking.there(session, production_id)
        specification = kept.specification(production.specification)
        said = asking.of(production)
        problem = naming.parsed(said.naming)[1]
        try:
            found = deliverables.rows(session, production)
            heard = listenings.in_words(session, [row.sha256 for row in found if row.sha256 is not None])
            rows = [row.model_copy(update={"listened": heard.get(row.sha256 or "", "")}) for row in found]
        except NotWritable as error:
            rows, problem = [], error.sentence
        made = [row for row in rows if row.state == "made"]
        return DeliveryView(
            id=production.id,
            name=production.name,
            specification_name=specification.name,
            asked=said,
            form=asking.form(production),
            formats=asking.formats(specification),
            cover=asking.cover_view(production),
            problem=problem,
            rows=rows,
            whole=sheets.whole(session, production, deliverables.read(session, made, specification)),
            made=len(made),
            making=sum(row.state == "making" for row in rows),
            size_bytes=sum(row.size_bytes or 0 for row in made),
            deliveries=handing_over.notes(session, production.id),
            desk=desk.there(),
            lot=progressing.lot(session, production.id),
        )
